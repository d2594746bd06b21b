"""The facet *signing*: the tenant signs for the identity, which has no key at all. It is attached to a machine, and needs
rights on itself.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sigillum.core.charter.charter import SELF, GrantWant
from sigillum.core.charter.wants import SigningWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import AlsoWanted, ItsPrincipal, Ready
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import principal, unknown
from sigillum.core.kinds.access import GRANT, ROLE, Role
from sigillum.core.kinds.changes import Change
from sigillum.core.kinds.kind import Query, Record, inside
from sigillum.core.kinds.machines import MACHINE, Machine
from sigillum.core.records.history import AttemptOutcome, Generation, State
from sigillum.core.records.steps import Ask, Step, StepKind
from sigillum.core.values.marks import Id, Mark, StepId

NAME = "signing"
ALL_ROLES = Query[Role](ROLE, "all")


def mark_of(seen: Seen, machine: str) -> Mark:
    return seen.mark(NAME, ("machine", machine))


def compare(seen: Seen, draft: Draft) -> None:
    """Attach the identity to its machine, ask for the rights that it lacks on itself, and tell where it is attached else."""
    want, who = seen.charter.signing, principal(seen, draft)
    left = [
        g
        for g in seen.history.of(NAME, seen.tenant)
        if g.state is State.MADE and (want is None or g.mark != mark_of(seen, want.machine))
    ]
    for generation in left:
        _detach(seen, draft, generation)
    if want is None or who is None or seen.away:
        return
    if not seen.profile.signer or seen.carried(MACHINE) is None:
        draft.wrong(
            "no-signer",
            f"{seen.tenant} signs for nobody",
            "leave `signing` out, and let it prove itself with a key or by a trust",
            want.position,
        )
        return
    _rights(seen, draft, want, who.id)
    _attach(seen, draft, want, who.id)
    for record in seen.ask(Query(MACHINE, "principal", who.id)).records if isinstance(who.id, str) else ():
        if record.denies(name=want.machine) and record.id not in {g.id for g in left}:
            name = seen.charter.identity.name
            draft.note(
                "machine-extra",
                f"extra: {name} is attached to {record.body.name}, too: what runs there acts as it, "
                "and no charter asks for that",
            )


# --- rights on itself -------------------------------------------------------------------------------------------------
def _rights(seen: Seen, draft: Draft, want: SigningWant, who: Id) -> None:
    """Those that the tenant demands, held against those that are there or wanted; each that is missing is asked for."""
    fact = seen.ask(ALL_ROLES)
    held = seen.ask(Query(GRANT, "principal", who)) if isinstance(who, str) else None
    if not fact.known or (held is not None and not held.known):
        unknown(seen, draft, fact if held is None or held.known else held, "what it may on itself")
        return
    roles = {r.body.name: r for r in fact.records}
    wanted = [g.role for g in seen.charter.grants if g.at == SELF and not g.to and not g.windowed]
    mine = {g.id for all_ in seen.history.generations.values() for g in all_ if g.kind == GRANT.name}
    theirs = [
        r.body.role
        for r in (held.records if held is not None else ())
        if r.says(place=f"@{who}", until=None) and r.id not in mine and not seen.books.owner(seen.tenant, GRANT, r.id)
    ]
    has = {p for name in (*wanted, *theirs) if name in roles for p in _permissions(roles[name])}
    missing = [p for p in seen.profile.signing if p not in has]
    while missing:
        allowed = [r for r in fact.records if not any(r.says(name=f) for f in seen.rules.forbidden_roles)]
        found = _narrowest(allowed, set(missing), set(seen.profile.signing))
        if found is None:
            draft.wrong(
                "no-role",
                f"it needs {', '.join(missing)} on itself, so that {seen.tenant} signs for it, and no role "
                "that the house allows holds that",
                "have a role made that does: `roles:` of a charter",
                want.position,
            )
            return
        now = ", ".join(p for p in missing if p in _permissions(found))
        reason = f"{seen.tenant} signs for it, and demands on itself: {now}"
        draft.provide(AlsoWanted(seen.tenant, GrantWant(found.body.name, SELF, reason, position=want.position)))
        missing = [p for p in missing if p not in _permissions(found)]


def _permissions(role: Record[Role]) -> set[str]:
    return {p for p, _ in role.body.permissions}


def _narrowest(roles: Iterable[Record[Role]], missing: set[str], needed: set[str]) -> Record[Role] | None:
    """Of the roles that can be granted on a principal: with as little as can be beside what is needed, then with the most of
    what is missing.
    """

    def order(role: Record[Role]) -> tuple[int, int, str]:
        has = _permissions(role)
        return len(has - needed), -len(has & missing), role.body.name

    return min(
        (r for r in roles if missing & _permissions(r) and inside(r, "grantable_at", "principal")), key=order, default=None
    )


# --- the machine ------------------------------------------------------------------------------------------------------
def _attach(seen: Seen, draft: Draft, want: SigningWant, who: Id) -> None:
    fact = seen.ask(Query(MACHINE, "name", want.machine))
    if not fact.known:
        unknown(seen, draft, fact, f"the machine {want.machine}")
        return
    if fact.first is None:
        draft.wrong("machine-unknown", f"{seen.tenant} has no machine {want.machine!r}", "name one that it has", want.position)
        return
    record, mark = fact.first, mark_of(seen, want.machine)
    generation = seen.history.latest(mark)
    number = 1 if generation is None else generation.number + (generation.state in (State.MADE, State.ENDED))
    name = seen.charter.identity.name
    if record.says(principal=who):
        return
    if record.body.principal:
        other = record.body.principal_name or record.body.principal
        draft.note(
            "wrong-identity", f"{want.machine} has the identity of {other}: what runs there signs in as that, not as {name}"
        )
        draft.add(
            Step(
                StepId(mark, number, "ask"),
                StepKind.ASK,
                f"about {want.machine}, to which {other} is attached",
                Ask(advice=f"find out whose it is; have {other} detached, or name another machine"),
                why="what runs there may need the identity that it has",
            )
        )
        return
    draft.add(
        Step(
            StepId(mark, number, "attach"),
            StepKind.CHANGE,
            f"identity of the machine {want.machine}",
            Change(MACHINE, record.id, {"principal": who}, record.version, result=AttemptOutcome.MADE),
            draft.by(seen.tenant, ItsPrincipal, Ready),
            MACHINE.power,
            "what runs there signs in as it, without any key",
            before={"identity": "nobody's"},
            after={"identity": name},
        )
    )


def _detach(seen: Seen, draft: Draft, generation: Generation) -> None:
    """What only we attached, and still is."""
    fact, who = seen.ask(Query(MACHINE, "name", generation.mark.get("machine"))), principal(seen, draft)
    record: Record[Machine] | None = fact.first
    if record is None or who is None or record.denies(principal=who.id):
        return
    nobody: dict[str, Any] = {"principal": ""}
    draft.add(
        Step(
            StepId(generation.mark, generation.number, "detach"),
            StepKind.CHANGE,
            f"identity of the machine {record.body.name}",
            Change(MACHINE, record.id, nobody, record.version, result=AttemptOutcome.ENDED),
            (),
            MACHINE.power,
            "the charter no longer asks for it",
            before={"identity": seen.charter.identity.name},
            after={"identity": "nobody's"},
        )
    )


def words(mark: Mark) -> str:
    return f"the identity of the machine {mark.get('machine')}"


FACET = Facet(NAME, compare, frozenset((AlsoWanted,)), frozenset((ItsPrincipal, Ready)), words=words)
