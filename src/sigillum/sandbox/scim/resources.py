"""Walking a resource by its schema: find attributes, check a body, and show what was asked for."""

from __future__ import annotations

import base64
import binascii
from typing import Any

from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.worlds.clock import moment_of

from .attributes import COMMON, Attr, Kind

Json = dict[str, Any]


def key_of(data: Json, name: str) -> str | None:
    """The spelling under which `data` holds the attribute `name` (names ignore case, RFC 7643 §2.1)."""
    if name in data:
        return name
    low = name.lower()
    return next((k for k in data if k.lower() == low), None)


def value_of(data: Any, name: str) -> Any:
    if not isinstance(data, dict):
        return None
    key = key_of(data, name)
    return data[key] if key is not None else None


def split_urn(kind: Kind, path: str) -> tuple[str | None, str]:
    """Split `urn:...:User:userName` into the schema's URN and the rest; a bare path has no URN."""
    for schema in sorted(kind.schemas(), key=lambda s: -len(s.id)):
        if path.lower() == schema.id.lower():
            return schema.id, ""
        if path.lower().startswith(schema.id.lower() + ":"):
            return schema.id, path[len(schema.id) + 1 :]
    return None, path


def attribute(kind: Kind, urn: str | None, name: str) -> Attr | None:
    """The definition of a top-level attribute, or None where the type has none of that name."""
    if urn is None or urn == kind.schema.id:
        common = next((a for a in COMMON if a.name.lower() == name.lower()), None)
        return common or kind.schema.find(name)
    return next((e.find(name) for e in kind.extensions if e.id == urn), None)


def holder(kind: Kind, data: Json, urn: str | None) -> Any:
    """The object inside `data` where attributes of `urn` stand."""
    return data if urn is None or urn == kind.schema.id else value_of(data, urn)


_SCALARS: dict[str, tuple[type, ...]] = {
    "string": (str,),
    "reference": (str,),
    "boolean": (bool,),
    "decimal": (int, float),
    "integer": (int,),
    "dateTime": (str,),
    "binary": (str,),
}


def _scalar(attr: Attr, value: Any, where: str) -> Any:
    if not isinstance(value, _SCALARS[attr.type]) or (isinstance(value, bool) and attr.type != "boolean"):
        raise ScimProblem(400, f"{where} must be a {attr.type}", "invalidValue")
    if attr.type == "dateTime":
        try:
            moment_of(str(value))
        except ValueError as problem:
            raise ScimProblem(400, f"{where}: {problem}", "invalidValue") from problem
    if attr.type == "binary":
        try:
            base64.b64decode(str(value), validate=True)
        except binascii.Error as problem:
            raise ScimProblem(400, f"{where} must be base64", "invalidValue") from problem
    if isinstance(value, str) and len(value) > 20_000:
        raise ScimProblem(400, f"{where} is too long", "tooLarge")
    return value


def coerce(attr: Attr, value: Any, where: str | None = None) -> Any:
    """Check one value against its definition and drop what clients may not set. None means unassigned."""
    where = where or attr.name
    if value is None:
        return None
    if attr.multi:
        if not isinstance(value, list):
            raise ScimProblem(400, f"{where} must be a list", "invalidValue")
        items = [coerce_one(attr, v, where) for v in value]
        if sum(1 for v in items if isinstance(v, dict) and v.get("primary") is True) > 1:
            raise ScimProblem(400, f"{where} may have one primary value", "invalidValue")
        return [v for v in items if v not in (None, {})] or None
    return coerce_one(attr, value, where)


def coerce_one(attr: Attr, value: Any, where: str) -> Any:
    if attr.type != "complex":
        return _scalar(attr, value, where)
    if not isinstance(value, dict):
        raise ScimProblem(400, f"{where} must be an object", "invalidValue")
    out: Json = {}
    for key, inner in value.items():
        sub = attr.find(key)
        if sub is None:
            raise ScimProblem(400, f"{where} has no attribute {key}", "invalidSyntax")
        if sub.mutability != "readOnly":
            made = coerce(sub, inner, f"{where}.{sub.name}")
            if made is not None:
                out[sub.name] = made
    for sub in attr.sub:
        if sub.required and sub.name not in out and out:
            raise ScimProblem(400, f"{where}.{sub.name} is required", "invalidValue")
    return out


def body_to_resource(kind: Kind, body: Any) -> Json:
    """Check a POST or PUT body: schemas, unknown attributes, types. Read-only attributes are left out."""
    if not isinstance(body, dict):
        raise ScimProblem(400, "The body must be a JSON object", "invalidSyntax")
    named = value_of(body, "schemas")
    if not isinstance(named, list) or not all(isinstance(s, str) for s in named):
        raise ScimProblem(400, "schemas is required", "invalidValue")
    known = {s.id.lower(): s.id for s in kind.schemas()}
    unknown = [s for s in named if s.lower() not in known]
    if unknown or kind.schema.id.lower() not in {s.lower() for s in named}:
        raise ScimProblem(400, f"schemas must name {kind.schema.id} and none unknown here", "invalidValue")
    out: Json = {}
    for key, value in body.items():
        _take(kind, out, key, value)
    return complete(kind, out)


