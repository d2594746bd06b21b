"""A SCIM 2.0 client (RFC 7643, 7644, cursors RFC 9865): one exchange, look-ups, and the PATCH message."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator
from typing import Any
from urllib.parse import urlencode

from sigillum.core.values.errors import RefusedError, UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.core.values.times import Waits

from .http import Answer, Http
from .listing import Turning

MEDIA = "application/scim+json"
PATCH_OP = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
MAX_RESOURCES = 5_000
USUAL_BUSY_SECONDS = 15.0
BUSY = (429, 503)
USUAL_PAUSE_SECONDS = 1.0

Json = dict[str, Any]


def quoted(value: str) -> str:
    """A filter's text value (RFC 7644 §3.4.2.2 takes JSON strings)."""
    return json.dumps(value)


def patch_body(values: Json) -> Json:
    """The message that replaces these attributes (RFC 7644 §3.5.2.3); None removes one."""
    operations = [
        {"op": "remove", "path": n} if v is None else {"op": "replace", "path": n, "value": v} for n, v in values.items()
    ]
    return {"schemas": [PATCH_OP], "Operations": operations}


class ScimRefusedError(RefusedError):
    """A SCIM error answer (RFC 7644 §3.12): `status` and `scim_type`."""

    def __init__(self, answer: Answer, doing: str) -> None:
        try:
            body = answer.object()
        except UnreachableError:
            body = {}
        self.status = answer.status
        self.scim_type = str(body.get("scimType", ""))
        self.detail = plain(body.get("detail") or f"status {answer.status}")
        super().__init__(f"{doing}: {self.detail}", where=answer.url, mend=_mend(answer.status))


def _mend(status: int) -> str:
    if status == 401:
        return "the administrator's token is wrong or has ended: put a fresh one where the tenant's entry points"
    if status == 403:
        return "this administrator lacks the power: `sigillum tenant inspect` shows which there are"
    return "look at the detail above; `--verbose` shows every exchange"


class BusyError(UnreachableError):
    """It was busy (status 429 or 503), and stayed so."""

    code = "busy"

    def __init__(self, answer: Answer) -> None:
        super().__init__(
            f"it is busy (status {answer.status})",
            where=answer.url.partition("?")[0],
            mend="run the same command again later; `--timeout` waits longer",
        )


class ScimClient:
    """Speaks to one SCIM base address with an administrator's bearer token (RFC 6750)."""

    def __init__(
        self,
        http: Http,
        base: str,
        token: Secret,
        *,
        observe: Callable[[Answer], None] = lambda a: None,
        pause: Callable[[float, str], None] = lambda seconds, why: time.sleep(seconds),
        busy_seconds: float = USUAL_BUSY_SECONDS,
    ) -> None:
        self.http, self.base, self._token = http, base.rstrip("/"), token
        self._observe, self._pause, self._busy_seconds = observe, pause, busy_seconds

    def send(self, method: str, path: str, body: Json | None = None, *, if_match: str = "", unless: str = "") -> Answer:
        """One exchange, whatever the status; `unless` names the version that is known (RFC 9110 §13.1.2). Raises HttpError."""
        headers = {"Authorization": f"Bearer {self._token.reveal()}", "Accept": MEDIA}
        if body is not None:
            headers["Content-Type"] = MEDIA
        if if_match:
            headers["If-Match"] = if_match
        if unless:
            headers["If-None-Match"] = unless
        content = json.dumps(body).encode() if body is not None else None
        answer = self.http.send(method, f"{self.base}{path}", headers, content)
        self._observe(answer)
        return answer

    def look(self, path: str, doing: str) -> Json:
        """GET a JSON object; a busy tenant is asked again for a while. Raises ScimRefusedError, BusyError, HttpError."""
        return self._got(path, doing).object()

    def changed(self, path: str, version: str) -> Answer | None:
        """What stands there and is another version than the one that is known; None where it is the same. Raises as `look`."""
        answer = self._got(path, f"looking at {path}", version)
        return answer if answer.status == 200 else None

    def _got(self, path: str, doing: str, unless: str = "") -> Answer:
        waits = Waits(self._busy_seconds)
        while True:
            answer = self.send("GET", path, unless=unless)
            if answer.status in BUSY:
                pause = waits.next(answer.retry_after(), USUAL_PAUSE_SECONDS)
                if pause is None:
                    raise BusyError(answer)
                self._pause(pause, f"it is busy (status {answer.status})")
                continue
            if answer.status != 200 and not (unless and answer.status == 304):
                raise ScimRefusedError(answer, doing)
            return answer

    def find(self, endpoint: str, filter_: str, *, most: int = MAX_RESOURCES) -> Iterator[Json]:
        """All resources that match, page by page; cursors where the server gives them. Raises UnreachableError, as `look`."""
        query: dict[str, str | int] = {"filter": filter_} if filter_ else {}
        seen, turning = 0, Turning(f"{self.base}{endpoint}", most)
        while True:
            answer = self._got(f"{endpoint}?{urlencode(query)}" if query else endpoint, f"looking at {endpoint}")
            found = answer.object()
            page = found.get("Resources") or []
            if not isinstance(page, list):
                raise UnreachableError(
                    "the list has no resources in it",
                    where=f"{self.base}{endpoint}",
                    mend="check the address: is it the tenant's SCIM base?",
                )
            yield from (r for r in page if isinstance(r, dict))
            seen += len(page)
            cursor, total = found.get("nextCursor"), found.get("totalResults", seen)
            if cursor:
                query["cursor"] = str(cursor)
            elif page and isinstance(total, int) and seen < total:
                query["startIndex"] = seen + 1
            else:
                return
            turning.page((str(r.get("id")) if isinstance(r, dict) else "" for r in page), len(answer.body))
