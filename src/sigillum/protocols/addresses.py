"""Addresses: judged by what the HTTP library itself will connect to, and never by another reading of the same text."""

from __future__ import annotations

import re
from typing import NamedTuple

from urllib3.exceptions import LocationParseError
from urllib3.util import parse_url

from sigillum.core.values.errors import UsageError
from sigillum.core.values.text import plain

LOOPBACK = frozenset({"localhost", "127.0.0.1", "[::1]"})
PORTS = {"https": 443, "http": 80}
# Only what every reader of addresses reads alike: no user names, backslashes, white space, escapes in the host.
_ORIGIN = re.compile(r"(https?)://(\[[0-9a-f:.]+\]|[a-z0-9](?:[a-z0-9.-]*[a-z0-9])?)(?::([0-9]{1,5}))?\Z", re.I)


class Origin(NamedTuple):
    """Where something is sent: scheme, host and port (RFC 6454)."""

    scheme: str
    host: str
    port: int

    def __str__(self) -> str:
        port = "" if self.port == PORTS[self.scheme] else f":{self.port}"
        return f"{self.scheme}://{self.host}{port}"


def origin_of(url: str) -> Origin:
    """The origin of an address: HTTPS, or plain HTTP on this machine itself. Raises UsageError."""
    text = re.split(r"(?<=[^:/])[/?#]", url, maxsplit=1)[0]
    found = _ORIGIN.match(text)
    strange = any(c <= " " or c == "\\" or not c.isascii() or c == "\x7f" for c in url)
    if found is not None and not strange:
        try:
            parts = parse_url(url)
            host = (parts.host or "").lower()
            origin = Origin((parts.scheme or "").lower(), host, parts.port or PORTS[found[1].lower()])
        except LocationParseError:
            host = ""
        agreed = host == found[2].lower() and parts.auth is None if host else False
        if agreed and (origin.scheme == "https" or host in LOOPBACK):
            return origin
    raise UsageError(
        "only https addresses are used, or http on this machine itself",
        where=plain(url),
        mend="write an address that begins with https://, without a user name or anything unusual in it",
    )
