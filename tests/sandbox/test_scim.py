"""The simulated administration interface, held against RFC 7643, 7644 and 9865 by plain HTTP."""

from __future__ import annotations

import json
import operator
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Away, Sandbox, examples
from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.scim import filters, patch
from sigillum.sandbox.scim.schemas import KINDS

Json = dict[str, Any]
USER = "urn:ietf:params:scim:schemas:core:2.0:User"
OWN = "urn:sigillum:scim:1.0:"
PATCH_OP = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
PEOPLE: list[Json] = [
    {
        "userName": "Ada",
        "displayName": "Ada Rusk",
        "active": True,
        "title": "Lead",
        "name": {"familyName": "Rusk"},
        "emails": [
            {"value": "ada@brindlemoor.example", "type": "work", "primary": True},
            {"value": "a@home.example", "type": "home"},
        ],
    },
    {
        "userName": "bo",
        "displayName": "Bo Teel",
        "active": False,
        "nickName": "B",
        "externalId": "E-1",
        "emails": [{"value": "bo@brindlemoor.example", "type": "work"}],
    },
    {"userName": "cy", "displayName": 'Cy ("the" one)', "active": True, OWN + "ServiceAccount": {"kind": "service-account"}},
]


@pytest.fixture
def crew(sandbox: Sandbox) -> Away:
    """An empty tenant with three users."""
    away = sandbox.tenant("empty")
    for person in PEOPLE:
        schemas = [USER, *[k for k in person if k.startswith(OWN)]]
        away.make("/Users", {"schemas": schemas, **person})
    return away


def found(away: Away, filter_: str) -> list[str]:
    answer = away.scim("GET", f"/Users?filter={quote(filter_)}")
    assert answer.status == 200, answer.data
    return [u["userName"] for u in answer.json()["Resources"]]


@pytest.mark.parametrize(
    ("filter_", "names"),
    [
        ('userName eq "ADA"', ["Ada"]),
        ('userName Eq "ada"', ["Ada"]),
        ('USERNAME eq "bo"', ["bo"]),
        ('userName ne "bo"', ["Ada", "cy"]),
        ('externalId eq "E-1"', ["bo"]),
        ('externalId eq "e-1"', []),
        ('displayName co "TEEL"', ["bo"]),
        ('displayName sw "ada"', ["Ada"]),
        ('displayName ew "rusk"', ["Ada"]),
        ("title pr", ["Ada"]),
        ("not (title pr)", ["bo", "cy"]),
        ("active eq true", ["Ada", "cy"]),
        ("active eq false", ["bo"]),
        ('name.familyName eq "rusk"', ["Ada"]),
        ('emails.value co "home"', ["Ada"]),
        ('emails co "bo@"', ["bo"]),
        ('emails[type eq "home" and value co "ada"]', []),
        ('emails[type eq "work" and value co "ada"]', ["Ada"]),
        (f'{USER}:userName eq "cy"', ["cy"]),
        (f'{OWN}ServiceAccount:kind eq "service-account"', ["cy"]),
        ('userName eq "Ada" or userName eq "bo" and active eq true', ["Ada"]),
        ('(userName eq "Ada" or userName eq "bo") and active eq false', ["bo"]),
        ('displayName eq "Cy (\\"the\\" one)"', ["cy"]),
        ('meta.created gt "2020-01-01T00:00:00Z"', ["Ada", "bo", "cy"]),
        ('meta.lastModified lt "2020-01-01T00:00:00Z"', []),
        ("nickName eq null", ["Ada", "cy"]),
        ('unknown eq "x"', []),
        ('userName gt "b"', ["bo", "cy"]),
        ('userName le "bo"', ["Ada", "bo"]),
        (f'schemas eq "{OWN}ServiceAccount"', ["cy"]),
    ],
)
def test_filters(crew: Away, filter_: str, names: list[str]) -> None:
    assert found(crew, filter_) == names


