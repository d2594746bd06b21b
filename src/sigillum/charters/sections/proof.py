"""`proofs:`, what must work and what must not."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from sigillum.charters.models import SIGN_IN, AccountName, Expected, PlacePath
from sigillum.core.charter.charter import ProofWant, SignInTry
from sigillum.core.federation.subjects import Wrong
from sigillum.core.values.errors import Position
from sigillum.reading.models import Section, not_both, one_of, says

SIGNING = ("as_", "from_", "interactive", "second_factor", "trust", "outside")


class ProofSection(Section):
    """One expectation."""

    model_config = says(
        one_of("can", "cannot"),
        not_both("count", "at_least", "value"),
        {
            "if": {"anyOf": [{"required": [k], "properties": {k: {"const": SIGN_IN}}} for k in ("can", "cannot")]},
            "then": {
                "not": {
                    "anyOf": [
                        {"required": [k]}
                        for k in ("at", "on_behalf_of", "in", "with", "count", "at_least", "value", "follow", "while")
                    ]
                }
            },
            "else": {"required": ["at"], "not": {"anyOf": [{"required": [k]} for k in ("as", "from", "trust", "outside")]}},
        },
        {
            "if": {"required": ["cannot"]},
            "then": {"not": {"anyOf": [{"required": [k]} for k in ("count", "at_least", "value", "follow", "while")]}},
        },
    )

    can: Expected | None = Field(None, description="This must be allowed; `sign-in`: getting in")
    cannot: Expected | None = Field(None, description="This must be refused")
    at: PlacePath | None = Field(None, description="Where")
    count: int | None = Field(None, ge=0, description="Reading gives exactly so many")
    at_least: int | None = Field(None, ge=0, description="Reading gives so many or more")
    value: dict[str, Any] | None = Field(None, description="Something read has these fields with these values")
    follow: str | None = Field(None, description="Of what is read: the field whose places must be readable, too")
    with_: str | None = Field(None, alias="with", description="The credential it is tried with; without, each of several")
    while_: str | None = Field(None, alias="while", description="The role whose window it lasts as long as")

    on_behalf_of: AccountName | None = Field(None, description="Of a client: the person on whose behalf it acts")
    tenant: str | None = Field(None, alias="in", description="Another tenant than the identity's home")
    as_: AccountName | None = Field(None, alias="as", description="Of sign-in: another account than the identity's")
    from_: str | None = Field(None, alias="from", description="Of sign-in: the address it comes from")
    interactive: bool = Field(False, description="Of sign-in: a person at a screen")
    second_factor: bool = Field(False, description="Of sign-in: with a second factor")
    trust: str | None = Field(None, description="Of sign-in: from outside, by this trust of the charter")
    outside: str | dict[str, str] | None = Field(None, description="Beside `trust`: the outside subject, or its parts")

    @model_validator(mode="after")
    def _one_way(self) -> ProofSection:
        def wrong(what: str, mend: str) -> PydanticCustomError:
            return PydanticCustomError("proof", "{what}", {"what": what, "mend": mend})

        if (self.can is None) == (self.cannot is None):
            raise wrong("a proof says `can` or `cannot`, one of them", "write {can: thing.verb, at: PLACE}")
        signing = SIGN_IN in (self.can, self.cannot)
        asked = [n.strip("_") for n in ("count", "at_least", "value", "follow", "while_") if getattr(self, n) is not None]
        counting = [n for n in asked if n in ("count", "at_least", "value")]
        if len(counting) > 1 or (asked and (self.can is None or signing)):
            raise wrong(
                f"{' and '.join(asked)} cannot stand here",
                "a `can` takes one of count, at_least, value; a `cannot` takes none, and sign-in neither",
            )
        others = [n.strip("_") for n in ("at", "on_behalf_of", "tenant", "with_") if getattr(self, n) is not None]
        if signing and others:
            raise wrong(f"{' and '.join(others)} cannot stand at sign-in", "write {can: sign-in, from: ADDRESS}")
        own = [n.strip("_") for n in SIGNING if getattr(self, n)]
        if not signing and own:
            raise wrong(f"{' and '.join(own)} cannot stand here", "only `sign-in` takes it")
        by_none = self.cannot is not None and isinstance(self.outside, str)  # whoever is to come in by no trust at all
        if (self.trust is None) != (self.outside is None) and not (self.trust is None and by_none):
            raise wrong(
                "whoever comes from outside is named by its subject and a trust",
                "write {can: sign-in, trust: NAME, outside: SUBJECT}, or {cannot: sign-in, outside: 'SUBJECT'}: by none",
            )
        if self.outside is not None and len(own) > 1 + (self.trust is not None):
            raise wrong(
                "whoever comes from outside is named by its subject and a trust, and by nothing else",
                "write {cannot: sign-in, trust: NAME, outside: SUBJECT}",
            )
        if not signing and self.at is None:
            raise wrong("it is not said where", "add `at: PLACE`")
        return self


def to_core(
    section: ProofSection, position: Position, subject: Callable[[str, str | dict[str, str]], tuple[str, list[Wrong]]]
) -> ProofWant:
    """`subject`: the text of an outside subject by the issuer of a trust, and what is wrong with it."""
    permission = section.can or section.cannot or ""
    text, wrong = subject(section.trust, section.outside or "") if section.trust else (str(section.outside or ""), [])
    signing = (
        SignInTry(
            section.as_ or "",
            section.from_ or "",
            section.interactive,
            section.second_factor,
            section.trust or "",
            text,
            tuple(wrong),
        )
        if permission == SIGN_IN
        else None
    )
    return ProofWant(
        section.can is not None,
        permission,
        section.at or "",
        section.count,
        section.at_least,
        section.value,
        position,
        section.on_behalf_of or "",
        section.tenant or "",
        section.with_ or "",
        section.while_ or "",
        section.follow or "",
        signing,
    )
