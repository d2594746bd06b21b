"""`consumers:` in sigillum.yaml: what a kind of consumer asks for."""

from __future__ import annotations

from pydantic import Field

from sigillum.reading.models import Section

from .models import CharterName


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


class Part(Section):
    """The key of the workspace file; its model is made only where one has it."""

    consumers: dict[CharterName, ConsumerSection] = Field(default_factory=dict, description="Kinds of consumer, by name")