def _take(kind: Kind, out: Json, key: str, value: Any) -> None:
    extension = next((e for e in kind.extensions if e.id.lower() == key.lower()), None)
    if extension is not None:
        if value is not None and not isinstance(value, dict):
            raise ScimProblem(400, f"{key} must be an object", "invalidValue")
        inner: Json = {}
        for name, part in (value or {}).items():
            if name.lower() == "schemas":
                continue
            attr = extension.find(name)
            if attr is None:
                raise ScimProblem(400, f"{extension.id} has no attribute {name}", "invalidSyntax")
            made = coerce(attr, part)
            if made is not None:
                inner[attr.name] = made
        if inner:
            out[extension.id] = inner
        return
    attr = attribute(kind, None, key)
    if attr is None:
        raise ScimProblem(400, f"{kind.name} has no attribute {key}", "invalidSyntax")
    if attr.mutability != "readOnly" and attr.name != "schemas":
        made = coerce(attr, value)
        if made is not None and made != {}:
            out[attr.name] = made


def complete(kind: Kind, data: Json) -> Json:
    """Check required attributes and write `schemas` to match what is there."""
    for attr in kind.schema.attributes:
        if attr.required and attr.mutability != "readOnly" and data.get(attr.name) in (None, "", [], {}):
            raise ScimProblem(400, f"{attr.name} is required", "invalidValue")
    data["schemas"] = [s.id for s in kind.schemas() if s is kind.schema or s.id in data]
    return data


def _drop(attr: Attr, value: Any) -> Any:
    """`value` without sub-attributes that are never or only on request returned."""
    if attr.type != "complex":
        return value
    items = value if isinstance(value, list) else [value]
    hidden = {s.name for s in attr.sub if s.returned in ("never", "request")}
    kept = [{k: v for k, v in item.items() if k not in hidden} for item in items] if hidden else items
    return kept if isinstance(value, list) else kept[0]


def _wanted(kind: Kind, names: list[str]) -> dict[tuple[str | None, str], set[str]]:
    """Attribute names of a request, as (urn, attribute) with the sub-attributes named (none: all)."""
    out: dict[tuple[str | None, str], set[str]] = {}
    for name in names:
        urn, rest = split_urn(kind, name)
        urn = None if urn == kind.schema.id else urn
        head, _, sub = rest.lower().partition(".")
        known = out.get((urn, head))
        if not sub:
            out[urn, head] = set()
        elif known is None or known:
            out.setdefault((urn, head), set()).add(sub)
    return out


def show(kind: Kind, data: Json, attributes: list[str], excluded: list[str]) -> Json:
    """The resource as RFC 7644 §3.9 returns it for `attributes` or `excludedAttributes`."""
    only, without = _wanted(kind, attributes), _wanted(kind, excluded)
    out: Json = {}
    for key, value in data.items():
        extension = next((e for e in kind.extensions if e.id == key), None)
        if extension is None:
            _show_one(kind, None, key, value, only, without, out)
            continue
        if (key, "") in without or (only and (key, "") not in only and not any(u == key for u, _ in only)):
            continue
        inner: Json = {}
        narrowed = {} if (key, "") in only else only
        for name, part in value.items():
            _show_one(kind, key, name, part, narrowed, without, inner)
        if inner:
            out[key] = inner
    return out


def _show_one(
    kind: Kind,
    urn: str | None,
    name: str,
    value: Any,
    only: dict[tuple[str | None, str], set[str]],
    without: dict[tuple[str | None, str], set[str]],
    out: Json,
) -> None:
    attr = attribute(kind, urn, name)
    if attr is None or attr.returned == "never":
        return
    spot = (urn, name.lower())
    if attr.returned != "always":
        if only and spot not in only:
            return
        if without.get(spot) == set() or (attr.returned == "request" and spot not in only):
            return
        value = _narrow(value, only.get(spot, set()), without.get(spot, set()))
    out[name] = _drop(attr, value)


def _narrow(value: Any, keep: set[str], leave: set[str]) -> Any:
    if not (keep or leave):
        return value
    items = value if isinstance(value, list) else [value]
    cut = [
        {k: v for k, v in i.items() if (not keep or k.lower() in keep) and k.lower() not in leave} if isinstance(i, dict) else i
        for i in items
    ]
    return cut if isinstance(value, list) else cut[0]
