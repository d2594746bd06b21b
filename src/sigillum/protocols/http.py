"""One HTTP exchange: bounded in time and size, no redirects, no retries, HTTPS or loopback only."""

from __future__ import annotations

import base64
import io
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import cached_property, lru_cache
from http.client import HTTPException, HTTPResponse
from socket import socket
from typing import Any

import urllib3
from urllib3.connection import HTTPConnection, HTTPSConnection
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
from sigillum.core.values.errors import Outcome, UnreachableError
from sigillum.core.values.outside import json_of
from sigillum.core.values.secret import Secret, masked_bytes
from sigillum.core.values.text import plain
from sigillum.core.values.times import ClockReading

from .addresses import Origin, origin_of

MAX_ANSWER_BYTES = 16_000_000
SLOW_SECONDS = 0.03
IDLE_SECONDS = 2.0
LONGEST_SECONDS = 60.0
CHUNK_BYTES = 65_536
OUR_HEADERS = {"User-Agent": f"sigillum/{__version__}", "Accept-Encoding": SKIP_HEADER}  # answers come as they are
NO_RETRIES = urllib3.Retry(False, redirect=False)  # retrying is the journal's
DATE_TROUBLE = (TypeError, ValueError, IndexError, OverflowError)  # what the parser of dates raises
LOOKS = 3  # times that a look is sent whose connection breaks
MOST_INTERIM, MOST_LINES, MOST_LINE = 20, 100, 65_536  # interim answers, and lines and bytes of one
_NOT_SENT = (NewConnectionError, ConnectTimeoutError, NameResolutionError)


class HttpError(UnreachableError):
    """No usable answer. `sent` False: the request surely never reached the other side."""

    def __init__(self, what: str, *, where: str = "", mend: str = "", sent: bool = True) -> None:
        super().__init__(what, where=where, mend=mend)
        self.sent = sent


class BrokenError(HttpError):
    """The connection broke before the answer was whole: whether anything was done is not known."""


class OriginError(HttpError):
    """An address that the other side announced lies where nothing of ours may go."""

    outcome, code = Outcome.SOMEBODY, "origin"

    def __init__(self, origin: Origin) -> None:
        super().__init__(
            "it announces an address of another origin, where nothing is sent",
            where=str(origin),
            sent=False,
            mend=f"if that is right, add `origins: [{origin}]` to the tenant in sigillum.yaml",
        )


class _Stream(io.RawIOBase):
    """Gives out what a socket receives until a moment, however slowly it comes."""

    def __init__(self, raw: io.RawIOBase, of: socket, until: float) -> None:
        self._raw, self._of, self._until = raw, of, until

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int | None:
        left, usual = self._until - time.monotonic(), self._of.gettimeout()
        if left <= 0:
            raise TimeoutError("the answer does not come to an end")
        if usual is not None and left < usual:
            self._of.settimeout(left)
        found: int | None = self._raw.readinto(buffer)
        return found

    def close(self) -> None:
        self._raw.close()
        super().close()


class _Response(HTTPResponse):
    """Status line, headers and body within one time; the library bounds the time between two bytes only."""

    def __init__(self, sock: socket, *given: Any, **more: Any) -> None:
        super().__init__(sock, *given, **more)
        most = (sock.gettimeout() or LONGEST_SECONDS) * 2
        self.fp = io.BufferedReader(_Stream(self.fp.detach(), sock, time.monotonic() + most))

    def _read_status(self) -> tuple[str, int, str]:
        """The status of the answer: what is said before it (RFC 9110 §15.2) is read over."""
        for _ in range(MOST_INTERIM):
            found: tuple[str, int, str] = super()._read_status()  # type: ignore[misc]
            if not 100 < found[1] < 200 or found[1] == 101:
                return found
            for _ in range(MOST_LINES):
                if self.fp.readline(MOST_LINE).strip() == b"":
                    break
        raise HTTPException("it says again and again that its answer will come")


class _Plain(HTTPConnection):
    response_class = _Response


class _Tls(HTTPSConnection):
    response_class = _Response


class _Rested:
    """A pool that uses no connection which rested so long that the server may be closing it just now."""

    def _get_conn(self, timeout: float | None = None) -> Any:
        connection: Any = super()._get_conn(timeout)  # type: ignore[misc]
        if time.monotonic() - getattr(connection, "rests_since", time.monotonic()) > IDLE_SECONDS:
            connection.close()  # it is opened anew when something is sent
        return connection

    def _put_conn(self, connection: Any) -> None:
        if connection is not None:
            connection.rests_since = time.monotonic()
        super()._put_conn(connection)  # type: ignore[misc]


