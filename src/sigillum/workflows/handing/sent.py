"""What was asked for a charter, and what came of that: known by a receipt, or by the mark that it has at its tenant."""

from __future__ import annotations

from collections.abc import Sequence

from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.registry import KINDS
from sigillum.core.records import history
from sigillum.core.records.requests import ADD, MAKE
from sigillum.core.undertakings.requests import REQUESTS, SentRequest, place_of
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.office import Office


def requests_of(office: Office, uid: str) -> list[SentRequest]:
    """All that was ever asked for one charter, in order."""
    return list(REQUESTS.read(office.books.entries(uid), uid))


def found_by_mark(office: Office, uid: str) -> list[Fresh]:
    """What was made for requests of a charter and is known by no receipt, where its tenant shows the mark of the request."""
    known, fresh = {e.body.get("request") for e in office.books.entries(uid) if e.kind == history.ADOPTED}, list[Fresh]()
    for sent in requests_of(office, uid):
        kind = KINDS.get(sent.request.thing)
        if sent.request.do != MAKE or kind is None or str(sent.number) in known:
            continue
        if sent.tenant not in office.workspace.file.tenants:
            continue
        tenant = office.tenants.reach(sent.tenant)
        if tenant.profile.carried(kind) is None or kind.name in tenant.profile.unmarked:
            continue
        query = Query(kind, "mark", sent.request.mark)
        record = tenant.facts([query])[query].first
        if record is not None and record.mark == sent.request.mark:
            fresh += ours(office, sent, record.id, fresh)
    return fresh


def ours(office: Office, sent: SentRequest, identity: str, before: Sequence[Fresh] = ()) -> list[Fresh]:
    """What was made for a request is ours from then on, as the generation that it is; nothing where that is known. `before`:
    what is about to be written.
    """
    state = office.books.state_with(sent.uid, before) if before else office.books.state(sent.uid)
    generations = state.generations.get(sent.mark, [])
    number = place_of(sent, requests_of(office, sent.uid), generations, identity)
    if number is None:
        return []
    request, bears = sent.request, {"bears": sent.request.mark} if sent.request.do == MAKE else {}
    value = {"value": str(request.values.get("value"))} if request.do == ADD else {}
    by = {"made_by": request.to or f"whoever holds {request.power}", "request": str(sent.number)}
    about = {**sent.mark.body(), "generation": number, "id": identity, "thing": request.thing}
    return [Fresh(history.ADOPTED, sent.uid, {**about, **by, **bears, **value})]
