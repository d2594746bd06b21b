"""The OpenID AuthZEN evaluation requests, one question or several: may this subject do this to that?"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Any, NamedTuple

from sigillum.core.values.errors import RefusedError, UnreachableError
from sigillum.core.values.text import plain

from .http import Http


class Evaluation(NamedTuple):
    """One question: ids of the principal and the credential (none: whichever), a permission and a place.

    `person`: the id of the one on whose behalf a client acts.
    """

    subject: str
    permission: str
    place: str
    credential: str = ""
    person: str = ""
    more: Mapping[str, Any] = MappingProxyType({})  # further context, as the protocol of the tenant names it

    def body(self) -> dict[str, Any]:
        principal = self.place.startswith("@")
        about = {n: v for n, v in (("credential", self.credential), ("on_behalf_of", self.person)) if v} | dict(self.more)
        context = {"context": about} if about else {}
        return {
            "subject": {"type": "service-account", "id": self.subject},
            "action": {"name": self.permission},
            "resource": {"type": "principal" if principal else "place", "id": self.place.removeprefix("@")},
            **context,
        }


def evaluate(http: Http, url: str, authorization: str, asked: Evaluation) -> tuple[bool, str]:
    """The decision and its reason, where one is given. Raises RefusedError, UnreachableError."""
    return _decision(_send(http, url, authorization, asked.body()), url)


def evaluate_all(http: Http, url: str, authorization: str, asked: Sequence[Evaluation]) -> list[tuple[bool, str]]:
    """Several questions in one request, at `url` with an s (AuthZEN's evaluations). Raises the same."""
    answers = _send(http, f"{url}s", authorization, {"evaluations": [a.body() for a in asked]}).get("evaluations")
    if not isinstance(answers, list) or len(answers) != len(asked):
        raise UnreachableError("the answer holds another number of decisions", where=url, mend="ask the tenant's operator")
    return [_decision(a if isinstance(a, dict) else {}, url) for a in answers]


def let_in(http: Http, url: str, authorization: str, subject: str) -> bool | None:
    """Is a token taken at all? A 401 says no (RFC 6750 §3.1), an answer about the question itself yes. Raises
    UnreachableError.
    """
    answer = http.send(
        "POST",
        url,
        {"Authorization": authorization, "Content-Type": "application/json", "Accept": "application/json"},
        json.dumps(Evaluation(subject, "sign-in", url).body()).encode(),
        look=True,
    )
    return False if answer.status == 401 else True if answer.status < 500 else None


def _send(http: Http, url: str, authorization: str, body: dict[str, Any]) -> dict[str, Any]:
    answer = http.send(
        "POST",
        url,
        {"Authorization": authorization, "Content-Type": "application/json", "Accept": "application/json"},
        json.dumps(body).encode(),
        look=True,
    )
    if answer.status != 200:
        raise RefusedError(
            f"the question was not answered (status {answer.status})",
            where=url,
            mend="the tenant must let an identity ask about itself",
        )
    return answer.object()


def _decision(found: dict[str, Any], url: str) -> tuple[bool, str]:
    decision, context = found.get("decision"), found.get("context")
    if not isinstance(decision, bool):
        raise UnreachableError("the answer holds no decision", where=url, mend="ask the tenant's operator")
    about = context if isinstance(context, dict) else {}
    if isinstance(about.get("error"), dict):  # one of several questions that was not answered is no refusal
        raise UnreachableError(
            f"the question was not answered: {plain(about['error'].get('message', ''))}",
            where=url,
            mend="ask the tenant's operator",
        )
    return decision, plain(about.get("reason", ""))