@pytest.mark.parametrize(
    "filter_",
    [
        "userName",
        "userName eq",
        "eq",
        'userName xx "a"',
        '(userName eq "a"',
        'userName eq "a" and',
        'emails[type eq "a"',
        "active gt true",
        'userName eq "a" "b"',
        'not userName eq "a"',
        "userName eq {}",
        "(" * 60 + "userName pr" + ")" * 60,
    ],
)
def test_filters_that_are_none(crew: Away, filter_: str) -> None:
    answer = crew.scim("GET", f"/Users?filter={quote(filter_)}")
    assert (answer.status, answer.json()["scimType"]) == (400, "invalidFilter")
    assert answer.json()["schemas"] == ["urn:ietf:params:scim:api:messages:2.0:Error"]
    assert answer.json()["status"] == "400"


texts = st.text("abAB1 ", max_size=4)
leaves = st.tuples(
    st.sampled_from(["displayName", "nickName", "externalId"]),
    st.sampled_from(["eq", "ne", "co", "sw", "ew", "gt", "le"]),
    texts,
)
trees = st.recursive(
    leaves, lambda t: st.tuples(st.sampled_from(["and", "or"]), t, t) | st.tuples(st.just("not"), t), max_leaves=6
)
TESTS: dict[str, Callable[[str, str], bool]] = {
    "eq": operator.eq,
    "ne": operator.ne,
    "gt": operator.gt,
    "le": operator.le,
    "co": lambda a, b: b in a,
    "sw": lambda a, b: a.startswith(b),
    "ew": lambda a, b: a.endswith(b),
}


def written(tree: Any) -> str:
    if tree[0] == "not":
        return f"not ({written(tree[1])})"
    if tree[0] in ("and", "or"):
        return f"({written(tree[1])} {tree[0]} {written(tree[2])})"
    return f"{tree[0]} {tree[1]} {json.dumps(tree[2])}"


def true_of(tree: Any, data: Json) -> bool:
    """What the filter means, by another hand."""
    if tree[0] == "not":
        return not true_of(tree[1], data)
    if tree[0] in ("and", "or"):
        return (all if tree[0] == "and" else any)(true_of(t, data) for t in tree[1:])
    name, op, want = tree
    if name not in data:
        return bool(op == "ne")
    have = data[name]
    return TESTS[op](have, want) if name == "externalId" else TESTS[op](have.lower(), want.lower())


@settings(max_examples=examples(400), deadline=None)
@given(trees, st.fixed_dictionaries({}, optional=dict.fromkeys(("displayName", "nickName", "externalId"), texts)))
def test_any_filter_means_what_the_rfc_says(tree: Any, data: Json) -> None:
    assert filters.matches(filters.parse(written(tree)), KINDS["User"], data) == true_of(tree, data)


def test_paging_by_index_and_cursor(crew: Away) -> None:
    page = crew.scim("GET", "/Users?startIndex=2&count=1").json()
    assert (page["totalResults"], page["startIndex"], page["itemsPerPage"]) == (3, 2, 1)
    assert crew.scim("GET", "/Users?count=0").json()["totalResults"] == 3
    assert crew.scim("GET", "/Users?startIndex=-4&count=-1").json()["Resources"] == []
    names, cursor = [], ""
    while cursor is not None:
        answer = crew.scim("GET", f"/Users?count=2&cursor={quote(cursor)}").json()
        names += [u["userName"] for u in answer["Resources"]]
        cursor = answer.get("nextCursor")
    assert names == ["Ada", "bo", "cy"]
    bad = crew.scim("GET", "/Users?cursor=nonsense").json()
    assert bad["scimType"] == "invalidCursor"
    assert crew.scim("GET", "/Users?count=x").status == 400


