"""`consumers:` in sigillum.yaml: what a kind of consumer asks for."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BeforeValidator, Field, field_validator

from sigillum.core.values.times import DURATION, parse_duration
from sigillum.reading.models import Duration, Section, form_schema, wrong

from .models import CharterName

WORDS = ("each-time", "restart", "by-hand")


def _pick_up(value: Any) -> Any:
    if value in WORDS:
        return value
    try:
        return parse_duration(value if isinstance(value, str) else "")
    except ValueError as problem:
        raise wrong(
            "picks-up",
            f"{value!r} does not say when a new credential is read",
            "write each-time, restart, by-hand, or a time like 1h",
        ) from problem


PickUp = Annotated[Any, BeforeValidator(_pick_up), form_schema(rf"{'|'.join(WORDS)}|{DURATION}", examples=["each-time", "1h"])]


class AskSection(Section):
    """One thing that a kind of consumer asks for."""

    value: str = Field(description="Which value: client_id, secret, token_endpoint ...; any word where `fixed` gives it")
    name: str | None = Field(None, alias="as", description="What the consumer calls it")
    form: str | None = Field(None, description="A regular expression for the whole value")
    shortest: int = 0
    longest: int = 0
    of: CharterName | None = Field(None, description="Another charter whose value it is, for two identities of one job")
    fixed: str | None = Field(None, description="The value itself, where it is always the same: a test user, a test object")


class ConsumerSection(Section):
    """A kind of consumer: what it asks for, and the public key that sheets are sealed to."""

    asks: list[AskSection] = Field(default_factory=list)
    key: str | None = Field(None, description="file:PATH of its public JWK")
    picks_up: PickUp = Field("each-time", description="When it reads a new credential: each-time, 1h, restart, by-hand")
    from_: str | None = Field(None, alias="from", description="The address or network from which it signs in")
    used_every: Duration | None = Field(None, description="The longest time between two uses of its credential")

    @field_validator("from_")
    @classmethod
    def _network(cls, value: str | None) -> str | None:
        if value is not None:
            import ipaddress

            try:
                return str(ipaddress.ip_network(value, strict=False))
            except ValueError as problem:
                raise wrong(
                    "from", f"{value!r} is no address and no network", "write it like 192.0.2.7 or 192.0.2.0/24"
                ) from problem
        return value


class Part(Section):
    """The key of the workspace file; its model is made only where one has it."""

    consumers: dict[CharterName, ConsumerSection] = Field(default_factory=dict, description="Kinds of consumer, by name")
