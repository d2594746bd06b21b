"""Rotate: begin the next generation of a credential, take rotations further, say where they stand."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import NamedTuple

from sigillum.charters.files import names
from sigillum.core.charter.charter import Charter, CredentialWant
from sigillum.core.facets.quiet import named, quiet
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.signing import CREDENTIAL, Credential
from sigillum.core.records.history import NUMBER, ROTATING, ROTATION, UNDERTAKING, Generation, History, State
from sigillum.core.undertakings.bridging import ends, not_bridged
from sigillum.core.undertakings.consuming import Knows, LastUse, Told, known, observed
from sigillum.core.undertakings.late import BY_ITSELF
from sigillum.core.undertakings.rotating import ROTATIONS, together
from sigillum.core.undertakings.rotation import (
    Asked,
    Rotation,
    deadline,
)
from sigillum.core.undertakings.uses import used_by_others
from sigillum.core.values.errors import NotYetError, Outcome, SigillumError, SomebodyError, UsageError, worst
from sigillum.core.values.marks import Mark
from sigillum.core.values.text import did_you_mean
from sigillum.core.values.times import format_instant, parse_instant, whole_second
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import OWN, Tenant
from sigillum.workflows.desk.ledgers import keep_witness
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office
from sigillum.workflows.enacting.carrying.run import StepResult
from sigillum.workflows.enacting.undertakings import advance, look_of

from .exposed import Exposure, exposure
from .stages import Turns, stage_

USUAL = "somebody asked for it"


@dataclass(frozen=True, slots=True)
class RotationWish:
    """What somebody wants: which credential (none named: every one), why, and what is allowed."""

    credential: str = ""
    because: str = ""
    exposed: bool = False
    gap: bool = False
    end: bool = False
    taken: str = ""
    last_used: date | None = None
    pause: bool = False
    back: bool = False
    bridge_seconds: int = 0
    accepted_by: str = ""
    consumers: tuple[str, ...] = ()  # of which `taken` is told; none: of all


@dataclass(slots=True)
class Rotated:
    """One rotation after it was taken as far as it goes now, and what it waits for."""

    charter: str
    rotation: Rotation
    results: list[StepResult] = field(default_factory=list)
    waits: SigillumError | None = None
    exposure: Exposure | None = None
    consumers: tuple[Knows, ...] = ()

    def outcome(self) -> Outcome:
        found = [r.error.outcome for r in self.results if r.error is not None]
        found += [Outcome.NO] if self.rotation.closed.startswith(BY_ITSELF) else []
        return worst([*found, *([self.waits.outcome] if self.waits is not None else [])])


def rotate(office: Office, charters: list[Charter], wish: RotationWish) -> Iterator[Rotated]:
    """Begin rotations where none is open, and take those that are open as far as they go. Raises UsageError, SomebodyError,
    MachineError.
    """
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        try:
            for charter in charters:
                yield from _rotate(office, charter, wish)
        finally:
            keep_witness(office)


def _rotate(office: Office, charter: Charter, wish: RotationWish) -> Iterator[Rotated]:
    uid, state = office.books.history(charter.name)
    for want in _turning(chosen(charter, wish.credential), charter, state, wish):
        mark, exposed = Mark("credential", charter.tenant, (("name", want.name),)), None
        if mark not in state.turns:
            if wish.end or wish.taken or wish.back or wish.bridge_seconds:
                raise SomebodyError(
                    f"{want.name} is not being rotated", where=charter.name, mend=f"`sigillum rotate {charter.name}` begins it"
                )
            if wish.exposed and (old := state.serving(mark)) is not None:
                exposed = exposure(office, charter, state, want, old)
            begin(office, charter, state, want, mark, wish.because, exposed=wish.exposed, gap=wish.gap)
        rotation = _open(office, uid, mark)
        if wish.end or wish.exposed:
            stage_(office, rotation, Asked.END, by=_who(office, rotation))
        if wish.back and Asked.PAUSE not in rotation.staged:
            raise SomebodyError(
                f"the old {want.name} is not switched off for a while",
                where=charter.name,
                mend="there is nothing to bring back",
            )
        for asked, stage in ((wish.pause, Asked.PAUSE), (wish.back, Asked.BACK), (wish.gap and not rotation.gap, Asked.GAP)):
            if asked and stage not in rotation.staged:
                stage_(office, rotation, stage, who=_who(office, rotation))
        if wish.bridge_seconds:
            _bridge(office, charter, rotation, wish)
        if wish.last_used is not None and wish.last_used > office.tenants.now(rotation.tenant).date():
            raise UsageError(
                f"{wish.last_used} is still to come at {rotation.tenant}",
                where="last use",
                mend="name the day in UTC on which it was used last",
            )
        if wish.taken:
            stage_(office, rotation, Asked.WORD, who=wish.taken, consumers=list(_consumers(want, wish)))
        if wish.last_used is not None:
            stage_(office, rotation, Asked.LAST, who=wish.taken, day=wish.last_used.isoformat())
        done = go_on(office, charter, _open(office, uid, mark))
        done.exposure = exposed
        yield done


def _turning(wanted: list[CredentialWant], charter: Charter, state: History, wish: RotationWish) -> list[CredentialWant]:
    """Which of them are meant: where none is named and some are being rotated, those. One that is over is not begun anew by a
    word, or by going on with another one.
    """
    under_way = [w for w in wanted if Mark("credential", charter.tenant, (("name", w.name),)) in state.turns]
    return under_way if under_way and not wish.credential and not wish.exposed else wanted


def _consumers(want: CredentialWant, wish: RotationWish) -> tuple[str, ...]:
    """Those of which a word is given. Raises UsageError."""
    for name in wish.consumers:
        if name not in want.consumers:
            raise UsageError(
                f"{name} is no consumer of {want.name}",
                where="--consumer",
                mend=did_you_mean(name, want.consumers) or f"name it in the charter: `consumers:` of {want.name}",
            )
    return wish.consumers


def _bridge(office: Office, charter: Charter, rotation: Rotation, wish: RotationWish) -> None:
    """Write down that the old one's key is to be registered again. Raises SomebodyError where it cannot be."""
    turns, now = Turns(office, charter, rotation), whole_second(office.tenants.now(rotation.tenant))
    around = turns.around(rotation)
    seen = look_of(turns.tenant, around)
    until = ends(rotation, now, wish.bridge_seconds)
    against = list(not_bridged(rotation, around, seen, now, until, office.workspace.rules.longest_credential_seconds))
    public = turns.public_half(rotation) if not against else None
    if public is None and not against:
        against.append(f"{rotation.tenant} does not show its public half, and it is not here")
    if against:
        raise SomebodyError(
            f"no bridge for {rotation.name}: {'; '.join(against)}",
            where=rotation.tenant,
            mend="have its consumers fetch the new one before the old one ends",
        )
    before = min(wish.bridge_seconds, around.want.renew_before_seconds if around.want is not None else 0)
    stage_(
        office,
        rotation,
        Asked.BRIDGE,
        bridge=1 + max((g.number for g in turns.bridges()), default=0),
        public_key=public,
        until=format_instant(until),
        deadline=format_instant(deadline(now, until, before)),
        accepted_by=wish.accepted_by,
    )


