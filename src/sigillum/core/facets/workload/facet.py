"""The facet *workload*: a program of a cluster that acts as the identity. The other half of that is a trust."""

from __future__ import annotations

from typing import Any

from sigillum.core.charter.wants import WorkloadWant
from sigillum.core.deciding.cluster import ALL_WORKLOADS, ClusterFacts, concerning, facts_of
from sigillum.core.deciding.links import BOTH, Home, halves, lets_in, runs, shared
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import ItsPrincipal, LetIn, Ready
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import Where, await_, slow, stand, unknown
from sigillum.core.federation.conditions import EQUALS
from sigillum.core.kinds.changes import Change, End, Entry, Make
from sigillum.core.kinds.kind import Fact, Query, Record, inside
from sigillum.core.kinds.workloads import DEFAULT, GROUP, LOCAL, OWN, WORKLOAD, LocalAccount, MachineGroup
from sigillum.core.records.history import State
from sigillum.core.records.steps import Ask, Await, Step, StepKind
from sigillum.core.values.marks import Id, Mark, Ref, StepId
from sigillum.core.values.text import did_you_mean

NAME = "workload"


def account_mark(seen: Seen, compartment: str, account: str) -> Mark:
    return seen.mark(NAME, ("compartment", compartment), ("account", account))


def link_mark(seen: Seen, compartment: str, account: str) -> Mark:
    return seen.mark(NAME, ("compartment", compartment), ("account", account), ("acts", "as it"))


def compare(seen: Seen, draft: Draft) -> None:
    """Link what is wanted; switch groups of machines; name what has to start anew. End what only we still hold."""
    want = seen.charter.workload
    here = want is not None and want.tenant == seen.tenant
    if not here and next(iter(seen.history.of(NAME, seen.tenant)), None) is None:
        return
    if seen.carried(LOCAL) is None:
        if want is not None:
            draft.wrong(
                "no-cluster",
                f"{seen.tenant} has no local accounts, so no workload runs there",
                "name the cluster in which it runs",
                want.position,
            )
        return
    who = draft.one(ItsPrincipal, seen.whole.tenant)
    facts, dark = _facts(seen, want if here else None, who.id if who is not None and isinstance(who.id, str) else "")
    if dark is not None:
        unknown(seen, draft, dark, f"what runs at {seen.tenant}")
        return
    _not_wanted(seen, draft, facts, want if here else None)
    if want is None or not here or who is None:
        return
    let_in = draft.one(LetIn, seen.whole.tenant, lambda t: t.name == want.trust)
    _note_pair(seen, draft, want, facts, who.id, let_in)
    local, made = _local(seen, draft, want, facts)
    linked = _link(seen, draft, want, facts.local(want), local, who.id, made, let_in) if let_in is not None else ()
    switched = _groups(seen, draft, want, facts)  # after the link: what starts on new machines notices it already
    _programs(seen, draft, want, facts, (*made, *linked, *switched), let_in)


def _facts(seen: Seen, want: WorkloadWant | None, who: str) -> tuple[ClusterFacts, Fact[Any] | None]:
    """What of the cluster concerns the charter, however big it is; and what is not shown of that."""
    ids = dict.fromkeys(g.id for g in seen.history.of(NAME, seen.tenant) if g.id and g.mark.get("account"))
    asked = [
        seen.ask(q)
        for q in (
            *(concerning(want) if want is not None else ()),
            *((Query(LOCAL, "links", who),) if who else ()),
            *(Query(LOCAL, "id", i) for i in ids),
        )
    ]
    return facts_of(asked), next((f for f in asked if not f.known), None)


