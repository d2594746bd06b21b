"""PATCH (RFC 7644 §3.5.2): operations applied to a copy of a resource."""

from __future__ import annotations

import copy
import re
from dataclasses import dataclass
from typing import Any

from sigillum.sandbox.http.errors import ScimProblem

from . import filters
from .attributes import Attr, Kind
from .resources import Json, attribute, body_to_resource, coerce, complete, key_of, split_urn, value_of

PATCH_OP = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
_PATH = re.compile(r"(?P<name>[A-Za-z$][\w$-]*)(?:\[(?P<filter>.*)\])?(?:\.(?P<sub>[A-Za-z$][\w$-]*))?\Z", re.S)


@dataclass(frozen=True)
class Target:
    """Where an operation points: an attribute, a filter on its values, a sub-attribute."""

    urn: str | None
    attr: Attr
    tree: filters.Tree | None
    sub: Attr | None

    @property
    def mutability(self) -> str:
        if self.sub is not None and self.sub.mutability == "readOnly":
            return "readOnly"
        return self.attr.mutability


def _target(kind: Kind, path: str) -> Target | None:
    """Parse a path. None: it names a whole extension. Raises ScimProblem (invalidPath)."""
    urn, rest = split_urn(kind, path.strip())
    if urn is not None and not rest:
        return None
    found = _PATH.match(rest)
    attr = attribute(kind, urn, found["name"]) if found else None
    if found is None or attr is None or attr.name == "schemas":
        raise ScimProblem(400, f"The path {path!r} names nothing here", "invalidPath")
    tree = filters.parse(found["filter"]) if found["filter"] is not None else None
    sub = attr.find(found["sub"]) if found["sub"] else None
    if (found["sub"] and sub is None) or (tree is not None and not attr.multi):
        raise ScimProblem(400, f"The path {path!r} names nothing here", "invalidPath")
    return Target(urn if urn != kind.schema.id else None, attr, tree, sub)


def apply(kind: Kind, data: Json, body: Any) -> Json:
    """The resource after all operations of a PatchOp message; all or nothing."""
    schemas = value_of(body, "schemas") if isinstance(body, dict) else None
    operations = value_of(body, "Operations") if isinstance(body, dict) else None
    if not isinstance(schemas, list) or PATCH_OP not in schemas:
        raise ScimProblem(400, f"schemas must name {PATCH_OP}", "invalidSyntax")
    if not isinstance(operations, list) or not operations:
        raise ScimProblem(400, "Operations must be a list", "invalidSyntax")
    out = copy.deepcopy(data)
    for operation in operations:
        verb = str(value_of(operation, "op") or "").lower()
        if verb not in ("add", "replace", "remove"):
            raise ScimProblem(400, "op must be add, replace or remove", "invalidSyntax")
        path, value = value_of(operation, "path"), value_of(operation, "value")
        if path is not None and not isinstance(path, str):
            raise ScimProblem(400, "path must be text", "invalidPath")
        if verb == "remove":
            if not path:
                raise ScimProblem(400, "remove needs a path", "noTarget")
            _one(kind, out, verb, path, value)
        elif path:
            if value_of(operation, "value") is None and verb == "add":
                raise ScimProblem(400, f"{verb} needs a value", "invalidValue")
            _one(kind, out, verb, path, value)
        else:
            _whole(kind, out, verb, value)
    check_immutable(kind, data, out)
    return complete(kind, out)


def _whole(kind: Kind, out: Json, verb: str, value: Any) -> None:
    if not isinstance(value, dict):
        raise ScimProblem(400, "Without a path the value must be an object", "invalidValue")
    for name, part in value.items():
        if name.lower() == "schemas":
            continue
        _one(kind, out, verb, name, part)


def _one(kind: Kind, out: Json, verb: str, path: str, value: Any) -> None:
    target = _target(kind, path)
    if target is None:
        urn, _ = split_urn(kind, path)
        if verb == "remove":
            out.pop(str(urn), None)
            return
        if not isinstance(value, dict):
            raise ScimProblem(400, "An extension's value must be an object", "invalidValue")
        for name, part in value.items():
            if name.lower() != "schemas":
                _one(kind, out, verb, f"{urn}:{name}", part)
        return
    if target.mutability == "readOnly":
        raise ScimProblem(400, f"{path} is read-only", "mutability")
    place = out if target.urn is None else out.setdefault(target.urn, {})
    _change(kind, place, target, verb, value)
    if target.urn is not None and not place:
        out.pop(target.urn)


