"""The facet *delegation*: the right of the identity to act for people, for listed OAuth scopes."""

from __future__ import annotations

from typing import Any

from sigillum.core.charter.wants import DelegationWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import Bearer, Ready, Wished
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import Where, adopt, await_, dark, hanging, stand, unknown
from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.delegating import ALL, DELEGATION, Delegation
from sigillum.core.kinds.kind import Record, compared
from sigillum.core.records.history import State
from sigillum.core.records.steps import Adopt, Step, StepKind
from sigillum.core.values.marks import Mark, StepId

NAME = "delegation"


def mark_of(seen: Seen) -> Mark:
    return seen.mark(NAME)


def part_of(want: DelegationWant, bearer: Bearer) -> dict[str, Any]:
    return {
        "principal": bearer.id,
        "carrier": bearer.kind.name,
        "domain": want.domain,
        "people": want.people,
        "scopes": want.names,
    }


def compare(seen: Seen, draft: Draft) -> None:
    """Make it, bring people and scopes to what is wanted, end what only we still hold."""
    want, bearer = seen.charter.delegation, draft.one(Bearer, seen.tenant)
    fact = hanging(seen, DELEGATION, bearer.id if bearer is not None else None)
    if not fact.known or bearer is None:
        if want is not None:
            unknown(seen, draft, fact, f"a delegation to {seen.charter.identity.name}")
        return
    if want is not None:
        if ALL in want.people:
            draft.note(
                "delegation-all",
                f"{seen.charter.identity.name} may act for everybody of {want.domain}: name a team, "
                "or those people that it is for",
            )
        _one(seen, draft, want, bearer, fact.records)
    for record in fact.records:
        generation = seen.history.owns(NAME, seen.tenant, record.id, record.mark)
        if generation is not None and want is None and generation.state is State.MADE:
            draft.add(
                Step(
                    StepId(generation.mark, generation.number, "end"),
                    StepKind.END,
                    _about(seen, record.body.domain),
                    End(DELEGATION, record.id),
                    (),
                    DELEGATION.power,
                    "the charter no longer asks for it",
                )
            )
        elif (
            generation is None
            and (want is None or record.denies(domain=want.domain))
            and not seen.books.owner(seen.tenant, DELEGATION, record.id)
        ):
            draft.note(
                "delegation-extra",
                f"extra: it may act for {_people(record.body.people)} of {record.body.domain} "
                f"({', '.join(record.body.scopes)}), and no charter asks for that",
            )


def _one(seen: Seen, draft: Draft, want: DelegationWant, bearer: Bearer, records: tuple[Record[Delegation], ...]) -> None:
    mark, part, carried = mark_of(seen), part_of(want, bearer), seen.carried(DELEGATION)

    def alike(record: Record[Delegation]) -> bool:
        return record.says(domain=want.domain)

    standing = stand(seen, draft, mark, records, f"the delegation in {want.domain}", bearer.id, alike)
    record = standing.record
    if record is None and standing.where is Where.RECENT:
        await_(seen, draft, mark, DELEGATION, standing, f"the delegation in {want.domain}")
    elif record is None:
        theirs = next((r for r in records if alike(r)), None)
        if theirs is not None and not seen.choices.adopt:
            same = compared(theirs, part, carried).same
            draft.note(
                "delegation-stands",
                f"{seen.charter.identity.name} has a delegation in {want.domain} already"
                f"{'' if same else ', for other people or scopes'}; Sigillum did not make it and leaves it alone",
                warning=not same,
            )
            return
        if theirs is not None:
            adopt(draft, mark, standing.number, f"the delegation in {want.domain}", Adopt(DELEGATION, theirs.id))
            record = theirs
        else:
            draft.add(
                Step(
                    StepId(mark, standing.number, "make"),
                    StepKind.MAKE,
                    _about(seen, want.domain),
                    Make(DELEGATION, part),
                    draft.by(seen.tenant, Bearer, Ready),
                    DELEGATION.power,
                    standing.why("it acts for people, as far as listed"),
                    after={
                        "people": _people(want.people),
                        "scopes": "; ".join(f"{s}: {why}" if why else s for s, why in want.scopes),
                    },
                )
            )
    if record is None:
        return
    held = compared(record, {n: part[n] for n in ("people", "scopes")}, carried)
    dark(seen, draft, held, f"the delegation in {want.domain}")
    wrong = {n: have for n, (have, _) in held.different.items()}
    if wrong:
        draft.add(
            Step(
                StepId(mark, standing.number, "change"),
                StepKind.CHANGE,
                _about(seen, want.domain),
                Change(DELEGATION, record.id, {n: part[n] for n in wrong}, record.version),
                (),
                DELEGATION.power,
                "the charter says so",
                before={n: ", ".join(v) for n, v in wrong.items()},
                after={n: ", ".join(part[n]) for n in wrong},
            )
        )


def _about(seen: Seen, domain: str) -> str:
    return f"delegation to {seen.charter.identity.name} in {domain}"


def _people(people: tuple[str, ...]) -> str:
    return "everybody" if ALL in people else ", ".join(people)


def last(seen: Seen, draft: Draft) -> None:
    """Looking after a directory and acting for its people are two things: said where one is asked for, and one missing."""
    directory, name = set(seen.profile.directory), seen.whole.identity.name
    if not directory:
        return
    held = {p for w in draft.find(Wished, seen.tenant) for p, _ in w.role.body.permissions} & directory
    acts = seen.charter.delegation is not None
    lacking = sorted({p.permission for p in seen.charter.proofs if p.allowed and not p.person} & directory - held)
    if acts and lacking:
        draft.note(
            "acts-not-administers",
            f"a delegation lets {name} act for people, as far as each of them may, and never "
            f"look after the directory: for {', '.join(lacking)} it needs a role there (`grants`)",
        )
    persons = sorted({p.person for p in (*seen.charter.proofs, *seen.charter.delegated) if p.person and p.allowed})
    if held and persons and not acts and not seen.charter.permissions:
        draft.note(
            "administers-not-acts",
            f"a role over the directory lets {name} look after accounts, and never act for the "
            f"people in them: for {', '.join(persons)} it needs a `delegation`",
        )


def words(mark: Mark) -> str:
    return "the delegation"


FACET = Facet(NAME, compare, takes=frozenset((Bearer, Ready, Wished)), last=last, words=words)
