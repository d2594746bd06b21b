"""Comparing a charter with what is known: the steps in dependency order, and what speaks against them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules, overdue
from sigillum.core.comparing.foreseeing import foresee
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.registry import facets_of
from sigillum.core.facets.seen import Books, Choices, Seen
from sigillum.core.kinds.access import PLACE, Place
from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, TEAM, Account
from sigillum.core.kinds.kind import Fact, Query
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.records.history import History
from sigillum.core.records.steps import NEVER_HERE, Ask, Outline, Prove, Step, StepKind, Usual
from sigillum.core.values.canonical import digest
from sigillum.core.values.errors import Mistake
from sigillum.core.values.marks import Mark, StepId
from sigillum.core.values.text import did_you_mean

PROOFS, ASKED = "proof", "asked"


@dataclass(frozen=True, slots=True)
class Comparison:
    """All that one comparison looks at. `snapshots`: of home, and of the other tenants that concern the charter."""

    charter: Charter
    history: History
    snapshots: Mapping[str, Snapshot]
    rules: HouseRules
    held: Mapping[tuple[str, int], str]
    books: Books
    choices: Choices
    incomplete: frozenset[tuple[str, int]] = frozenset()

    def seen(self) -> list[Seen]:
        """One look a tenant, home first."""
        return [
            Seen(
                snapshot,
                self.charter.part(name),
                self.charter,
                self.history,
                self.rules,
                self.held,
                self.choices,
                self.books,
                self.incomplete,
            )
            for name, snapshot in self.snapshots.items()
        ]


def tenants_of(charter: Charter, history: History, known: Iterable[str]) -> list[str]:
    """The tenants to look at: home, those that it names, and those where something of it may have to end."""
    left = [t for t in history.tenants() if t in set(known)]
    return list(dict.fromkeys((charter.tenant, *charter.elsewhere, *left)))


def compare(comparison: Comparison) -> Outline:
    """Compare a charter with what is known. What is missing of that is noted as misses of the snapshots, to be asked for;
    as long as there are any, the outline means nothing. Unknown never yields `make`.
    """
    charter, history = comparison.charter, comparison.history
    if history.retiring and not comparison.choices.revive:
        when = f"was retired at {history.retired_at}" if history.retired_at else "is being retired"
        return Outline(
            charter.name,
            mistakes=(
                Mistake(
                    "retired",
                    f"{charter.name} {when} ({history.retiring}), and is not begun anew silently",
                    "take its file away, or give what is new another name",
                    charter.position,
                ),
            ),
        )
    draft, all_ = Draft(), comparison.seen()
    facets = facets_of(charter, history.facets())
    for seen in all_:
        for text in seen.profile.warnings:
            draft.note("facts-old", text)
        for facet in facets:
            facet.compare(seen, draft)
        _expectations(seen, draft)
    for seen in all_:
        for facet in facets:
            facet.last(seen, draft)
    steps = draft.close()
    home = all_[0]
    _answered_for(home, draft)
    asked = _asked(home)
    ids = tuple(s.id for s in asked)  # nothing ends for want of an entry that still waits for its value
    steps = [*(replace(s, needs=(*s.needs, *ids)) if s.kind is StepKind.END else s for s in steps), *asked]
    if (
        any(
            (s.charter.proofs and s.profile.proves) or ((s.charter.sign_ins or s.charter.delegated) and s.profile.decisions)
            for s in all_
        )
        or charter.runs
    ):
        _prove(home, steps)
    for seen in all_:
        draft.mistakes[:0] = _unmet(seen, steps)
        _unshown(seen, draft, steps)
        foresee(seen, draft, steps)
    return Outline(
        charter.name,
        tuple(ordered(by_its_maker(comparison, _placed(s, home.tenant)) for s in steps)),
        tuple(dict.fromkeys(draft.notes)),
        tuple(draft.mistakes),
        tuple(draft.collisions),
        tuple(draft.open),
    )


def _expectations(seen: Seen, draft: Draft) -> None:
    """What the tenant does not know is a mistake now, and never a refusal that holds later."""
    known, places = seen.profile.operations, seen.carried(PLACE) is not None
    if seen.charter.proofs and not seen.profile.proves:
        draft.note(
            NEVER_HERE,
            f"what {seen.charter.identity.name} can and cannot do is never proved at {seen.tenant}: it "
            "answers no questions, and nothing can be tried there; take the proofs out of the charter",
        )
    for proof in seen.charter.proofs:
        if known and proof.permission not in known:
            draft.wrong(
                "permission-unknown",
                f"{seen.tenant} has no permission {proof.permission!r}",
                did_you_mean(proof.permission, known),
                proof.position,
            )
        asked = [seen.ask(Query(ACCOUNT, field, proof.person)) for field in ("name", "id")] if proof.person else []
        if asked and all(fact.known and fact.first is None for fact in asked):
            draft.wrong(
                "person-unknown",
                f"{seen.tenant} knows no person {proof.person!r}",
                "write the name as the tenant has it",
                proof.position,
            )
        fact = seen.ask(Query(PLACE, "path", proof.at)) if places else Fact[Place](unknown="it has no places")
        if fact.known and not fact.records:
            beside = seen.ask(Query(PLACE, "under", proof.at.rpartition("/")[0])).records
            draft.wrong(
                "place-unknown",
                f"{seen.tenant} has no place {proof.at!r}",
                did_you_mean(proof.at, [p.body.path for p in beside]),
                proof.position,
            )


def _answered_for(home: Seen, draft: Draft) -> None:
    """Reviews that are overdue, and people who answer for it and are switched off where it lives."""
    for text in overdue(home.whole, home.now.date()):
        draft.note("review-overdue", text)
    for role, who in (("owner", home.whole.owner), ("deputy", home.whole.deputy)) if home.carried(ACCOUNT) is not None else ():
        fact = home.ask(Query(ACCOUNT, "name", who)) if who else Fact[Account]()
        if fact.first is not None and fact.first.says(active=False):
            draft.note(
                f"{role}-inactive", f"the {role} {who} is switched off at {home.tenant}: name somebody who answers for it"
            )


def _asked(home: Seen) -> list[Step]:
    """Values that only somebody else can give: each is asked for, and what needs it waits."""
    return [
        Step(
            StepId(Mark(ASKED, home.tenant, (("name", want.name),)), 1, "ask"),
            StepKind.ASK,
            f"{want.of} for {want.what or want.name}",
            Ask(to=want.of, about=want.what or want.name, tells=want),
            why="only they can tell it; what does not need it goes on",
        )
        for want in home.whole.asked
    ]


def by_its_maker(comparison: Comparison, step: Step) -> Step:
    """What somebody else made for us, and does not have the mark of our request, is ended by whoever made it: they are asked.

    A receipt says which id it has; that it was made for us shows only where the tenant shows our mark.
    """
    all_ = comparison.history.generations.get(step.mark, ())
    made = next((g for g in all_ if g.number == step.generation and g.made_by), None)
    snapshot = comparison.snapshots.get(step.tenant)
    if made is None or snapshot is None or not isinstance(step.action, End):
        return step
    record = snapshot.ask(Query(step.action.kind, "id", made.id)).first
    if record is not None and made.bears and record.mark == made.bears:
        return step
    asked = Ask(step.action, made.made_by, "", step.about)
    return replace(step, kind=StepKind.ASK, about=f"{made.made_by} to end {step.about}", action=asked)


def _placed(step: Step, home: str) -> Step:
    """Away from home it is said where."""
    if step.tenant == home:
        return step
    return replace(step, about=f"{step.about}, in {step.tenant}")


def proofs_digest(charter: Charter) -> str:
    """Changes when the proofs do."""
    return digest([p.words() for p in charter.expectations])


def _prove(home: Seen, steps: list[Step]) -> None:
    """At the end all proofs, where something changed or they do not hold yet."""
    charter, history = home.whole, home.history
    if history.holds:
        return  # somebody who is suspended proves nothing
    changes = [s for s in steps if s.kind is not StepKind.WAIT]
    stale = history.proved_at < history.changed_at or history.proofs_digest != proofs_digest(charter) or not history.proofs_held
    if charter.expectations and history.ledger and (changes or stale):
        count = len(charter.expectations)
        steps.append(
            Step(
                StepId(Mark(PROOFS, home.tenant), 1, "prove"),
                StepKind.PROVE,
                f"{count} expectation{'s' if count != 1 else ''}, both ways",
                Prove(),
                why=Usual.PROVED,
            )
        )


def _unshown(seen: Seen, draft: Draft, steps: Sequence[Step]) -> None:
    """What a tenant has no place for, or never shows, of what would be written: nobody can read it back there."""
    for step in steps:
        doing = step.doing
        if step.tenant != seen.tenant or not isinstance(doing, (Make, Change)):
            continue
        carried = seen.carried(doing.kind)
        if carried is None:
            continue
        about = seen.charter.about() if isinstance(doing, Make) and doing.kind in (ACCOUNT, TEAM, CLIENT) else {}
        wanted = {**about, **doing.kind.shown(doing.part)}
        names = [n for n, v in wanted.items() if v not in (None, "", (), False) and n in doing.kind.fields and n not in carried]
        if names:
            draft.note(
                "never-shown",
                f"{seen.tenant} has no place for {', '.join(names)} of this {doing.kind.name}, or never shows it: "
                "it is not read back",
                warning=False,
            )


def _unmet(seen: Seen, steps: Sequence[Step]) -> list[Mistake]:
    """What stops everything is told first: a precondition of the tenant that is not met, for something that would be made."""
    making = {s.action.kind.name for s in steps if s.tenant == seen.tenant and isinstance(s.action, Make)}
    unmet = [p for p in seen.profile.preconditions if not p.met and (making & set(p.kinds) if p.kinds else making)]
    return [
        Mistake(
            "precondition",
            f"{seen.tenant} asks for {p.what.replace('-', ' ')} first, and that is not so",
            p.about or "have it done by somebody who may, then run this again",
            seen.charter.identity.position,
        )
        for p in unmet
    ]


def ordered(steps: Iterable[Step]) -> list[Step]:
    """Steps so that each stands after what it needs; otherwise in the order given. Raises ValueError for a circle."""
    left, done, out = list(steps), set[StepId](), list[Step]()
    known = {s.id for s in left}
    while left:
        step = next((s for s in left if all(n in done or n not in known for n in s.needs)), None)
        if step is None:
            raise ValueError("steps need each other in a circle")
        left.remove(step)
        done.add(step.id)
        out.append(step)
    return out