def chosen(charter: Charter, name: str) -> list[CredentialWant]:
    """The credentials meant. Raises UsageError."""
    found = [c for c in charter.credentials if not name or c.name == name]
    if not found:
        raise UsageError(
            f"{charter.name} has no credential{f' {name!r}' if name else ''}",
            where=charter.name,
            mend=did_you_mean(name, [c.name for c in charter.credentials]) or "look at its `credentials:`",
        )
    return found


def _open(office: Office, uid: str, mark: Mark) -> Rotation:
    return next(r for r in ROTATIONS.read(office.books.entries(uid), uid) if r.mark == mark and not r.closed)


def _who(office: Office, rotation: Rotation) -> str:
    return office.tenants.name_of(rotation.tenant)


def begin(
    office: Office,
    charter: Charter,
    state: History,
    want: CredentialWant,
    mark: Mark,
    because: str,
    *,
    exposed: bool = False,
    gap: bool = False,
) -> None:
    """Write a rotation down. Raises SomebodyError where there is nothing to rotate, or it cannot be done there."""
    old = state.serving(mark)
    if old is None or old.state is not State.MADE:
        raise SomebodyError(
            f"{want.name} of {charter.name} is not there yet",
            where=charter.tenant,
            mend=f"run `sigillum enact {charter.name}` first",
        )
    if old.id.startswith(OWN):
        raise SomebodyError(
            f"{want.name} is part of a registration, and has no next generation",
            where=charter.tenant,
            mend="register the client anew, under another name",
        )
    _kept_here(office, charter, state, want, old)
    tenant = office.tenants.reach(charter.tenant)
    rules = office.workspace.rules
    now, until = whole_second(office.tenants.now(charter.tenant)), str(old.terms.get("until") or "")
    by = deadline(now, parse_instant(until) if until else None, want.renew_before_seconds)
    office.books.writable_ledger().append(
        [
            Fresh(
                ROTATING,
                state.charter,
                {
                    UNDERTAKING: ROTATION,
                    NUMBER: f"{ROTATION}-{secrets.token_hex(3)}",
                    **mark.body(),
                    "old": old.number,
                    "generation": max(g.number for g in state.generations[mark]) + 1,
                    "at": format_instant(now),
                    "deadline": format_instant(by),
                    "quiet_seconds": quiet(tenant.profile, named(want.consumers, rules), rules.quiet_seconds).seconds,
                    "because": f"it was exposed{f': {because}' if because else ''}" if exposed else because or USUAL,
                    "by": _who_of(tenant),
                    **({"exposed": True} if exposed else {}),
                    **({"gap": True} if gap else {}),
                },
            )
        ]
    )
    office.settings.boundary(f"rotation of {want.name} begun")


