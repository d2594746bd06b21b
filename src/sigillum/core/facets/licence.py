"""The facet *licence*: what the account has to hold, whether one is free, and the mailbox that comes with it."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.kinds.facts import Query, Snapshot
from sigillum.core.records.steps import AddTo, Change, Step, StepKind, TakeFrom
from sigillum.core.values.errors import Mistake
from sigillum.core.values.text import did_you_mean

from .common import View, unknown

NAME, THING, POWER = "licence", "licence", "licences"
ALL = Query(THING, "all", "")


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """The licences there are; few tenants have many."""
    if view.charter.licence or any(facet == NAME for facet, _ in view.state.generations):
        yield ALL


def compare(view: View) -> None:
    """Take a licence where one is free, give our own back, and ask for the mailbox."""
    want, fact = view.charter.licence, view.snapshot.fact(*ALL)
    _not_wanted(view)
    if not want or view.principal is None:
        return
    if not fact.known:
        unknown(view, fact, f"the licence {want}")
        return
    found = next((t for t in fact.things if t.get("name") == want), None)
    where = view.charter.identity.position
    if found is None:
        known = [str(t.get("name")) for t in fact.things]
        view.draft.mistakes.append(Mistake("licence-unknown", f"{view.snapshot.tenant} has no licence {want!r}",
                                           did_you_mean(want, known) or f"it has {', '.join(known) or 'none'}", where))
        return
    if view.charter.identity.mailbox and not found.get("mailbox"):
        view.draft.mistakes.append(Mistake("licence-mailbox", f"the licence {want} includes no mailbox",
                                           "name one that does, or leave `mailbox` out", where))
        return
    needs = view.principal_step
    if found.get("kind") == "capacity":
        view.draft.note("licence-capacity", f"{want} is held by the tenant as a whole: {found.get('total')} in all, nothing is "
                        "assigned", warning=False)
    elif view.principal not in found.get("holders"):
        free = int(found.get("total") or 0) - len(found.get("holders"))
        if free < 1:
            view.draft.mistakes.append(Mistake("licence-none-free", f"no licence {want} is free: {found.get('total')} of "
                                               f"{found.get('total')} are held", "free one, or have more bought", where))
            return
        generation = view.state.latest(NAME, want)
        number = 1 if generation is None else generation.number + (generation.state in ("made", "ended"))
        needs = (view.add(Step(
            f"take-{want}", StepKind.MAKE, view.snapshot.tenant, NAME, want, f"licence {want} for {view.charter.identity.name}",
            AddTo(THING, found.id, "holders", view.principal), number, needs=needs, power=POWER,
            why=f"{free} of {found.get('total')} are free")),)
    account = view.snapshot.fact("account", "name", view.charter.identity.name).first
    if view.charter.identity.mailbox and (account is None or account.id != view.principal or not account.get("mailbox")):
        view.add(Step(
            "make-mailbox", StepKind.CHANGE, view.snapshot.tenant, NAME, "mailbox", f"mailbox of {view.charter.identity.name}",
            Change("account", view.principal, {"mailbox": True}), needs=needs, power="accounts",
            why="the charter asks for one", before={"mailbox": False}, after={"mailbox": True}))


def _not_wanted(view: View) -> None:
    for (facet, name), generations in list(view.state.generations.items()):
        last = generations[-1]
        if facet == NAME and name not in (view.charter.licence, "mailbox") and last.state == "made":
            view.add(Step(
                f"give-back-{name}", StepKind.END, view.snapshot.tenant, NAME, name,
                f"licence {name} of {view.charter.identity.name}", TakeFrom(THING, last.id.partition("/")[0], "holders",
                                                                            last.id.partition("/")[2]),
                last.number, power=POWER, why="the charter no longer asks for it"))
