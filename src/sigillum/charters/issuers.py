"""`issuers:` of sigillum.yaml: who issues tokens outside, how its subjects are put together, and what to know of it."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field
from pydantic_core import PydanticCustomError

from sigillum.core.federation.conditions import Ref
from sigillum.core.federation.subjects import SubjectPart, name_of
from sigillum.core.federation.trusts import DISCOVERY, Issuer
from sigillum.reading.models import OrText, Section

from .models import CharterName


def claim(value: Any) -> Any:
    """A claim by its name, or the path to one."""
    names = [value] if isinstance(value, str) else value
    if not isinstance(names, list) or not names or not all(isinstance(n, str) and n for n in names):
        raise PydanticCustomError(
            "claim",
            "{what}",
            {"what": "this is no claim", "mend": "write its name, or a list of names that leads to it, like [cluster, name]"},
        )
    return names


Claim = Annotated[list[str], BeforeValidator(claim), OrText()]


def _address(value: Any) -> Any:
    from urllib.parse import urlsplit

    text = value if isinstance(value, str) else ""
    parts = urlsplit(text)
    if not text.isascii():  # an address has no other letters (RFC 3986 §2), and what looks like one is somebody else's
        odd = next(c for c in text if not c.isascii())
        what = f"{text[:60]!r} is no issuer: {name_of(odd)} stands in no address"
        mend = "write its address just as its tokens say it (iss): a host name of other letters begins with xn--"
        raise PydanticCustomError("issuer", "{what}", {"what": what, "mend": mend})
    if parts.scheme not in ("https", "http") or not parts.hostname or parts.query or parts.fragment or parts.username:
        raise PydanticCustomError(
            "issuer",
            "{what}",
            {
                "what": f"{str(value)[:60]!r} is no issuer",
                "mend": "write its address just as its tokens say it (iss), like https://issuer.example/cluster-4",
            },
        )
    return value


def _named(value: Any) -> Any:
    return _address(value) if isinstance(value, str) and "://" in value else value


Address = Annotated[str, BeforeValidator(_address)]
Named = Annotated[str, BeforeValidator(_named)]
Keys = Annotated[str, Field(pattern=r"^(discovery|file:.+)$")]


class PartSection(Section):
    """One part of its subjects."""

    part: str
    is_: Literal["number", "name", "uuid"] = Field("name", alias="is")
    text: str = Field("", description="A part that is always the same")


class IssuerSection(Section):
    """One issuer."""

    address: Address
    keys: Keys = Field(DISCOVERY, description="discovery, or file:PATH of a key set that is pinned")
    separator: str = ":"
    subject: list[PartSection] = Field(default_factory=list, description="The parts of its subjects, in their order")
    owner: list[Claim] = Field(default_factory=list, description="Where it serves many: claims that tell its customers apart")
    user_sets: list[Claim] = Field(default_factory=list, description="Claims that whoever uses the workload can choose")
    lasting: Claim | None = Field(None, description="The claim that nobody gets who is made anew under the same name")


class Part(Section):
    """The key of sigillum.yaml; its model is made only where one has it."""

    issuers: dict[CharterName, IssuerSection] = Field(default_factory=dict)


def ref(value: list[str] | None) -> Ref:
    return tuple(value or ())


def issuer_of(section: IssuerSection) -> Issuer:
    return Issuer(section.address, tuple(map(ref, section.owner)), tuple(map(ref, section.user_sets)), ref(section.lasting))


def parts_of(section: IssuerSection) -> tuple[SubjectPart, ...]:
    return tuple(SubjectPart(p.part, p.is_, p.text) for p in section.subject)
