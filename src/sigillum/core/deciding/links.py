"""Two-sided links: a cluster says as whom a local account acts, and the other tenant trusts it; one half alone is nothing."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from sigillum.core.deciding.refusals import Cause
from sigillum.core.federation.conditions import Ref, agreeing
from sigillum.core.federation.subjects import difference
from sigillum.core.federation.trusts import match, supposed
from sigillum.core.kinds.kind import Record
from sigillum.core.kinds.trusting import Trust
from sigillum.core.kinds.workloads import DEFAULT, LocalAccount, MachineGroup, Workload

UNSEEN = Cause.FACTS_UNKNOWN.value
BOTH, HALF, DISAGREE = "both", Cause.HALF_MISSING.value, "halves-disagree"
SHARED, NOBODY, DEFAULTED = "machine-shared", "account-unknown", "default-account"


class Home(NamedTuple):
    """The tenant in which a principal lives, and by which name and id."""

    tenant: str
    issuer: str
    principal: str
    name: str


class Half(NamedTuple):
    """How the two records stand to each other: `both`, or a code, and what to say."""

    code: str
    text: str


def lets_in(trust: Trust, local: LocalAccount, account: str, lasting: Ref = ()) -> bool | None:
    """Would a local account be let in? None: its subject would, and what else the trust demands of its token is not shown here.

    `lasting`: the claim in which the cluster's tokens tell its lasting id. One that cannot be read lets nobody in.
    """
    try:
        terms = trust.terms
    except ValueError:
        return False
    claims = supposed(terms, local.subject, account)
    if lasting and local.lasting:
        here = claims
        for name in lasting[:-1]:
            here = here.setdefault(name, {})
        here[lasting[-1]] = local.lasting
    if not match(terms, claims, account).holds:
        return False
    return None if any(t.claim != lasting or not local.lasting for t in terms.when) else True


def halves(
    cluster: str, home: Home, local: LocalAccount | None, wanted: str, trusts: Sequence[Trust], lasting: Ref = ()
) -> Half:
    """Both records of one link, held against each other. `wanted`: the local account's name, for where there is none;
    `trusts`: those of the principal in tokens of the cluster; `lasting`: as `lets_in` has it.
    """
    if local is None:
        alone = f", and {home.tenant} would let one in as {home.name}: whoever makes it acts as that" if trusts else ""
        return Half(HALF, f"{cluster} knows no local account {wanted}{alone}")
    here = [p for p, issuer in local.links if issuer == home.issuer]
    found = [(t, lets_in(t, local, home.name, lasting)) for t in trusts]
    fitting = [t for t, yes in found if yes is not False]
    linked = home.principal in here
    if here and not linked:
        return Half(DISAGREE, f"{cluster} says that {local.words} acts as {here[0]} at {home.tenant}, which is not {home.name}")
    if linked and fitting and not any(yes for _, yes in found):
        what = ", ".join(dict.fromkeys(c.words() for t in fitting for c in t.terms.when if c.claim != lasting))
        return Half(
            UNSEEN,
            f"{cluster} says that {local.words} acts as {home.name}, and {home.tenant} trusts its subject where {what}: "
            "whether its tokens say so is not shown",
        )
    if linked and fitting:
        return Half(BOTH, f"{local.words} acts as {home.name}: {cluster} says so, and {home.tenant} trusts it")
    same = next((t for t in trusts if t.subject == local.subject), None)
    if not fitting and same is not None:
        of = f": it demands {' and '.join(c.words() for c in same.terms.when)}, and its id is {local.lasting or 'not shown'}"
        return Half(DISAGREE, f"{home.tenant} trusts the subject {same.subject}, and not {local.words} as it is today{of}")
    named = next((t for t in trusts if t.subject), None)
    if not fitting and named is not None:
        place = agreeing(local.subject, named.subject)
        return Half(
            DISAGREE,
            f"{home.tenant} trusts {named.subject}, and {cluster} calls {local.words} {local.subject} "
            f"({difference(local.subject, named.subject, place)})",
        )
    if linked:
        return Half(HALF, f"{cluster} says that {local.words} acts as {home.name}, and {home.tenant} does not trust it")
    if fitting:
        return Half(HALF, f"{home.tenant} trusts {local.words} as {home.name}, and {cluster} does not say that it acts as that")
    return Half(HALF, f"neither {cluster} nor {home.tenant} says that {local.words} acts as {home.name}")


def shared(group: MachineGroup) -> bool:
    return group.shares and not group.later


def runs(workload: Workload, subject: str, groups: Iterable[MachineGroup], cluster: str) -> str:
    """Why it does not run as a subject; empty where all of it does."""
    if workload.runs_as and set(workload.runs_as) == {subject}:
        return ""
    if not workload.runs_as:
        return f"nothing of {workload.name} runs at {cluster}"
    others = ", ".join(dict.fromkeys(s for s in workload.runs_as if s != subject))
    sharing = [g.name for g in groups if g.name in workload.groups and shared(g)]
    told = f": the machines of {', '.join(sharing)} share one" if sharing else "; it notices a change when it starts anew"
    return f"{workload.name} runs as {others}{told}"


class Row(NamedTuple):
    """One local account that acts as somebody elsewhere, or is trusted somewhere, with how that stands."""

    local: str
    subject: str
    home: str
    acts_as: str
    half: Half
    workloads: tuple[str, ...]


class LinkFault(NamedTuple):
    """Something that is wrong with a cluster as a whole."""

    code: str
    text: str


def estate(
    cluster: str,
    locals_: Sequence[LocalAccount],
    workloads: Sequence[Workload],
    groups: Sequence[MachineGroup],
    rows: Sequence[Row],
) -> Iterator[LinkFault]:
    """What is wrong with it as a whole."""
    own = {a.subject for a in locals_}
    on_machine = [w.name for w in workloads if w.runs_as and not own & set(w.runs_as)]
    if workloads and len(on_machine) == len(workloads):
        yield LinkFault(SHARED, f"all workloads of {cluster} run with the identity of their machines: what one may, all may")
    elif on_machine:
        yield LinkFault(SHARED, f"with the identity of their machines run {', '.join(on_machine)}")
    later = next((g for g in groups if g.later), None)
    if later is not None and later.shares and any(not shared(g) and not g.later for g in groups):
        yield LinkFault(SHARED, "groups of machines that are made later still share one identity")
    for row in rows:
        if row.local.rpartition("/")[2] == DEFAULT:
            yield LinkFault(DEFAULTED, f"{row.local} acts as {row.acts_as}: whatever names no local account does, too")


def of_trust(trust: Record[Trust], locals_: Iterable[LocalAccount], lasting: Ref = ()) -> list[LocalAccount]:
    """The local accounts that a trust lets in, or may."""
    return [a for a in locals_ if lets_in(trust.body, a, trust.body.principal_name, lasting) is not False]
