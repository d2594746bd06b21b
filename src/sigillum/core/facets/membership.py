"""The facet *membership*: the teams that an identity is in, and the members that a team has."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from sigillum.core.charter.charter import MemberWant
from sigillum.core.kinds.facts import Fact, Query, Snapshot, Thing
from sigillum.core.records.history import Generation
from sigillum.core.records.steps import AddTo, Adopt, Ask, Await, Ref, Step, StepKind, TakeFrom
from sigillum.core.values.errors import Mistake
from sigillum.core.values.times import parse_instant

from .common import View, by_identifier, identified, unknown

NAME, THING, POWER = "membership", "team", "teams"


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """The teams by name; of a team's charter, the members by name, accounts and teams."""
    for want in view.charter.member_of:
        yield Query(THING, "name", want.name)
    for want in view.charter.members:
        yield Query("account", "name", want.name)
        if snapshot.fact("account", "name", want.name) == Fact():
            yield Query(THING, "name", want.name)
            yield from by_identifier(view, want.name)
    charter = view.charter
    idle = not charter.grants and not charter.member_of and not charter.is_team
    ours = any(facet == NAME for facet, _ in view.state.generations)
    if isinstance(view.principal, str) and (idle or ours or charter.member_of):
        yield Query(THING, "member", view.principal)


def compare(view: View) -> None:
    """Join what is wanted, leave what only we joined; tell of an account that can do nothing yet."""
    for want in view.charter.member_of:
        _join(view, want)
    for want in view.charter.members:
        _take_in(view, want)
    _not_wanted(view)
    _idle(view)


def _join(view: View, want: MemberWant) -> None:
    fact = view.snapshot.fact(THING, "name", want.name)
    if not fact.known:
        unknown(view, fact, f"the team {want.name}")
    elif fact.first is None and view.is_charter(want.name):
        _later(view, want.name, want.name, f"membership of {view.charter.identity.name} in {want.name}")
    elif fact.first is None:
        view.draft.mistakes.append(Mistake(
            "team-unknown", f"{view.snapshot.tenant} has no team {want.name!r}",
            "enact the team's own charter first (`identity: {kind: team}`), or mend the name", want.position))
    else:
        _one(view, want.name, fact.first, fact.first.id, view.principal,
             f"membership of {view.charter.identity.name} in {want.name}")


def _take_in(view: View, want: MemberWant) -> None:
    facts = [view.snapshot.fact(kind, "name", want.name) for kind in ("account", THING)]
    found = next((t for f in facts for t in f.things), None)
    if found is None and not facts[0].known:
        unknown(view, facts[0], f"the account {want.name}")
    elif found is None and view.is_charter(want.name):
        _later(view, f"member {want.name}", want.name, f"membership of {want.name} in {view.charter.identity.name}")
    elif found is None:
        view.draft.mistakes.append(Mistake(
            "member-unknown", f"{view.snapshot.tenant} has no account or team {want.name!r}",
            identified(view, want.name) or "enact its own charter first, or mend the name", want.position))
    else:
        team = next((t for t in view.snapshot.fact(THING, "name", view.charter.identity.name).things
                     if t.id == view.principal), None)
        _one(view, f"member {want.name}", team, view.principal, found.id,
             f"membership of {want.name} in {view.charter.identity.name}")


def _later(view: View, name: str, charter: str, about: str) -> None:
    """The other side has a charter here, and was not enacted yet."""
    view.add(Step(
        f"ask-{name}", StepKind.ASK, view.snapshot.tenant, NAME, name, f"that {charter} be enacted first: {about}",
        Ask(f"run `sigillum enact {charter}`, then this one again"), why=f"{charter} does not exist there yet"))


def _one(view: View, name: str, team: Thing | None, team_id: str | Ref | None, member: str | Ref | None, about: str) -> None:
    if team_id is None or member is None:
        return
    generation = view.state.latest(NAME, name)
    inside = team is not None and member in team.get("members")
    number = 1 if generation is None else generation.number + (generation.state in ("ended", "made") and not inside)
    if inside:
        if generation is not None and generation.state == "open" and team is not None:
            view.add(Step(
                f"found-{NAME}-{name}", StepKind.KEEP, view.snapshot.tenant, NAME, name,
                f"in the ledger that the {about} was made", Adopt(THING, f"{team.id}/{member}", found=True), number,
                why="it was begun earlier, and the answer was not caught"))
        return
    if generation is not None and generation.state == "made" and generation.made_at and isinstance(team_id, str) and \
            view.snapshot.now < parse_instant(generation.made_at) + timedelta(seconds=view.arrival_seconds):
        view.add(Step(
            f"wait-{NAME}-{name}", StepKind.WAIT, view.snapshot.tenant, NAME, name, f"until the tenant shows {about}",
            Await(THING, team_id, view.arrival_seconds, "members", str(member)), generation.number,
            why="it was made, and look-ups do not show it yet"))
        return
    if generation is not None and generation.state == "made":
        view.draft.note("gone", f"{about} was made once and is no longer so")
    view.add(Step(
        f"join-{name}", StepKind.MAKE, view.snapshot.tenant, NAME, name, about, AddTo(THING, team_id, "members", member),
        number, needs=view.principal_step, power=POWER, why="the charter asks for it"))


def _not_wanted(view: View) -> None:
    if not isinstance(view.principal, str):
        return
    wanted = {w.name for w in view.charter.member_of} | {f"member {w.name}" for w in view.charter.members}
    for (facet, name), generations in list(view.state.generations.items()):
        generation = generations[-1]
        if facet != NAME or name in wanted or generation.state not in ("made", "open"):
            continue
        identity = generation.id
        if not identity:  # begun, and the answer was not caught
            teams = view.snapshot.fact(THING, "member", view.principal).things
            identity = next((f"{t.id}/{view.principal}" for t in teams if t.get("name") == name), "")
        if identity:
            _leave(view, name, generation, identity)


def _leave(view: View, name: str, generation: Generation, identity: str) -> None:
    team, _, member = identity.partition("/")
    about = f"membership of {name.removeprefix('member ')} in {view.charter.identity.name}" if name.startswith("member ") \
        else f"membership of {view.charter.identity.name} in {name}"
    view.add(Step(
        f"leave-{name}", StepKind.END, view.snapshot.tenant, NAME, name, about, TakeFrom(THING, team, "members", member),
        generation.number, power=POWER, why="the charter no longer asks for it"))


def _idle(view: View) -> None:
    """An account that can do nothing yet is shown as such."""
    charter = view.charter
    if charter.grants or charter.member_of or charter.is_team or charter.permissions or view.guests:
        return
    if isinstance(view.principal, str):
        grants = view.snapshot.fact("grant", "principal", view.principal)
        teams = view.snapshot.fact(THING, "member", view.principal)
        if not grants.known or not teams.known or grants.things or teams.things:
            return
    tokens = [c.name for c in charter.credentials]
    powerless = f"; {', '.join(tokens)} would be powerless: it gives what its account has, and never more" if tokens else ""
    view.draft.note("can-nothing", f"{charter.identity.name} can do nothing yet: no role is granted to it, and it is in no "
                    f"team{powerless}", warning=bool(tokens))