def test_sorting_and_choosing_attributes(crew: Away) -> None:
    down = crew.scim("GET", "/Users?sortBy=userName&sortOrder=descending&attributes=userName").json()["Resources"]
    assert [u["userName"] for u in down] == ["cy", "bo", "Ada"]
    assert set(down[0]) == {"schemas", "id", "userName"}
    by_mail = crew.scim("GET", "/Users?sortBy=emails").json()["Resources"]
    assert [u["userName"] for u in by_mail] == ["Ada", "bo", "cy"]  # the primary value; without one, last
    some = crew.scim("GET", '/Users?filter=userName%20eq%20"ada"&attributes=emails.type,meta.version').json()["Resources"][0]
    assert some["emails"] == [{"type": "work"}, {"type": "home"}]
    assert set(some["meta"]) == {"version"}
    less = crew.scim("GET", f"/Users?excludedAttributes=emails,id,{OWN}ServiceAccount").json()["Resources"]
    assert all("emails" not in u and "id" in u and OWN + "ServiceAccount" not in u for u in less)
    body = {
        "schemas": ["urn:ietf:params:scim:api:messages:2.0:SearchRequest"],
        "filter": 'userName eq "bo"',
        "attributes": ["userName"],
    }
    assert crew.scim("POST", "/Users/.search", body).json()["Resources"][0]["userName"] == "bo"
    assert crew.scim("POST", "/.search", body).json()["totalResults"] == 1
    assert crew.scim("POST", "/Users/.search", {}).status == 400


MAIL, HOME = {"value": "w@x", "type": "work"}, {"value": "h@x", "type": "home"}
START: Json = {"schemas": [USER], "userName": "u", "title": "old", "name": {"givenName": "G"}, "emails": [MAIL]}


@pytest.mark.parametrize(
    ("operations", "changed"),
    [
        ([("add", "title", "new")], {"title": "new"}),
        ([("replace", "title", "new")], {"title": "new"}),
        ([("remove", "title", None)], {"title": None}),
        ([("add", "name", {"familyName": "F"})], {"name": {"givenName": "G", "familyName": "F"}}),
        ([("replace", "name", {"familyName": "F"})], {"name": {"familyName": "F"}}),
        ([("replace", "name.givenName", "H")], {"name": {"givenName": "H"}}),
        ([("add", "emails", [HOME])], {"emails": [MAIL, HOME]}),
        ([("add", "emails", [MAIL])], {}),
        ([("add", "emails", HOME)], {"emails": [MAIL, HOME]}),
        ([("replace", "emails", [HOME])], {"emails": [HOME]}),
        ([("remove", "emails", None)], {"emails": None}),
        ([("remove", 'emails[type eq "work"]', None)], {"emails": None}),
        ([("remove", 'emails[type eq "other"]', None)], {}),
        ([("replace", 'emails[type eq "work"].value', "n@x")], {"emails": [{"value": "n@x", "type": "work"}]}),
        ([("replace", 'emails[type eq "work"]', HOME)], {"emails": [HOME]}),
        (
            [("add", "emails", [{**HOME, "primary": True}]), ("add", "emails", [{"value": "p@x", "primary": True}])],
            {"emails": [MAIL, {**HOME, "primary": False}, {"value": "p@x", "primary": True}]},
        ),
        ([("add", None, {"title": "new", "nickName": "n"})], {"title": "new", "nickName": "n"}),
        ([("replace", None, {"name.givenName": "N"})], {"name": {"givenName": "N"}}),
        (
            [("Add", f"{OWN}ServiceAccount:kind", "person")],
            {"schemas": [USER, OWN + "ServiceAccount"], OWN + "ServiceAccount": {"kind": "person"}},
        ),
        ([("add", OWN + "ServiceAccount", {"kind": "person"}), ("remove", OWN + "ServiceAccount", None)], {}),
    ],
)
def test_patch(operations: list[tuple[str, str | None, Any]], changed: Json) -> None:
    body = {
        "schemas": [PATCH_OP],
        "Operations": [
            {"op": o, **({"path": p} if p else {}), **({"value": v} if v is not None else {})} for o, p, v in operations
        ],
    }
    after = patch.apply(KINDS["User"], START, body)
    assert after == {k: v for k, v in {**START, **changed}.items() if v is not None}
    assert START["title"] == "old"  # the caller's resource is not eaten


