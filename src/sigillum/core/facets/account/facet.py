"""The facet *account*: the identity in a tenant, a user-shaped account of a program or a team; what a client is elsewhere."""

from __future__ import annotations

from typing import Any

from sigillum.core.charter.charter import FOREIGN
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import Addressed, Bearer, ItsPrincipal, Presented, Ready
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import (
    Standing,
    Where,
    adopt,
    after,
    again,
    await_,
    dark,
    on_its_way,
    slow,
    so_says,
    stand,
    stopped,
    suspended,
    unknown,
)
from sigillum.core.kinds.access import PLACE
from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import Fact, Kind, Query, Record, compared, suits
from sigillum.core.records.steps import Adopt, Collision, Step, StepKind
from sigillum.core.values.marks import Id, Mark, Ref, StepId

NAME = "account"


def kind_of(seen: Seen) -> Kind[Any]:
    """The kind of thing that the identity is in this tenant."""
    return TEAM if seen.charter.is_team else ACCOUNT


def mark_of(seen: Seen) -> Mark:
    return seen.mark(NAME)


def wanted(seen: Seen, draft: Draft) -> dict[str, Any]:
    """The identity's attributes, as far as the tenant has a place for them."""
    identity, carried = seen.charter.identity, seen.carried(kind_of(seen)) or frozenset()
    if seen.charter.is_team:
        part: dict[str, Any] = {"name": identity.name, **seen.charter.about(), "reach": seen.charter.reach}
    else:
        part = {"name": identity.name, "display": identity.display, "active": True, **seen.charter.about()}
        part |= {"web_only": True} if identity.web_only else {}
    home = draft.one(Presented, seen.whole.tenant) if seen.away else None
    if home is not None:  # known by its client id at the issuer of its home
        part |= {"organisation": home.issuer, "subject": home.client_id}
    addressed = draft.one(Addressed, seen.whole.tenant) if seen.away else None
    if addressed is not None and seen.profile.takes(addressed.issuer):  # assigned by the address that its home shows
        part |= {"organisation": addressed.issuer, "subject": addressed.address}
    return {n: v for n, v in part.items() if n in carried or n in ("name", "display", "active", "organisation", "subject")}


def _lives(seen: Seen, draft: Draft) -> bool:
    """Is it said where the account lives, as the tenant asks it? Adds the mistakes where it is not."""
    identity, kind = seen.charter.identity, seen.profile.accounts_live_in
    if seen.charter.is_team or identity.kind == FOREIGN or seen.away:
        return True

    def wrong(code: str, what: str, mend: str) -> bool:
        draft.wrong(code, what, mend, identity.position)
        return False

    place = seen.ask(Query(PLACE, "path", identity.area)) if identity.area else None
    if identity.area and not kind:
        return wrong("area", f"accounts live in no area at {seen.tenant}", "leave `area` out")
    if kind and not identity.area and not identity.wide:
        return wrong(
            "area-missing",
            f"at {seen.tenant} an account lives in one {kind}, or it is installation-wide",
            f"add `area: PATH` of a {kind} to `identity`, or `installation_wide: why`",
        )
    if place is not None and place.known and (place.first is None or place.first.denies(type=kind)):
        return wrong("area", f"{identity.area} is no {kind} of {seen.tenant}", f"name the path of a {kind}")
    if identity.wide:
        draft.note("account-wide", f"{identity.name} is installation-wide: {identity.wide}")
    return True


def _known_there(seen: Seen, draft: Draft) -> bool:
    """Can another tenant know it: a client by its client id, an account by the address that its home shows?"""
    home, name = seen.whole.tenant, seen.charter.identity.name
    addressed = draft.one(Addressed, home)
    if draft.one(Presented, home) is not None:
        return True
    if addressed is not None and seen.profile.takes(addressed.issuer):
        address = addressed.address if isinstance(addressed.address, str) else "that it gets"
        draft.note("known-by", f"{seen.tenant} knows {name} by the address that {home} shows: {address}", warning=False)
        return True
    if addressed is None and draft.one(ItsPrincipal, home) is None:
        return False  # its home is not known enough yet, which is told there
    why = (
        f"{seen.tenant} takes nobody of {home}"
        if addressed is not None
        else f"{home} shows no address of {name} by which {seen.tenant} could know it"
    )
    draft.wrong(
        "elsewhere",
        f"{name} cannot act in {seen.tenant}: {why}",
        "write `kind: client`, or a charter of its own for that tenant",
        seen.charter.identity.position,
    )
    return False


def compare(seen: Seen, draft: Draft) -> None:
    """Make, change or leave the account. A client at home is made by the facet *client*."""
    part, mark = seen.charter, mark_of(seen)
    generation = seen.history.latest(mark)
    if part.is_client:
        return
    if seen.away and not (part.grants or part.services or part.roles or part.proofs or part.trusts):
        if generation is not None and generation.live and generation.id:  # nothing is to hang on it any more
            _provide(seen, draft, generation.id)
        return
    if seen.away and not _known_there(seen, draft):
        return
    kind, words = kind_of(seen), _words(seen)
    named = seen.ask(Query(kind, "name", seen.charter.identity.name))
    if seen.profile.names_within_area and seen.charter.identity.area:  # elsewhere the same name is somebody else's
        named = named._replace(records=tuple(r for r in named.records if not r.denies(area=seen.charter.identity.area)))
    own = Fact[Any]()
    if generation is not None and generation.live:
        own = seen.ask(Query(kind, "id", generation.id) if generation.id else Query(kind, "mark", generation.external_id))
    if not _lives(seen, draft):
        return
    if not named.known or not own.known:  # of what is ours, too, unknown is not gone
        unknown(seen, draft, own if named.known else named, f"the {words}")
        return
    shown = words if kind is TEAM or seen.charter.identity.kind == FOREIGN else f"account {seen.charter.identity.name}"
    standing = stand(seen, draft, mark, (*named.records, *own.records), shown, alike=lambda r: r in named.records)
    if standing.record is not None:
        _present(seen, draft, standing.record, standing.number)
    elif standing.where is Where.RECENT and standing.generation is not None:
        waited = await_(seen, draft, mark, kind, standing, f"the {words}")
        _provide(seen, draft, standing.generation.id, waited)
    elif named.first is not None:
        _taken(seen, draft, named.first, standing)
    else:
        _make(seen, draft, standing)


