"""The facet *trust*: outside tokens that may act as the identity, without any key of its own."""

from __future__ import annotations

from typing import Any

from sigillum.core.charter.wants import TrustWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import LetIn, Ready
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import Where, adopt, await_, dark, end_extra, hanging, principal, stand, unknown
from sigillum.core.federation.trusts import about as doubts
from sigillum.core.kinds.changes import End, Make
from sigillum.core.kinds.kind import Record, compared
from sigillum.core.kinds.trusting import TRUST, Trust, text_of
from sigillum.core.records.history import Generation, State
from sigillum.core.records.steps import Adopt, Step, StepKind
from sigillum.core.values.canonical import canonical
from sigillum.core.values.marks import Id, Mark, StepId

NAME = "trust"


def mark_of(seen: Seen, want: TrustWant) -> Mark:
    return seen.mark(NAME, ("name", want.name))


def part_of(want: TrustWant, principal: Id) -> dict[str, Any]:
    """What a trust is made of, but for its name there: while one takes the place of another, both stand."""
    trust = want.trust
    return {
        "principal": principal,
        "issuer": trust.issuer,
        "audience": trust.audience,
        "keys": trust.keys,
        "subject": trust.subject,
        "when": tuple(map(text_of, trust.when)),
        "acts_as": canonical(list(trust.acts_as)).decode() if trust.acts_as else "",
    }


def compare(seen: Seen, draft: Draft) -> None:
    """Make what is missing, replace what has other conditions, end what only we still hold."""
    who = principal(seen, draft)
    fact = hanging(seen, TRUST, who.id if who is not None else None)
    if not fact.known or who is None:
        if seen.charter.trusts:
            unknown(seen, draft, fact, f"the trusts of {seen.charter.identity.name}")
        return
    for want in seen.charter.trusts:
        for doubt in doubts(want.trust, want.issuer):
            draft.note(doubt.code, f"{want.name}: {doubt.what}; {doubt.mend}")
        _one(seen, draft, want, fact.records, who.id)
    _not_wanted(seen, draft, fact.records)


def _one(seen: Seen, draft: Draft, want: TrustWant, records: tuple[Record[Trust], ...], who: Id) -> None:
    mark, part = mark_of(seen, want), part_of(want, who)
    carried = seen.carried(TRUST)

    def alike(record: Record[Trust]) -> bool:
        return not compared(record, part, carried).different

    standing = stand(seen, draft, mark, records, f"trust {want.name}", who, alike)
    let_in = LetIn(seen.tenant, want.name, TRUST.made({**part, "name": want.name}), seen.profile.issuer)
    if standing.record is not None and alike(standing.record):
        dark(seen, draft, compared(standing.record, part, carried), f"the trust {want.name}")
        draft.provide(let_in)
        return
    if standing.where is Where.RECENT:
        waited = await_(seen, draft, mark, TRUST, standing, f"the trust {want.name}")
        draft.provide(let_in, waited)
    elif standing.record is not None:
        made = _make(seen, draft, want, part, standing.number + 1, "its conditions were changed in the charter")
        assert standing.generation is not None
        _end(draft, standing.generation, standing.record.id, "its conditions were changed", made)
        draft.provide(let_in, made)
    else:
        theirs = next((r for r in records if alike(r) and seen.history.owns(NAME, seen.tenant, r.id, r.mark) is None), None)
        if theirs is not None and seen.choices.adopt:
            adopt(draft, mark, standing.number, f"the trust {want.name}", Adopt(TRUST, theirs.id))
        elif theirs is not None:
            draft.note(
                "trust-stands",
                f"the trust {want.name} stands already; Sigillum did not make it and leaves it alone",
                warning=False,
            )
        if theirs is not None:
            draft.provide(let_in)
        else:
            why = standing.why("tokens of the issuer act as it, without any key")
            made = _make(seen, draft, want, part, standing.number, why)
            draft.provide(let_in, made)


def _make(seen: Seen, draft: Draft, want: TrustWant, part: dict[str, Any], number: int, why: str) -> StepId:
    trust = want.trust
    after = {
        "issuer": trust.issuer,
        "audience": trust.audience,
        **({"subject": trust.subject} if trust.subject else {}),
        **({"when": "; ".join(c.words() for c in trust.when)} if trust.when else {}),
        "acts as": f"whose {' > '.join(trust.acts_as)} is its name" if trust.acts_as else "all that match",
    }
    old = [to or "one that was printed" for name, to in seen.history.profiles if name == trust.name]
    if old:
        draft.note(
            "profile-old",
            f"{', '.join(old)}: such a profile names the trust {trust.name} as it was, and lets nobody in any more",
        )
    named = {**part, "name": trust.name if number == 1 else f"{trust.name}-{number}"}
    return draft.add(
        Step(
            StepId(mark_of(seen, want), number, "make"),
            StepKind.MAKE,
            f"trust {want.name}",
            Make(TRUST, named),
            draft.by(seen.tenant, Ready),
            TRUST.power,
            why,
            after=after,
        )
    )


def _end(draft: Draft, generation: Generation, identity: str, why: str, *needs: StepId) -> None:
    draft.add(
        Step(
            StepId(generation.mark, generation.number, "end"),
            StepKind.END,
            f"trust {generation.mark.get('name')}",
            End(TRUST, identity),
            needs,
            TRUST.power,
            why,
        )
    )


def _not_wanted(seen: Seen, draft: Draft, records: tuple[Record[Trust], ...]) -> None:
    wanted = {mark_of(seen, w) for w in seen.charter.trusts}
    for record in records:
        generation = seen.history.owns(NAME, seen.tenant, record.id, record.mark)
        if generation is None:
            named = any(record.says(name=w.name) for w in seen.charter.trusts)
            if not named and not seen.books.owner(seen.tenant, TRUST, record.id):
                draft.note(
                    "trust-extra",
                    f"extra: tokens of {record.body.issuer} may act as it by the trust "
                    f"{record.body.name}, and no charter asks for that",
                )
                mark, about = seen.mark(NAME, ("extra", record.id)), f"trust {record.body.name}, which no charter asks for"
                end_extra(seen, draft, mark, End(TRUST, record.id), about)
        elif generation.state is State.MADE and generation.mark not in wanted:
            _end(draft, generation, record.id, "the charter no longer asks for it")
        elif generation.state is State.MADE and _followed(seen, generation):
            _end(draft, generation, record.id, "a newer one took its place")


def _followed(seen: Seen, generation: Generation) -> bool:
    """Was a newer one made? What was only begun takes nobody's place."""
    newest = seen.history.latest(generation.mark)
    return newest is not None and newest.number > generation.number and newest.state is State.MADE


def words(mark: Mark) -> str:
    return f"the trust {mark.get('name')}"


FACET = Facet(NAME, compare, frozenset((LetIn,)), frozenset((Ready,)), words=words)
