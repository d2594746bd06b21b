"""One HTTP exchange: bounded in time and size, no redirects, no retries, HTTPS or loopback only."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import cached_property, lru_cache
from typing import Any
from urllib.parse import urlsplit

import urllib3
from urllib3.exceptions import (
    ConnectTimeoutError,
    HTTPError,
    MaxRetryError,
    NameResolutionError,
    NewConnectionError,
    SSLError,
)
from urllib3.util import SKIP_HEADER

from sigillum import __version__
from sigillum.core.values.errors import UnreachableError, UsageError
from sigillum.core.values.text import plain
from sigillum.core.values.times import ClockReading

MAX_ANSWER_BYTES = 16_000_000
IDLE_SECONDS = 2.0
CHUNK_BYTES = 65_536
LOOPBACK = frozenset({"localhost", "127.0.0.1", "::1"})
OUR_HEADERS = {"User-Agent": f"sigillum/{__version__}", "Accept-Encoding": SKIP_HEADER}  # answers come as they are
NO_RETRIES = urllib3.Retry(False, redirect=False)  # retrying is the journal's
_NOT_SENT = (NewConnectionError, ConnectTimeoutError, NameResolutionError)


class HttpError(UnreachableError):
    """No usable answer. `sent` False: the request surely never reached the other side."""

    def __init__(self, what: str, *, where: str = "", mend: str = "", sent: bool = True) -> None:
        super().__init__(what, where=where, mend=mend)
        self.sent = sent


@dataclass  # not frozen: one is made for each request, and freezing costs more than all the rest of it
class Answer:
    """An HTTP answer with the times around it (this machine's, aware UTC)."""

    status: int
    headers: Mapping[str, str]
    body: bytes
    url: str
    sent_at: datetime
    received_at: datetime

    @cached_property
    def json(self) -> Any:
        """The body as JSON. Raises HttpError where it is none."""
        import json
        try:
            return json.loads(self.body)
        except ValueError as problem:
            raise HttpError("the answer is not JSON", where=self.url,
                            mend="check the address: is it the tenant's own interface?") from problem

    def object(self) -> dict[str, Any]:
        """The body as a JSON object. Raises HttpError."""
        if not isinstance(self.json, dict):
            raise HttpError("the answer is not a JSON object", where=self.url,
                            mend="check the address: is it the tenant's own interface?")
        return self.json

    def clock(self) -> ClockReading | None:
        """What `Date` tells of the other clock; answers from a cache (`Age`) tell nothing."""
        if "Date" not in self.headers or "Age" in self.headers:
            return None
        date = _date(self.headers["Date"])
        return ClockReading.of(date, self.sent_at, self.received_at) if date is not None else None

    def retry_after(self, now: datetime | None = None) -> float | None:
        """Seconds that `Retry-After` asks to wait (RFC 9110 §10.2.3)."""
        value = self.headers.get("Retry-After", "").strip()
        if value.isdigit():
            return float(value)
        try:
            return max(0.0, (parsedate_to_datetime(value) - (now or self.received_at)).total_seconds())
        except (TypeError, ValueError):
            return None


@lru_cache(maxsize=8)
def _date(text: str) -> datetime | None:
    """The instant of a `Date` header; the same one comes many times a second."""
    try:
        date = parsedate_to_datetime(text)
    except (TypeError, ValueError):
        return None
    return date.replace(tzinfo=UTC) if date.tzinfo is None else date


class Http:
    """A thread-safe pool of connections. `log` is told of each exchange: no headers, no bodies."""

    def __init__(self, *, timeout_seconds: float = 15.0, ca_file: str | None = None,
                 log: Callable[[str], None] | None = None) -> None:
        self._timeout_seconds, self._log = timeout_seconds, log
        self._timeout = urllib3.Timeout(connect=min(5.0, timeout_seconds), read=timeout_seconds)
        self._manager = urllib3.PoolManager(maxsize=16, retries=NO_RETRIES, ca_certs=ca_file, cert_reqs="CERT_REQUIRED")
        self._pools: dict[str, urllib3.HTTPConnectionPool] = {}
        self.requests, self._last = 0, 0.0

    def send(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None = None) -> Answer:
        """One exchange. Raises HttpError, and UsageError for an address that is not allowed."""
        end = url.find("/", len("https://"))
        origin, target = (url[:end], url[end:]) if end > 0 else (url, "/")
        begun, sent_at = time.monotonic(), datetime.now(UTC)
        if begun - self._last > IDLE_SECONDS:  # servers close idle connections, and a request would meet a closed one
            self._manager.clear()
            self._pools.clear()
        pool = self._pools.get(origin) or self._open(origin)
        self.requests, self._last = self.requests + 1, begun
        try:
            response = pool.urlopen(method, target, body=body, headers={**OUR_HEADERS, **headers}, timeout=self._timeout,
                                          redirect=False, preload_content=False)
            try:
                content = self._read(response, begun, url)
            except BaseException:
                response.close()
                raise
            response.release_conn()
        except HTTPError as problem:
            raise _unreachable(problem, url, self._timeout_seconds) from problem
        answer = Answer(response.status, response.headers, content, url, sent_at, datetime.now(UTC))
        if self._log is not None:
            took = (time.monotonic() - begun) * 1000
            self._log(f"{method} {url.partition('?')[0]} -> {answer.status}, {len(content)} bytes, {took:.0f} ms")
        if 300 <= answer.status < 400 and answer.status != 304:
            raise HttpError(f"it wants to send us elsewhere (status {answer.status}), which is not followed",
                            where=url, mend="use the address that the tenant itself has")
        return answer

    def _open(self, origin: str) -> urllib3.HTTPConnectionPool:
        """A pool for scheme, host and port, once they are known to be allowed."""
        check_address(origin)
        self._pools[origin] = pool = self._manager.connection_from_url(origin)
        return pool

    def _read(self, response: urllib3.BaseHTTPResponse, begun: float, url: str) -> bytes:
        length = response.headers.get("Content-Length", "")
        if length.isdigit() and int(length) <= CHUNK_BYTES:
            return response.read()
        parts, size = [], 0
        while chunk := response.read1(CHUNK_BYTES):
            parts.append(chunk)
            size += len(chunk)
            if size > MAX_ANSWER_BYTES:
                raise HttpError(f"the answer is longer than {MAX_ANSWER_BYTES // 1_000_000} MB", where=url,
                                mend="ask the tenant's operator what answers there")
            if time.monotonic() - begun > self._timeout_seconds * 2:
                raise HttpError("the answer does not come to an end", where=url,
                                mend="try again later; `--timeout` gives it longer")
        return b"".join(parts)


def check_address(url: str) -> None:
    """HTTPS, or plain HTTP on loopback. Raises UsageError."""
    parts = urlsplit(url)
    if (parts.scheme == "https" and parts.hostname) or (parts.scheme == "http" and (parts.hostname or "") in LOOPBACK):
        return
    raise UsageError("only https addresses are used, or http on this machine itself", where=plain(url),
                     mend="write an address that begins with https://")


def _unreachable(problem: HTTPError, url: str, seconds: float) -> HttpError:
    reason: Any = problem.reason if isinstance(problem, MaxRetryError) and problem.reason else problem
    sent = not isinstance(reason, _NOT_SENT)
    if isinstance(reason, SSLError):
        return HttpError(f"its certificate is not trusted: {plain(reason)}", where=url, sent=False,
                         mend="if it is your own authority, name its file as `ca: FILE` at the tenant in sigillum.yaml")
    refused = isinstance(reason, NewConnectionError)  # a kind of time-out to the library, and none to a reader
    if isinstance(reason, urllib3.exceptions.TimeoutError) and not refused:
        return HttpError(f"no answer within {seconds:g} seconds", where=url, sent=sent,
                         mend="try again later; `--timeout` gives it longer")
    if not sent:
        return HttpError("nothing answers there", where=url, sent=False,
                         mend="is the tenant running, and the address right? (`sigillum tenant list`)")
    return HttpError("the connection broke before the answer was complete", where=url,
                     mend="run the same command again; what was begun is found again")
