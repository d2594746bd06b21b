"""Sign-in rules that a charter writes itself: made, changed and ended; and who would lose what they demand."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sigillum.core.charter.wants import RuleWant, SignInWant
from sigillum.core.deciding.sign_in import (
    ALL_ACCOUNTS,
    ALL_TEAMS,
    Account,
    Attempt,
    CompiledRule,
    account_of,
    decide,
    losing,
    teams_of,
)
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.provides import Guarded
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import Standing, Where, await_, somebody, stand, unknown
from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.identities import TEAM
from sigillum.core.kinds.kind import Record, compared
from sigillum.core.kinds.signing import RULE, SignInRule
from sigillum.core.records.history import Generation
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.values.marks import Mark, StepId
from sigillum.core.values.text import some

Rules = dict[str, CompiledRule]  # by name
NAME = "sign-in"
NEW = "(new)"  # stands for the id of an account or rule that is still to be made
WRITTEN = "written"


def mark_of(seen: Seen, what: str, rule: str = "") -> Mark:
    return seen.mark(NAME, ("what", what), *((("rule", rule),) if rule else ()))


def teams(seen: Seen) -> dict[str, list[str]]:
    return teams_of(seen.ask(ALL_TEAMS).records) if seen.carried(TEAM) is not None else {}


def people(seen: Seen) -> list[Account] | None:
    """Every account with its teams; None where they are not shown."""
    everybody = seen.ask(ALL_ACCOUNTS)
    of = teams(seen)
    return [account_of(r, of) for r in everybody.records] if everybody.known else None


def write(
    seen: Seen, draft: Draft, want: SignInWant, records: tuple[Record[SignInRule], ...], rules: Rules, future: Rules
) -> None:
    """Make and change the rules that the charter writes: before anybody is let off another one."""
    for rule in want.rules:
        _write(seen, draft, rule, records, rules, future)


def _write(
    seen: Seen, draft: Draft, want: RuleWant, records: tuple[Record[SignInRule], ...], rules: Rules, future: Rules
) -> None:
    targets = _targets(seen, draft, want)
    lacking = sorted({n for n in ("demands", "networks") if getattr(want, n)} - (seen.carried(RULE) or frozenset()))
    if lacking:
        what = f"{seen.tenant} takes no sign-in rule that says {', '.join(lacking)}: {want.name}"
        draft.wrong("sign-in-rule", what, "leave that out of it, or have it said there by hand", want.position)
    if targets is None or lacking:
        return
    mark = mark_of(seen, WRITTEN, want.name)
    standing = stand(seen, draft, mark, records, f"sign-in rule {want.name}")
    if standing.record is None and want.name in rules and standing.where is not Where.RECENT:
        what = f"{seen.tenant} has a sign-in rule {want.name!r} already, which no charter of this workspace made"
        draft.wrong("rule-taken", what, "give this one another name", want.position)
        return
    if standing.record is not None and standing.record.denies(everyone=want.everyone):
        what = f"the sign-in rule {want.name} is {'for some' if want.everyone else 'for everyone'}, and that never changes"
        draft.wrong("rule-of-whom", what, "give it another name: the other one is made, and this one ends", want.position)
        return
    made = CompiledRule(NEW, want.name, everyone=want.everyone, targets=frozenset(targets), applies_to=want.applies_to)
    future[want.name] = made._replace(demands=frozenset(want.demands), networks=want.networks)
    if standing.where is Where.RECENT:
        await_(seen, draft, mark, RULE, standing, f"the sign-in rule {want.name}")
        return
    step = _step(seen, want, mark, standing, targets)
    if step is None:
        return
    if step.kind is StepKind.CHANGE:
        _loses(seen, draft, rules, future, want.name, "as it is written now")
    draft.provide(Guarded(seen.tenant), draft.add(step))
    _stops(seen, draft, rules, future, want.name)


def _step(seen: Seen, want: RuleWant, mark: Mark, standing: Standing, targets: tuple[str, ...]) -> Step | None:
    """What makes it, or changes it; None where it is as it is written."""
    part: dict[str, Any] = {
        "name": want.name,
        "enabled": True,
        "everyone": want.everyone,
        "targets": targets,
        "demands": want.demands,
        "networks": want.networks,
        "applies_to": want.applies_to,
    }
    about = {"accepted by": want.accepted_by, "until": f"{want.review} (review)"}
    if standing.record is None:
        demanded = ", ".join([*want.demands, *(f"from {n}" for n in want.networks)])
        return Step(
            StepId(mark, standing.number, "make"),
            StepKind.MAKE,
            f"sign-in rule {want.name}: {demanded}",
            Make(RULE, part),
            power=RULE.power,
            why=standing.why(want.why),
            after={"of": "everyone" if want.everyone else ", ".join(want.of), "demands": demanded, **about},
        )
    different = compared(standing.record, part, seen.carried(RULE)).different
    if not different:
        return None
    return Step(
        StepId(mark, standing.number, "change"),
        StepKind.CHANGE,
        f"sign-in rule {want.name}",
        Change(RULE, standing.record.id, {n: part[n] for n in different}, standing.record.version),
        power=RULE.power,
        why=want.why,
        before={n: have for n, (have, _) in different.items()},
        after={n: wanted for n, (_, wanted) in different.items()} | about,
    )


def _targets(seen: Seen, draft: Draft, want: RuleWant) -> tuple[str, ...] | None:
    """The ids of those of whom it demands something; None where one is not known."""
    out = list[str]()
    for name in want.of:
        found, fact, said = somebody(seen, name)
        if not fact.known:
            unknown(seen, draft, fact, f"of whom the sign-in rule {want.name} demands something ({name})")
            return None
        if found is None:
            what = f"{seen.tenant} knows no account and no team {name!r}, which {want.name} names"
            draft.wrong("rule-of-whom", what, said or "write the name as the tenant has it", want.position)
            return None
        out.append(found.id)
    return tuple(sorted(out))


# --- who would lose, and who would be stopped -------------------------------------------------------------------------
def lost_without(rules: Iterable[CompiledRule], weaker: CompiledRule, all_: Iterable[Account]) -> tuple[str, ...]:
    """The names of those who would have less demanded of them without a rule."""
    return tuple(sorted(a.name for a in losing(rules, weaker, all_)))


def _loses(seen: Seen, draft: Draft, rules: Rules, future: Rules, name: str, how: str) -> None:
    """Tell who has less demanded of them, once a rule of ours is another one or gone."""
    everybody, old = people(seen), rules.get(name)
    if everybody is None or old is None or not old.enabled:
        return
    after = [r._replace(id=f"{NEW} {r.name}") if r.id == NEW else r for r in future.values()]
    lost = lost_without([old, *(r for r in after if r.id != old.id)], old, everybody)
    if lost:
        demands = ", ".join(sorted(old.demands)) or "what it demands"
        draft.note("protection-lost", f"{name}, {how}: {some(lost, 'account')} would lose {demands}", names=lost)


def _stops(seen: Seen, draft: Draft, rules: Rules, future: Rules, name: str) -> None:
    """Tell which programs a new or wider rule would stop: they answer no telephone."""
    everybody = people(seen)
    if everybody is None:
        unknown(seen, draft, seen.ask(ALL_ACCOUNTS), f"whom the sign-in rule {name} would stop")
        return
    programs = {r.id for r in seen.ask(ALL_ACCOUNTS).records if r.says(type="service-account")}
    before, after, unattended = list(rules.values()), list(future.values()), Attempt()
    stopped = tuple(
        sorted(
            a.name
            for a in everybody
            if a.active
            and a.id in programs
            and decide(a, before, unattended).allowed
            and not decide(a, after, unattended).allowed
        )
    )
    if stopped:
        draft.note("rule-stops", f"{name} would stop {some(stopped, 'program')}, which sign in unattended", names=stopped)


def end(seen: Seen, draft: Draft, rules: Rules, future: Rules, last: Generation, rule: CompiledRule, why: str) -> None:
    """End a rule of ours that the charter writes no more, and tell who loses what it demanded."""
    future.pop(rule.name, None)
    _loses(seen, draft, rules, future, rule.name, "once it has ended")
    draft.add(ending(last, rule, why))


def ending(last: Generation, rule: CompiledRule, why: str) -> Step:
    """The end of a rule of ours."""
    return Step(
        StepId(last.mark, last.number, "end"),
        StepKind.END,
        f"sign-in rule {rule.name}",
        End(RULE, rule.id),
        power=RULE.power,
        why=why,
    )
