"""The facet *sign-in*: that a program can sign in unattended, and that nobody loses protection by it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sigillum.core.charter.charter import ACCOUNT, PASSWORD
from sigillum.core.charter.wants import SignInWant
from sigillum.core.deciding.sign_in import (
    ALL_RULES,
    ALL_TEAMS,
    Account,
    Attempt,
    Rule,
    account_of,
    decide,
    losing,
    members_of,
    rules_of,
)
from sigillum.core.kinds.facts import Query, Snapshot, Thing
from sigillum.core.records.steps import AddTo, Change, Create, End, Step, StepKind, TakeFrom
from sigillum.core.values.errors import Mistake
from sigillum.core.values.text import did_you_mean

from .common import View, stand, unknown

NAME, THING, POWER = "sign-in", "rule", "rules"
OWN, NEW = "networks", "(new)"
ALL_ACCOUNTS = Query("account", "all", "")


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """All rules; the teams of the account; where a tenant-wide rule is relaxed, everybody."""
    if not _concerns(view):
        return
    yield ALL_RULES
    if "team" in snapshot.profile.kinds:
        yield ALL_TEAMS
    if view.charter.sign_in is not None and view.charter.sign_in.relax is not None:
        yield ALL_ACCOUNTS


def _concerns(view: View) -> bool:
    charter = view.charter
    ours = any(facet == NAME for facet, _ in view.state.generations)
    return charter.identity.kind == ACCOUNT and (charter.sign_in is not None or ours or (
        THING in view.snapshot.profile.kinds and any(c.kind == PASSWORD for c in charter.credentials)))


def compare(view: View) -> None:
    """Remove registered methods, narrow and exempt the account, relax what is relaxed safely; tell what decides then."""
    if not _concerns(view) or view.principal is None:
        return
    fact = view.snapshot.fact(*ALL_RULES)
    if THING not in view.snapshot.profile.kinds or not fact.known:
        if view.charter.sign_in is not None:
            view.draft.note("unknown", f"{view.snapshot.tenant} shows no sign-in rules: what it demands of "
                            f"{view.charter.identity.name} is not known")
        return
    rules = {r.name: r for r in rules_of(view.snapshot)}
    want = view.charter.sign_in or SignInWant()
    _methods(view)
    future = dict(rules)
    _own_rule(view, want, fact.things, future)
    _exempt(view, want, rules, future)
    _relax(view, want, rules, future)
    _not_wanted(view, want, rules)
    _effective(view, want, list(future.values()))


def _account(view: View) -> Thing | None:
    found = view.snapshot.fact("account", "name", view.charter.identity.name).first
    return found if found is not None and found.id == view.principal else None


def _methods(view: View) -> None:
    """What is registered for a second factor is somebody's telephone: it goes."""
    thing = _account(view)
    if view.charter.sign_in is None or thing is None or not thing.get("methods") or view.draft.collisions:
        return
    view.add(Step(
        "remove-methods", StepKind.CHANGE, view.snapshot.tenant, NAME, "methods",
        f"registered methods of {view.charter.identity.name}", Change("account", thing.id, {"methods": ()}, thing.version),
        power="accounts", why="a program answers no telephone; whoever holds it could act as the program",
        before={"methods": thing.get("methods")}, after={"methods": ()}))


def _own_rule(view: View, want: SignInWant, things: tuple[Thing, ...], future: dict[str, Rule]) -> None:
    """A targeted rule of ours: from these networks only."""
    if not want.networks:
        return
    name = f"{view.charter.identity.name}-networks"
    standing = stand(view, NAME, OWN, things)
    who = view.principal if isinstance(view.principal, str) else NEW
    fields: dict[str, Any] = {"name": name, "target": view.principal, "networks": want.networks, "applies_to": "any"}
    future[name] = Rule(NEW, name, targets=frozenset({who}), networks=want.networks)
    if standing.thing is None and standing.state != "recent":
        view.add(Step(
            "make-networks", StepKind.MAKE, view.snapshot.tenant, NAME, OWN,
            f"sign-in rule {name}: from {', '.join(want.networks)} only",
            Create(THING, view.external_id(NAME, OWN, standing.number), fields), standing.number, needs=view.principal_step,
            power=POWER, why="what replaces a second factor stands first", after={"networks": want.networks}))
    elif standing.thing is not None and tuple(standing.thing.get("networks") or ()) != want.networks:
        view.add(Step(
            "change-networks", StepKind.CHANGE, view.snapshot.tenant, NAME, OWN, f"sign-in rule {name}",
            Change(THING, standing.thing.id, {"networks": want.networks}, standing.thing.version), standing.number, power=POWER,
            why="the charter says so", before={"networks": standing.thing.get("networks")}, after={"networks": want.networks}))


def _known(view: View, name: str, rules: dict[str, Rule], want: SignInWant) -> Rule | None:
    if name not in rules:
        view.draft.mistakes.append(Mistake("rule-unknown", f"{view.snapshot.tenant} has no sign-in rule {name!r}",
                                           did_you_mean(name, rules) or f"it has {', '.join(sorted(rules))}", want.position))
    return rules.get(name)