@pytest.mark.parametrize(
    ("operation", "scim_type"),
    [
        ({"op": "swap", "path": "title", "value": "x"}, "invalidSyntax"),
        ({"op": "remove"}, "noTarget"),
        ({"op": "replace", "path": "shoeSize", "value": 1}, "invalidPath"),
        ({"op": "replace", "path": "title[", "value": 1}, "invalidPath"),
        ({"op": "replace", "path": "id", "value": "x"}, "mutability"),
        ({"op": "replace", "path": 'emails[type eq "x"].value', "value": "v"}, "noTarget"),
        ({"op": "replace", "path": "active", "value": "yes"}, "invalidValue"),
        ({"op": "remove", "path": "userName"}, "invalidValue"),
        ({"op": "add", "value": "x"}, "invalidValue"),
        ({"op": "replace", "path": "groups", "value": []}, "mutability"),
    ],
)
def test_patch_that_is_refused(operation: Json, scim_type: str) -> None:
    with pytest.raises(ScimProblem) as problem:
        patch.apply(KINDS["User"], START, {"schemas": [PATCH_OP], "Operations": [operation]})
    assert (problem.value.status, problem.value.scim_type) == (400, scim_type)


def test_versions_and_conditions(crew: Away) -> None:
    user = crew.scim("GET", "/Users").json()["Resources"][0]
    path, version = f"/Users/{user['id']}", user["meta"]["version"]
    assert crew.scim("GET", path).headers["ETag"] == version
    assert version.startswith('"')
    assert crew.scim("GET", path, headers={"If-None-Match": version}).status == 304
    change = {"schemas": [PATCH_OP], "Operations": [{"op": "replace", "path": "title", "value": "x"}]}
    done = crew.scim("PATCH", path, change, headers={"If-Match": version})
    assert (done.status, done.json()["title"]) == (200, "x")
    assert done.headers["ETag"] != version
    assert crew.scim("PATCH", path, change, headers={"If-Match": version}).status == 412
    assert crew.scim("DELETE", path, headers={"If-Match": version}).status == 412
    put = crew.scim("PUT", path, {"schemas": [USER], "userName": "Ada", "id": "ignored"})
    assert "title" not in put.json()
    assert put.json()["id"] == user["id"]
    assert crew.scim("DELETE", path).status == 204
    assert [crew.scim(m, path, change).status for m in ("GET", "PATCH", "DELETE")] == [404, 404, 404]


def test_creating(crew: Away) -> None:
    made = crew.scim(
        "POST", "/Users", {"schemas": [USER], "userName": "di", "externalId": "E-9", "password": "hush", "id": "mine"}
    )
    body = made.json()
    assert (made.status, made.headers["Content-Type"]) == (201, "application/scim+json")
    assert made.headers["Location"] == body["meta"]["location"] == f"{crew.address}/Users/{body['id']}"
    assert body["meta"]["resourceType"] == "User"
    assert "password" not in body
    assert body["id"] != "mine"
    for name, external in (("DI", "E-8"), ("dora", "E-9")):
        again = crew.scim("POST", "/Users", {"schemas": [USER], "userName": name, "externalId": external})
        assert (again.status, again.json()["scimType"]) == (409, "uniqueness")
    assert crew.scim("DELETE", f"/Users/{body['id']}").status == 204
    spent = crew.scim("POST", "/Users", {"schemas": [USER], "userName": "di", "externalId": "E-9"})
    assert spent.status == 409  # not reusable after DELETE


