"""A workload's profile: how a program gets in by a trust, without any secret. Our own JSON, documented in docs/keyless.md."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from sigillum.core.federation.trusts import DISCOVERY, Trust
from sigillum.protocols.headers import fault_of
from sigillum.reading.document import parse
from sigillum.reading.models import Section, one_of, says, validate, wrong

from .issuers import Claim, ref
from .sections.trusts import ConditionSection

WAYS = ("file", "address", "variable", "command")


class ReadsSection(Section):
    """Where the workload's own token is read."""

    file: str | None = None
    address: str | None = None
    header: dict[str, str] = Field(default_factory=dict, description="Of an address: what goes with the request")
    at: str = Field("", description="Of an answer or a file that is JSON: a pointer to the token (RFC 6901)")
    variable: str | None = None
    command: list[str] | None = Field(None, min_length=1)

    model_config = says(one_of(*WAYS))

    @model_validator(mode="after")
    def _one(self) -> ReadsSection:
        if sum(getattr(self, way) is not None for way in WAYS) != 1:
            raise wrong("reads", "a token is read in just one way", f"write one of {', '.join(WAYS)}")
        for fault in filter(None, (fault_of(name, value) for name, value in self.header.items())):
            raise wrong("header", *fault)
        return self


class TenantSection(Section):
    """Where it goes with that."""

    name: str
    address: str
    issuer: str
    endpoint: str = Field(description="Where tokens are exchanged (RFC 8693)")
    decisions: str = Field("", description="Where it is asked whether what it got is taken (AuthZEN)")


class TrustPart(Section):
    """The trust that lets it in, with all its conditions."""

    id: str
    name: str
    issuer: str
    audience: str
    subject: str = ""
    when: list[ConditionSection] = Field(default_factory=list)
    acts_as: Claim | None = None

    def to_core(self) -> Trust:
        return Trust(
            self.name,
            self.issuer,
            self.audience,
            DISCOVERY,
            self.subject,
            tuple(c.to_core() for c in self.when),
            ref(self.acts_as),
        )


class ProfileFile(Section):
    """All of it."""

    profile: Literal[1]
    charter: str
    account: str
    acts_as: str = Field(description="The principal id that it acts as")
    lives_seconds: int | None = None
    tenant: TenantSection
    trust: TrustPart
    reads: ReadsSection


def profile_from(text: str, where: str) -> ProfileFile:
    """Raises FileError with every mistake in it."""
    return validate(ProfileFile, parse(text, where))
