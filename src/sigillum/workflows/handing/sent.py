"""What was asked for a charter, and what came of that: known by a receipt, or by what its tenant shows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.registry import KINDS
from sigillum.core.records import history
from sigillum.core.records.requests import ADD, END, ID, MAKE, TAKE, fulfilled, queries, results_of
from sigillum.core.undertakings.requests import REQUESTS, RequestState, SentRequest, place_of
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.closing import closing
from sigillum.workflows.desk.office import Office


def requests_of(office: Office, uid: str) -> list[SentRequest]:
    """All that was ever asked for one charter, in order."""
    return list(REQUESTS.read(office.books.entries(uid), uid))


def noticed(office: Office, uid: str) -> list[Fresh]:
    """What came of requests of a charter and is known by no receipt: what was made and has the mark of its request at its
    tenant, and what was to end and is not there any more.
    """
    known, fresh = {e.body.get("request") for e in office.books.entries(uid) if e.kind == history.ADOPTED}, list[Fresh]()
    for sent in requests_of(office, uid):
        if sent.tenant not in office.workspace.file.tenants:
            continue
        if sent.request.do == MAKE and str(sent.number) not in known:
            fresh += _made(office, sent, fresh)
        elif sent.request.do in (END, TAKE):
            fresh += _gone(office, sent)
    return fresh


def _made(office: Office, sent: SentRequest, before: Sequence[Fresh]) -> list[Fresh]:
    tenant, kind = office.tenants.reach(sent.tenant), KINDS[sent.request.thing]
    if tenant.profile.carried(kind) is None or kind.name in tenant.profile.unmarked:
        return []
    query = Query(kind, "mark", sent.request.mark)
    record = tenant.facts([query])[query].first
    return ours(office, sent, results_of(record), before) if record is not None and record.mark == sent.request.mark else []


def _gone(office: Office, sent: SentRequest) -> list[Fresh]:
    all_ = office.books.state(sent.uid).generations.get(sent.mark, ())
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
