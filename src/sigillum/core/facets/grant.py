"""The facet *grant*: principal x role x place, with an optional window and label rule."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

from sigillum.core.charter.charter import SELF, GrantWant
from sigillum.core.charter.rules import allows, widest
from sigillum.core.kinds.facts import Fact, Query, Snapshot, Thing
from sigillum.core.records.history import Generation
from sigillum.core.records.steps import Change, Create, End, Ref, Step, StepKind
from sigillum.core.values.errors import Mistake
from sigillum.core.values.text import did_you_mean, lines
from sigillum.core.values.times import Window, format_duration, format_instant, parse_instant, whole_second

from .common import Standing, View, await_step, by_identifier, existing, identified, slow_step, stand, unknown
from .role import permissions_of
from .service import is_on

if TYPE_CHECKING:  # deciding is loaded for grants that need it: with a window, or with something that may be missing
    from sigillum.core.deciding.objections import Objection
    from sigillum.core.deciding.world import World

NAME, THING, POWER = "grant", "grant", "grants"
_NOT_THERE = Fact()
NEW = "(new)"  # stands for the id of a principal that is still to be made


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """Roles and places by name; then, once the principal is known, all its grants; more where a window is wanted."""
    own = {r.name for r in view.charter.roles}
    for want in view.charter.grants:
        if want.role not in own:
            yield Query("role", "name", want.role)
        for path in lines([want.at]) if want.at != SELF else ():
            yield Query("place", "path", path)
        if snapshot.fact("place", "path", want.at) == _NOT_THERE:
            yield Query("place", "under", want.at.rpartition("/")[0])
        if snapshot.fact("role", "name", want.role) == _NOT_THERE:
            yield Query("role", "all", "")
        if want.to:
            yield Query("account", "name", want.to)
            if snapshot.fact("account", "name", want.to) == _NOT_THERE:
                yield Query("team", "name", want.to)
                yield from by_identifier(view, want.to)
        holder = _holder(view, want)
        if want.to and holder is not None:
            yield Query(THING, "principal", holder.id)
    if isinstance(view.principal, str):
        yield Query(THING, "principal", view.principal)
    if any(g.windowed for g in view.charter.grants):
        yield from _beside(view, snapshot)


def _beside(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """What could make a window pointless: teams, their grants, and the roles of all grants."""
    from sigillum.core.deciding import gathering
    teams = [t.id for want in view.charter.member_of for t in snapshot.fact("team", "name", want.name).things]
    known = [view.principal] if isinstance(view.principal, str) else []
    yield from gathering.queries(snapshot, [*known, *teams], [g.at for g in view.charter.grants if g.at != SELF])


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
            holder = _holder(view, want)
            more = view.snapshot.fact(THING, "principal", holder.id) if want.to and holder is not None else _NOT_THERE
            _one(view, want, (*things, *more.things))
    _not_wanted(view, things)


def _holder(view: View, want: GrantWant) -> Thing | None:
    """Who holds a grant that is `to` somebody else."""
    facts = [view.snapshot.fact(kind, "name", want.to) for kind in ("account", "team")] if want.to else []
    return next((t for f in facts for t in f.things), None)


def _role(view: View, want: GrantWant) -> Thing | None:
    """The role as it is, or as this charter will make it."""
    own = next((r for r in view.charter.roles if r.name == want.role), None)
    found = view.snapshot.fact("role", "name", want.role).first
    if own is None:
        return found
    return Thing("role", found.id if found is not None else "", {
        "name": own.name, "breadth": "curated", "permissions": permissions_of(view, own)})


def _resolvable(view: View, want: GrantWant) -> bool:
    """Do role and place exist? Adds the mistakes where they do not."""
    good = True
    role, place = view.snapshot.fact("role", "name", want.role), view.snapshot.fact("place", "path", want.at)
    if not role.known or (not place.known and want.at != SELF):
        unknown(view, role if not role.known else place, f"the role {want.role} or the place {want.at}")
        return False
    found = _role(view, want)
    if found is None:
        known = [str(t.get("name")) for t in view.snapshot.fact("role", "all", "").things]
        view.draft.mistakes.append(Mistake(
            "role-unknown", f"{view.snapshot.tenant} has no role {want.role!r}",
            did_you_mean(want.role, known) or "look at `sigillum tenant inspect`", want.position))
        good = False
    elif _needs_because(view, want, found):
        view.draft.mistakes.append(Mistake(
            "because-missing", f"the role {want.role} {widest(found).replace('-', ' ')} and no reason is given",
            "add `because: ...` to the grant (a house rule asks for it)", want.position))
        good = False
    if place.first is None and want.at != SELF:
        view.draft.mistakes.append(_no_place(view, want))
        good = False
    if want.to and _holder(view, want) is None:
        view.draft.mistakes.append(Mistake(
            "principal-unknown", f"{view.snapshot.tenant} has no account or team {want.to!r}",
            identified(view, want.to) or "write its name as the tenant has it", want.position))
        good = False
    return good


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
    if window.state(view.snapshot.now) == "ended":
        cleared = "" if standing.thing is not None else ", and was cleared"
        view.draft.note("grant-ended", f"{want.words()} ended at {terms['until']}{cleared}", warning=False)
        return
    objections = list(_objections(view, want, standing, terms))
    for objection in objections:
        if objection.refuse:
            view.draft.mistakes.append(Mistake(objection.code, objection.what, objection.mend, want.position))
        else:
            mend = f"; {objection.mend}" if objection.mend else ""
            view.draft.note(objection.code, f"{objection.what}{mend}", warning=not objection.usual)
    if any(o.refuse for o in objections):
        return
    if standing.thing is not None and same:
        _present(view, want, standing, terms)
    elif standing.state == "recent" and same:
        view.add(await_step(view, NAME, want.key, THING, standing, f"the grant of {want.words()}"))
    elif standing.thing is not None or standing.state == "recent":
        made = _make(view, want, (standing.number + 1), terms, "its window was changed in the charter")
        assert standing.generation is not None
        _end(view, standing.generation, standing.generation.id, "its window was changed", (made,))
    else:
        _missing(view, want, standing, terms, things)


def _present(view: View, want: GrantWant, standing: Standing, terms: Mapping[str, Any]) -> None:
    """It stands as wanted; a slow one is waited for, one whose making failed is made anew."""
    assert standing.thing is not None
    assert standing.generation is not None
    if standing.thing.get("progress") == "failed":
        _end(view, standing.generation, standing.thing.id, "the tenant could not make it")
        _make(view, want, standing.number + 1, dict(terms), "the tenant could not make the one before",
              (f"end-grant-{standing.thing.id}",))
        return
    slow_step(view, NAME, want.key, standing.thing, standing.number, f"the grant of {want.words()}")
    start = parse_instant(standing.thing.get("from")) if standing.thing.get("from") else None
    if start is not None and view.snapshot.now < start:
        view.draft.note("grant-waiting", f"{want.words()} waits: it begins at {format_instant(start)}", warning=False)
    _because(view, want, standing.thing, standing.number)


def _missing(view: View, want: GrantWant, standing: Standing, terms: dict[str, Any], things: tuple[Thing, ...]) -> None:
    stranger = next((t for t in things if _alike(view, t, want) and not _ours(view, t)
                     and t.external_id not in view.lent), None)
    if stranger is not None and (_same_window(stranger, terms) or (not view.state.ledger and want.lasts_seconds)):
        view.draft.note("grant-stands", f"{want.words()} stands already; Sigillum did not make it "
                        "and leaves it alone", warning=False)
        return
    if stranger is not None:
        view.draft.note("grant-beside", f"another grant of {want.words()} stands beside the wanted "
                        f"one (until {stranger.get('until') or 'no end'}); Sigillum did not make it")
    _make(view, want, standing.number, terms, _why(view, want, standing))


def _why(view: View, want: GrantWant, standing: Standing) -> str:
    if standing.state == "gone":
        view.draft.note("gone", f"the grant of {want.words()} was made once and is no longer there")
    return standing.why(want.because or "the charter asks for it")


def _same_window(thing: Thing, terms: Mapping[str, Any]) -> bool:
    return (thing.get("until") or None) == terms.get("until") and (thing.get("from") or None) == terms.get("from")


def _place_of(view: View, want: GrantWant) -> str:
    if want.at != SELF:
        return want.at
    return f"@{view.principal}" if isinstance(view.principal, str) else f"@{NEW}"


def _carrier_of(view: View, want: GrantWant) -> str:
    holder = _holder(view, want)
    return holder.id if holder is not None else view.principal if isinstance(view.principal, str) else NEW


def _alike(view: View, thing: Thing, want: GrantWant) -> bool:
    return bool(thing.get("role") == want.role and thing.get("place") == _place_of(view, want)
                and (thing.get("where") or ()) == want.where
                and thing.get("principal") in (_carrier_of(view, want), view.principal if not want.to else None))


def _ours(view: View, thing: Thing) -> bool:
    return view.state.owns(NAME, thing.id, thing.external_id) is not None


# --- what speaks against it ------------------------------------------------------------------------------------
def _objections(view: View, want: GrantWant, standing: Standing, terms: Mapping[str, Any]) -> Iterator[Objection]:
    """Refusals and warnings about a wanted grant, with the world as it will be."""
    role = _role(view, want)
    assert role is not None
    permissions = [p for p, _ in role.get("permissions") or ()]
    demanding = any(_demanding(view, want, p) for p in permissions)
    if not (want.windowed or role.get("grantable_at") or demanding):
        return
    from sigillum.core.deciding.gathering import right_of
    from sigillum.core.deciding.objections import against, misplaced, missing_rights, without_effect
    mine = standing.thing.id if standing.thing is not None else f"want {want.key}"
    right = right_of({"principal": _carrier_of(view, want), "role": want.role, "place": _place_of(view, want),
                      "from": terms.get("from"), "until": terms.get("until"), "where": want.where}, mine)
    holder = _holder(view, want)
    if standing.thing is None:
        everyone = holder is not None and holder.get("everyone") is True
        yield from against(view.snapshot.profile, role, right, view.snapshot.now, everyone=everyone)
    world = future(view)
    wrong = misplaced(world, role, right.place)
    if wrong is not None and standing.thing is None:
        yield wrong
        return
    yield from without_effect(world, right, view.owner_of)
    if demanding:
        yield from missing_rights(world, right, view.snapshot.now, permissions)


def _demanding(view: View, want: GrantWant, permission: str) -> bool:
    """Does a permission ask for something that may be missing at the place?"""
    rule = view.snapshot.profile.operations.get(permission)
    if rule is None or want.at == SELF:
        return False
    return bool(rule.located or rule.needs or (rule.service and not is_on(view, rule.service, want.at)))


def future(view: View) -> World:
    """The tenant as it will be: what stands, what is wanted, all of it felt."""
    from sigillum.core.deciding import gathering
    from sigillum.core.deciding.values import Membership, Principal, Right, Team
    world, charter = gathering.world_of(view.snapshot, felt=False), view.charter
    who = view.principal if isinstance(view.principal, str) else NEW
    known = world.principals.get(who, Principal(who, charter.identity.name, charter.identity.kind))
    world.principals[who] = known._replace(location=charter.identity.location, active=True, ready=True)
    if charter.is_team:
        world.teams[who] = Team(who, charter.identity.name, charter.reach)
    for want in charter.member_of:
        world.memberships += [Membership(who, t.id) for t in view.snapshot.fact("team", "name", want.name).things]
    for service, at, _ in view.services:
        place = world.places.get(at)
        if place is not None:
            world.places[at] = place._replace(services=(*place.services, (service, None)))
    for grant in charter.grants:
        role = _role(view, grant)
        if role is not None:
            world.roles[grant.role] = frozenset(p for p, _ in role.get("permissions") or ())
        if not grant.windowed:
            world.rights.append(Right(f"want {grant.key}", _carrier_of(view, grant), grant.role, _place_of(view, grant),
                                      labels=tuple((n, frozenset(v)) for n, v in grant.where)))
    return world


# --- steps -------------------------------------------------------------------------------------------------------
def _make(view: View, want: GrantWant, number: int, terms: Mapping[str, Any], why: str, needs: tuple[str, ...] = ()) -> str:
    role, holder = _role(view, want), _holder(view, want)
    assert role is not None
    made_role = f"make-role-{want.role}"
    steps = {s.id for s in view.draft.steps}
    if want.at == SELF:
        place_id: Any = view.principal
    else:
        place_id = view.snapshot.fact("place", "path", want.at).things[0].id
    fields = {"principal": holder.id if holder is not None else view.principal,
              "carrier": holder.kind if holder is not None else "team" if view.charter.is_team else "account",
              "role_id": Ref(made_role, "id") if made_role in steps else role.id, "place_id": place_id, "role": want.role,
              "place": _place_of(view, want), "where": want.where, "reason": want.because, "from": terms.get("from"),
              "until": terms.get("until")}
    after: dict[str, Any] = {"allows": allows(role)}
    if want.where:
        after["only"] = " and ".join(f"where {name} is {' or '.join(values)}" for name, values in want.where)
    if "from" in terms:
        after["from"] = terms["from"]
    if "until" in terms:
        length = f" ({format_duration(want.lasts_seconds)})" if want.lasts_seconds else ""
        after["until"] = f"{terms['until']}{length}"
    services = tuple(step for _, at, step in view.services if at == want.at or at.startswith(want.at + "/")
                     or want.at.startswith(at + "/"))
    return view.add(Step(
        f"make-grant-{want.key}", StepKind.MAKE, view.snapshot.tenant, NAME, want.key,
        f"grant of {want.words()}",
        Create(THING, view.external_id(NAME, want.key, number), fields, terms), number,
        needs=(*view.principal_step, *needs, *services, *((made_role,) if made_role in steps else ())),
        power=POWER, why=why, after=after))


def _because(view: View, want: GrantWant, thing: Thing, number: int) -> None:
    if (thing.get("reason") or "") != want.because:
        view.add(Step(
            f"change-grant-{want.key}", StepKind.CHANGE, view.snapshot.tenant, NAME, want.key,
            f"reason of the grant of {want.words()}",
            Change(THING, thing.id, {"reason": want.because}, thing.version), number, power=POWER, why="the charter says so",
            before={"reason": thing.get("reason")}, after={"reason": want.because}))


def _end(view: View, generation: Generation, identity: str, why: str, needs: tuple[str, ...] = ()) -> None:
    role, _, place = generation.name.partition("@")
    view.add(Step(
        f"end-grant-{identity}", StepKind.END, view.snapshot.tenant, NAME, generation.name,
        f"grant of {role} at {place}", End(THING, identity), generation.number, needs=needs, power=POWER, why=why))


def _not_wanted(view: View, things: tuple[Thing, ...]) -> None:
    """End our own grants that the charter no longer asks for; show what nobody wants as extra."""
    wanted = {w.key for w in view.charter.grants}
    for thing in things:
        generation = view.state.owns(NAME, thing.id, thing.external_id)
        if generation is None:
            if not any(_alike(view, thing, w) for w in view.charter.grants) and thing.external_id not in view.lent:
                _extra(view, thing)
        elif generation.state != "ended" and generation.name not in wanted:
            _end(view, generation, thing.id, "the charter no longer asks for it")
        elif generation.state != "ended" and generation.number < (
                view.state.latest(NAME, generation.name) or generation).number:
            _end(view, generation, thing.id, "a newer one took its place")
    seen = {t.id for t in things}
    for (facet, name), generations in list(view.state.generations.items()):  # held by somebody else, so not among things
        newest = generations[-1]
        if facet == NAME and name not in wanted and ">" in name and newest.state == "made" and newest.id not in seen:
            _end(view, newest, newest.id, "the charter no longer asks for it")


def _extra(view: View, thing: Thing) -> None:
    """A grant that no charter and no loan wants; ended only where that was said."""
    words = f"{thing.get('role')} at {thing.get('place_name') or thing.get('place')}"
    owner = view.owner_of(thing.id)
    if owner:
        view.draft.note("grant-elsewhere", f"{words} is granted by {owner}", warning=False)
        return
    ended = bool(thing.get("until")) and parse_instant(str(thing.get("until"))) <= view.snapshot.now
    if ended:
        view.draft.note("grant-extra", f"extra: {words} ended at {thing.get('until')} and still stands there", warning=False)
    else:
        until = f"until {thing.get('until')}" if thing.get("until") else "without end"
        view.draft.note("grant-extra", f"extra: {words}, {until}: no charter and no loan wants it; `--end-extra` ends it")
    if view.end_extra:
        view.add(Step(f"end-extra-{thing.id}", StepKind.END, view.snapshot.tenant, NAME, f"extra {thing.id}",
                      f"extra grant of {words}", End(THING, thing.id), power=POWER, why="--end-extra was given"))
