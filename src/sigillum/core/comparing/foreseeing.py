"""Foreseeing: what proofs will say once an outline is carried out, before anything of it is.

A right of ours, or one that is wanted, that breaks what a charter says cannot be is a mistake; a stranger's right warns.
Looked at are the proofs of this charter, and those of others whose identity it touches: the members of a team, those it grants
something to, the holders of a custom role. They are found through the books.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.core.charter.charter import ProofWant
from sigillum.core.deciding.refusals import ABOUT, Cause
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.future import future, identity_of
from sigillum.core.facets.provides import Wished
from sigillum.core.facets.seen import Seen
from sigillum.core.kinds.access import CONSENT, GRANT, ROLE
from sigillum.core.kinds.changes import Change, Entry, Make
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import Query
from sigillum.core.records.steps import HIDDEN, NEVER_HERE, Step, StepKind
from sigillum.core.values.errors import Position
from sigillum.core.values.worlds import Observed, Predicted

if TYPE_CHECKING:  # deciding is loaded where something is expected
    from sigillum.core.deciding.foreseen import Breach
    from sigillum.core.deciding.world import World

MOST_TOUCHED = 50  # identities of other charters that are looked at
_MISTAKES = (Cause.PLACE_UNKNOWN, Cause.PERMISSION_UNKNOWN)  # told as such already


class Touched(NamedTuple):
    """Whose expectations are looked at: the charter (none: this one), the principal's id, what it says cannot be; with the
    limits of its credentials.
    """

    charter: str
    principal: str
    proofs: tuple[ProofWant, ...]
    limits: tuple[tuple[str, ...], ...] = ()
    position: Position | None = None


def foresee(seen: Seen, draft: Draft, steps: Sequence[Step]) -> None:
    """Decide the expectations on the facts after the outline, and say what will not be as wished."""
    own, charter = identity_of(seen, draft), seen.charter
    expected = [p for p in charter.proofs if p.permission and _placed(seen, p)]
    touched = list(_touched(seen, draft, steps, own))
    if not (expected or touched):
        return
    from sigillum.core.deciding.gathering import explore, world_of

    if not own:  # what does not depend on it is asked in the same round as who it is
        explore(seen.snapshot, [], [p.at for p in expected])
        return
    limits = tuple(w.limits for w in seen.whole.credentials)
    subjects = [*([Touched("", own, tuple(expected), limits)] if expected else []), *touched]
    known = [s.principal for s in subjects if not s.principal.startswith("(")]
    teams = [t.id for want in charter.member_of for t in seen.ask(Query(TEAM, "name", want.name)).records]
    people = {
        name: fact.first.id
        for s in subjects
        for name in (p.person for p in s.proofs)
        if name
        for fact in [seen.ask(Query(ACCOUNT, "name", name))]
        if fact.first is not None
    }
    explore(seen.snapshot, [*known, *teams, *people.values()], [p.at for s in subjects for p in s.proofs])
    if seen.snapshot.misses:
        return  # to be asked for first
    after = future(seen, draft, [s for s in steps if not _kept(seen, s)])
    for subject in subjects:
        broken = _breaches(seen, after, subject, people)
        if broken:  # the worlds without it are made where something is broken only
            before, hoped = world_of(seen.snapshot.known(), seen.profile, felt=False), future(seen, draft, steps)
            for breach in broken:
                _tell(seen, draft, subject, breach, (before, after, hoped), people)
    if expected:
        _can(seen, draft, after, subjects[0], people)


def _placed(seen: Seen, proof: ProofWant) -> bool:
    """Is it about a place and permission that the tenant knows? What it does not know is told as a mistake."""
    known = seen.profile.operations
    return not known or proof.permission in known


def _kept(seen: Seen, step: Step) -> bool:
    """Is it an ending that may not run: one that was not said, or that somebody else is asked for?"""
    doing = step.doing
    ending = step.kind is StepKind.END or (
        step.kind is StepKind.ASK
        and doing is not None
        and (not isinstance(doing, Make | Change | Entry) or (isinstance(doing, Entry) and doing.out))
    )
    return ending and (step.kind is StepKind.ASK or (seen.tenant in seen.choices.kept_in and not step.unasked))


def _breaches(seen: Seen, world: World[Any], subject: Touched, people: dict[str, str]) -> list[Breach]:
    from sigillum.core.deciding.foreseen import breaches

    return list(breaches(world, subject.principal, subject.proofs, seen.now, people))


def _tell(
    seen: Seen,
    draft: Draft,
    subject: Touched,
    breach: Breach,
    worlds: tuple[World[Observed], World[Predicted], World[Predicted]],
    people: dict[str, str],
) -> None:
    from sigillum.core.deciding.foreseen import breach_words, narrowed

    before, after, hoped = worlds
    proof = breach.proof
    whose = f"the charter {subject.charter} says" if subject.charter else "the charter says"
    if breach.decision.allowed is None:
        draft.note("not-foreseen", f"`{proof.words()}` cannot be foreseen: {'; '.join(breach.decision.hidden)}")
        return
    what = breach_words(after, subject.principal, breach, seen.now)
    if narrowed(_limits(seen, subject, proof), proof.permission):
        draft.note(
            "limits-alone",
            f"{whose} `{proof.words()}`, and only the limits of its credentials stand against {what}",
            warning=False,
        )
        return
    touched = subject._replace(proofs=(proof,))
    if not any(b.decision.allowed for b in _breaches(seen, hoped, touched, people)):
        if seen.tenant in seen.choices.kept_in:
            draft.undecided(
                "breaks-cannot-kept",
                f"{whose} `{proof.words()}`, and that is allowed by {what}, which is not ended now",
                "",
                proof.position or subject.position,
            )
        else:
            draft.note("breaks-cannot", f"`{proof.words()}` will not hold until somebody else has ended {what}")
        return
    stood = any(b.decision.allowed for b in _breaches(seen, before, touched, people))
    rights = [r for r in (breach.decision.by, *breach.decision.also) if r is not None]
    if not stood or not rights or any(_ours(seen, draft, r.id, (r.carrier, r.role, r.place)) for r in rights):
        draft.wrong(
            "breaks-cannot",
            f"{whose} `{proof.words()}`, and that would be allowed by {what}",
            "choose a narrower role or another place, or take the expectation out",
            proof.position or subject.position,
        )
    else:
        draft.note("breaks-cannot", f"`{proof.words()}` will not hold: it is allowed by {what}, which Sigillum did not make")


def _limits(seen: Seen, subject: Touched, proof: ProofWant) -> tuple[tuple[str, ...], ...]:
    """The limits of the credentials that a proof is tried with."""
    if subject.charter or not proof.credential:
        return subject.limits
    return tuple(w.limits for w in seen.whole.credentials if w.name == proof.credential)


def _ours(seen: Seen, draft: Draft, identity: str, terms: tuple[str, str, str]) -> bool:
    """Did this charter or another one make this right, or does this one want it?"""
    made = any(all_[-1].id == identity for all_ in seen.history.generations.values())
    return (
        made
        or bool(seen.books.owner(seen.tenant, GRANT, identity))
        or any((w.carrier, w.want.role, w.place) == terms for w in draft.find(Wished, seen.tenant))
    )


def _can(seen: Seen, draft: Draft, world: World[Any], own: Touched, people: dict[str, str]) -> None:
    """What is wished to work and would be refused is worth a warning."""
    from sigillum.core.deciding.foreseen import narrowed, refused

    if any(n.code in (HIDDEN, NEVER_HERE) for n in draft.notes):  # steps that nobody could draft
        draft.note(
            "not-foreseen",
            f"whether what is expected of {seen.charter.identity.name} will hold cannot be foreseen: "
            "something wanted cannot be looked up",
        )
        return
    for proof in own.proofs:
        if not proof.allowed or proof.during:  # what lasts as long as a window is shown by its window
            continue
        cause, hidden = refused(world, own.principal, proof, seen.now, people)
        if hidden:
            draft.note("not-foreseen", f"`{proof.words()}` cannot be foreseen: {hidden}")
        elif cause and cause not in _MISTAKES and not any(n.code == cause and proof.permission in n.text for n in draft.notes):
            meaning = ABOUT[Cause(cause)].meaning.rstrip(".")
            draft.note("breaks-can", f"`{proof.words()}` will not hold: {cause}: {meaning[0].lower()}{meaning[1:]}")
        elif narrowed(_limits(seen, own, proof), proof.permission):
            draft.note("breaks-can", f"`{proof.words()}` will not hold: no credential's limits leave room for it")


# --- other charters' identities ---------------------------------------------------------------------------------------
def _touched(seen: Seen, draft: Draft, steps: Iterable[Step], own: str) -> Iterator[Touched]:
    """The identities of other charters whose rights this outline changes, with what those charters say cannot be."""
    done, count = set[str](), 0
    todo = [i for s in steps if s.tenant == seen.tenant and not _kept(seen, s) for i in _concerned(seen, s)]
    while todo:
        identity = todo.pop(0)
        if identity in done:
            continue
        done.add(identity)
        if seen.carried(TEAM) is not None and not identity.startswith("("):
            todo += [m for t in seen.ask(Query(TEAM, "id", identity)).records for m in t.body.members]
        if identity == own:
            continue
        expected = seen.books.expected(seen.tenant, identity)
        if expected is None:
            continue
        count += 1
        if count > MOST_TOUCHED:
            draft.note(
                "not-foreseen",
                f"more than {MOST_TOUCHED} identities of other charters are touched; what the "
                "charters of the rest say cannot be was not looked at",
            )
            return
        if expected.unread:
            draft.note(
                "not-foreseen", f"what the charter {expected.charter} says cannot be was not looked at: {expected.unread}"
            )
        elif expected.proofs:
            yield Touched(expected.charter, identity, expected.proofs, expected.limits, seen.charter.identity.position)


def _concerned(seen: Seen, step: Step) -> list[str]:
    """Whose rights a step changes: principals and teams, by their ids."""
    doing: Any = step.doing
    if isinstance(doing, Make) and doing.kind in (GRANT, CONSENT):
        return [str(doing.part["principal"])] if isinstance(doing.part["principal"], str) else []
    if isinstance(doing, Entry) and doing.kind is TEAM and not doing.out:
        return [doing.value] if isinstance(doing.value, str) else []
    if isinstance(doing, Change) and doing.kind is TEAM:
        return [str(doing.id)]
    if isinstance(doing, Change) and doing.kind is ROLE and "permissions" in doing.part:
        return [
            g.body.principal
            for r in seen.ask(Query(ROLE, "id", str(doing.id))).records
            for g in seen.ask(Query(GRANT, "role", r.body.name)).records
        ]
    return []
