"""What was asked for a charter, and what came of that: known by a receipt, or by what its tenant shows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sigillum.core.kinds.kind import Kind, Query
from sigillum.core.kinds.registry import KINDS
from sigillum.core.records import history
from sigillum.core.records.history import History
from sigillum.core.records.requests import ADD, END, ID, MAKE, TAKE, fulfilled, queries, results_of
from sigillum.core.undertakings.requests import REQUESTS, RequestState, SentRequest, place_of
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk.closing import closing
from sigillum.workflows.desk.office import Office


def requests_of(office: Office, uid: str) -> list[SentRequest]:
    """All that was ever asked for one charter, in order."""
    return list(REQUESTS.read(office.books.entries(uid), uid))


def noticed(office: Office, uid: str) -> list[Fresh]:
    """What came of requests of a charter and is not known: what was made and has the mark of its request at its tenant, once
    or once more after it had ended; and what was to end and is not there any more.
    """
    sent = [s for s in requests_of(office, uid) if s.tenant in office.workspace.file.tenants]
    state = office.books.state(uid)
    fresh = [entry for s in sent if s.request.do in (END, TAKE) for entry in _gone(office, s, state)]
    known = {g.id for all_ in state.generations.values() for g in all_}
    for name in dict.fromkeys(s.tenant for s in sent):
        tenant = office.tenants.reach(name)
        marked = {
            Query(KINDS[s.request.thing], "mark", s.request.mark): s
            for s in sent
            if s.tenant == name and s.request.do == MAKE and shows_marks(tenant, KINDS[s.request.thing])
        }
        for query, fact in (tenant.facts(marked) if marked else {}).items():
            for record in fact.records:
                if record.mark == query.value and record.id not in known:
                    fresh += ours(office, marked[query], results_of(record), fresh)
    return fresh


def shows_marks(tenant: Tenant, kind: Kind[Any]) -> bool:
    """Has it such things, and our mark on them?"""
    return tenant.profile.carried(kind) is not None and kind.name not in tenant.profile.unmarked


def _gone(office: Office, sent: SentRequest, state: History) -> list[Fresh]:
    all_ = state.generations.get(sent.mark, ())
    if not any(g.number == sent.generation and g.id == sent.request.id and g.live for g in all_):
        return []
    facts = office.tenants.reach(sent.tenant).facts(queries(sent.request)).values()
    if not all(f.known for f in facts) or not fulfilled(sent.request, tuple(r for f in facts for r in f.records)):
        return []
    closed = [closing(REQUESTS, sent, "seen to be done", state=RequestState.ANSWERED)] if sent.open else []
    return [Fresh(history.ENDED_AS_ASKED, sent.uid, {**sent.mark.body(), "generation": sent.generation}), *closed]


def ours(office: Office, sent: SentRequest, results: Mapping[str, str], before: Sequence[Fresh] = ()) -> list[Fresh]:
    """What was made for a request is ours from then on, as the generation that it is; nothing where that is known. `results`:
    its id, and what its tenant chose beside it; `before`: what is about to be written.
    """
    identity, gives = results[ID], {n: v for n, v in results.items() if n != ID}
    state = office.books.state_with(sent.uid, before) if before else office.books.state(sent.uid)
    generations = state.generations.get(sent.mark, [])
    number = place_of(sent, requests_of(office, sent.uid), generations, identity)
    if number is None:
        return []
    request, bears = sent.request, {"bears": sent.request.mark} if sent.request.do == MAKE else {}
    terms = {"terms": dict(kept)} if (kept := state.terms(sent.mark, sent.generation)) and number == sent.generation else {}
    value = {"value": str(sent.known.values.get("value"))} if request.do == ADD else {}
    by = {"made_by": request.to or f"whoever holds {request.power}", "request": str(sent.number)}
    about = {**sent.mark.body(), "generation": number, "id": identity, "thing": request.thing}
    return [Fresh(history.ADOPTED, sent.uid, {**about, **by, **bears, **value, **terms, **({"gives": gives} if gives else {})})]
