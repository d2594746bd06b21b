"""What schemas are made of (RFC 7643 §7): attributes, schemas, resource types."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

CORE = "urn:ietf:params:scim:schemas:core:2.0:"
OWN = "urn:sigillum:scim:1.0:"
ACCOUNT = OWN + "ServiceAccount"
TEAM = OWN + "Team"


@dataclass(frozen=True)
class Attr:
    """One attribute (RFC 7643 §7); `exact` is caseExact, `ro` short for mutability readOnly."""

    name: str
    type: str = "string"
    multi: bool = False
    required: bool = False
    exact: bool = False
    mutability: str = "readWrite"
    returned: str = "default"
    uniqueness: str = "none"
    sub: tuple[Attr, ...] = ()
    canonical: tuple[str, ...] = ()
    refs: tuple[str, ...] = ()
    about: str = ""

    def find(self, name: str) -> Attr | None:
        return next((a for a in self.sub if a.name.lower() == name.lower()), None)

    def describe(self) -> dict[str, Any]:
        """This attribute as the Schemas endpoint shows it."""
        out: dict[str, Any] = {
            "name": self.name,
            "type": self.type,
            "multiValued": self.multi,
            "description": self.about or self.name,
            "required": self.required,
            "mutability": self.mutability,
            "returned": self.returned,
        }
        if self.type in ("string", "reference", "binary"):
            out |= {"caseExact": self.exact or self.type != "string", "uniqueness": self.uniqueness}
        elif self.type != "complex":
            out["uniqueness"] = self.uniqueness
        if self.canonical:
            out["canonicalValues"] = list(self.canonical)
        if self.type == "reference":
            out["referenceTypes"] = list(self.refs) or ["uri"]
        if self.sub:
            out["subAttributes"] = [a.describe() for a in self.sub]
        return out


@dataclass(frozen=True)
class Schema:
    id: str
    name: str
    attributes: tuple[Attr, ...]
    about: str = ""

    def find(self, name: str) -> Attr | None:
        return next((a for a in self.attributes if a.name.lower() == name.lower()), None)

    def describe(self) -> dict[str, Any]:
        return {
            "schemas": [CORE + "Schema"],
            "id": self.id,
            "name": self.name,
            "description": self.about or self.name,
            "attributes": [a.describe() for a in self.attributes],
        }


@dataclass(frozen=True)
class Kind:
    """A resource type: its schema, extensions, endpoint, the power that writes it and what is indexed."""

    name: str
    endpoint: str
    schema: Schema
    power: str
    extensions: tuple[Schema, ...] = ()
    indexed: tuple[str, ...] = ()
    unique: tuple[str, ...] = field(default=())

    def schemas(self) -> Iterator[Schema]:
        yield self.schema
        yield from self.extensions

    def describe(self) -> dict[str, Any]:
        out: dict[str, Any] = {
            "schemas": [CORE + "ResourceType"],
            "id": self.name,
            "name": self.name,
            "endpoint": "/" + self.endpoint,
            "description": self.schema.about or self.name,
            "schema": self.schema.id,
        }
        if self.extensions:
            out["schemaExtensions"] = [{"schema": e.id, "required": False} for e in self.extensions]
        return out


COMMON = (
    Attr("id", exact=True, mutability="readOnly", returned="always", uniqueness="server"),
    Attr("externalId", exact=True),
    Attr("schemas", "reference", multi=True, exact=True, returned="always"),
    Attr(
        "meta",
        "complex",
        mutability="readOnly",
        sub=(
            Attr("resourceType", exact=True, mutability="readOnly"),
            Attr("created", "dateTime", mutability="readOnly"),
            Attr("lastModified", "dateTime", mutability="readOnly"),
            Attr("location", "reference", mutability="readOnly", refs=("uri",)),
            Attr("version", exact=True, mutability="readOnly"),
        ),
    ),
)


def plural(name: str, *canonical: str, value: Attr | None = None) -> Attr:
    """A multi-valued attribute with value, display, type and primary (RFC 7643 §2.4)."""
    return Attr(
        name,
        "complex",
        multi=True,
        sub=(
            value or Attr("value"),
            Attr("display"),
            Attr("type", canonical=canonical),
            Attr("primary", "boolean"),
        ),
    )


def link(
    name: str, *targets: str, multi: bool = False, mutability: str = "immutable", required: bool = False, typed: bool = False
) -> Attr:
    """A reference by value with `$ref` and what the server adds for reading."""
    sub: tuple[Attr, ...] = (
        Attr("value", exact=True, mutability="immutable", about="The resource's id"),
        Attr(
            "$ref",
            "reference",
            required=required,
            mutability="immutable",
            refs=targets,
            about="The resource's address; it may be relative to this server's base",
        ),
        Attr("display", mutability="immutable" if multi else "readOnly", about="Its name, for reading"),
    )
    if typed:
        sub += (Attr("type", mutability="immutable", canonical=targets),)
    return Attr(name, "complex", multi=multi, required=required, mutability=mutability, sub=sub)


def schema(name: str, about: str, *attributes: Attr, prefix: str = OWN) -> Schema:
    return Schema(prefix + name, name, attributes, about)