@pytest.mark.parametrize(
    ("body", "content_type", "status"),
    [
        ({"schemas": [USER]}, None, 400),
        ({"userName": "x"}, None, 400),
        ({"schemas": [USER], "userName": 4}, None, 400),
        ({"schemas": ["urn:x"], "userName": "x"}, None, 400),
        ({"schemas": [USER], "userName": "x", "shoe": 1}, None, 400),
        ({"schemas": [USER], "userName": "x", "emails": "x@y"}, None, 400),
        (["x"], None, 400),
        ({"schemas": [USER], "userName": "x", "x509Certificates": [{"value": "?"}]}, None, 400),
        ({"schemas": [USER], "userName": "x"}, "text/plain", 415),
    ],
)
def test_bodies_that_are_refused(crew: Away, body: Any, content_type: str | None, status: int) -> None:
    headers = {"Content-Type": content_type} if content_type else {}
    answer = crew.scim("POST", "/Users", body, headers=headers)
    assert (answer.status, answer.json()["status"]) == (status, str(status))


def test_discovery_describes_every_type_it_serves(crew: Away) -> None:
    types = crew.scim("GET", "/ResourceTypes").json()["Resources"]
    schemas = {s["id"] for s in crew.scim("GET", "/Schemas").json()["Resources"]}
    assert {t["name"] for t in types} == {
        "User",
        "Group",
        "Place",
        "Role",
        "Grant",
        "Credential",
        "TenantProfile",
        "Client",
        "ServicePrincipal",
        "Api",
        "Consent",
        "SignInRule",
        "Licence",
        "Trust",
        "Delegation",
    }
    for kind in types:
        assert kind["schema"] in schemas
        assert all(e["schema"] in schemas for e in kind.get("schemaExtensions", []))
        assert crew.scim("GET", kind["endpoint"]).status == 200
        assert crew.scim("GET", f"/ResourceTypes/{kind['id']}").json()["id"] == kind["id"]
    grant = crew.scim("GET", f"/Schemas/{OWN}Grant").json()
    assert {a["name"] for a in grant["attributes"]} >= {"principal", "role", "place", "validUntil"}
    config = crew.scim("GET", "/ServiceProviderConfig").json()
    assert (config["patch"]["supported"], config["etag"]["supported"], config["pagination"]["cursor"]) == (True, True, True)
    for path, status in (("/Schemas/urn:none", 404), ("/Shoes", 404), ("/ResourceTypes?filter=x", 403), ("/Me", 501)):
        assert crew.scim("GET", path).status == status
    assert crew.scim("POST", "/Schemas", {}).status == 405


def test_nothing_without_a_token_and_little_without_power(away: Away) -> None:
    for path in ("/Users", "/ServiceProviderConfig", "/Schemas", "/nowhere"):
        answer = away.sandbox.pool.request("GET", away.address + path)
        assert (answer.status, answer.headers["WWW-Authenticate"].split()[0]) == (401, "Bearer")
    user = {"schemas": [USER], "userName": "x"}
    assert [away.scim("POST", "/Users", user, admin=a).status for a in ("watch", "kit.orme", "ada.rusk")] == [403, 201, 409]
    assert away.scim("POST", "/Groups", {"schemas": [USER], "displayName": "x"}, admin="kit.orme").status == 403
    assert [
        away.scim("GET", "/TenantProfiles", admin=a).json()["Resources"][0]["administrator"]["powers"]
        for a in ("watch", "kit.orme")
    ] == [["look"], ["accounts", "look"]]


def link(kind: str, thing: Json) -> Json:
    return {"value": thing["id"], "$ref": f"../{kind}/{thing['id']}"}


def first(away: Away, path: str, filter_: str) -> Json:
    return dict(away.scim("GET", f"{path}?filter={quote(filter_)}").json()["Resources"][0])


