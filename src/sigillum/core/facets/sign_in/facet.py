"""The facet *sign-in*: that a program can sign in unattended, and that nobody loses protection by it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from sigillum.core.charter.charter import ACCOUNT as ACCOUNT_IDENTITY
from sigillum.core.charter.wants import ExemptWant, RelaxWant, SignInWant
from sigillum.core.deciding.sign_in import (
    ALL_ACCOUNTS,
    ALL_RULES,
    ALL_TEAMS,
    Account,
    Attempt,
    CompiledRule,
    account_of,
    decide,
    rule_of,
)
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import Guarded, ItsPrincipal, Ready
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import Where, principal, stand, unknown
from sigillum.core.kinds.changes import Change, Entry, Make
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.identities import Account as AccountBody
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.signing import RULE, SignInRule
from sigillum.core.records.history import AttemptOutcome, State
from sigillum.core.records.steps import HIDDEN, NEVER_HERE, Step, StepKind
from sigillum.core.values.marks import Id, Mark, StepId
from sigillum.core.values.text import did_you_mean, some

from .written import NAME, NEW, WRITTEN, Rules, end, ending, lost_without, mark_of, people, teams, write

NETWORKS, UNATTENDED, EXEMPT, RELAX, METHODS = "networks", "unattended", "exempt", "relax", "methods"


def compare(seen: Seen, draft: Draft) -> None:
    """Remove registered methods, narrow and exempt the account, relax what is relaxed safely; tell what decides then."""
    charter, who = seen.charter, principal(seen, draft)
    ours = any(True for _ in seen.history.of(NAME, seen.tenant))
    password = seen.carried(RULE) is not None and any(c.is_a.typed for c in charter.credentials)
    if charter.identity.kind != ACCOUNT_IDENTITY or not (charter.sign_in is not None or ours or password):
        return
    fact = seen.ask(ALL_RULES)
    if seen.carried(TEAM) is not None:
        seen.ask(ALL_TEAMS)
    written = any(g.mark.get("what") == WRITTEN and g.live for g in seen.history.of(NAME, seen.tenant))
    if written or (charter.sign_in is not None and (charter.sign_in.relax is not None or charter.sign_in.rules)):
        seen.ask(ALL_ACCOUNTS)
    if who is None:
        return
    if seen.carried(RULE) is None or not fact.known:
        if charter.sign_in is not None:
            draft.note(
                NEVER_HERE if seen.carried(RULE) is None else HIDDEN,
                f"{seen.tenant} shows no sign-in rules: what it demands of {charter.identity.name} is not known",
            )
        return
    rules = {r.name: r for r in map(rule_of, fact.records)}
    want = charter.sign_in or SignInWant()
    _methods(seen, draft)
    future = dict(rules)
    _own_rules(seen, draft, want, fact.records, future, who.id)
    write(seen, draft, want, fact.records, rules, future)
    _exempt(seen, draft, want, rules, future, who.id)
    _relax(seen, draft, want, rules, future, who.id)
    _not_wanted(seen, draft, want, rules, future, who.id)
    _effective(seen, draft, want, list(future.values()))


def _account(seen: Seen, draft: Draft) -> Record[AccountBody] | None:
    found, who = seen.ask(Query(ACCOUNT, "name", seen.charter.identity.name)).first, principal(seen, draft)
    return found if found is not None and who is not None and found.id == who.id else None


def _methods(seen: Seen, draft: Draft) -> None:
    """What is registered for a second factor is somebody's telephone: it goes."""
    record = _account(seen, draft)
    if seen.charter.sign_in is None or record is None or not record.body.methods or draft.collisions:
        return
    draft.add(
        Step(
            StepId(mark_of(seen, METHODS), 1, "remove"),
            StepKind.CHANGE,
            f"registered methods of {seen.charter.identity.name}",
            Change(ACCOUNT, record.id, {"methods": ()}, record.version),
            power=ACCOUNT.power,
            why="a program answers no telephone; whoever holds it could act as the program",
            before={"methods": record.body.methods},
            after={"methods": ()},
        )
    )


class Own(NamedTuple):
    """One rule of ours that is about the account alone."""

    what: str
    about: str
    fields: Mapping[str, Any]
    why: str


def _wanted(want: SignInWant) -> Iterator[Own]:
    """Which rules of ours a charter asks for."""
    fields: Mapping[str, Any]
    if want.networks:
        fields = {"networks": want.networks}
        yield Own(NETWORKS, f"from {', '.join(want.networks)} only", fields, "what replaces a second factor stands first")
    if want.interactive is False:
        fields = {"applies_to": "interactive", "blocks": True}
        yield Own(UNATTENDED, "nobody at a screen", fields, "a program never signs in at one")


def _own_rules(
    seen: Seen, draft: Draft, want: SignInWant, records: tuple[Record[SignInRule], ...], future: Rules, who: Id
) -> None:
    """Targeted rules of ours: each stands before a rule of others is relaxed."""
    for own in _wanted(want):
        lacking = sorted(own.fields.keys() - (seen.carried(RULE) or frozenset()))
        if lacking:
            draft.wrong(
                "sign-in-rule",
                f"{seen.tenant} takes no sign-in rule that says {', '.join(lacking)}: {own.about}",
                "leave that out of `sign_in`, or have it said there by hand",
                want.position,
            )
            continue
        _own_rule(seen, draft, own, records, future, who)