# --- the two halves ---------------------------------------------------------------------------------------------------
def _note_pair(seen: Seen, draft: Draft, want: WorkloadWant, facts: ClusterFacts, who: Id, let_in: LetIn | None) -> None:
    """How the two records stand to each other, where one of them does."""
    if want.account == DEFAULT:
        draft.note(
            "default-account",
            f"{want.words} is the local account of whatever names none: all of that would act as "
            f"{seen.whole.identity.name}; name one of its own",
        )
    record = facts.local(want)
    if record is not None:
        _lasting(seen, draft, want, record.body)
    if let_in is None or not isinstance(who, str):
        return
    home = Home(seen.whole.tenant, let_in.issuer, who, seen.whole.identity.name)
    standing = [] if draft.by(seen.whole.tenant, LetIn, where=lambda t: t.name == want.trust) else [let_in.trust]
    lasting = _claim(seen, want)
    half = halves(seen.tenant, home, record.body if record is not None else None, want.words, standing, lasting)
    linked = record is not None and inside(record, "links", who)
    if half.code != BOTH and (standing or linked or half.code != "half-missing"):
        draft.note(half.code, f"{half.code}: {half.text}")
    for other in facts.locals:
        if inside(other, "links", who) and other is not record:
            fits = lets_in(let_in.trust, other.body, home.name, lasting)
            trusted = "" if fits is not False else f", and {home.tenant} does not trust it"
            draft.note(
                "link-extra",
                f"extra: {seen.tenant} says that {other.body.words} acts as {home.name}{trusted}; no charter asks for that",
            )


def _claim(seen: Seen, want: WorkloadWant) -> tuple[str, ...]:
    """In which claim the cluster's tokens tell the id that no namesake gets."""
    trust = next((t for t in seen.whole.trusts if t.name == want.trust), None)
    return trust.issuer.lasting if trust is not None and trust.issuer is not None else ()


def _lasting(seen: Seen, draft: Draft, want: WorkloadWant, local: LocalAccount) -> None:
    """Which id no namesake gets: what to write, or that the trust demands another one's."""
    trust, claim = next((t for t in seen.whole.trusts if t.name == want.trust), None), _claim(seen, want)
    if trust is None or not claim or not local.lasting:
        return
    values = [t.value for t in trust.trust.when if t.claim == claim and t.op == EQUALS]
    if not values:
        draft.note(
            "lasting-id",
            f"what no namesake gets of {want.words}: `- {{claim: [{', '.join(claim)}], equals: "
            f"{local.lasting}}}` under `when` of the trust {want.trust}",
            warning=False,
        )
    elif local.lasting not in values:
        draft.note(
            "lasting-differs",
            f"the trust {want.trust} demands {values[0]}, and {want.words} is {local.lasting}: it "
            "was deleted and made anew, or never was the one that is meant",
        )


def _local(seen: Seen, draft: Draft, want: WorkloadWant, facts: ClusterFacts) -> tuple[Id, tuple[StepId, ...]]:
    """The local account's id; made where there is none."""
    mark, record = account_mark(seen, want.compartment, want.account), facts.local(want)
    standing = stand(seen, draft, mark, facts.locals, f"local account {want.words}", alike=lambda r: r is record)
    if record is not None:
        return record.id, ()
    if standing.where is Where.RECENT and standing.generation is not None:
        return standing.generation.id, (await_(seen, draft, mark, LOCAL, standing, f"the local account {want.words}"),)
    if standing.where is Where.GONE:
        draft.note("gone", f"the local account {want.words} was made once and is no longer there")
    made = draft.add(
        Step(
            StepId(mark, standing.number, "make"),
            StepKind.MAKE,
            f"local account {want.words}",
            Make(LOCAL, {"name": want.account, "compartment": want.compartment}),
            (),
            LOCAL.power,
            standing.why("its workloads run as it"),
        )
    )
    return Ref(made, "id"), (made,)