def _change(kind: Kind, place: Json, target: Target, verb: str, value: Any) -> None:
    attr, name = target.attr, key_of(place, target.attr.name) or target.attr.name
    if target.tree is not None:
        _change_matching(kind, place, name, target, verb, value)
    elif target.sub is not None:
        _change_sub(place, name, attr, target.sub, verb, value)
    elif verb == "remove":
        if isinstance(value, list) and attr.multi:  # values named one by one
            gone = [coerce(attr, [v]) for v in value]
            place[name] = [v for v in place.get(name, []) if not any(_same(v, g) for g in gone)]
            value = place[name] or place.pop(name)
        else:
            place.pop(name, None)
    else:
        made = coerce(attr, value if not attr.multi or isinstance(value, list) else [value])
        _assign(place, name, attr, verb, made)


def _assign(place: Json, name: str, attr: Attr, verb: str, made: Any) -> None:
    if made in (None, [], {}):
        if verb == "replace":
            place.pop(name, None)
    elif attr.multi and verb == "add":
        have = list(place.get(name) or [])
        fresh = [v for v in made if not any(_same(h, v) for h in have)]
        place[name] = _one_primary(have, fresh) + fresh
    elif attr.type == "complex" and not attr.multi:
        place[name] = {**(place.get(name) or {}), **made} if verb == "add" else made
    else:
        place[name] = made


def _same(a: Any, b: Any) -> bool:
    if isinstance(b, list):
        b = b[0] if b else None
    if isinstance(a, dict) and isinstance(b, dict) and "value" in a and "value" in b:
        return bool(a["value"] == b["value"] and a.get("type", b.get("type")) == b.get("type", a.get("type")))
    return bool(a == b)


def _one_primary(have: list[Any], fresh: list[Any]) -> list[Any]:
    if not any(isinstance(v, dict) and v.get("primary") is True for v in fresh):
        return have
    return [{**v, "primary": False} if isinstance(v, dict) and v.get("primary") else v for v in have]


def _change_sub(place: Json, name: str, attr: Attr, sub: Attr, verb: str, value: Any) -> None:
    items = place.get(name)
    if attr.multi:
        targets = list(items or [])
    else:
        targets = [place.setdefault(name, {})] if verb != "remove" or items else []
    for item in targets:
        if verb == "remove":
            item.pop(sub.name, None)
        else:
            item[sub.name] = coerce(sub, value)
    if not attr.multi and not place.get(name):
        place.pop(name, None)


def _change_matching(kind: Kind, place: Json, name: str, target: Target, verb: str, value: Any) -> None:
    attr, tree = target.attr, target.tree
    assert tree is not None
    items = list(place.get(name) or [])
    hit = [i for i in items if filters._item_matches(tree, attr, i)]
    if not hit and verb != "remove":
        raise ScimProblem(400, "No value matches the path's filter", "noTarget")
    if verb == "remove" and target.sub is None:
        items = [i for i in items if not any(i is h for h in hit)]
    for item in hit if verb == "remove" and target.sub is not None else []:
        item.pop(target.sub.name, None) if target.sub else None
    if verb != "remove":
        for item in hit:
            if target.sub is not None:
                item[target.sub.name] = coerce(target.sub, value)
            elif isinstance(item, dict):
                made = coerce(attr, [value])
                if verb == "replace":
                    item.clear()
                item.update(made[0] if made else {})
            else:
                items[items.index(item)] = (coerce(attr, [value]) or [item])[0]
        if any(i.get("primary") is True for i in hit if isinstance(i, dict)):
            items = [i if any(i is h for h in hit) else {**i, "primary": False} if i.get("primary") else i for i in items]
    if items:
        place[name] = items
    else:
        place.pop(name, None)


def replace(kind: Kind, data: Json, body: Any) -> Json:
    """PUT (RFC 7644 §3.5.1): what the body leaves out is removed; immutable values stay as they are."""
    out = body_to_resource(kind, body)
    for attr in kind.schema.attributes:
        if attr.mutability == "immutable" and attr.name not in out and attr.name in data:
            out[attr.name] = data[attr.name]
        if attr.mutability == "writeOnly" and attr.name not in out and attr.name in data:
            out[attr.name] = data[attr.name]
    check_immutable(kind, data, out)
    return out


def _settled(old: Any, new: Any) -> bool:
    """An immutable complex value is unchanged if what the client can name is."""
    if isinstance(old, dict) and isinstance(new, dict):
        if "value" in old or "value" in new:
            return bool(old.get("value") == new.get("value"))
        return {k: v for k, v in old.items() if v} == {k: v for k, v in new.items() if v}
    return bool(old == new)


def check_immutable(kind: Kind, old: Json, new: Json) -> None:
    """Raises ScimProblem (mutability) where a set immutable attribute would change."""
    for schema in kind.schemas():
        before = old if schema is kind.schema else old.get(schema.id, {})
        after = new if schema is kind.schema else new.get(schema.id, {})
        for attr in schema.attributes:
            have = before.get(attr.name)
            if attr.mutability == "immutable" and have not in (None, [], {}) and not _settled(have, after.get(attr.name)):
                raise ScimProblem(400, f"{attr.name} cannot be changed", "mutability")