def _own_rule(seen: Seen, draft: Draft, own: Own, records: tuple[Record[SignInRule], ...], future: Rules, who: Id) -> None:
    name, mark = f"{seen.charter.identity.name}-{own.what}", mark_of(seen, own.what)
    standing = stand(seen, draft, mark, records, f"sign-in rule {name}")
    future[name] = CompiledRule(NEW, name, targets=frozenset({who if isinstance(who, str) else NEW}))._replace(**own.fields)
    if standing.record is None and standing.where is not Where.RECENT:
        step = Step(
            StepId(mark, standing.number, "make"),
            StepKind.MAKE,
            f"sign-in rule {name}: {own.about}",
            Make(RULE, {"name": name, "targets": (who,), **own.fields, "applies_to": own.fields.get("applies_to", "any")}),
            draft.by(seen.tenant, Ready),
            RULE.power,
            own.why,
            after=dict(own.fields),
        )
    elif standing.record is not None:
        have = {field: getattr(standing.record.body, field) for field in own.fields}
        other = {field: value for field, value in own.fields.items() if not RULE.same(field, have[field], value)}
        if not other:
            return
        step = Step(
            StepId(mark, standing.number, "change"),
            StepKind.CHANGE,
            f"sign-in rule {name}",
            Change(RULE, standing.record.id, other, standing.record.version),
            power=RULE.power,
            why="the charter says so",
            before={field: have[field] for field in other},
            after=other,
        )
    else:
        return
    draft.provide(Guarded(seen.tenant), draft.add(step))


def _known(seen: Seen, draft: Draft, name: str, rules: Rules, want: SignInWant) -> CompiledRule | None:
    if name not in rules:
        draft.wrong(
            "rule-unknown",
            f"{seen.tenant} has no sign-in rule {name!r}",
            did_you_mean(name, rules) or f"it has {', '.join(sorted(rules))}",
            want.position,
        )
    return rules.get(name)


def _exempt(seen: Seen, draft: Draft, want: SignInWant, rules: Rules, future: Rules, who: Id) -> None:
    exempt = want.exempt
    rule = _known(seen, draft, exempt.rule, rules, want) if exempt is not None else None
    if exempt is None or rule is None:
        return
    if not rule.narrowable:
        draft.wrong(
            "rule-not-narrowable",
            f"the rule {rule.name} knows no exemptions; it is on or off",
            "write `relax:` with the rule that replaces it for everybody else",
            want.position,
        )
        return
    future[rule.name] = rule._replace(exempt=rule.exempt | {who if isinstance(who, str) else NEW})
    if not want.networks:
        draft.note(
            "exemption-open",
            f"exempt from {rule.name}, and not narrowed: whoever has the password can sign in "
            "from anywhere; `networks:` narrows it",
        )
    if who in rule.exempt:
        return
    mark = mark_of(seen, EXEMPT, rule.name)
    generation = seen.history.latest(mark)
    number = 1 if generation is None else generation.number + (generation.state in (State.MADE, State.ENDED))
    about = _accepted(exempt)
    draft.add(
        Step(
            StepId(mark, number, "exempt"),
            StepKind.MAKE,
            f"exemption of {seen.charter.identity.name} from the sign-in rule {rule.name}",
            Entry(RULE, rule.id, "exempt", who, about),
            draft.by(seen.tenant, Ready, Guarded),
            RULE.power,
            exempt.why,
            after={"accepted by": exempt.accepted_by, "until": f"{exempt.review} (review)"},
        )
    )


def _relax(seen: Seen, draft: Draft, want: SignInWant, rules: Rules, future: Rules, who: Id) -> None:
    """Switch a tenant-wide rule off, only where another stands that loses nobody."""
    relax = want.relax
    rule = _known(seen, draft, relax.rule, rules, want) if relax is not None else None
    other = _known(seen, draft, relax.replaced_by, future, want) if relax is not None else None
    if relax is None or rule is None or other is None:
        return
    everybody = people(seen)
    if everybody is None:
        unknown(seen, draft, seen.ask(ALL_ACCOUNTS), "who would lose protection")
        return
    lost = tuple(n for n in lost_without(future.values(), rule, (a for a in everybody if a.id != who)))
    last = seen.history.latest(mark_of(seen, RELAX, rule.name))
    demands = ", ".join(sorted(rule.demands)) or "it"
    if lost and not rule.enabled and last is not None and last.state is State.MADE:  # who joined since, and is let off with it
        told = f"{rule.name} is switched off for this charter, and nothing demands {demands} of {some(lost, 'account')}"
        draft.note("protection-lost", f"{told}: widen {other.name} until it covers them", names=lost)
    elif not other.enabled or lost:
        told = (
            f"without {rule.name} {some(lost, 'account')} would lose {demands}"
            if lost
            else f"nothing replaces {rule.name}: {other.name} is switched off"
        )
        draft.wrong("protection-lost", told, f"widen {other.name} until it covers them, then enact again", want.position)
        return
    future[rule.name] = rule._replace(enabled=False)
    if rule.enabled:
        draft.add(
            Step(
                StepId(mark_of(seen, RELAX, rule.name), 1, "relax"),
                StepKind.CHANGE,
                f"tenant-wide sign-in rule {rule.name}: switch it off, {other.name} replaces it for everybody else",
                Change(RULE, rule.id, {"enabled": False}, about=_accepted(relax), result=AttemptOutcome.MADE),
                draft.by(seen.tenant, Guarded),
                RULE.power,
                why=relax.why,
                before={"enabled": True},
                after={"enabled": False, "accepted by": relax.accepted_by, "until": f"{relax.review} (review)"},
            )
        )


