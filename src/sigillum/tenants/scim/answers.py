"""What a tenant's answers mean: to a change, and to a trial at its working interface."""

from __future__ import annotations

import json
import secrets
from typing import TYPE_CHECKING
from urllib.parse import quote

from sigillum.core.deciding.proofs import Trial
from sigillum.core.kinds.profile import Operation
from sigillum.core.values.errors import RefusedError, UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.protocols.http import Answer
from sigillum.protocols.scim import BUSY, BusyError, ScimRefusedError
from sigillum.tenants.port import Reply, Result

if TYPE_CHECKING:  # loaded where a secret is fetched
    from sigillum.protocols.sealed import Envelope


TRIAL_NOTE = "a trial by sigillum"


def refused(answer: Answer, doing: str) -> Reply:
    """Sort an answer that is no success."""
    error = ScimRefusedError(answer, doing)
    if answer.status in BUSY:
        return Reply(Result.BUSY, detail=error.detail, wait_seconds=answer.retry_after(), error=BusyError(answer))
    if answer.status == 409 and error.scim_type == "uniqueness":
        return Reply(Result.EXISTS, detail=error.detail, error=error)
    if answer.status == 412:
        return Reply(Result.STALE, detail=error.detail, error=error)
    if answer.status == 404:
        return Reply(Result.MISSING, detail=error.detail, error=error)
    if answer.status >= 500:
        return Reply(Result.LOST, detail=error.detail, error=error)
    return Reply(Result.REFUSED, detail=error.detail, error=error)


def trial(work: str, authorization: str, operation: Operation, place: str) -> tuple[str, dict[str, str], bytes | None]:
    """The harmless call that tries an operation at a place: its address, headers and body."""
    url = work.rstrip("/") + operation.template.replace("{place}", quote(place))
    headers = {"Authorization": authorization, "Accept": "application/json"}
    if operation.method not in ("POST", "PUT", "PATCH"):
        return url, headers, None
    body = json.dumps({"items": [{"note": TRIAL_NOTE, "trial": secrets.token_hex(4)}]}).encode()
    return url, {**headers, "Content-Type": "application/json"}, body


def trial_of(answer: Answer) -> Trial:
    """What the working interface's answer says about the permission."""
    if 200 <= answer.status < 300:
        try:
            body = answer.object() if answer.body else {}
        except UnreachableError:
            body = {}
        items, total = body.get("items"), body.get("total")
        return Trial(
            True,
            f"done (status {answer.status})",
            total if isinstance(total, int) else None,
            tuple(items) if isinstance(items, list) else None,
            body.get("capped") is True,
        )
    if answer.status in (401, 403):
        return Trial(False, f"refused (status {answer.status})", unauthenticated=answer.status == 401)
    return Trial(None, f"status {answer.status} says neither yes nor no")


def secret_of(answer: Answer, envelope: Envelope, where: str, *, sealed: bool) -> Reply | None:
    """The secret in an answer; one that was promised `sealed` and came open is not taken. None: there is none in it."""
    found = answer.object(handed=True)
    if isinstance(found.get("sealed"), str):
        return Reply(Result.DONE, secret=envelope.open(found["sealed"]))
    if not isinstance(found.get("secret"), str) or not found["secret"]:
        return None
    if sealed:
        return Reply(
            Result.REFUSED,
            detail="a secret came open that was promised sealed",
            error=RefusedError(
                "the secret came open, and was promised sealed to a key of ours: it is not taken",
                where=where,
                mend="end that credential there, and ask the tenant's operator",
            ),
        )
    return Reply(Result.DONE, secret=Secret(found["secret"]))
