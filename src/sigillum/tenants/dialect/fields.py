"""What is the same of all things of a dialect: ids, the usual forms of fields, which fields are carried."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from functools import lru_cache
from typing import Any
from urllib.parse import quote, unquote

from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.kind import Kind, Record
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import SomebodyError
from sigillum.core.values.times import format_instant

from .call_model import ListSection
from .model import ThingSection
from .values import names_in

BESIDE = ("mark", "version", "progress", "modified", "id")  # what is shown beside a kind's own fields


class NoIdError(SomebodyError):
    """A text that cannot be the id of such a thing there, so nothing has it."""

    code = "no-id"


class HiddenError(SomebodyError):
    """Something cannot be seen, and why in a few words. `never`: as long as the dialect says no more."""

    code = "hidden"

    def __init__(self, what: str, *, never: bool = False) -> None:
        super().__init__(what)
        self.never = never


@lru_cache(maxsize=500)
def usual_form(kind: str, field: str) -> str:
    """Of which form a field is where the dialect names none."""
    type_ = KINDS[kind].type.__annotations__.get(field, "str")
    said = str(getattr(type_, "__forward_arg__", type_))
    return (
        "iso"
        if said.startswith("datetime")
        else "flag"
        if said.startswith("bool")
        else "list"
        if said.startswith("tuple")
        else "text"
    )


def joined(values: Iterable[Any]) -> str:
    """An id made of values, from which they can be had again; of one value it is that itself."""
    texts = ["" if v is None else format_instant(v) if isinstance(v, datetime) else str(v) for v in values]
    return texts[0] if len(texts) == 1 else "/".join(quote(t, safe="") for t in texts)


def last_of(identity: str) -> str:
    """What the tenant itself calls a thing whose id of ours may name what is above it, too."""
    return unquote(identity.rpartition("/")[2])


def joined_roles(all_: list[Record[Any]]) -> list[Record[Any]]:
    """What the dialect writes of a role goes to the one of that name that the tenant lists."""
    said = {r.body.name: r for r in reversed(all_)}  # of one name, what is written comes first
    listed = {r.body.name: r for r in all_}
    return [
        r.with_(
            permissions=r.body.permissions or said[n].body.permissions,
            grantable_at=r.body.grantable_at or said[n].body.grantable_at,
        )
        for n, r in listed.items()
    ]


def told_from_now(section: ThingSection) -> bool:
    """Is a tenant told how long a credential lives, so that its end falls onto no whole second?"""
    return any(
        ("until", "seconds") in names_in(make.body) | names_in(make.form) | names_in(dict(make.query)) for make in section.make
    )


def every_list(section: ThingSection) -> list[ListSection]:
    """All lists of a kind that are gone through, one after another."""
    return [*([section.all] if section.all is not None else []), *section.also]


def shown_by(section: ThingSection) -> set[str]:
    """What is shown of a kind, in one list or another."""
    return {*section.shows, *(n for listed in every_list(section) for n in listed.shows)}


def carried(section: ThingSection, kind: Kind[Any], shows: Iterable[str] | None = None) -> frozenset[str]:
    """The fields that a tenant shows of a kind, or of those entries of it that show just these."""
    known = shown_by(section) if shows is None else shows
    out = {n for n in known if n in kind.fields} | ({"role"} if section.by else set())
    out |= {n for n, lists in section.lists.items() if lists.all is not None}
    out |= {"thumbprint"} if kind is CREDENTIAL and "public_key" in out else set()
    return frozenset(out | ({"place"} if kind is GRANT or "place_id" in out else set()))
