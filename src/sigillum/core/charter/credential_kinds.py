"""The kinds of credentials: what each is, and all that is decided by it. Another kind is one more entry here.

Beside it, a driver's codec has what only this kind sends, and the sandbox what it takes.
"""

from __future__ import annotations

from typing import NamedTuple

KEY_PAIR, API_TOKEN, SHARED_SECRET, PASSWORD = "key-pair", "api-token", "shared-secret", "password"
CERTIFICATE = "certificate"
ENDS = "its end, or until it is ended here"


class CredentialKind(NamedTuple):
    """What of a kind everything else asks.

    `signs`: with a private key, whose public half is registered, or over which a certificate is made (`certified`).
    `tenant_made`: a secret that only the tenant can make. `typed`: with a name, so the tenant's rules of passwords apply.
    `repeatable`: the same one can be registered again; it can be made by its holder, and narrowed to `limits`.
    `lasting`: presented as it is, so no token of it grows old. `clients`, `accounts`: of whom it can be one.
    """

    name: str
    why: str  # why it is advised, with `where` it is made
    travels: str  # how often its secret can be lost on the way
    opens: str
    until: str = ENDS
    signs: bool = False
    certified: bool = False
    tenant_made: bool = False
    typed: bool = False
    repeatable: bool = False
    lasting: bool = False
    clients: bool = True
    accounts: bool = True
    not_theirs: tuple[str, str] = ("", "")  # what is said where it is none of theirs: why, and what to write


CREDENTIAL_KINDS = {
    kind.name: kind
    for kind in (
        CredentialKind(
            KEY_PAIR,
            "the private half never travels{where}, and every use is signed anew",
            "never; only a copy of the file",
            "the identity, within the key's limits",
            signs=True,
            repeatable=True,
        ),
        CredentialKind(
            CERTIFICATE,
            "the private half never travels{where}, and whoever trusts its signer knows whose it is",
            "never; only a copy of the file",
            "the identity, until its last day",
            signs=True,
            certified=True,
        ),
        CredentialKind(
            API_TOKEN,
            "the services take no signed assertions; a token can be narrowed, and it ends",
            "once, from the tenant to its file",
            "the identity, within the token's scopes",
            tenant_made=True,
            lasting=True,
            clients=False,
            not_theirs=("a client signs in, and has no API token", "write `kind: key-pair` (better) or `kind: shared-secret`"),
        ),
        CredentialKind(
            SHARED_SECRET,
            "the form takes nothing better; it is handed over sealed, and it ends",
            "to every place where it is typed",
            "the client, with all that is consented",
            tenant_made=True,
            accounts=False,
            not_theirs=("only a client has a shared secret", "write `kind: key-pair` or `kind: api-token`"),
        ),
        CredentialKind(
            PASSWORD,
            "the web interface takes nothing else; it is made here, and nobody has to change it first",
            "to every place where it is typed",
            "the account, at the web interface too",
            "until it is changed",
            typed=True,
            lasting=True,
        ),
    )
}
