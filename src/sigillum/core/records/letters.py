"""Requests as one signed file: what is asked of one person for one charter at one tenant, written and read."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from sigillum.core.kinds.registry import KINDS
from sigillum.core.values.asked import fault_of
from sigillum.core.values.errors import FileError
from sigillum.core.values.times import parse_instant

from .requests import DO, ID, IDS, KIND, MAKE, MOST_ASKED, MOST_FORM, TELL, VALUE, Request, doing_of
from .results import Result

SHARED = ("tenant", "charter", "to", "workspace", "expires")  # by all requests of one file


def document(requests: Sequence[Request]) -> dict[str, Any]:
    """What is asked of one person for one charter at one tenant, as one file that is to be signed."""
    return {
        "kind": KIND,
        **{n: getattr(requests[0], n) for n in SHARED},
        "asks": [r.body() for r in requests],
    }


def read(body: Mapping[str, Any], where: str) -> tuple[Request, ...]:
    """The requests of a file. Raises FileError."""
    shared, asks = {n: body.get(n, "") for n in SHARED}, body.get("asks")
    if (
        body.get("kind") != KIND
        or not all(isinstance(v, str) for v in shared.values())
        or not isinstance(asks, list)
        or not 0 < len(asks) <= MOST_ASKED
        or not all(isinstance(a, Mapping) for a in asks)
    ):
        raise _strange(where)
    try:
        parse_instant(shared["expires"])
    except ValueError as problem:
        raise _strange(where) from problem
    found = tuple(_read(asked, shared, where) for asked in asks)
    if len({r.number for r in found}) < len(found) or len({r.do == TELL for r in found}) > 1:
        raise _strange(where)
    for position, request in enumerate(found):
        before = {r.number: r for r in found[:position]}
        if not before.keys() >= set(request.after) or not all(_gives(request, before, name, of) for name, of in request.needs):
            raise _strange(where)
    return found


def _gives(request: Request, before: Mapping[int, Request], name: str, of: Result) -> bool:
    """Does an earlier request make what has such a value, and can it stand there?"""
    if of.number not in request.after or before[of.number].do != MAKE:
        return False
    kind, name = KINDS[before[of.number].thing], str(request.values["field"]) if name == "value" else name
    fits = kind is KINDS[request.thing] if name == ID else kind in IDS.get(name, (kind,))
    return fits and of.field in (ID, *kind.assigned)


def _strange(where: str) -> FileError:
    return FileError(
        "this is not a request that this version understands", where=where, mend="ask its sender which version wrote it"
    )


def _read(asked: Mapping[str, Any], shared: Mapping[str, str], where: str) -> Request:
    texts = {n: asked.get(n, "") for n in ("do", "thing", "about", "id", "power", "why")}
    values, accepted, number, replaces, after = (asked.get(n) for n in ("values", "accepted", "number", "replaces", "after"))
    if (
        not isinstance(values, Mapping)
        or not isinstance(accepted, Mapping)
        or not isinstance(replaces, list)
        or not isinstance(after, list)
        or type(number) is not int
        or not all(type(n) is int for n in after)
        or not all(isinstance(v, str) for v in (*texts.values(), *accepted.values(), *replaces))
        or texts["do"] not in DO
        or texts["thing"] not in (KINDS if texts["do"] != TELL else (VALUE,))
    ):
        raise _strange(where)
    request = Request(
        values=dict(values),
        accepted=dict(accepted),
        number=number,
        replaces=tuple(replaces),
        after=tuple(after),
        **texts,
        **shared,
    )
    try:
        if request.do == TELL:
            if len(str(values["form"])) > MOST_FORM:
                raise re.error("it is too long")
            if fault := fault_of(str(values["form"])):
                raise re.error(fault)
            return request
        doing_of(request)
    except re.error as problem:
        raise FileError(f"the form of its value: {problem}", where=where, mend="ask its sender for another form") from problem
    except (ValueError, KeyError, TypeError) as problem:
        raise FileError("its values are not what they should be", where=where, mend="ask its sender for it anew") from problem
    return request
