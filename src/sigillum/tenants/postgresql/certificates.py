"""Client certificates at a PostgreSQL server: which names it lets in, what is noted of them, and how one signs in.

The server keeps no certificate: it takes whichever its authority signed, by the names in `pg_hba.conf` and `pg_ident.conf`.
So that one is known as ours, it is noted in its role's comment; it ends by its own end, or by the server's revocation list.
"""

from __future__ import annotations

import base64
import re
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sigillum.core.kinds.kind import Record
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.canonical import certificate_mark
from sigillum.core.values.secret import Secret
from sigillum.keeping.private import write_private

from .asking import Asking, id_of

NOTE = re.compile(r"\[certificate:([A-Za-z0-9_-]{43}):([0-9]{1,12}):([^\[\]\s]+)\]")
SCHEME = "certificate"
_RULES = """
SELECT coalesce(database, '{}'), coalesce(user_name, '{}'), auth_method, coalesce(options, '{}')
FROM pg_hba_file_rules WHERE error IS NULL AND type IN ('host', 'hostssl') ORDER BY line_number"""
_NAMES = "SELECT sys_name, pg_username FROM pg_ident_file_mappings WHERE error IS NULL AND map_name = %(map)s"


def note(part: Mapping[str, Any], mark: str) -> str:
    """What stands for a certificate in a role's comment."""
    until = part.get("until")
    end = int(until.timestamp()) if isinstance(until, datetime) else 0
    return f"[certificate:{certificate_mark(str(part['certificate']['der']))}:{end}:{mark}]"


def noted(oid: str, said: str) -> Iterator[Record[Any]]:
    """The certificates that a role's comment tells of."""
    for which, end, mark in NOTE.findall(said):
        until = datetime.fromtimestamp(int(end), UTC) if int(end) else None
        yield Record(
            CREDENTIAL,
            id_of(oid, "certificate", which),
            CREDENTIAL.type(oid, type="certificate", thumbprint=which, until=until),
            mark=mark,
            carried=frozenset({"principal", "type", "thumbprint", "until"}),
        )


def against(ask: Asking, name: str, database: str) -> str:
    """Why the server would let nobody in as this role with a certificate of this name, as far as its files show."""
    for databases, users, method, options in ask(_RULES, {}):
        if not (_named(databases, database) and _named(users, name)):
            continue
        if method != "cert" and "clientcert=verify-full" not in options:
            continue
        names = next((o.removeprefix("map=") for o in options if o.startswith("map=")), "")
        pairs = ask(_NAMES, {"map": names}) if names else [(name, name)]
        if any(_named([known], name) and _named([role], name) for known, role in pairs):
            return ""
        mapped = ", ".join(known for known, role in pairs if role == name)
        return f"its map {names} lets {mapped or 'no name'} in as {name}, and the certificate's name is {name}"
    return f"no rule of its pg_hba.conf lets {name} in with a certificate"


def _named(patterns: list[str], name: str) -> bool:
    """Does a list of pg_hba.conf name it? What we do not follow (groups, regular expressions) may."""
    return any(p in ("all", name) or p.startswith(("/", "+")) for p in patterns)


def bundle(key: Mapping[str, Any], der: str) -> Secret:
    """A private key and the certificate over it, as PEM."""
    from joserfc.jwk import JWKRegistry, OctKey

    imported = JWKRegistry.import_key(dict(key))
    private = "" if isinstance(imported, OctKey) else imported.as_pem(private=True).decode()
    lines = base64.encodebytes(base64.b64decode(der)).decode()
    return Secret(f"{private.strip()}\n-----BEGIN CERTIFICATE-----\n{lines}-----END CERTIFICATE-----\n")


@contextmanager
def presented(proof: Secret, scheme: str, *, here: bool) -> Iterator[dict[str, str]]:
    """How a connection is told what one proves oneself with. The client library reads certificates from files alone: theirs is
    gone when the connection stands.
    """
    if scheme != SCHEME:
        yield {"password": proof.reveal(), "sslcertmode": "disable"}  # not the one that lies in the user's home
        return
    with tempfile.TemporaryDirectory(prefix="sigillum-") as folder:  # 0700
        path = Path(folder, "identity.pem")
        write_private(path, proof.reveal())
        nothing = Path(folder, "passwords")
        nothing.touch(0o600)
        yield {
            "sslcert": str(path),
            "sslkey": str(path),
            "sslcertmode": "require",
            "passfile": str(nothing),
            **({"sslmode": "require"} if here else {}),
        }
