"""The facet *grant*: principal x role x place, with an optional window and label rule."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sigillum.core.charter.charter import SELF, reach_words
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import (
    AlsoWanted,
    Granted,
    ItsPrincipal,
    OwnRole,
    Ready,
    RightEnds,
    ServiceOn,
    Usable,
    Wished,
)
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import Standing, Where, adopt, await_, end_extra, hanging, principal, slow, stand, unknown
from sigillum.core.kinds.access import GRANT, NOWHERE, ROLE, Grant, allows
from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.records.history import Generation, State
from sigillum.core.records.steps import Adopt, Need, Prove, Step, StepKind, Usual
from sigillum.core.values.marks import Mark, StepId
from sigillum.core.values.times import Window, format_duration, format_instant, parse_instant

from . import levels, narrower, rights
from .wanted import NAME, WantedGrant
from .windows import instant, terms_of, within


def compare(seen: Seen, draft: Draft) -> None:
    """Make what is missing, replace what has other terms, end what only we still hold."""
    who = principal(seen, draft)
    fact = hanging(seen, GRANT, who.id if who is not None else None)
    account = who.id if who is not None and isinstance(who.id, str) and who.kind is ACCOUNT else ""
    over = seen.ask(Query(GRANT, "itself", account)).records if account else ()
    wants = (*seen.charter.grants, *(a.want for a in draft.find(AlsoWanted, seen.tenant)))
    all_ = [WantedGrant(seen, draft, want) for want in wants]
    if fact.known and who is not None:
        rights.ask(seen, draft, [wanted.want for wanted in all_], who.id)
    if not fact.known:
        if wants:
            unknown(seen, draft, fact, f"the grants of {seen.charter.identity.name}")
        return
    for wanted in all_:
        if wanted.resolvable():
            _one(wanted, (*fact.records, *wanted.theirs.records))
    _not_wanted(seen, draft, fact.records, all_)
    _over_it(seen, draft, over, all_)


def _over_it(seen: Seen, draft: Draft, records: tuple[Record[Grant], ...], all_: list[WantedGrant]) -> None:
    """Rights over the identity itself, to act as it, say: who holds one that nobody here made is told."""
    for record in records:
        mine = _ours(seen, record) or seen.books.owner(seen.tenant, GRANT, record.id) or seen.books.lent(record.mark)
        if not mine and not any(wanted.alike(record) for wanted in all_):
            to = record.body.principal_name or record.body.principal
            _extra(seen, draft, record, f"{record.body.role} over {seen.charter.identity.name} itself to {to}")


def _one(wanted: WantedGrant, records: tuple[Record[Grant], ...]) -> None:
    seen, draft, want = wanted.seen, wanted.draft, wanted.want
    assert wanted.role is not None
    carrier = principal(seen, draft)
    standing = stand(
        seen, draft, wanted.mark, records, f"grant of {want.words()}", carrier.id if carrier is not None else None, wanted.alike
    )
    if standing.record is not None and wanted.another(standing.record):
        standing = standing._replace(where=Where.GONE, record=None)
    known, stands = _known(wanted, standing), standing.record is not None or standing.where is Where.RECENT
    grain = seen.profile.grant_grain
    terms = terms_of(want, seen.now, known, grain)
    if terms != known:  # it is made anew: what somebody was asked for has a window already
        terms = terms_of(want, seen.now, seen.history.terms(wanted.mark, standing.number + stands), grain)
    made = standing.generation if standing.record is not None and terms == known else None
    moved = made is not None and not made.adopted and standing.record is not None and wanted.moved(standing.record, terms)
    same = bool(standing.generation is not None and terms == known) and not moved
    window = Window(until=parse_instant(terms["until"])) if same and "until" in terms else Window()
    if window.state(seen.now) == "ended":
        cleared = "" if standing.record is not None else ", and was cleared"
        draft.note("grant-ended", f"{want.words()} ended at {terms['until']}{cleared}", warning=False)
        return
    if not same and grain > 1 and "until" in terms and parse_instant(terms["until"]) <= seen.now:
        what = f"ends fall onto whole ones of {format_duration(grain)} at {seen.tenant}: {want.words()} would be over already"
        draft.wrong("grant-grain", what, f"let it last {format_duration(grain)} or longer", want.position)
        return
    number = standing.number if same else standing.number + stands
    identity = standing.record.id if standing.record is not None and same else f"({StepId(wanted.mark, number, 'make')})"
    carrier_id = wanted.carrier if isinstance(wanted.carrier, str) else f"({wanted.carrier.step})"
    wished = Wished(
        seen.tenant, want, wanted.role, identity, carrier_id, wanted.spot, instant(terms, "from"), instant(terms, "until")
    )
    if rights.refused(seen, draft, wished, standing.record, wanted.holder):
        return
    draft.provide(wished)
    narrower.advise(seen, draft, want)
    if standing.record is None and levels.refused(seen, draft, wanted, records):
        return
    if standing.record is not None and same:
        _present(wanted, standing, terms)
    elif standing.where is Where.RECENT and same:
        await_(seen, draft, wanted.mark, GRANT, standing, f"the grant of {want.words()}")
    elif standing.record is not None or standing.where is Where.RECENT:
        why = "its window or label rule is another one there than it was made with" if moved else "its window was changed"
        assert standing.generation is not None
        if seen.profile.levels:  # a principal has one at a place: the old one goes first
            ended = _end(seen, draft, standing.generation, standing.generation.id, why)
            _make(wanted, number, terms, why, ended)
            return
        fresh = _make(wanted, number, terms, why if moved else f"{why} in the charter")
        _end(seen, draft, standing.generation, standing.generation.id, why, _proved(wanted, fresh, standing))
    else:
        _missing(wanted, standing, terms, records)


def _known(wanted: WantedGrant, standing: Standing) -> Mapping[str, Any]:
    """With which window it was begun."""
    begun = standing.generation
    return begun.terms if begun is not None and begun.terms else wanted.seen.history.terms(wanted.mark, standing.number)


def _proved(wanted: WantedGrant, made: StepId, standing: Standing) -> StepId:
    """What replaces a grant is proved before that one ends: what must work is tried, and decided without it."""
    assert standing.generation is not None
    proofs = tuple(n for n, p in enumerate(wanted.seen.whole.proofs) if p.allowed)
    if not proofs:
        return made
    ending = StepId(wanted.mark, standing.generation.number, "end")
    return wanted.draft.add(
        Step(
            StepId(wanted.mark, standing.generation.number, "prove"),
            StepKind.PROVE,
            f"that what must work does so without the old grant of {wanted.want.words()}",
            Prove(proofs, leaving=(ending,), without=(standing.generation.id,)),
            (made,),
            why="the old one ends only after what replaces it was proved",
        ),
        late=[Need(Usable, tenant=wanted.seen.whole.tenant)],
    )


def _present(wanted: WantedGrant, standing: Standing, terms: Mapping[str, Any]) -> None:
    """It stands as wanted; a slow one is waited for, one whose making failed is made anew."""
    seen, draft, record = wanted.seen, wanted.draft, standing.record
    assert record is not None
    assert standing.generation is not None
    if record.progress == "failed":
        ended = _end(seen, draft, standing.generation, record.id, "the tenant could not make it")
        _make(wanted, standing.number + 1, terms, "the tenant could not make the one before", ended)
        return
    slow(draft, wanted.mark, record, standing.number, f"the grant of {wanted.want.words()}")
    start = record.body.start
    if start is not None and seen.now < start:
        draft.note("grant-waiting", f"{wanted.want.words()} waits: it begins at {format_instant(start)}", warning=False)
    if "reason" in (seen.carried(GRANT) or ()) and not GRANT.same("reason", record.body.reason, wanted.want.because):
        draft.add(
            Step(
                StepId(wanted.mark, standing.number, "change"),
                StepKind.CHANGE,
                f"reason of the grant of {wanted.want.words()}",
                Change(GRANT, record.id, {"reason": wanted.want.because}, record.version),
                power=GRANT.power,
                why="the charter says so",
                before={"reason": record.body.reason},
                after={"reason": wanted.want.because},
            )
        )


def _missing(wanted: WantedGrant, standing: Standing, terms: Mapping[str, Any], records: tuple[Record[Grant], ...]) -> None:
    seen, draft, want = wanted.seen, wanted.draft, wanted.want
    stranger = next((r for r in records if wanted.alike(r) and not _ours(seen, r) and not seen.books.lent(r.mark)), None)
    if stranger is not None:
        body = stranger.body
        same = (body.until, body.start) == (instant(terms, "until"), instant(terms, "from"))
        taken = terms if same else within(want, terms, body, seen.now)
        if taken is not None and seen.choices.adopt:
            number = standing.number if standing.where is not Where.OPEN else standing.number + 1
            adopt(draft, wanted.mark, number, f"the grant of {want.words()}", Adopt(GRANT, stranger.id, terms=taken))
            return
        if same or (not seen.history.ledger and want.lasts_seconds):
            draft.note(
                "grant-stands", f"{want.words()} stands already; Sigillum did not make it and leaves it alone", warning=False
            )
            return
        until = format_instant(body.until) if body.until else "no end"
        draft.note(
            "grant-beside",
            f"another grant of {want.words()} stands beside the wanted one (until {until}); Sigillum did not make it",
        )
    if standing.where is Where.GONE:
        draft.note("gone", f"the grant of {want.words()} was made once and is no longer there")
    _make(wanted, standing.number, terms, standing.why(want.because or Usual.ASKED))


def _ours(seen: Seen, record: Record[Grant]) -> bool:
    return seen.history.owns(NAME, seen.tenant, record.id, record.mark) is not None


def _make(wanted: WantedGrant, number: int, terms: Mapping[str, Any], why: str, *needs: StepId) -> StepId:
    seen, draft, want, who = wanted.seen, wanted.draft, wanted.want, principal(wanted.seen, wanted.draft)
    assert wanted.role is not None
    assert who is not None
    part = {
        "principal": wanted.carrier,
        "carrier": (wanted.holder.kind if wanted.holder is not None else who.kind).name,
        "role": want.role,
        "role_id": wanted.own.id if wanted.own is not None else wanted.role.id,
        "place": wanted.spot,
        "place_id": who.id if want.at == SELF or wanted.place.first is None else wanted.place.first.id,
        "where": want.where,
        "reason": want.because,
        "start": instant(terms, "from"),
        "until": instant(terms, "until"),
        **({"reach": wanted.reach} if wanted.reach else {}),
    }
    after: dict[str, Any] = {"allows": allows(wanted.role.with_(permissions=wanted.permitted))}
    if want.where:
        after["only"] = " and ".join(f"where {name} is {' or '.join(values)}" for name, values in want.where)
    if wanted.over:
        part["over"] = after["instead of"] = wanted.over
    if "from" in terms:
        after["from"] = terms["from"]
    if "until" in terms:
        length = f" ({format_duration(want.lasts_seconds)})" if want.lasts_seconds else ""
        after["until"] = f"{terms['until']}{length}"

    def near(service: ServiceOn) -> bool:
        return service.at == want.at or service.at.startswith(want.at + "/") or want.at.startswith(service.at + "/")

    made = draft.add(
        Step(
            StepId(wanted.mark, number, "make"),
            StepKind.MAKE,
            f"grant of {want.words()}",
            Make(GRANT, part, terms),
            (
                *draft.by(seen.tenant, Ready),
                *needs,
                *draft.by(seen.tenant, ServiceOn, where=near),
                *draft.by(seen.tenant, OwnRole, where=lambda r: r.role.says(name=want.role)),
            ),
            GRANT.power,
            why,
            after=after,
        )
    )
    draft.provide(Granted(seen.tenant), made)
    return made


def _end(seen: Seen, draft: Draft, generation: Generation, identity: str, why: str, *needs: StepId) -> StepId:
    step = draft.add(
        Step(
            StepId(generation.mark, generation.number, "end"),
            StepKind.END,
            f"grant of {about(generation.mark)}",
            End(GRANT, identity),
            needs,
            GRANT.power,
            why,
        )
    )
    draft.provide(RightEnds(seen.tenant, generation.mark.get("role")), step)
    return step


def _not_wanted(seen: Seen, draft: Draft, records: tuple[Record[Grant], ...], all_: list[WantedGrant]) -> None:
    """End our own grants that the charter no longer asks for; show what nobody wants as extra."""
    wanted = {one.mark for one in all_}
    for record in records:
        generation = seen.history.owns(NAME, seen.tenant, record.id, record.mark)
        if generation is None:
            if not any(one.alike(record) for one in all_) and not seen.books.lent(record.mark):
                _extra(seen, draft, record)
        elif generation.state is not State.ENDED and generation.mark not in wanted:
            _end(seen, draft, generation, record.id, "the charter no longer asks for it")
        elif (
            generation.state is not State.ENDED
            and generation.number < (seen.history.latest(generation.mark) or generation).number
        ):
            _end(seen, draft, generation, record.id, "a newer one took its place")
    shown = {r.id for r in records}
    for newest in seen.history.of(NAME, seen.tenant):  # held by somebody else, so not among what was shown
        if newest.mark not in wanted and newest.mark.get("to") and newest.state is State.MADE and newest.id not in shown:
            _end(seen, draft, newest, newest.id, "the charter no longer asks for it")


def _extra(seen: Seen, draft: Draft, record: Record[Grant], words: str = "") -> None:
    """A grant that no charter and no loan wants; ended only where that was said."""
    body = record.body
    words = words or f"{body.role} at {body.place_name or body.place}"
    owner = seen.books.owner(seen.tenant, GRANT, record.id)
    if owner:
        draft.note("grant-elsewhere", f"{words} is granted by {owner}", warning=False)
        return
    if body.until is not None and body.until <= seen.now:
        draft.note("grant-ended", f"extra: {words} ended at {format_instant(body.until)} and still stands there", warning=False)
    else:
        until = f"until {format_instant(body.until)}" if body.until else "without end"
        role = seen.ask(Query(ROLE, "name", body.role)).first
        itself = role is not None and role.says(grantable_at=(NOWHERE,))  # it was changed itself, and given nothing
        draft.note("attribute-extra" if itself else "grant-extra", f"extra: {words}, {until}: no charter and no loan wants it")
    end_extra(seen, draft, seen.mark(NAME, ("extra", record.id)), End(GRANT, record.id), f"extra grant of {words}")


def about(mark: Mark) -> str:
    """A grant for reading, by its mark."""
    values = mark.all("label")
    rule = f" where {' and '.join(values)}" if values else ""
    to = f" to {mark.get('to')}" if mark.get("to") else ""
    at = mark.get("at")
    return f"{mark.get('role')} at {'itself' if at == SELF else at}{reach_words(mark.get('reach'))}{rule}{to}"


def words(mark: Mark) -> str:
    return f"the grant of {about(mark)}"


FACET = Facet(
    NAME,
    compare,
    gives=frozenset((Granted, RightEnds, Wished)),
    takes=frozenset((ItsPrincipal, Ready, OwnRole, ServiceOn, AlsoWanted)),
    last=rights.last,
    words=words,
)
