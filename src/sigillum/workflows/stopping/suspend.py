"""Suspend and reinstate: an identity or a key is off for a while; every way in is tried before and after."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.kinds.identities import ACCOUNT, PRINCIPAL
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import NUMBER, PROLONGED, REINSTATED, SUSPENDED, SUSPENSION, UNDERTAKING, History, State
from sigillum.core.undertakings.suspension import LEFT_OFF, SUSPENSIONS, Suspension
from sigillum.core.values.errors import NotYetError, Outcome, RefusedError, SigillumError, SomebodyError, UsageError, worst
from sigillum.core.values.marks import Mark
from sigillum.core.values.times import format_instant, whole_second
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import SignedIn, Tenant
from sigillum.workflows.desk.ledgers import keep_witness
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office
from sigillum.workflows.enacting.carrying.run import StepResult
from sigillum.workflows.enacting.undertakings import advance
from sigillum.workflows.proving.trials import held, principal_of, proof_of
from sigillum.workflows.proving.ways_in import others
from sigillum.workflows.rotating.own_use import trying_ours

from .ways import Way, again, old_token

Until = Callable[[datetime], datetime | None]  # when it comes back, by the tenant's present time; None: when somebody says so


@dataclass(slots=True, kw_only=True)
class Effect:
    """What was done, which ways in were tried, and what went wrong."""

    results: list[StepResult] = field(default_factory=list)
    ways: list[Way] = field(default_factory=list)
    errors: list[SigillumError] = field(default_factory=list)

    @property
    def problems(self) -> list[SigillumError]:
        """All that went wrong, at its steps, too."""
        return [*self.errors, *(r.error for r in self.results if r.error is not None)]


class Target(NamedTuple):
    """Something that can be switched off. `stream`: in which stream of the ledger it stands."""

    stream: str
    mark: Mark
    number: int
    record: Record[Any]
    name: str

    @property
    def tenant(self) -> str:
        return self.mark.tenant


@dataclass(slots=True)
class Stopped(Effect):
    """What became of one charter's, or key's, suspension or reinstatement."""

    name: str
    suspensions: list[Suspension] = field(default_factory=list)
    stood: bool = False  # it was suspended already
    off: dict[str, bool | None] = field(default_factory=dict)  # by the tenant, now; None: not shown

    def outcome(self) -> Outcome:
        found = [e.outcome for e in self.problems]
        found += [Outcome.NO for w in self.ways if w.refused is False]
        return worst([*found, *(Outcome.SOMEBODY for s in self.suspensions if s.closed in LEFT_OFF)])


def targets(office: Office, charter: Charter) -> list[Target]:
    """What the identity is in each tenant: what can be switched off there. Raises SomebodyError."""
    uid, state = office.books.history(charter.name)
    found = [t for t in _identities(office, charter, uid, state) if t.record.value("active") is not None]
    if not found:
        raise SomebodyError(
            f"nothing of {charter.name} can be switched off",
            where=charter.tenant,
            mend="a team has no switch: suspend its members"
            if charter.is_team
            else f"run `sigillum enact {charter.name}` first, or suspend its keys with `sigillum suspend --key`",
        )
    return found


def _identities(office: Office, charter: Charter, uid: str, state: History) -> Iterator[Target]:
    for mark, all_ in state.generations.items():
        made = all_[-1]
        if (
            made.kind in (ACCOUNT.name, PRINCIPAL.name)
            and made.id
            and made.state is State.MADE
            and not made.value
            and mark.tenant in office.workspace.file.tenants
        ):
            record = office.tenants.reach(mark.tenant).read(KINDS[made.kind], made.id)
            if record is not None:
                yield Target(uid, mark, made.number, record, charter.identity.name)
    mark = Mark("client", charter.tenant, (("part", "principal"),))
    if charter.is_client and mark not in state.generations:  # the tenant made it by itself
        tenant = office.tenants.reach(charter.tenant)
        identity = principal_of(office, charter, state) if tenant.profile.carried(PRINCIPAL) is not None else ""
        record = tenant.read(PRINCIPAL, identity) if identity else None
        if record is not None:
            yield Target(uid, mark, 1, record, charter.identity.name)


def suspend(
    office: Office, charters: Iterable[Charter], because: str, until: Until, *, back: bool = False
) -> Iterator[Stopped]:
    """Switch identities off, in every tenant where they are, and try each way in that can be tried. Raises MachineError."""
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        try:
            for charter in charters:
                yield _suspend(office, charter, because, until, back)
        finally:
            keep_witness(office)


def _suspend(office: Office, charter: Charter, because: str, until: Until, back: bool) -> Stopped:
    done = Stopped(charter.name)
    try:
        uid, state = office.books.history(charter.name)
        known = open_of(office, uid)
        found, before = targets(office, charter), list(_signed_in(office, charter, state))
        done.stood = bool(known)
        write(office, found, known, because, until, back=back)
        for suspension in open_of(office, uid):
            _go_on(office, suspension, done)
        if known and not done.results:  # nothing was switched, so nothing was let in before
            return done
        done.ways = [*_refused(office, charter, state, before)]
        tenant, principal = office.tenants.reach(charter.tenant), principal_of(office, charter, state)
        done.ways += [Way.tried(other.words, None, other.off) for other in others(tenant, charter, state, principal)]
    except SigillumError as problem:
        if problem.outcome is Outcome.MACHINE:
            raise
        done.errors.append(problem)
    return done


def write(
    office: Office, found: Iterable[Target], known: list[Suspension], because: str, until: Until, *, back: bool = False
) -> None:
    """That it is suspended stands in the ledger first. What is off already stays off afterwards; one that is suspended already
    keeps its later end, gets the further reason, and is switched off once more where it is on. Raises UsageError.
    """
    entries = list[Fresh]()
    for target in found:
        now = whole_second(office.tenants.now(target.tenant))
        end = until(now)
        if end is not None and end <= now:
            raise UsageError(
                "it would end before it begins",
                where="--until",
                mend=f"write a later end; at {target.tenant} it is {format_instant(now)}",
            )
        suspension = next((s for s in known if (s.tenant, s.id) == (target.tenant, target.record.id)), None)
        about = {
            **target.mark.body(),
            "thing": target.record.kind.name,
            "name": target.name,
            "because": because,
            "by": office.tenants.name_of(target.tenant),
            "at": format_instant(now),
            **({"back": True} if back else {}),
        }
        if suspension is not None:
            entries += _once_more(suspension, target, about, end)
            continue
        begun = {UNDERTAKING: SUSPENSION, NUMBER: f"{SUSPENSION}-{secrets.token_hex(3)}", "id": target.record.id}
        found_off = {"generation": target.number, "found_off": target.record.value("active") is False}
        entries.append(Fresh(SUSPENDED, target.stream, {**begun, **about, **found_off, "until": _until(end)}))
    office.books.writable_ledger().append(entries)
    office.settings.boundary("suspension written")


def _until(end: datetime | None) -> str:
    return format_instant(whole_second(end)) if end is not None else ""


def _once_more(suspension: Suspension, target: Target, about: dict[str, Any], end: datetime | None) -> Iterator[Fresh]:
    """What a further asking changes, if anything: never an earlier end."""
    later = None if end is None or suspension.until is None else max(end, suspension.until)
    on = target.record.value("active") is True and (suspension.sent or suspension.found_off)
    if (
        on
        or later != suspension.until
        or about["because"] not in suspension.because
        or (about.get("back") and not suspension.agreed)
    ):
        yield Fresh(PROLONGED, suspension.uid, {**about, "of": suspension.key, "until": _until(later), "on": on})


def open_of(office: Office, uid: str) -> list[Suspension]:
    """The open suspensions of one stream."""
    return [s for s in SUSPENSIONS.read(office.books.ledger().entries(uid), uid) if not s.closed] if uid else []


def _go_on(office: Office, suspension: Suspension, done: Stopped) -> None:
    """Take one as far as it goes; what keeps it stands in the result."""
    try:
        advance(office, SUSPENSIONS, suspension, done.results.append)
    except (SomebodyError, NotYetError, RefusedError) as problem:
        done.errors.append(problem)
    done.suspensions = [s for s in done.suspensions if s.key != suspension.key] + [office.books.again(SUSPENSIONS, suspension)]
    done.off[suspension.key] = _off_now(office, suspension)


def _off_now(office: Office, suspension: Suspension) -> bool | None:
    """As the tenant shows it; what is gone is off, too."""
    try:
        record = office.tenants.reach(suspension.tenant).read(KINDS[suspension.thing], suspension.id)
    except RefusedError:
        return None
    active = record.value("active") if record is not None else False
    return None if active is None else not active


# --- ways in ----------------------------------------------------------------------------------------------------------
def _signed_in(office: Office, charter: Charter, state: History) -> Iterator[tuple[str, SignedIn]]:
    """A token with each credential that is kept here, got while it still works."""
    keys, tenant = office.keepings.of(state.charter), office.tenants.reach(charter.tenant)
    for want in charter.credentials:
        if held(charter, state, keys, want):
            generation = state.find(CREDENTIAL, charter.tenant, name=want.name)
            assert generation is not None
            try:
                with trying_ours(office, state, charter, want):
                    proof = proof_of(keys, want, generation.number, principal_of(office, charter, state))
                    yield want.name, tenant.sign_in(proof)
            except RefusedError:  # it did not work before, so its refusal will show nothing
                continue


def _refused(office: Office, charter: Charter, state: History, before: list[tuple[str, SignedIn]]) -> Iterator[Way]:
    """Each of them again: a refusal is worth something beside the sign-in that was let in a moment ago."""
    keys, tenant = office.keepings.of(state.charter), office.tenants.reach(charter.tenant)
    had = dict(before)
    for want in charter.credentials:
        if want.name not in had:
            yield Way.tried(
                want.name,
                None,
                "not tried: it is not kept here"
                if not held(charter, state, keys, want)
                else "not shown: it did not sign in before, either",
            )
            continue
        generation = state.find(CREDENTIAL, charter.tenant, name=want.name)
        assert generation is not None
        proof = proof_of(keys, want, generation.number, principal_of(office, charter, state))
        yield again(tenant, f"sign-in with {want.name}", proof)
        yield old_token(tenant, want.name, had[want.name])


# --- back -----------------------------------------------------------------------------------------------------------------
def reinstate(office: Office, charters: Iterable[Charter], because: str, *, switch_on: bool = False) -> Iterator[Stopped]:
    """Switch on again what we suspended; what others stopped stays stopped, unless a person says `switch_on`. Raises
    MachineError.
    """
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        try:
            for charter in charters:
                uid, _ = office.books.history(charter.name)
                yield _reinstate(office, charter.name, uid, because, switch_on)
        finally:
            keep_witness(office)


def _reinstate(office: Office, name: str, uid: str, because: str, switch_on: bool) -> Stopped:
    done, found = Stopped(name), open_of(office, uid)
    if not found:
        done.errors.append(
            SomebodyError(
                f"{name} is not suspended by this workspace",
                where=name,
                mend=f"if somebody else switched it off, `sigillum enact {name} --switch-on` asks for "
                "it to be switched on again",
            )
        )
    for suspension in found:
        _go_on(office, _wanted_back(office, suspension, because, switch_on), done)
    return done


# --- any key ------------------------------------------------------------------------------------------------------------------
class Found(NamedTuple):
    """Where a key is registered, whose it is in words (empty: a stranger's), and the tenants that could not be searched."""

    targets: list[Target]
    owners: list[str]
    unsearched: list[tuple[str, str]]


def find_key(office: Office, marks: list[str]) -> Found:
    """A key in every tenant where it is known, by its thumbprints: RFC 7638, a certificate's `x5t#S256` (RFC 7515 §4.1.8), or
    of its SubjectPublicKeyInfo. Raises UsageError where it is nowhere.
    """
    from sigillum.keys.shapes import mark_of

    marks = [*(typed := [mark_of(m) for m in marks]), *office.keepings.certificates(set(typed))]
    found, owners, unsearched = list[Target](), list[str](), list[tuple[str, str]]()
    for name in office.workspace.file.tenants:
        try:
            tenant = office.tenants.reach(name)
        except SigillumError as problem:
            unsearched.append((name, problem.what))
            continue
        facts = tenant.facts([Query(CREDENTIAL, "thumbprint", mark) for mark in marks])
        unsearched += [(name, f.unknown) for f in facts.values() if not f.known][:1]
        records = [r for f in facts.values() for r in f.records] or _by_spki(tenant, set(marks))
        for record in {r.id: r for r in records}.values():
            found.append(_registered(office, name, record))
            owners.append(office.books.owner(name, CREDENTIAL, record.id))
    if not found and not unsearched:
        raise UsageError(
            f"no tenant knows a key of the thumbprint {' or '.join(marks)}",
            where="--key",
            mend="check the file or the thumbprint",
        )
    return Found(found, owners, unsearched)


def _by_spki(tenant: Tenant, marks: set[str]) -> list[Record[Any]]:
    """Tenants know no such thumbprint: every credential is looked at whose public key they show."""
    from sigillum.keys.shapes import spki_mark

    every = Query(CREDENTIAL, "all")
    shown = [r for r in tenant.facts([every])[every].records if r.body.public_key]
    return [r for r in shown if spki_mark(dict(r.body.public_key)) in marks]


def _registered(office: Office, tenant: str, record: Record[Any]) -> Target:
    uid = office.books.stream_of(tenant, CREDENTIAL, record.id)
    made = office.books.state(uid).owns("credential", tenant, record.id, record.mark) if uid else None
    if made is not None:
        return Target(uid, made.mark, made.number, record, record.body.name or record.id)
    return Target("", Mark(SUSPENSION, tenant, (("id", record.id),)), 1, record, record.body.name or record.id)


def suspend_key(office: Office, found: Found, because: str, until: Until, *, back: bool = False) -> Stopped:
    """Switch the key off wherever it is registered; one that nobody made here gets a stream of its own. Raises MachineError."""
    done = Stopped("the key")
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        try:
            for target in found.targets:
                known = [s for s in office.books.begun(SUSPENSIONS) if (s.tenant, s.id) == (target.tenant, target.record.id)]
                stream = known[0].uid if known else target.stream or f"{SUSPENSION}-{secrets.token_hex(3)}"
                write(office, [target._replace(stream=stream)], known, because, until, back=back)
                for suspension in [office.books.again(SUSPENSIONS, s) for s in known] or open_of(office, stream)[-1:]:
                    _go_on(office, suspension, done)
        finally:
            keep_witness(office)
    return done


def reinstate_key(office: Office, found: Found, because: str, *, switch_on: bool = False) -> Stopped:
    """Switch a suspended key on again where we switched it off. Raises MachineError."""
    done, ids = Stopped("the key"), {t.record.id for t in found.targets}
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        try:
            for suspension in [s for s in office.books.begun(SUSPENSIONS) if s.id in ids]:
                _go_on(office, _wanted_back(office, suspension, because, switch_on), done)
        finally:
            keep_witness(office)
    if not done.suspensions:
        done.errors.append(SomebodyError("this workspace did not suspend that key", where="--key", mend="find out who did"))
    return done


def _wanted_back(office: Office, suspension: Suspension, because: str, switch_on: bool) -> Suspension:
    if not suspension.wanted_back or (switch_on and not suspension.forced):
        office.books.writable_ledger().append(
            [
                Fresh(
                    REINSTATED,
                    suspension.uid,
                    {
                        "of": suspension.key,
                        "tenant": suspension.tenant,
                        "name": suspension.name,
                        "because": because,
                        "by": office.tenants.name_of(suspension.tenant),
                        **({"switch_on": True} if switch_on else {}),
                    },
                )
            ]
        )
        office.settings.boundary("reinstatement written")
    return office.books.again(SUSPENSIONS, suspension)
