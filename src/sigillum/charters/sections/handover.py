"""`handover:`, what is handed over of a charter. It asks for nothing in a tenant, so it belongs to no facet."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema
from pydantic_core import PydanticCustomError

from sigillum.charters.models import PlacePath
from sigillum.core.charter.wants import HandoverWant
from sigillum.core.values.text import did_you_mean
from sigillum.reading.models import Section

FORMS = Literal["text", "env", "json", "yaml", "snippet"]


def _value(value: Any) -> Any:
    from sigillum.core.charter.sheet import KINDS  # few charters need it

    if value not in KINDS:
        raise PydanticCustomError(
            "handover-value",
            "{what}",
            {
                "what": f"there is no value {str(value)[:40]!r} to hand over",
                "mend": did_you_mean(str(value), KINDS) or f"known: {', '.join(KINDS)}",
            },
        )
    return value


class HandoverSection(Section):
    """What is handed over."""

    gives: list[Annotated[str, BeforeValidator(_value), WithJsonSchema({"type": "string"})]] = Field(
        default_factory=list, description="Values by name: client_id, secret, key, token_endpoint, ends ..."
    )
    form: FORMS | None = Field(None, alias="as", description="text where none is given")
    to: str | None = Field(None, description="The kind of consumer: `consumers:` in sigillum.yaml describes it")
    reveal: Literal["once"] | None = Field(
        None, description="`once`: `--reveal` shows each generation once; again and again where nothing is said"
    )
    test: PlacePath | None = Field(None, description="An object that the consumer may try it on")


class Part(Section):
    """The key of a charter; its model is made only where one has it."""

    handover: HandoverSection | None = None


def to_core(section: HandoverSection | None) -> HandoverWant:
    if section is None:
        return HandoverWant()
    return HandoverWant(
        tuple(section.gives), section.form or "", section.to or "", section.test or "", section.reveal == "once"
    )