class _PlainPool(_Rested, urllib3.HTTPConnectionPool):
    ConnectionCls = _Plain


class _TlsPool(_Rested, urllib3.HTTPSConnectionPool):
    ConnectionCls = _Tls


POOLS = {"http": _PlainPool, "https": _TlsPool}


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
        """The body as JSON, without what it says back of our secrets. Raises HttpError where it is none."""
        shown = masked_bytes(self.body)
        return self.handed if shown is self.body else self._parsed(shown)

    @cached_property
    def handed(self) -> Any:
        """The body as JSON with all that is in it: for who takes a secret out of it, or sends it back. Raises HttpError."""
        return self._parsed(self.body)

    def _parsed(self, body: bytes) -> Any:
        try:
            return json_of(body)
        except (ValueError, RecursionError) as problem:
            raise HttpError(
                "the answer is not JSON", where=self.url, mend="check the address: is it the tenant's own interface?"
            ) from problem

    def object(self, *, handed: bool = False) -> dict[str, Any]:
        """The body as a JSON object, as `json` or as `handed` gives it. Raises HttpError."""
        found = self.handed if handed else self.json
        if not isinstance(found, dict):
            raise HttpError(
                "the answer is not a JSON object", where=self.url, mend="check the address: is it the tenant's own interface?"
            )
        return found

    def clock(self) -> ClockReading | None:
        """What `Date` tells of the other clock; answers from a cache (`Age`) tell nothing."""
        if "Date" not in self.headers or "Age" in self.headers:
            return None
        date = _date(self.headers["Date"])
        return ClockReading.of(date, self.sent_at, self.received_at) if date is not None else None

    def retry_after(self, now: datetime | None = None) -> float | None:
        """Seconds that `Retry-After` asks to wait (RFC 9110 §10.2.3)."""
        value = self.headers.get("Retry-After", "").strip()
        if value.isascii() and value.isdigit():
            return float(value)
        try:
            return max(0.0, (parsedate_to_datetime(value) - (now or self.received_at)).total_seconds())
        except DATE_TROUBLE:
            return None


@lru_cache(maxsize=8)
def _date(text: str) -> datetime | None:
    """The instant of a `Date` header; the same one comes many times a second."""
    try:
        date = parsedate_to_datetime(text)
    except DATE_TROUBLE:
        return None
    return date.replace(tzinfo=UTC) if date.tzinfo is None else date


def basic(name: str, secret: Secret) -> Secret:
    """What is presented as a name and a password, as a secret of its own (RFC 7617 §2)."""
    return Secret(base64.b64encode(f"{name}:{secret.reveal()}".encode()).decode())