def _kept_here(office: Office, charter: Charter, state: History, want: CredentialWant, old: Generation) -> None:
    """Raises SomebodyError where another copy of the workspace keeps it."""
    if (
        want.held_here
        and old.kept_by not in ("", office.copy)
        and not office.keepings.of(state.charter).path(want.name, old.number).exists()
    ):
        raise SomebodyError(
            f"{want.name} is kept by the copy {old.kept_by} of this workspace, and not here",
            where=charter.name,
            mend="rotate it there; where that copy is gone, `sigillum enact --lost` begins the next generation",
        )


def _who_of(tenant: Tenant) -> str:
    return tenant.profile.administrator or tenant.address.admin


def go_on(office: Office, charter: Charter | None, rotation: Rotation) -> Rotated:
    """Take one further, under the ledger's lock. What stops it stands in the result. Raises MachineError, StoppedError."""
    done = Rotated(charter.name if charter is not None else rotation.uid, rotation)
    turns = Turns(office, charter, rotation)
    try:
        rotation = _observed(office, turns, rotation)
        advance(office, ROTATIONS, rotation, done.results.append, around=turns.around, prove=turns.prove, turn=turns.turn)
    except (SomebodyError, NotYetError) as waits:
        done.waits = waits
    done.rotation = office.books.again(ROTATIONS, rotation)
    done.consumers = known(turns.consumers, done.rotation.told)
    return done