def _provide(seen: Seen, draft: Draft, identity: Id, *ready: StepId, address: Id = "") -> None:
    if address and seen.profile.addresses and not seen.away:
        draft.provide(Addressed(seen.tenant, address, seen.profile.issuer), *after(address))
    draft.provide(ItsPrincipal(seen.tenant, identity, kind_of(seen)), *after(identity))
    draft.provide(Ready(seen.tenant), *after(identity), *ready)
    draft.provide(Bearer(seen.tenant, identity, kind_of(seen)), *after(identity))


def _words(seen: Seen) -> str:
    kind = "foreign principal" if seen.charter.identity.kind == FOREIGN else kind_of(seen).name
    return f"{kind} {seen.charter.identity.name}"


def _make(seen: Seen, draft: Draft, standing: Standing, *needs: StepId) -> None:
    number, words, kind, mark = standing.number, _words(seen), kind_of(seen), mark_of(seen)
    if standing.where is Where.GONE:
        draft.note("gone", f"the {words} was made once and is no longer there; it is made anew")
    part = wanted(seen, draft)
    made = draft.add(
        Step(
            StepId(mark, number, "make"),
            StepKind.MAKE,
            words,
            Make(kind, part),
            (*needs, *(s for v in part.values() if isinstance(v, Ref) for s in after(v))),
            kind.power,
            standing.why(seen.charter.purpose),
            after=part,
        )
    )
    identity, ready = Ref(made, "id"), list[StepId]()
    if seen.profile.accounts_drafted and not seen.charter.is_team:
        ready.append(
            draft.add(
                Step(
                    StepId(mark, number, "save"),
                    StepKind.CHANGE,
                    f"{words}: switch it on",
                    Change(kind, identity, {"active": True}),
                    (made,),
                    kind.power,
                    "it is born as a draft, and takes roles after that",
                    {"active": False},
                    {"active": True},
                )
            )
        )
    _provide(seen, draft, identity, *ready, address=Ref(made, "address"))


def _present(seen: Seen, draft: Draft, record: Record[Any], number: int, *needs: StepId) -> None:
    mark, words, power = mark_of(seen), _words(seen), record.kind.power
    if record.progress == "failed":
        ended = draft.add(
            Step(
                StepId(mark, number, "end"),
                StepKind.END,
                f"{words}, whose making failed",
                End(record.kind, record.id),
                needs,
                power,
                "the tenant could not make it",
            )
        )
        _make(seen, draft, Standing(Where.GONE, seen.history.latest(mark)), ended)
        return
    ready = slow(draft, mark, record, number, f"the {words}")
    want, ours = wanted(seen, draft), seen.history.latest(mark)
    held_to = compared(record, want, seen.carried(record.kind))
    differences, silent = dict(held_to.different), again(seen, held_to, want, ours)
    dark(seen, draft, held_to, f"the {words}")
    held = suspended(seen, draft, mark, record, ours, words)
    if held is not None:
        differences.pop("active", None)
        ready = (*ready, *held)
    elif "active" in differences and ((off := stopped(seen, draft, mark, record, ours, words)) or on_its_way(seen, ours)):
        del differences["active"]
        ready = (*ready, *off)
    if differences or silent:
        change = {**{name: new for name, (_, new) in differences.items()}, **silent}
        changed = draft.add(
            Step(
                StepId(mark, number, "change"),
                StepKind.CHANGE,
                words,
                Change(record.kind, record.id, change, record.version),
                (*needs, *(s for v in change.values() if isinstance(v, Ref) for s in after(v))),
                power,
                so_says(silent),
                {name: old for name, (old, _) in differences.items()},
                change,
            )
        )
        if seen.profile.accounts_drafted and "active" in change:
            ready = (*ready, changed)
    _provide(seen, draft, record.id, *ready, address=str(record.value("address") or ""))


def _taken(seen: Seen, draft: Draft, record: Record[Any], standing: Standing) -> None:
    """One of that name stands there and Sigillum did not make it."""
    want = wanted(seen, draft)
    matches = suits(record, want, seen.carried(record.kind))
    if not seen.history.ledger and matches:
        _provide(seen, draft, record.id)
    elif seen.choices.adopt:
        number = standing.number if standing.where is not Where.OPEN else standing.number + 1
        step = adopt(draft, mark_of(seen), number, _words(seen), Adopt(record.kind, record.id))
        _present(seen, draft, record, number, step)
    else:
        _provide(seen, draft, record.id)
        rows = tuple((name, value, record.value(name)) for name, value in want.items())
        draft.collide(Collision(record.kind, seen.charter.identity.name, record.id, rows, matches))


def words(mark: Mark) -> str:
    return "the identity"


FACET = Facet(NAME, compare, frozenset((ItsPrincipal, Ready, Bearer, Addressed)), words=words)
