"""`sign_in:`, the section of the facet *sign-in*."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema
from pydantic_core import PydanticCustomError

from sigillum.core.charter.wants import ExemptWant, RelaxWant, RuleWant, SignInWant
from sigillum.core.values.errors import Position
from sigillum.reading.models import Day, Section

FACET = "sign_in"


def _network(value: Any) -> Any:
    import ipaddress  # few charters need it

    try:
        return str(ipaddress.ip_network(value if isinstance(value, str) else ""))
    except ValueError as problem:
        raise PydanticCustomError(
            "network",
            "{what}",
            {"what": f"{str(value)[:40]!r} is no network", "mend": "write it like 198.51.100.0/24 or 2001:db8::/48"},
        ) from problem


Network = Annotated[str, BeforeValidator(_network), WithJsonSchema({"type": "string"})]


class RiskSection(Section):
    """Who accepted the risk, why, and when it is looked at again."""

    rule: str = Field(description="The sign-in rule's name in the tenant")
    accepted_by: str = Field(description="Who accepted the risk")
    why: str = Field(description="Why there is no other way")
    review: Day = Field(description="When it is looked at again")


class RelaxSection(RiskSection):
    """A tenant-wide rule that is switched off, since it knows no exemptions."""

    replaced_by: str = Field(description="The rule that keeps everybody else protected; it has to stand first")


class RuleSection(Section):
    """A sign-in rule of the charter's own: it is made before anybody is let off another one, and ends with the charter."""

    name: str = Field(description="Its name in the tenant")
    demands: list[Literal["second-factor", "device"]] = Field(default_factory=list, description="What it demands at sign-in")
    of: Literal["everyone"] | list[str] = Field(description="everyone, or accounts and teams by name")
    networks: list[Network] = Field(default_factory=list, description="Sign-in from these networks only")
    at: Literal["any", "interactive"] = Field("any", description="interactive: only where somebody sits at a screen")
    accepted_by: str = Field(description="Who accepted it")
    why: str = Field(description="What it is for")
    review: Day = Field(description="When it is looked at again")


class SignInSection(Section):
    """How the program signs in: unattended, and without a second factor, unless said."""

    networks: list[Network] = Field(default_factory=list, description="From these networks only")
    interactive: bool | None = Field(
        None, description="True: somebody sits there; false: a sign-in rule of its own lets nobody in at a screen"
    )
    second_factor: bool = Field(False, description="True: it presents a second factor, and the tenant demands one of it")
    device: bool = Field(False, description="True: it runs on a device that the tenant manages, and the tenant demands that")
    rules: list[RuleSection] = Field(default_factory=list, description="Sign-in rules of its own")
    exempt: RiskSection | None = None
    relax: RelaxSection | None = None


class Part(Section):
    """The key of a charter; its model is made only where one has it."""

    sign_in: SignInSection | None = None


def to_core(section: SignInSection | None, position: Position) -> SignInWant | None:
    if section is None:
        return None
    exempt, relax = section.exempt, section.relax
    return SignInWant(
        tuple(sorted(section.networks)),
        ExemptWant(exempt.rule, exempt.accepted_by, exempt.why, exempt.review) if exempt is not None else None,
        RelaxWant(relax.rule, relax.accepted_by, relax.why, relax.review, relax.replaced_by) if relax is not None else None,
        position,
        section.interactive,
        section.second_factor,
        section.device,
        tuple(_rule(r, position) for r in section.rules),
    )


def _rule(section: RuleSection, position: Position) -> RuleWant:
    everyone = section.of == "everyone"
    return RuleWant(
        section.name,
        tuple(sorted(section.demands)),
        everyone,
        () if everyone else tuple(sorted(set(section.of))),
        tuple(sorted(section.networks)),
        section.at,
        section.accepted_by,
        section.why,
        section.review,
        position,
    )
