"""The facet *grant*: principal x role x place, with an optional window."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime, timedelta
from typing import Any

from sigillum.core.charter import GrantWant
from sigillum.core.errors import Mistake
from sigillum.core.facts import Fact, Query, Snapshot, Thing
from sigillum.core.rules import CLASSES
from sigillum.core.steps import Change, Create, End, Step, StepKind
from sigillum.core.text import did_you_mean
from sigillum.core.times import Window, format_duration, format_instant, parse_instant, whole_second
from sigillum.core.undertakings import Generation

from .common import Standing, View, await_step, existing, stand, unknown

NAME, THING, POWER = "grant", "grant", "grants"
_NOT_THERE = Fact()


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """Roles and places by name; then, once the principal is known, all its grants."""
    for want in view.charter.grants:
        yield Query("role", "name", want.role)
        yield Query("place", "path", want.at)
        if snapshot.fact("place", "path", want.at) == _NOT_THERE:
            yield from _around(snapshot, want.at)
        if snapshot.fact("role", "name", want.role) == _NOT_THERE:
            yield Query("role", "all", "")
    if isinstance(view.principal, str):
        yield Query(THING, "principal", view.principal)


def _around(snapshot: Snapshot, path: str) -> Iterator[Query]:
    """What stands near a place that is not there, so that a near miss can be named."""
    parent = path.rpartition("/")[0]
    yield Query("place", "under", parent)
    if parent:
        yield Query("place", "path", path.partition("/")[0])


def terms_of(want: GrantWant, now: datetime, known: Mapping[str, Any]) -> dict[str, Any]:
    """The window to write: `for` counts from the first enacting, whose terms are `known`."""
    asked = {
        "for": want.lasts_seconds, "from": format_instant(want.start) if want.start else None,
        "asked_until": format_instant(want.until) if want.until else None,
    }
    terms = {k: v for k, v in asked.items() if v is not None}
    if known and {k: v for k, v in known.items() if k != "until"} == terms:
        return dict(known)
    until = want.until
    if want.lasts_seconds is not None:
        begin = max(want.start, now) if want.start else now
        until = whole_second(begin) + timedelta(seconds=want.lasts_seconds)
    return {**terms, **({"until": format_instant(until)} if until else {})}


def compare(view: View) -> None:
    """Make what is missing, replace what has other terms, end what only we still hold."""
    fact = existing(view, THING)
    if not fact.known:
        if view.charter.grants:
            unknown(view, fact, f"the grants of {view.charter.identity.name}")
        return
    things = fact.things
    for want in view.charter.grants:
        if _resolvable(view, want):
            _one(view, want, things)
    _not_wanted(view, things)


def _resolvable(view: View, want: GrantWant) -> bool:
    """Do role and place exist? Adds the mistakes where they do not."""
    good = True
    role, place = view.snapshot.fact("role", "name", want.role), view.snapshot.fact("place", "path", want.at)
    if not role.known or not place.known:
        unknown(view, role if not role.known else place, f"the role {want.role} or the place {want.at}")
        return False
    if role.first is None:
        known = [str(t.get("name")) for t in view.snapshot.fact("role", "all", "").things]
        view.draft.mistakes.append(Mistake(
            "role-unknown", f"{view.snapshot.tenant} has no role {want.role!r}",
            did_you_mean(want.role, known) or "look at `sigillum tenant inspect`", want.position))
        good = False
    elif _needs_because(view, want, role.first):
        view.draft.mistakes.append(Mistake(
            "because-missing", f"the role {want.role} {widest(role.first).replace('-', ' ')} and no reason is given",
            "add `because: ...` to the grant (a house rule asks for it)", want.position))
        good = False
    if place.first is None:
        view.draft.mistakes.append(_no_place(view, want))
        good = False
    return good


def widest(role: Thing) -> str:
    """The strongest class among a role's permissions."""
    classes = [c for _, c in role.get("permissions") or () if c in CLASSES]
    return max(classes, key=CLASSES.index, default="looks")


def _needs_because(view: View, want: GrantWant, role: Thing) -> bool:
    classes = {c for _, c in role.get("permissions") or ()}
    return not want.because and bool(classes & view.rules.because)


def _no_place(view: View, want: GrantWant) -> Mistake:
    root, _, rest = want.at.partition("/")
    siblings = [str(t.get("path")) for t in view.snapshot.fact("place", "under", want.at.rpartition("/")[0]).things]
    if rest and not view.snapshot.fact("place", "path", root).things:
        return Mistake("place-not-in-tree", f"{want.at!r} does not lie in the tree of {view.snapshot.tenant}",
                       "begin with one of the tenant's own roots (`sigillum tenant inspect` lists them)",
                       want.position)
    return Mistake("place-unknown", f"{view.snapshot.tenant} has no place {want.at!r}",
                   did_you_mean(want.at, siblings) or "look at `sigillum tenant inspect`", want.position)


