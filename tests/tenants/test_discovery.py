"""The resource types that a server names: whole, in pages, as a bare list, or not at all."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import pytest

from sigillum.core.values.errors import UnreachableError
from sigillum.protocols.http import Answer
from sigillum.protocols.scim import ScimRefusedError
from sigillum.tenants.scim.discovery import _Kept, _types

NOW = datetime(2026, 12, 2, tzinfo=UTC)
USERS = {
    "schema": "urn:ietf:params:scim:schemas:core:2.0:User",
    "endpoint": "/Users",
    "schemaExtensions": [{"schema": "urn:x"}],
}
GROUPS = {"schema": "urn:ietf:params:scim:schemas:core:2.0:Group", "endpoint": "/Groups"}
KEPT = _Kept({"account": "/Old"}, version='W/"1"', at=NOW)


@dataclass
class Server:
    """What it answers, and how often it was asked for all pages."""

    body: Any
    status: int = 200
    base: str = "https://x.example/scim"
    pages: list[str] = field(default_factory=list)

    def changed(self, path: str, version: str) -> Answer | None:
        if self.status == 304:
            return None
        if self.status != 200:
            raise ScimRefusedError(Answer(self.status, {}, b"{}", self.base, NOW, NOW), "looking")
        return Answer(200, {"ETag": '"2"'}, json.dumps(self.body).encode(), self.base, NOW, NOW)

    def find(self, path: str, filter_: str) -> list[Any]:
        self.pages.append(path)
        return [USERS, GROUPS]


@pytest.mark.parametrize(
    ("body", "endpoints", "pages", "version"),
    [
        ({"totalResults": 1, "Resources": [USERS]}, {"account": "/Users"}, 0, '"2"'),
        ({"totalResults": 2, "Resources": [USERS]}, {"account": "/Users", "team": "/Groups"}, 1, ""),
        ({"Resources": [USERS]}, {"account": "/Users"}, 0, '"2"'),
        ({"totalResults": "2", "Resources": [GROUPS, 7, {"schema": "x", "endpoint": "/X"}]}, {"team": "/Groups"}, 0, '"2"'),
        ([USERS, {**GROUPS, "endpoint": "https://elsewhere.example/Groups"}], {"account": "/Users"}, 0, '"2"'),
        ({"Resources": None}, {}, 0, '"2"'),
    ],
)
def test_types_are_read_as_far_as_they_are_named(body: Any, endpoints: dict[str, str], pages: int, version: str) -> None:
    server = Server(body)
    found = _types(server, KEPT)  # type: ignore[arg-type]
    assert (dict(found.endpoints), len(server.pages), found.version) == (endpoints, pages, version)
    assert ("urn:x" in found.extensions) == ("account" in endpoints)


def test_what_has_not_changed_is_kept_and_what_is_not_there_is_nothing() -> None:
    same = _types(Server(None, 304), KEPT)  # type: ignore[arg-type]
    assert (same.endpoints, same.version, same.at > NOW) == (KEPT.endpoints, KEPT.version, True)
    assert _types(Server(None, 404), KEPT).endpoints == {}  # type: ignore[arg-type]
    with pytest.raises(ScimRefusedError):
        _types(Server(None, 403), KEPT)  # type: ignore[arg-type]
    with pytest.raises(UnreachableError, match="no resources"):
        _types(Server({"Resources": 7}), KEPT)  # type: ignore[arg-type]