def _accepted(risk: ExemptWant | RelaxWant) -> dict[str, str]:
    """Who accepted a risk, why, and until which day: it goes into the ledger, and where the tenant keeps it."""
    return {"accepted_by": risk.accepted_by, "why": risk.why, "review": risk.review.isoformat()}


def _not_wanted(seen: Seen, draft: Draft, want: SignInWant, rules: Rules, future: Rules, who: Id) -> None:
    """What only we made or relaxed, and the charter no longer asks for, is put back."""
    wanted = {
        *(mark_of(seen, own.what) for own in _wanted(want)),
        *(mark_of(seen, WRITTEN, rule.name) for rule in want.rules),
        mark_of(seen, EXEMPT, want.exempt.rule) if want.exempt else None,
        mark_of(seen, RELAX, want.relax.rule) if want.relax else None,
    }
    by_id, why = {r.id: r for r in rules.values()}, "the charter no longer asks for it"
    for last in seen.history.of(NAME, seen.tenant):
        rule = by_id.get(last.id)
        if last.mark in wanted or last.state is not State.MADE or rule is None:
            continue
        match last.mark.get("what"):
            case "networks" | "unattended":
                draft.add(ending(last, rule, why))
            case "written":
                end(seen, draft, rules, future, last, rule, why)
            case "exempt" if who in rule.exempt:
                draft.add(
                    Step(
                        StepId(last.mark, last.number, "end"),
                        StepKind.END,
                        f"exemption of {seen.charter.identity.name} from {rule.name}",
                        Entry(RULE, rule.id, "exempt", who, out=True),
                        power=RULE.power,
                        why=why,
                    )
                )
            case "relax" if not rule.enabled:
                draft.add(
                    Step(
                        StepId(last.mark, last.number, "undo"),
                        StepKind.CHANGE,
                        f"tenant-wide sign-in rule {rule.name}: switch it on again",
                        Change(RULE, rule.id, {"enabled": True}, result=AttemptOutcome.ENDED),
                        power=RULE.power,
                        why="undone: " + why,
                        before={"enabled": False},
                        after={"enabled": True},
                    )
                )


def _effective(seen: Seen, draft: Draft, want: SignInWant, rules: list[CompiledRule]) -> None:
    """What decides once all this is done."""
    record = _account(seen, draft)
    who = account_of(record, teams(seen)) if record is not None else Account(NEW)
    address = want.networks[0].split("/")[0] if want.networks else ""
    attempt = Attempt(address, want.interactive is True, want.second_factor, want.device)
    verdict = decide(who._replace(active=True), rules, attempt)
    for told in verdict.told:
        if told.state == "makes no difference" and "decides over it" in told.why and want.exempt is None:
            draft.note("switch-misleads", f"{told.rule}: {told.why}", warning=False)
    for lacks, word, demand in (
        (attempt._replace(second_factor=False), "second_factor", "a second factor"),
        (attempt._replace(device=False), "device", "a managed device"),
    ):
        if verdict.allowed and lacks != attempt and decide(who._replace(active=True), rules, lacks).allowed:
            draft.wrong(
                "sign-in-undemanded",
                f"`{word}: true`, and no sign-in rule of {seen.tenant} demands {demand} of {seen.charter.identity.name}",
                f"have such a rule made there, or leave `{word}` out",
                want.position,
            )
    if not verdict.allowed:
        how = "like that" if want.interactive or want.second_factor or want.device else "unattended"
        draft.note(
            "sign-in-stopped",
            f"{seen.charter.identity.name} cannot sign in {how}: {verdict.rule} demands "
            f"{verdict.demand}; `sign_in: exempt:` says who accepts the risk of going without",
        )


def words(mark: Mark) -> str:
    what, rule = mark.get("what"), mark.get("rule")
    return {
        NETWORKS: "the sign-in rule of its networks",
        UNATTENDED: "the sign-in rule that lets nobody in at a screen",
        "methods": "registered methods",
        WRITTEN: f"the sign-in rule {rule}",
        "exempt": f"the exemption from {rule}",
        "relax": f"the sign-in rule {rule}, switched off",
    }.get(what, str(mark))


FACET = Facet(NAME, compare, takes=frozenset((ItsPrincipal, Ready)), words=words)