def _link(
    seen: Seen,
    draft: Draft,
    want: WorkloadWant,
    record: Record[LocalAccount] | None,
    local: Id,
    who: Id,
    made: tuple[StepId, ...],
    let_in: LetIn,
) -> tuple[StepId, ...]:
    """The cluster's half, once the other one stands."""
    mark = link_mark(seen, want.compartment, want.account)
    generation = seen.history.latest(mark)
    about = f"link of {want.words} to {seen.whole.identity.name} at {seen.whole.tenant}"
    number = 1 if generation is None else generation.number + (generation.state in (State.ENDED, State.MADE))
    if record is not None:
        if inside(record, "links", str(who)):
            return ()
        other = next((p for p, issuer in record.body.links if issuer == let_in.issuer), "")
        anew = generation is not None and generation.state is State.MADE and generation.id != record.id
        if other or (anew and not seen.choices.adopt):
            what = (
                f"which acts as {other} at {seen.whole.tenant} already"
                if other
                else "which was deleted and made anew: another one has its name now, and the trust fits it"
            )
            advice = (
                "find out whose link it is, and have it taken out"
                if other
                else "find out who made it anew, and why; with --adopt that one is linked"
            )
            if anew:
                draft.note("made-anew", f"the local account {want.words} was deleted and made anew under the same name")
            return (
                draft.add(
                    Step(
                        StepId(mark, number, "ask"),
                        StepKind.ASK,
                        f"about the local account {want.words}, {what}",
                        Ask(advice=advice),
                        why="a link goes to the account that was meant",
                    )
                ),
            )
    home = seen.whole.tenant
    needs = (*made, *draft.by(home, ItsPrincipal, Ready), *draft.by(home, LetIn, where=lambda t: t.name == want.trust))
    return (
        draft.add(
            Step(
                StepId(mark, number, "link"),
                StepKind.MAKE,
                about,
                Entry(LOCAL, local, "links", who, {"issuer": let_in.issuer}),
                needs,
                LOCAL.power,
                "the cluster's half: without it, the workload runs as its machine",
            )
        ),
    )


# --- machines and what runs on them -----------------------------------------------------------------------------------
def _groups(seen: Seen, draft: Draft, want: WorkloadWant, facts: ClusterFacts) -> tuple[StepId, ...]:
    """Each group is switched, and waited for; those left out are named."""
    by_name, out = {r.body.name: r for r in facts.groups}, list[StepId]()
    later = next((r for r in facts.groups if r.body.later), None)
    for name in want.groups:
        if name not in by_name or by_name[name].body.later:
            draft.wrong(
                "group-unknown",
                f"{seen.tenant} has no group of machines {name!r}",
                did_you_mean(name, [n for n, r in by_name.items() if not r.body.later]),
                want.position,
            )
        else:
            out += _switch(seen, draft, by_name[name], f"machines of {name}")
    if want.made_later and later is not None:
        out += _switch(seen, draft, later, "machines of groups that are made later")
    ran_on = {g for r in facts.workloads if any(r.says(name=p) for p in want.programs) for g in r.body.groups}
    for name in sorted(ran_on - set(want.groups)):
        if name in by_name and shared(by_name[name].body):
            draft.note(
                "group-left-out",
                f"what runs on {name} has the identity of its machines, and the charter leaves that "
                f"group out: add {name} to `groups`",
            )
    if want.groups and not want.made_later and later is not None and later.denies(identities=OWN):
        draft.note(
            "later-groups",
            "machines of groups that are made later will share one identity: `made_later: true` throws "
            "that switch, which reaches none that stands",
            warning=False,
        )
    return tuple(out)


def _switch(seen: Seen, draft: Draft, record: Record[MachineGroup], about: str) -> tuple[StepId, ...]:
    mark = seen.mark(NAME, ("group", record.body.name))
    if record.says(identities=OWN):
        return slow(draft, mark, record, 1, f"new {about}")
    change = draft.add(
        Step(
            StepId(mark, 1, "switch"),
            StepKind.CHANGE,
            about,
            Change(GROUP, record.id, {"identities": OWN}, record.version),
            (),
            GROUP.power,
            "each workload gets the identity of its local account",
            before={"identities": record.body.identities},
            after={"identities": OWN},
        )
    )
    if record.body.later:
        return (change,)
    return (
        draft.add(
            Step(
                StepId(mark, 1, "finish"),
                StepKind.WAIT,
                f"until the tenant has made new {about}",
                Await(GROUP, record.id, 0, finished=True),
                (change,),
                why="machines that stand are made anew for it",
            )
        ),
    )