def test_grants_and_credentials_keep_what_must_not_change(away: Away) -> None:
    who, role = first(away, "/Users", 'userName eq "camera-archive"'), first(away, "/Roles", 'name eq "stream-reader"')
    place = first(away, "/Places", 'path eq "brindlemoor"')
    grant = away.make(
        "/Grants",
        {
            "schemas": [OWN + "Grant"],
            "principal": link("Users", who),
            "role": link("Roles", role),
            "place": link("Places", place),
            "validUntil": "2099-01-01T00:00:00Z",
        },
    )
    assert (grant["role"]["display"], grant["place"]["display"], grant["state"]) == ("stream-reader", "brindlemoor", "in-force")
    assert grant["principal"]["$ref"] == f"{away.address}/Users/{who['id']}"
    key = {"kty": "OKP", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}
    body = {"schemas": [OWN + "Credential"], "principal": link("Users", who), "name": "k", "kind": "key-pair", "publicKey": key}
    made = away.make("/Credentials", body)
    assert (made["active"], made["thumbprint"]) == (False, "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k")
    for path, change in (
        (f"/Credentials/{made['id']}", {"limits": ["stream.read"]}),
        (f"/Credentials/{made['id']}", {"validUntil": "2098-01-01T00:00:00Z"}),
        (f"/Grants/{grant['id']}", {"validUntil": "2098-01-01T00:00:00Z"}),
        (f"/Grants/{grant['id']}", {"role": link("Roles", place)}),
    ):
        op: Json = {"schemas": [PATCH_OP], "Operations": [{"op": "replace", "path": n, "value": v} for n, v in change.items()]}
        if "limits" in change:
            op["Operations"].append({"op": "replace", "path": "publicKey.x", "value": "other"})
        answer = away.scim("PATCH", path, op)
        assert (answer.status, answer.json().get("scimType")) == (400, "mutability")
    for wrong in (
        {"publicKey": {**key, "x": "short"}},
        {"publicKey": None},
        {"validUntil": "2099-01-01T00:00:00Z"},
        {"kind": "password"},
        {"principal": link("Users", place)},
    ):
        assert away.scim("POST", "/Credentials", {**body, **wrong}).status == 400
    other = first(away, "/Users", 'userName eq "ferry-desk"')
    assert away.scim("POST", "/Credentials", {**body, "principal": link("Users", other)}).status == 409  # somebody else's key
    for repeated, status in ((False, 409), (True, 201)):
        away.sandbox.control("tenants", {"describe": {away.name: {"repeated_keys": repeated}}})
        assert away.scim("POST", "/Credentials", body).status == status
    assert away.scim("DELETE", f"/Roles/{role['id']}").status == 409  # a grant uses it
    assert away.scim("DELETE", f"/Users/{who['id']}").status == 204
    assert [away.scim("GET", p).status for p in (f"/Grants/{grant['id']}", f"/Credentials/{made['id']}")] == [404, 404]


def test_look_ups_lag_and_writes_do_not(sandbox: Sandbox) -> None:
    away = sandbox.tenant(arrival_seconds=600)
    made = away.make("/Users", {"schemas": [USER], "userName": "late", "externalId": "X"})
    assert away.scim("GET", f"/Users/{made['id']}").status == 404
    assert found(away, 'externalId eq "X"') == []
    assert away.scim("POST", "/Users", {"schemas": [USER], "userName": "late"}).status == 409
    change = {"schemas": [PATCH_OP], "Operations": [{"op": "replace", "path": "title", "value": "x"}]}
    assert away.scim("PATCH", f"/Users/{made['id']}", change).json()["title"] == "x"
    sandbox.clock(move=601)
    try:
        assert found(away, 'externalId eq "X"') == ["late"]
        assert away.scim("DELETE", f"/Users/{made['id']}").status == 204
        assert away.scim("GET", f"/Users/{made['id']}").status == 200  # the end has not arrived
    finally:
        sandbox.clock(move=-601)