def _observed(office: Office, turns: Turns, rotation: Rotation) -> Rotation:
    """Write down with which one consumers were seen that have addresses of their own: the next use hides it."""
    if rotation.new is None or not rotation.new.id or not any(c.address for c in turns.consumers):
        return rotation
    uses = list[LastUse]()
    for made, new in ((rotation.old, False), (rotation.new, True)):
        query = Query(CREDENTIAL, "id", made.id)
        record = turns.tenant.facts([query])[query].first
        doubt = used_by_others(rotation.own.get(made.number, ()), record, turns.tenant.profile.last_used)
        if record is not None and doubt.at is not None and not doubt.ours_perhaps:
            uses.append(LastUse(doubt.at, record.body.used_from, new))
    for name, told in observed(turns.consumers, uses).items():
        before = rotation.told.get(name)
        if before is None or (before.has is not told.has and before != Told(True, "it sent a receipt")):
            stage_(office, rotation, Asked.SEEN, consumers=[name], how=told.how, new=told.has)
    return office.books.again(ROTATIONS, rotation)


def open_of(office: Office, uid: str) -> list[Rotation]:
    """The open rotations of one stream."""
    return [r for r in ROTATIONS.read(office.books.entries(uid), uid) if not r.closed] if uid else []


def under_way(office: Office) -> list[str]:
    """The charters of which a credential is being rotated."""
    known = names(office.workspace)
    return sorted({n for r in office.books.begun(ROTATIONS) if (n := office.books.ledger().name_of(r.uid)) in known})


def go_on_all(office: Office, charter: Charter, uid: str) -> list[Rotated]:
    """All open rotations of a charter, as far as they go."""
    return [go_on(office, charter, rotation) for rotation in open_of(office, uid)]


class RotationStatus(NamedTuple):
    """Where a rotation stands, what it waits for, and the last uses that its tenant tells, old and new."""

    charter: str
    rotation: Rotation
    waits: str
    old_used: datetime | None = None
    old_from: str = ""
    new_used: datetime | None = None
    consumers: tuple[Knows, ...] = ()
    old_whose: str = ""
    new_whose: str = ""
    now: datetime | None = None

    @property
    def late(self) -> bool:
        return self.now is not None and self.now >= self.rotation.deadline


def status(office: Office, charters: list[Charter]) -> Iterator[RotationStatus]:
    """Every open rotation of these charters; nothing is written or changed."""
    for charter in charters:
        uid, _ = office.books.history(charter.name)
        for rotation in open_of(office, uid):
            yield _standing(office, charter, rotation)


def _standing(office: Office, charter: Charter, rotation: Rotation) -> RotationStatus:
    tenant, now = office.tenants.reach(rotation.tenant), office.tenants.now(rotation.tenant)
    turns = Turns(office, charter, rotation)
    follows = ROTATIONS.next(rotation, look_of(tenant, turns.around(rotation)), now)
    waits = follows.waits or ("nothing: it goes on when it is run again" if follows.steps else follows.closed)
    ids = [g.id for g in (*rotation.leaving, rotation.new) if g is not None and g.id and g.live]
    found = {r.id: r for f in tenant.facts([Query(CREDENTIAL, "id", i) for i in ids]).values() for r in f.records}
    new, old = (
        found.get(rotation.new.id) if rotation.new is not None else None,
        together([found[g.id] for g in rotation.leaving if g.id in found]),
    )
    return RotationStatus(
        charter.name,
        rotation,
        waits,
        old.body.used_at if old else None,
        old.body.used_from if old else "",
        new.body.used_at if new else None,
        known(turns.consumers, rotation.told),
        _whose(rotation, rotation.old.number, old, tenant),
        _whose(rotation, rotation.number, new, tenant),
        now,
    )


def _whose(rotation: Rotation, number: int, record: Record[Credential] | None, tenant: Tenant) -> str:
    """By whom one was used last."""
    doubt = used_by_others(rotation.own.get(number, ()), record, tenant.profile.last_used)
    if record is None or record.body.used_at is None:
        return ""
    return "by us" if doubt.at is None else "perhaps by us" if doubt.ours_perhaps else "by others"
