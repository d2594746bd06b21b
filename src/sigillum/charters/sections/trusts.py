"""`trusts:`, the section of the facet *trust*."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from pydantic import Field, model_validator

from sigillum.charters.issuers import Claim, IssuerSection, Keys, Named, issuer_of, parts_of, ref
from sigillum.charters.models import CharterName
from sigillum.core.charter.wants import TrustWant
from sigillum.core.federation.conditions import ONE_OF, OPS, Condition
from sigillum.core.federation.subjects import Wrong, subject_of
from sigillum.core.federation.trusts import DISCOVERY, Trust
from sigillum.core.values.errors import Position
from sigillum.core.values.text import did_you_mean
from sigillum.reading.models import Section, says, wrong

FACET = "trust"
Scalar = str | int | bool


class ConditionSection(Section):
    """One condition: a claim, and just one test of it. All conditions have to hold."""

    claim: Claim
    equals: Scalar | None = None
    one_of: list[Scalar] | None = Field(None, min_length=1)
    has: Scalar | None = Field(None, description="Of a list: that is among its entries")
    starts: str | None = Field(None, min_length=1, description="It begins so, and goes on; it ends in / or :")
    present: Literal[True] | None = None
    inside_name: str = Field("", description="Why a beginning may end inside a name")

    model_config = says({"oneOf": [{"required": [op]} for op in OPS]})

    @model_validator(mode="after")
    def _one(self) -> ConditionSection:
        if sum(getattr(self, op) is not None for op in OPS) != 1:
            raise wrong("condition", "a condition has just one test", f"write one of {', '.join(OPS)}")
        return self

    def to_core(self) -> Condition:
        op = next(o for o in OPS if getattr(self, o) is not None)
        value = getattr(self, op)
        return Condition(ref(self.claim), op, tuple(value) if op == ONE_OF else value, self.inside_name)


class ActsAsSection(Section):
    """Whoever matches, and whose claim is the name of the account."""

    claim: Claim


class TrustSection(Section):
    """Tokens of an issuer that may act as the identity."""

    name: CharterName
    issuer: Named = Field(description="Its name under `issuers` of sigillum.yaml, or its address as tokens say it")
    audience: str = Field(min_length=1, description="For whom such tokens are, just as they say it (aud)")
    keys: Keys | None = Field(None, description="discovery, or file:PATH of a key set that is pinned")
    subject: str | dict[str, str] = Field("", description="The whole subject, or its parts as the issuer has them")
    when: list[ConditionSection] = Field(default_factory=list)
    acts_as: Literal["all"] | ActsAsSection = "all"
    in_: str = Field("", alias="in", description="Another tenant")


class Part(Section):
    """The key of a charter; its model is made only where one has it."""

    trusts: list[TrustSection] = Field(default_factory=list, description="Outside identities that may act as this one")


def subject_text(subject: str | Mapping[str, str], issuer: IssuerSection | None) -> tuple[str, list[Wrong]]:
    """The exact text of a subject, and every mistake in its parts."""
    if isinstance(subject, str):
        return subject, []
    if issuer is None or not issuer.subject:
        return "", [
            Wrong(
                "subject",
                "nothing says how the subjects of that issuer are put together",
                "describe them under `issuers` of sigillum.yaml, or write the whole subject as a text",
            )
        ]
    return subject_of(parts_of(issuer), issuer.separator, subject)


def to_core(section: TrustSection, issuers: Mapping[str, IssuerSection], position: Position) -> TrustWant:
    known, found = issuers.get(section.issuer), list[Wrong]()
    if known is None and "://" not in section.issuer:
        found.append(
            Wrong(
                "issuer",
                f"no issuer is called {section.issuer!r}",
                did_you_mean(section.issuer, issuers) or "describe it under `issuers` of sigillum.yaml, or write its address",
            )
        )
    subject, more = subject_text(section.subject, known)
    found += more
    acts_as = ref(section.acts_as.claim) if isinstance(section.acts_as, ActsAsSection) else ()
    keys = section.keys or (known.keys if known is not None else DISCOVERY)
    trust = Trust(
        section.name,
        known.address if known is not None else section.issuer,
        section.audience,
        keys,
        subject,
        tuple(c.to_core() for c in section.when),
        acts_as,
    )
    return TrustWant(trust, issuer_of(known) if known is not None else None, tuple(found), position, section.in_)