def _programs(
    seen: Seen, draft: Draft, want: WorkloadWant, facts: ClusterFacts, needs: tuple[StepId, ...], let_in: LetIn | None
) -> None:
    """What has to start anew is named, and waited for."""
    record = facts.local(want)
    subject = record.body.subject if record is not None else let_in.trust.subject if let_in is not None else ""
    for name in want.programs:
        program = facts.program(want, name)
        if program is None:
            others = [r.body.name for r in seen.ask(ALL_WORKLOADS).records if r.says(compartment=want.compartment)]
            near = did_you_mean(name, others)
            draft.note(
                "program-unknown",
                f"nothing called {name} runs in {want.compartment} at {seen.tenant} yet{f'; {near}' if near else ''}",
            )
            continue
        if program.denies(account=want.account):
            draft.note(
                "other-account",
                f"{name} is to run as the local account {program.body.account}: whoever deploys it has to name {want.account}",
            )
        left = bool(needs) or runs(program.body, subject, [r.body for r in facts.groups], seen.tenant)
        if left and subject:
            draft.add(
                Step(
                    StepId(seen.mark(NAME, ("program", name)), 1, "start"),
                    StepKind.WAIT,
                    f"until {name} has started anew and runs as {want.words}",
                    Await(WORKLOAD, program.id, 0, "runs_as", subject, only=True),
                    needs,
                    why="a workload notices it when it starts; whoever runs it starts it anew",
                )
            )


def _not_wanted(seen: Seen, draft: Draft, facts: ClusterFacts, want: WorkloadWant | None) -> None:
    """Links and local accounts of ours that the charter no longer asks for. Groups stay switched: others use them."""
    keep = {mark(seen, want.compartment, want.account) for mark in (account_mark, link_mark)} if want is not None else set()
    by_id, ends = {r.id: r for r in facts.locals}, list[StepId]()
    for generation in seen.history.of(NAME, seen.tenant):
        if generation.mark in keep or generation.state is not State.MADE or not generation.mark.get("account"):
            continue
        record, why = by_id.get(generation.id), "the charter no longer asks for it"
        if record is not None and generation.value and inside(record, "links", generation.value):
            ends.append(
                draft.add(
                    Step(
                        StepId(generation.mark, generation.number, "unlink"),
                        StepKind.END,
                        f"link of {record.body.words}",
                        Entry(LOCAL, record.id, "links", generation.value, out=True),
                        (),
                        LOCAL.power,
                        why,
                    )
                )
            )
    for generation in seen.history.of(NAME, seen.tenant):
        record = by_id.get(generation.id)
        if generation.mark not in keep and generation.state is State.MADE and not generation.value and record is not None:
            draft.add(
                Step(
                    StepId(generation.mark, generation.number, "end"),
                    StepKind.END,
                    f"local account {record.body.words}",
                    End(LOCAL, record.id),
                    tuple(ends),
                    LOCAL.power,
                    "the charter no longer asks for it",
                )
            )


def words(mark: Mark) -> str:
    place = f"{mark.get('compartment')}/{mark.get('account')}"
    if mark.get("acts"):
        return f"the link of {place}"
    if mark.get("account"):
        return f"the local account {place}"
    return f"the machines of {mark.get('group')}" if mark.get("group") else f"the workload {mark.get('program')}"


FACET = Facet(NAME, compare, takes=frozenset((ItsPrincipal, Ready, LetIn)), words=words)
