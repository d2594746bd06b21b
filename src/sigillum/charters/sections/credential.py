"""`credentials:`, the section of the facet *credential*."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BeforeValidator, Field, model_validator
from pydantic_core import PydanticCustomError

from sigillum.charters.models import CharterName, Permission, PlacePath, Reference
from sigillum.core.charter.charter import CredentialWant
from sigillum.core.charter.credential_kinds import CREDENTIAL_KINDS
from sigillum.core.charter.wants import CertificateAnswer, EndlessWant
from sigillum.core.values import times
from sigillum.core.values.errors import Position
from sigillum.reading.models import (
    Day,
    Duration,
    Section,
    by_pattern,
    duration,
    form_schema,
    only_with,
    says,
    text_schema,
)

if TYPE_CHECKING:
    CredentialKindName = str
else:
    CredentialKindName = Literal[tuple(CREDENTIAL_KINDS)]

FACET, NEVER = "credential", "never"
KEEP_IN = re.compile(r"(?:file|keyring|holder|handover|store:[a-z0-9-]+/[A-Za-z0-9](?:[\w./-]*[A-Za-z0-9])?)\Z")


KeepIn = Annotated[
    str,
    by_pattern(KEEP_IN, "keep-in", "a keeping place", "write file, keyring, store:TENANT/PATH, handover or holder"),
    text_schema(pattern=f"^{KEEP_IN.pattern[:-2]}$"),
]


def _lasts(value: Any) -> int | str:
    return NEVER if value == NEVER else duration(value)


Lasts = Annotated[int | str, BeforeValidator(_lasts), form_schema(rf"(?:{times.DURATION}|never)", examples=["90d", "never"])]


class CredentialSection(Section):
    """What the identity proves itself with."""

    model_config = says(
        *(only_with(("password_from",), "kind", kind.name) for kind in CREDENTIAL_KINDS.values() if kind.typed),
        only_with(("public_key",), "keep_in", "holder"),
        {
            "if": {"required": ["keep_in"], "properties": {"keep_in": {"const": "holder"}}},
            "then": {"properties": {"kind": {"enum": [n for n, kind in CREDENTIAL_KINDS.items() if kind.repeatable]}}},
        },
    )

    name: CharterName = Field(description="Its name in the charter and the tenant")
    kind: CredentialKindName = Field(
        description="key-pair, certificate, password: made here; api-token, and a client's shared-secret: made by the tenant"
    )
    purpose: str | None = Field(None, min_length=1, description="What it is for, where the charter's purpose does not say it")
    lasts: Lasts | None = Field(None, description="How long a generation lives; never: it has no end")
    accepted_by: str | None = Field(None, description="Of one without an end: who accepted that")
    why: str | None = Field(None, min_length=1, description="Of one without an end: why it can bear none")
    review: Day | None = Field(None, description="Of one without an end: the day on which it is looked at again")
    renew_before: Duration | None = Field(None, description="How long before its end it counts as due")
    at: PlacePath | None = Field(None, description="The place for which it is, at tenants whose credentials are for one alone")
    limits: list[Permission] = Field(
        default_factory=list, description="Permissions it is narrowed to; none: all that is granted"
    )
    keep_in: KeepIn = Field(
        "file",
        description="file: below .sigillum; keyring: this machine's; store:TENANT/PATH: a secret of a tenant that is a "
        "secret store; handover: here until it is sealed to somebody; holder: the consumer makes the key",
    )
    public_key: Annotated[str, text_schema(pattern="^file:")] | None = Field(
        None, description="file:PATH of the holder's public JWK"
    )
    password_from: Reference | None = Field(
        None, description="Of a password that was chosen: env:NAME or file:PATH; none: it is made here"
    )
    algorithm: Literal["Ed25519", "ES256", "RS256"] = Field("Ed25519", description="For a key pair made here")
    signed_by: Literal["self", "ca"] = Field("self", description="Of a certificate: by its own key, or by the house's CA")
    certificate: Annotated[str, text_schema(pattern="^file:")] | None = Field(
        None, description="file:PATH of what the house's CA answered"
    )
    consumers: list[str] = Field(default_factory=list, description="Who uses it")

    @model_validator(mode="after")
    def _fits(self) -> CredentialSection:
        def wrong(what: str, mend: str) -> PydanticCustomError:
            return PydanticCustomError("credential", "{what}", {"what": what, "mend": mend})

        risk, never = (self.accepted_by, self.why, self.review), self.lasts == NEVER
        if never and None in risk:
            raise wrong("nobody accepted that it has no end", "write `accepted_by`, `why` and `review` beside `lasts: never`")
        if not never and any(r is not None for r in risk):
            raise wrong("`accepted_by`, `why` and `review` are for a credential without an end", "leave them out")
        if never and self.renew_before is not None:
            raise wrong("`renew_before` of a credential without an end means nothing", "leave it out")
        is_a = CREDENTIAL_KINDS[self.kind]
        if not is_a.repeatable and self.keep_in == "holder":
            raise wrong(f"of {self.kind} no holder can make the key", "write `keep_in: file`, or `kind: key-pair`")
        if self.password_from is not None and not is_a.typed:
            raise wrong("`password_from` is for a password", "write `kind: password`, or leave it out")
        if not is_a.certified and (self.signed_by != "self" or self.certificate is not None):
            raise wrong("`signed_by` and `certificate` are for a certificate", "write `kind: certificate`, or leave them out")
        if self.certificate is not None and self.signed_by != "ca":
            raise wrong("`certificate` is what the house's CA answered", "write `signed_by: ca`, or leave it out")
        if is_a.certified and self.lasts == NEVER:
            raise wrong("a certificate always has an end", "write how long it lasts")
        if self.public_key is not None and self.keep_in != "holder":
            raise wrong("`public_key` is for a key that its holder made", "write `keep_in: holder` too")
        if self.public_key is not None and not self.public_key.startswith("file:"):
            raise wrong("`public_key` names a file", "write `public_key: file:PATH`")
        if isinstance(self.lasts, int) and self.renew_before is not None and self.renew_before >= self.lasts:
            raise wrong("`renew_before` is not shorter than `lasts`", "write a shorter `renew_before`")
        return self


def to_core(
    section: CredentialSection,
    position: Position,
    usual_seconds: int,
    usual_before: int,
    public_key: Mapping[str, Any] | None,
    answer: CertificateAnswer | None = None,
) -> CredentialWant:
    lasts = section.lasts if isinstance(section.lasts, int) else usual_seconds
    before = section.renew_before if section.renew_before is not None else min(usual_before, lasts // 2)
    return CredentialWant(
        section.name,
        section.kind,
        lasts,
        before,
        tuple(section.limits),
        section.keep_in,
        section.algorithm,
        public_key,
        tuple(section.consumers),
        position,
        section.password_from or "",
        section.signed_by,
        answer,
        _endless(section),
        section.purpose or "",
        section.at or "",
    )


def _endless(section: CredentialSection) -> EndlessWant | None:
    if section.accepted_by is None or section.why is None or section.review is None:
        return None
    return EndlessWant(section.accepted_by, section.why, section.review)