def test_the_clock_can_be_frozen_and_is_in_every_date(sandbox: Sandbox, away: Away) -> None:
    before = sandbox.clock(set="2030-01-01T00:00:00Z", freeze=True)
    try:
        assert before == "2030-01-01T00:00:00Z"
        assert away.scim("GET", "/Users").headers["Date"] == "Tue, 01 Jan 2030 00:00:00 GMT"
        assert sandbox.clock(move=1.5) == "2030-01-01T00:00:01.500000Z"
    finally:
        from datetime import UTC, datetime

        sandbox.clock(set=datetime.now(UTC).isoformat(), freeze=False)


def test_teams(away: Away) -> None:
    who = first(away, "/Users", 'userName eq "camera-archive"')
    team = away.make("/Groups", {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "displayName": "crew"})
    add = {"schemas": [PATCH_OP], "Operations": [{"op": "add", "path": "members", "value": [{"value": who["id"]}]}]}
    members = away.scim("PATCH", f"/Groups/{team['id']}", add).json()["members"]
    assert [(m["value"], m["type"]) for m in members] == [(who["id"], "User")]
    assert [g["display"] for g in first(away, "/Users", 'userName eq "camera-archive"')["groups"]] == ["crew"]
    remove = {"schemas": [PATCH_OP], "Operations": [{"op": "remove", "path": f'members[value eq "{who["id"]}"]'}]}
    assert "members" not in away.scim("PATCH", f"/Groups/{team['id']}", remove).json()
    bad = {"schemas": [PATCH_OP], "Operations": [{"op": "add", "path": "members", "value": [{"value": "nobody"}]}]}
    assert away.scim("PATCH", f"/Groups/{team['id']}", bad).status == 400


def test_the_protocol_is_written_down_as_it_is_served(sandbox: Sandbox) -> None:
    """Every schema by its name, every attribute of ours, and every power that a step takes."""
    from sigillum.core.kinds.registry import KINDS

    text = (Path(__file__).parents[2] / "docs" / "tenant-protocol.md").read_text()
    missing = [f"power {k.power}" for k in KINDS.values() if k.power and f"`{k.power}`" not in text]
    schemas = [
        s
        for like in ("empty", "stationyard", "summit")
        for s in sandbox.tenant(like)
        .scim("GET", "/Schemas", admin="nils.brack" if like == "stationyard" else "ada.rusk")
        .json()["Resources"]
    ]

    def attributes(schema: Json) -> Iterator[str]:
        for attribute in schema["attributes"]:
            yield attribute["name"]
            yield from (f"{s['name']}" for s in attribute.get("subAttributes", []))

    for schema in schemas:
        missing += [schema["id"]] if schema["id"] not in text else []
        if schema["id"].startswith("urn:sigillum:"):
            missing += [
                f"{schema['name']}.{name}"
                for name in attributes(schema)
                if f"`{name}`" not in text and f"`{name}`:" not in text
            ]
    assert missing == []
    assert "`tenant`" in text  # changing the profile


def test_any_attribute_sorts_and_a_forged_cursor_is_refused(crew: Away) -> None:
    for path in ("active", "emails", "name", "meta.created", "groups", "nothing", "externalId", f"{OWN}ServiceAccount:kind"):
        assert crew.scim("GET", f"/Users?sortBy={quote(path)}").status in (200, 400), path
    page = crew.scim("GET", "/Users?count=1&cursor=").json()
    begin, _, mark = page["nextCursor"].partition(".")
    assert begin == "1"
    for forged in (f"2.{mark}", f"1.{'0' * 32}", "1", "-1.x", f"1.{mark}x"):
        assert crew.scim("GET", f"/Users?count=1&cursor={forged}").json()["scimType"] == "invalidCursor"
    elsewhere = crew.scim(
        "GET", f"/Users?count=1&cursor={page['nextCursor']}&filter={quote('userName pr')}"
    )  # of another search
    assert elsewhere.json()["scimType"] == "invalidCursor"
