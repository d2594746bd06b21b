"""The OpenID AuthZEN evaluation request: may this subject do this to that?"""

from __future__ import annotations

import json

from sigillum.core.errors import RefusedError, UnreachableError
from sigillum.core.secret import Secret
from sigillum.core.text import plain

from .http import Http


def evaluate(http: Http, url: str, token: Secret, subject: str, permission: str, place: str) -> tuple[bool, str]:
    """The decision and its reason, where one is given. Raises RefusedError, UnreachableError."""
    body = {"subject": {"type": "service-account", "id": subject}, "action": {"name": permission},
            "resource": {"type": "place", "id": place}}
    answer = http.send("POST", url, {"Authorization": f"Bearer {token.reveal()}", "Content-Type": "application/json",
                                     "Accept": "application/json"}, json.dumps(body).encode())
    if answer.status != 200:
        raise RefusedError(f"the question was not answered (status {answer.status})", where=url,
                           mend="the tenant must let an identity ask about itself")
    found = answer.object()
    decision, context = found.get("decision"), found.get("context")
    if not isinstance(decision, bool):
        raise UnreachableError("the answer holds no decision", where=url, mend="ask the tenant's operator")
    reason = context.get("reason", "") if isinstance(context, dict) else ""
    return decision, plain(reason)