class Http:
    """A thread-safe pool of connections. `log` is told of each exchange: no headers, no bodies.

    `origins`: addresses to whose origins something may be sent, None: to any. Nothing that a tenant says widens them.
    """

    def __init__(
        self,
        *,
        origins: Iterable[str] | None,
        timeout_seconds: float = 15.0,
        ca_file: str | None = None,
        log: Callable[[str], None] | None = None,
    ) -> None:
        self._timeout_seconds, self._log = timeout_seconds, log
        self._origins = frozenset(map(origin_of, origins)) if origins is not None else None
        self._timeout = urllib3.Timeout(connect=min(5.0, timeout_seconds), read=timeout_seconds)
        self._manager = urllib3.PoolManager(maxsize=16, retries=NO_RETRIES, ca_certs=ca_file, cert_reqs="CERT_REQUIRED")
        self._manager.pool_classes_by_scheme = POOLS
        self._pools: dict[str, urllib3.HTTPConnectionPool] = {}
        self.requests = 0
        self._took_seconds = SLOW_SECONDS  # the last exchange; until there was one, it is taken for slow

    @property
    def slow(self) -> bool:
        """Do exchanges take so long that several at a time are worth their threads?"""
        return self._took_seconds >= SLOW_SECONDS

    def send(
        self, method: str, url: str, headers: Mapping[str, str], body: bytes | None = None, *, look: bool | None = None
    ) -> Answer:
        """One exchange. What changes nothing (`look`: GET, where it is not said otherwise) is asked again where the
        connection broke, within its time. Raises HttpError, and UsageError for an address that is not allowed.
        """
        until, tries = time.monotonic() + self._timeout_seconds, LOOKS if (method == "GET" if look is None else look) else 1
        while True:
            tries -= 1
            try:
                return self._exchange(method, url, headers, body)
            except BrokenError:
                if tries == 0 or time.monotonic() >= until:
                    raise
                if self._log is not None:
                    shown = url.partition("?")[0]
                    self._log(f"{method} {shown}: the connection broke; it changes nothing, and is asked again")

    def _exchange(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
        end = url.find("/", len("https://"))
        origin, target = (url[:end], url[end:]) if end > 0 else (url, "/")
        begun, sent_at = time.monotonic(), datetime.now(UTC)
        pool = self._pools.get(origin) or self._open(origin)
        self.requests += 1
        try:
            response = pool.urlopen(
                method,
                target,
                body=body,
                headers={**OUR_HEADERS, **headers},
                timeout=self._timeout,
                redirect=False,
                preload_content=False,
                decode_content=False,
            )
            try:
                content = self._read(response, begun, url)
            except BaseException:
                response.close()
                raise
            response.release_conn()
        except HTTPError as problem:
            raise _unreachable(problem, url, self._timeout_seconds) from problem
        answer = Answer(response.status, response.headers, content, url, sent_at, datetime.now(UTC))
        self._took_seconds = took = time.monotonic() - begun
        if self._log is not None:
            self._log(f"{method} {url.partition('?')[0]} -> {answer.status}, {len(content)} bytes, {took * 1000:.0f} ms")
        if 300 <= answer.status < 400 and answer.status != 304:
            raise HttpError(
                f"it wants to send us elsewhere (status {answer.status}), which is not followed",
                where=url,
                mend="use the address that the tenant itself has",
            )
        return answer

    def _open(self, origin: str) -> urllib3.HTTPConnectionPool:
        """A pool for scheme, host and port, once they are known to be allowed."""
        asked = origin_of(origin)
        if self._origins is not None and asked not in self._origins:
            raise OriginError(asked)
        self._pools[origin] = pool = self._manager.connection_from_url(origin)
        return pool

    def _read(self, response: urllib3.BaseHTTPResponse, begun: float, url: str) -> bytes:
        if response.headers.get("Content-Encoding", "identity").lower() != "identity":  # none was asked for (RFC 9110 §12.5.3)
            raise HttpError(
                "the answer is compressed, which was not asked for",
                where=url,
                mend="ask the tenant's operator what answers there",
            )
        length = response.headers.get("Content-Length", "")
        if length.isdigit() and int(length) <= CHUNK_BYTES:
            return response.read()
        parts, size = [], 0
        while chunk := response.read1(CHUNK_BYTES):
            parts.append(chunk)
            size += len(chunk)
            if size > MAX_ANSWER_BYTES:
                raise HttpError(
                    f"the answer is longer than {MAX_ANSWER_BYTES // 1_000_000} MB",
                    where=url,
                    mend="ask the tenant's operator what answers there",
                )
            if time.monotonic() - begun > self._timeout_seconds * 2:
                raise HttpError(
                    "the answer does not come to an end", where=url, mend="try again later; `--timeout` gives it longer"
                )
        return b"".join(parts)


def _unreachable(problem: HTTPError, url: str, seconds: float) -> HttpError:
    reason: Any = problem.reason if isinstance(problem, MaxRetryError) and problem.reason else problem
    sent = not isinstance(reason, _NOT_SENT)
    if isinstance(reason, SSLError):
        return HttpError(
            f"its certificate is not trusted: {plain(reason)}",
            where=url,
            sent=False,
            mend="if it is your own authority, name its file as `ca: FILE` at the tenant in sigillum.yaml",
        )
    refused = isinstance(reason, NewConnectionError)  # a kind of time-out to the library, and none to a reader
    if isinstance(reason, urllib3.exceptions.TimeoutError) and not refused:
        return HttpError(
            f"no answer within {seconds:g} seconds", where=url, sent=sent, mend="try again later; `--timeout` gives it longer"
        )
    if not sent:
        return HttpError(
            "nothing answers there",
            where=url,
            sent=False,
            mend="is the tenant running, and the address right? (`sigillum tenant list`)",
        )
    return BrokenError(
        "the connection broke before the answer was complete",
        where=url,
        mend="run the same command again; what was begun is found again",
    )