def _one(view: View, want: GrantWant, things: tuple[Thing, ...]) -> None:
    standing = stand(view, NAME, want.key, things)
    known = standing.generation.terms if standing.generation is not None else {}
    terms = terms_of(want, view.snapshot.now, known)
    same = bool(standing.generation is not None and terms == known)
    window = Window(until=parse_instant(terms["until"])) if same and "until" in terms else Window()
    ended = window.state(view.snapshot.now) == "ended"
    if ended:
        view.draft.note("grant-ended", f"{want.role} at {want.at} ended at {terms['until']}", warning=False)
    elif standing.thing is not None and same:
        _because(view, want, standing.thing, standing.number)
    elif standing.state == "recent" and same:
        view.add(await_step(view, NAME, want.key, THING, standing, f"the grant of {want.role} at {want.at}"))
    elif standing.thing is not None or standing.state == "recent":
        made = _make(view, want, (standing.number + 1), terms, "its window was changed in the charter")
        assert standing.generation is not None
        _end(view, standing.generation, standing.generation.id, "its window was changed", (made,))
    else:
        stranger = next((t for t in things if _alike(t, want) and not _ours(view, t)), None)
        if stranger is not None and (_same_window(stranger, terms) or (not view.state.ledger and want.lasts_seconds)):
            view.draft.note("grant-stands", f"{want.role} at {want.at} stands already; Sigillum did not make it "
                            "and leaves it alone", warning=False)
            return
        if stranger is not None:
            view.draft.note("grant-beside", f"another grant of {want.role} at {want.at} stands beside the wanted "
                            f"one (until {stranger.get('until') or 'no end'}); Sigillum did not make it")
        _make(view, want, standing.number, terms, _why(view, want, standing))


def _why(view: View, want: GrantWant, standing: Standing) -> str:
    if standing.state == "open":
        return "begun earlier, and the answer was not caught"
    if standing.state == "gone":
        view.draft.note("gone", f"the grant of {want.role} at {want.at} was made once and is no longer there")
    return want.because or "the charter asks for it"


def _same_window(thing: Thing, terms: Mapping[str, Any]) -> bool:
    return (thing.get("until") or None) == terms.get("until") and (thing.get("from") or None) == terms.get("from")


def _alike(thing: Thing, want: GrantWant) -> bool:
    return bool(thing.get("role") == want.role and thing.get("place") == want.at)


def _ours(view: View, thing: Thing) -> bool:
    return view.state.owns(NAME, thing.id, thing.external_id) is not None


def _make(view: View, want: GrantWant, number: int, terms: Mapping[str, Any], why: str) -> str:
    role = view.snapshot.fact("role", "name", want.role).things[0]
    place = view.snapshot.fact("place", "path", want.at).things[0]
    fields = {"principal": view.principal, "role_id": role.id, "place_id": place.id, "role": want.role,
              "place": want.at, "reason": want.because, "from": terms.get("from"), "until": terms.get("until")}
    after: dict[str, Any] = {"allows": ", ".join(f"{p}" for p, _ in role.get("permissions") or ())}
    if "until" in terms:
        length = f" ({format_duration(want.lasts_seconds)})" if want.lasts_seconds else ""
        after["until"] = f"{terms['until']}{length}"
    return view.add(Step(
        f"make-grant-{want.key}", StepKind.MAKE, view.snapshot.tenant, NAME, want.key,
        f"grant of {want.role} at {want.at}",
        Create(THING, view.external_id(NAME, want.key, number), fields, terms), number, needs=view.principal_step,
        power=POWER, why=why, after=after))


def _because(view: View, want: GrantWant, thing: Thing, number: int) -> None:
    if (thing.get("reason") or "") != want.because:
        view.add(Step(
            f"change-grant-{want.key}", StepKind.CHANGE, view.snapshot.tenant, NAME, want.key,
            f"reason of the grant of {want.role} at {want.at}",
            Change(THING, thing.id, {"reason": want.because}, thing.version), number, power=POWER, why="the charter says so",
            before={"reason": thing.get("reason")}, after={"reason": want.because}))


def _end(view: View, generation: Generation, identity: str, why: str, needs: tuple[str, ...] = ()) -> None:
    role, _, place = generation.name.partition("@")
    view.add(Step(
        f"end-grant-{identity}", StepKind.END, view.snapshot.tenant, NAME, generation.name,
        f"grant of {role} at {place}", End(THING, identity), generation.number, needs=needs, power=POWER, why=why))


def _not_wanted(view: View, things: tuple[Thing, ...]) -> None:
    """End our own grants that the charter no longer asks for; tell of a stranger's."""
    wanted = {w.key for w in view.charter.grants}
    for thing in things:
        generation = view.state.owns(NAME, thing.id, thing.external_id)
        role, place = thing.get("role"), thing.get("place")
        if generation is None:
            if f"{role}@{place}" not in wanted:
                view.draft.note("grant-extra", f"{role} at {place} is granted beyond the charter; "
                                "Sigillum did not make it and leaves it alone")
        elif generation.state != "ended" and generation.name not in wanted:
            _end(view, generation, thing.id, "the charter no longer asks for it")
        elif generation.state != "ended" and generation.number < (
                view.state.latest(NAME, generation.name) or generation).number:
            _end(view, generation, thing.id, "a newer one took its place")
