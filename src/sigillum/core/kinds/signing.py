"""What signing in rests on: credentials, sign-in rules, and the licences that accounts hold."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any, NamedTuple

from sigillum.core.values.canonical import certificate_mark, thumbprint

from .kind import Kind


class Credential(NamedTuple):
    """What a principal proves itself with. `expires`: of a password, whether the tenant ends it; None: not said.

    `used_at`: when somebody proved itself with it last, and from where, as exactly as the tenant tells.
    """

    principal: str = ""
    name: str = ""
    type: str = ""
    thumbprint: str = ""
    until: datetime | None = None
    start: datetime | None = None
    active: bool = True
    limits: tuple[str, ...] = ()
    must_change: bool = False
    mailed: bool = False
    expires: bool | None = None
    used_at: datetime | None = None
    used_from: str = ""
    public_key: tuple[tuple[str, str], ...] = ()  # members of the JWK, where the tenant shows it
    place: str = ""  # where it is for one place alone: for which
    place_id: str = ""


class Exemption(NamedTuple):
    """An account that a rule does not apply to: who accepted the risk, why, and the day of review."""

    account: str
    accepted_by: str = ""
    why: str = ""
    review: str = ""


class SignInRule(NamedTuple):
    """What a tenant demands at sign-in, and of whom."""

    name: str = ""
    enabled: bool = True
    everyone: bool = False
    targets: tuple[str, ...] = ()
    narrowable: bool = True
    exempt: tuple[Exemption, ...] = ()
    blocks: bool = False
    applies_to: str = "any"
    demands: tuple[str, ...] = ()
    networks: tuple[str, ...] = ()


class Licence(NamedTuple):
    """Something that accounts hold, of which there are so many."""

    name: str = ""
    type: str = ""
    total: int = 0
    mailbox: bool = False
    holders: tuple[str, ...] = ()


def _exemption(value: str, about: Mapping[str, Any]) -> Exemption:
    return Exemption(value, str(about.get("accepted_by", "")), str(about.get("why", "")), str(about.get("review", "")))


def _mark(certificate: Mapping[str, Any]) -> str:
    return certificate_mark(str(certificate["der"]))


CREDENTIAL = Kind(
    "credential",
    Credential,
    key=("principal", "name"),
    power="credentials",
    finders=("principal", "name", "thumbprint", "all"),
    write_only=("carrier", "password", "signer"),
    shown_as={"public_key": ("thumbprint", thumbprint), "certificate": ("thumbprint", _mark)},
)
RULE = Kind("rule", SignInRule, power="rules", finders=("name", "all"), entries={"exempt": _exemption})
LICENCE = Kind("licence", Licence, power="licences", finders=("name", "all"))
