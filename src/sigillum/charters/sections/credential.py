"""`credentials:`, the section of the facet *credential*."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from sigillum.charters.models import CharterName, Permission, Reference
from sigillum.core.charter.charter import CredentialWant
from sigillum.core.values.errors import Position
from sigillum.reading.models import Duration, Section, only_with, says, text_schema

FACET = "credential"


class CredentialSection(Section):
    """What the identity proves itself with."""

    model_config = says(only_with(("password_from",), "kind", "password"), only_with(("public_key",), "keep_in", "holder"),
                        {"if": {"required": ["keep_in"], "properties": {"keep_in": {"const": "holder"}}},
                         "then": {"properties": {"kind": {"const": "key-pair"}}}})

    name: CharterName = Field(description="Its name in the charter and the tenant")
    kind: Literal["key-pair", "api-token", "shared-secret", "password"] = Field(
        description="key-pair, password: made here; api-token, and a client's shared-secret: made by the tenant")
    lasts: Duration | None = Field(None, description="How long a generation lives")
    renew_before: Duration | None = Field(None, description="How long before its end it counts as due")
    limits: list[Permission] = Field(default_factory=list,
                                     description="Permissions it is narrowed to; none: all that is granted")
    keep_in: Literal["file", "holder"] = Field("file", description="holder: the consumer makes and keeps the key")
    public_key: Annotated[str, text_schema(pattern="^file:")] | None = Field(
        None, description="file:PATH of the holder's public JWK")
    password_from: Reference | None = Field(
        None, description="Of a password that was chosen: env:NAME or file:PATH; none: it is made here")
    algorithm: Literal["Ed25519", "ES256", "RS256"] = Field("Ed25519", description="For a key pair made here")
    consumers: list[str] = Field(default_factory=list, description="Who uses it")

    @model_validator(mode="after")
    def _fits(self) -> CredentialSection:
        def wrong(what: str, mend: str) -> PydanticCustomError:
            return PydanticCustomError("credential", "{what}", {"what": what, "mend": mend})
        if self.kind != "key-pair" and self.keep_in == "holder":
            raise wrong(f"an {self.kind} is made by the tenant, so no holder can make it", "write `keep_in: file`")
        if self.password_from is not None and self.kind != "password":
            raise wrong("`password_from` is for a password", "write `kind: password`, or leave it out")
        if self.public_key is not None and self.keep_in != "holder":
            raise wrong("`public_key` is for a key that its holder made", "write `keep_in: holder` too")
        if self.public_key is not None and not self.public_key.startswith("file:"):
            raise wrong("`public_key` names a file", "write `public_key: file:PATH`")
        if self.lasts is not None and self.renew_before is not None and self.renew_before >= self.lasts:
            raise wrong("`renew_before` is not shorter than `lasts`", "write a shorter `renew_before`")
        return self


def to_core(section: CredentialSection, position: Position, usual_seconds: int, usual_before: int,
            public_key: Mapping[str, Any] | None) -> CredentialWant:
    lasts = section.lasts or usual_seconds
    before = section.renew_before if section.renew_before is not None else min(usual_before, lasts // 2)
    return CredentialWant(section.name, section.kind, lasts, before, tuple(section.limits), section.keep_in,
                          section.algorithm, public_key, tuple(section.consumers), position, section.password_from or "")