def _exempt(view: View, want: SignInWant, rules: dict[str, Rule], future: dict[str, Rule]) -> None:
    exempt = want.exempt
    rule = _known(view, exempt.rule, rules, want) if exempt is not None else None
    if exempt is None or rule is None:
        return
    if not rule.narrowable:
        view.draft.mistakes.append(Mistake(
            "rule-not-narrowable", f"the rule {rule.name} knows no exemptions; it is on or off",
            "write `relax:` with the rule that replaces it for everybody else", want.position))
        return
    who = view.principal if isinstance(view.principal, str) else NEW
    future[rule.name] = rule._replace(exempt=rule.exempt | {who})
    if exempt.review < view.snapshot.now.date():
        view.draft.note("exemption-review", f"the exemption from {rule.name} was to be looked at again on {exempt.review}")
    if not want.networks:
        view.draft.note("exemption-open", f"exempt from {rule.name}, and not narrowed: whoever has the password can sign in "
                        "from anywhere; `networks:` narrows it")
    if view.principal in rule.exempt:
        return
    name = f"exempt {rule.name}"
    generation = view.state.latest(NAME, name)
    number = 1 if generation is None else generation.number + (generation.state in ("made", "ended"))
    about = {"acceptedBy": exempt.accepted_by, "why": exempt.why, "review": exempt.review.isoformat()}
    first = tuple(s.id for s in view.draft.steps if s.facet == NAME and s.name == OWN)
    view.add(Step(
        f"exempt-{rule.name}", StepKind.MAKE, view.snapshot.tenant, NAME, name,
        f"exemption of {view.charter.identity.name} from the sign-in rule {rule.name}",
        AddTo(THING, rule.id, "exempt", view.principal or NEW, about), number, needs=(*view.principal_step, *first),
        power=POWER, why=exempt.why, after={"accepted by": exempt.accepted_by, "until": f"{exempt.review} (review)"}))


def _relax(view: View, want: SignInWant, rules: dict[str, Rule], future: dict[str, Rule]) -> None:
    """Switch a tenant-wide rule off, only where another stands that loses nobody."""
    relax = want.relax
    rule = _known(view, relax.rule, rules, want) if relax is not None else None
    other = _known(view, relax.replaced_by, rules, want) if relax is not None else None
    if relax is None or rule is None or other is None:
        return
    things = view.snapshot.fact(*ALL_ACCOUNTS)
    if not things.known:
        unknown(view, things, "who would lose protection")
        return
    teams = _teams(view)
    people = [account_of(t, teams) for t in things.things]
    lost = [a.name for a in losing(rules.values(), rule, people) if a.id != view.principal]
    if not other.enabled or lost:
        demands = ", ".join(sorted(rule.demands)) or "it"
        told = f"without {rule.name} these would lose {demands}: {', '.join(lost)}" if lost else \
            f"nothing replaces {rule.name}: {other.name} is switched off"
        view.draft.mistakes.append(Mistake(
            "protection-lost", told, f"widen {other.name} until it covers them, then enact again", want.position))
        return
    future[rule.name] = rule._replace(enabled=False)
    if rule.enabled:
        view.add(Step(
            f"relax-{rule.name}", StepKind.CHANGE, view.snapshot.tenant, NAME, f"relax {rule.name}",
            f"tenant-wide sign-in rule {rule.name}: switch it off, {other.name} replaces it for everybody else",
            Change(THING, rule.id, {"enabled": False}, mark="made"), power=POWER, why=relax.why,
            before={"enabled": True}, after={"enabled": False}))


def _teams(view: View) -> dict[str, tuple[str, ...]]:
    return members_of(view.snapshot.fact(*ALL_TEAMS).things)


def _not_wanted(view: View, want: SignInWant, rules: dict[str, Rule]) -> None:
    """What only we made or relaxed, and the charter no longer asks for, is put back."""
    wanted = {OWN if want.networks else "", f"exempt {want.exempt.rule}" if want.exempt else "",
              f"relax {want.relax.rule}" if want.relax else ""}
    by_id = {r.id: r for r in rules.values()}
    for (facet, name), generations in list(view.state.generations.items()):
        last = generations[-1]
        if facet != NAME or name in wanted or last.state != "made":
            continue
        identity = last.id.partition("/")[0]
        rule = by_id.get(identity)
        if rule is None:
            continue
        why = "the charter no longer asks for it"
        if name == OWN:
            view.add(Step(f"end-rule-{identity}", StepKind.END, view.snapshot.tenant, NAME, name, f"sign-in rule {rule.name}",
                          End(THING, identity), last.number, power=POWER, why=why))
        elif name.startswith("exempt ") and view.principal in rule.exempt:
            view.add(Step(
                f"end-{name}", StepKind.END, view.snapshot.tenant, NAME, name,
                f"exemption of {view.charter.identity.name} from {rule.name}",
                TakeFrom(THING, identity, "exempt", str(view.principal)), last.number, power=POWER, why=why))
        elif name.startswith("relax ") and not rule.enabled:
            view.add(Step(
                f"undo-{name}", StepKind.CHANGE, view.snapshot.tenant, NAME, name,
                f"tenant-wide sign-in rule {rule.name}: switch it on again",
                Change(THING, identity, {"enabled": True}, mark="ended"), last.number, power=POWER,
                why="undone: " + why, before={"enabled": False}, after={"enabled": True}))


def _effective(view: View, want: SignInWant, rules: list[Rule]) -> None:
    """What decides once all this is done."""
    thing = _account(view)
    who = account_of(thing, _teams(view)) if thing is not None else Account(NEW)
    address = want.networks[0].split("/")[0] if want.networks else ""
    attempt = Attempt(address, want.interactive, want.second_factor, want.device)
    verdict = decide(who._replace(active=True), rules, attempt)
    for told in verdict.told:
        if told.state == "makes no difference" and "decides over it" in told.why and want.exempt is None:
            view.draft.note("switch-misleads", f"{told.rule}: {told.why}", warning=False)
    if not verdict.allowed:
        how = "like that" if want.interactive or want.second_factor or want.device else "unattended"
        view.draft.note("sign-in-stopped", f"{view.charter.identity.name} cannot sign in {how}: {verdict.rule} demands "
                        f"{verdict.demand}; `sign_in: exempt:` says who accepts the risk of going without")


