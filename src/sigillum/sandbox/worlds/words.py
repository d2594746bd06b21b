"""The words of a world file: names, places, numbers, and what a cluster has."""

from __future__ import annotations

import ipaddress
import re
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field

from sigillum.reading import did_you_mean
from sigillum.reading.models import Section, by_pattern, text_schema, wrong

Json = dict[str, Any]
MOST_CROWD = 200_000
NAME = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\Z")
CALL = re.compile(r"(GET|POST|PUT|PATCH|DELETE) /[^\s{}]*\{place\}[^\s{}]*\Z")
NEEDED = re.compile(r"[^\s@]+@[^\s@]+\Z")
PATH = re.compile(r"[A-Za-z0-9][\w.-]*(?:/[A-Za-z0-9][\w.-]*)*\Z")
POWERS = (
    "look",
    "accounts",
    "teams",
    "places",
    "roles",
    "grants",
    "credentials",
    "clients",
    "consents",
    "rules",
    "licences",
    "trusts",
    "delegations",
    "workloads",
    "machines",
    "secrets",
    "tenant",
)


def known_powers(value: Any) -> Any:
    if value == "all" or (isinstance(value, list) and all(v in POWERS for v in value)):
        return value
    odd = next((v for v in value if v not in POWERS), value) if isinstance(value, list) else value
    raise wrong(
        "power-unknown",
        f"{odd!r} is no power" if isinstance(odd, str) else "this is no list of powers",
        did_you_mean(str(odd), (*POWERS, "all")) or f"write `all`, or a list of {', '.join(POWERS)}",
    )


def _whole(value: Any) -> Any:
    if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value <= 10**9:
        raise wrong("number", "this is no whole number from 0 up", "write a number like 300")
    return value


def _seconds(value: Any) -> Any:
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not 0 <= value <= 10**9:
        raise wrong("number", "this is no number of seconds from 0 up", "write a number like 2 or 0.5")
    return value


def _network(value: Any) -> Any:
    try:
        ipaddress.ip_network(value if isinstance(value, str) else "")
    except ValueError as problem:
        raise wrong("network", f"{value!r} is no network", "write it like 192.0.2.0/24") from problem
    return value


Count = Annotated[int, BeforeValidator(_whole)]
Crowd = Annotated[int, Field(le=MOST_CROWD), BeforeValidator(_whole)]
Seconds = Annotated[float, BeforeValidator(_seconds)]
Text = Annotated[str, Field(min_length=1)]
Named = Annotated[
    str,
    by_pattern(NAME, "name", "a name", "use small letters, digits and dashes"),
    text_schema(pattern=NAME.pattern[:-2] + "$"),
]
PlacePath = Annotated[
    str,
    by_pattern(PATH, "path", "a place", "write segments with slashes between, from the root"),
    text_schema(pattern=PATH.pattern[:-2] + "$"),
]
Needed = Annotated[str, by_pattern(NEEDED, "needs", "a right at a kind of place", "write it like `query.run@project`")]
Network = Annotated[str, BeforeValidator(_network), text_schema(examples=["192.0.2.0/24"])]
Class = Literal["looks", "changes-data", "manages", "administers"]
Labels = dict[str, str | list[str]]


class Machine(Section):
    """A machine or workload that has an identity here: what its tokens say."""

    name: Named
    subject: str
    claims: dict[str, Any] = {}
    lives: Seconds = Field(3600, description="How long a token of it lives")


class Host(Section):
    """A machine of the tenant's own, and the account that is attached to it: what runs there signs in as that."""

    name: Named
    account: str | None = None
    at: PlacePath | None = Field(None, description="Where it stands")
    size: str | None = Field(None, description="As prices name it")


class LocalAccount(Section):
    """Of a cluster: an account as which workloads run."""

    name: Named
    compartment: Named
    uid: str | None = None
    acts_as: str | None = Field(None, description="The principal id that it acts as at another tenant")
    acts_at: str | None = Field(None, description="The issuer of that tenant")


class Workload(Section):
    """Of a cluster: a program, the local account as which it is to run, and the groups of machines on which it does."""

    name: Named
    compartment: Named
    account: Named = "default"
    groups: list[Named] = []


class MachineGroup(Section):
    """Of a cluster: machines that are made alike."""

    name: Named
    identities: Literal["machine", "workload"] = Field("machine", description="machine: all that runs there shares one")
    made_later: bool = Field(False, description="True: no group, but how those are that will be made")
