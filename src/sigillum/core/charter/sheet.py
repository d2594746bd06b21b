"""The sheet that is handed over: what a consumer asks for, typed, checked, complete or not."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta
from typing import Any, NamedTuple
from urllib.parse import urlsplit

from sigillum.core.values.secret import Secret
from sigillum.core.values.times import parse_instant, rough_duration

IDENTIFIER, SECRET, ADDRESS, INSTANT, TEXT = "identifier", "secret", "address", "instant", "text"
KINDS: dict[str, tuple[str, str]] = {  # what can be given: its kind, and what it is
    "tenant": (ADDRESS, "the tenant's administration address"),
    "issuer": (ADDRESS, "the authorization server (RFC 8414)"),
    "token_endpoint": (ADDRESS, "where tokens are asked for"),
    "work": (ADDRESS, "where the working interface begins"),
    "client_id": (IDENTIFIER, "what a client presents"),
    "principal_id": (IDENTIFIER, "what roles and consents are given to"),
    "account": (IDENTIFIER, "the account's name"),
    "credential_id": (IDENTIFIER, "which credential it is"),
    "key": (SECRET, "the private key, a JWK (RFC 7517)"),
    "secret": (SECRET, "the shared secret, token or password"),
    "key_id": (IDENTIFIER, "the public key's thumbprint (RFC 7638), the `kid` of assertions"),
    "certificate": (TEXT, "the certificate, base64 of its DER"),
    "ends": (INSTANT, "when the credential ends"),
    "scopes": (TEXT, "the OAuth scopes"),
    "places": (TEXT, "where it may work"),
    "person": (IDENTIFIER, "a person to try it for"),
    "test_object": (TEXT, "a place that may be changed by trials"),
}
USUAL = ("token_endpoint", "client_id", "account", "principal_id", "key", "secret", "ends")
SHORTEST_SECRET = 16
SOON = timedelta(days=7)
_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,127}\Z")
STEERING = frozenset(
    (  # variables that shells, loaders, interpreters and tools take orders from
        "PATH",
        "HOME",
        "SHELL",
        "IFS",
        "ENV",
        "BASH_ENV",
        "PS4",
        "PROMPT_COMMAND",
        "SHELLOPTS",
        "BASHOPTS",
        "EDITOR",
        "VISUAL",
        "PAGER",
        "BROWSER",
        "TMPDIR",
        "TERM",
        "LANG",
        "PERL5LIB",
        "PERL5OPT",
        "RUBYOPT",
        "RUBYLIB",
        "NODE_OPTIONS",
        "NODE_PATH",
        "CLASSPATH",
        "JAVA_TOOL_OPTIONS",
        "CDPATH",
        "GLOBIGNORE",
        "HISTFILE",
        "MAIL",
        "SSLKEYLOGFILE",
    )
)
STEERING_BEGINS = ("LD_", "DYLD_", "PYTHON", "GIT_", "SSH_", "BASH_FUNC", "LC_", "SIGILLUM", "GCONV_", "MALLOC_", "SSL_CERT")
_NO_SPACE = re.compile(r"\S+\Z")


class SheetLine(NamedTuple):
    """One thing that a consumer asks for: which value, what it calls it, and how it has to look."""

    value: str
    name: str = ""
    form: str = ""  # a regular expression for the whole value
    shortest: int = 0
    longest: int = 0
    fixed: str = ""  # a value that is always the same for this consumer: a test user, a test object
    of: str = ""  # another charter whose value it is


class Value(NamedTuple):
    """One value of a sheet. `problem`: why it is missing or wrong; `note`: worth knowing all the same."""

    value: str
    name: str
    kind: str
    content: str | Secret | None
    problem: str = ""
    note: str = ""
    reference: str = ""  # where a secret is kept, for forms that hold references only
    of: str = ""  # another charter whose value it is

    @property
    def secret(self) -> bool:
        return self.kind == SECRET


class Sheet(NamedTuple):
    """All that is handed over of one charter, to one consumer."""

    charter: str
    consumer: str
    values: tuple[Value, ...]
    credential: str = ""
    generation: int = 0
    sealed: str = ""  # its number, of one that was opened
    code: str = ""  # what its receipt shows, that it was opened

    @property
    def complete(self) -> bool:
        return bool(self.values) and not any(v.problem for v in self.values)


def fill(
    charter: str,
    consumer: str,
    asked: Iterable[SheetLine],
    known: Mapping[str, Any],
    why: Mapping[str, str],
    references: Mapping[str, str],
    now: datetime,
) -> tuple[Value, ...]:
    """Put what is `known` into what is asked; `why` says for the rest why it is not there yet."""
    return tuple(_one(charter, a, known, why, references, now)._replace(of=a.of) for a in asked)


def _one(
    charter: str,
    asked: SheetLine,
    known: Mapping[str, Any],
    why: Mapping[str, str],
    references: Mapping[str, str],
    now: datetime,
) -> Value:
    kind = KINDS[asked.value][0] if asked.value in KINDS else TEXT
    content = asked.fixed or known.get(asked.value)
    name = asked.name or variable(asked.of or charter, asked.value)
    if content is None or content == "":
        return Value(asked.value, name, kind, None, why.get(asked.value, "it is not there yet: enact the charter first"))
    problem, note = _check(asked, kind, content.reveal() if isinstance(content, Secret) else str(content), now)
    return Value(asked.value, name, kind, content, problem, note, references.get(asked.value, ""))


def variable(charter: str, value: str) -> str:
    """The name of a value where the consumer has none: AVALANCHE_MAILER_CLIENT_ID."""
    return re.sub(r"\W", "_", f"{charter}_{value}").upper()


def unfit(names: Iterable[str]) -> str:
    """The first name that no variable of a shell may get from a sheet: it is none, or it changes how programs run."""
    return next((n for n in names if not _VARIABLE.match(n) or n in STEERING or n.startswith(STEERING_BEGINS)), "")


def _check(asked: SheetLine, kind: str, text: str, now: datetime) -> tuple[str, str]:
    """What is wrong with a value, and what is worth knowing of it; a secret itself is never repeated."""
    if asked.form and not re.fullmatch(asked.form, text):
        return f"it does not look as {asked.name or asked.value} has to look", ""
    if (asked.shortest and len(text) < asked.shortest) or (asked.longest and len(text) > asked.longest):
        bounds = f"{asked.shortest or 1} to {asked.longest}" if asked.longest else f"{asked.shortest} or more"
        return f"it has {len(text)} characters, and the consumer takes {bounds}", ""
    if kind == IDENTIFIER and not _NO_SPACE.match(text):
        return "an identifier has no spaces", ""
    if kind == SECRET and len(text) < SHORTEST_SECRET:
        return "", f"it is short for a secret: {len(text)} characters"
    if kind == ADDRESS:
        parts = urlsplit(text)
        safe = parts.scheme == "https" or parts.hostname in ("127.0.0.1", "localhost", "::1")
        return ("", "") if safe and parts.netloc else ("the address is not https", "")
    if kind == INSTANT:
        left = parse_instant(text) - now
        if left <= timedelta(0):
            return f"it ended at {text}", ""
        return "", f"in {rough_duration(left.total_seconds())}" if left < SOON else ""
    return "", ""


def content_of(sheet: Sheet, *, reveal: bool) -> dict[str, str]:
    """Names and values; secrets only where they are to be revealed."""
    return {v.name: _shown(v, reveal=reveal) for v in sheet.values}


def _shown(value: Value, *, reveal: bool) -> str:
    if value.content is None:
        return ""
    if isinstance(value.content, Secret):
        return value.content.reveal() if reveal else MASKED
    return str(value.content)


MASKED = "(masked)"
