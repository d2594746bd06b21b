"""Reading files: YAML 1.2, safe and bounded, every value with its place."""

from __future__ import annotations

import json
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from ruamel.yaml import YAML

from conftest import CHARTER, Desk
from sigillum.charters.files import CharterFile, json_schema
from sigillum.cli.sandboxes import usual_world
from sigillum.core.values.errors import FileError, Position
from sigillum.reading.document import MAX_BYTES, parse, read_text
from sigillum.reading.models import fields_at, validate
from sigillum.sandbox.worlds import check


@pytest.mark.parametrize(
    ("text", "data"),
    [
        ("a: yes\nb: on\nc: NO", {"a": "yes", "b": "on", "c": "NO"}),
        ("a: true\nb: null\nc: ~\nd:", {"a": True, "b": None, "c": None, "d": None}),
        ("a: 0o17\nb: 12\nc: 1.5\nd: '12'", {"a": 15, "b": 12, "c": 1.5, "d": "12"}),
        ("a: 2027-03-01", {"a": "2027-03-01"}),
        ("{a: 2027-03-01T08:00:00Z, b: 1}", {"a": "2027-03-01T08:00:00Z", "b": 1}),
        ("x: &k [1]\ny: *k", {"x": [1], "y": [1]}),
        ("", {}),
        ("# nothing\n", {}),
        ("a: 12:30", {"a": "12:30"}),
    ],
)
def test_yaml_one_point_two(text: str, data: Any) -> None:
    assert parse(text, "f").data == data


@pytest.mark.parametrize(
    ("text", "code", "place"),
    [
        ("a: [1", "yaml-syntax", (1, 0)),
        ("a: 1\n b: 2", "yaml-syntax", (2, 0)),
        ("a: 1\na: 2", "key-twice", (2, 1)),
        ("? [x]\n: 1", "key-not-text", (1, 3)),
        ("a: !!python/object:os.system x", "tag", (1, 4)),
        ("a: \x07", "yaml-syntax", (0, 0)),
        ("a: *nothing", "yaml-syntax", (1, 0)),
    ],
)
def test_what_is_wrong_is_told_with_its_place(text: str, code: str, place: tuple[int, int]) -> None:
    with pytest.raises(FileError) as problem:
        parse(text, "f.yaml")
    mistake = problem.value.mistakes[0]
    assert mistake.code == code
    assert mistake.position is not None
    assert mistake.position.file == "f.yaml"
    if place[1]:
        assert (mistake.position.line, mistake.position.column) == place


def test_bombs_are_bounded(tmp_path: Path) -> None:
    laughs = "a: &a [x,x,x,x,x,x,x,x,x]\n" + "".join(
        f"{chr(98 + n)}: &{chr(98 + n)} [{','.join(['*' + chr(97 + n)] * 9)}]\n" for n in range(8)
    )
    deep = "a: " + "[" * 60 + "]" * 60
    for text in (laughs, deep):
        with pytest.raises(FileError, match="too large or too deeply"):
            parse(text, "f")
    (tmp_path / "big").write_text("a" * (MAX_BYTES + 1))
    with pytest.raises(FileError, match="larger than"):
        read_text(tmp_path / "big", "big")


def test_positions_lead_to_keys_and_values() -> None:
    document = parse("charter: x\ngrants:\n  - role: r\n    at: p\n", "f")
    assert document.position(("grants", 0, "at")) == Position("f", 4, 9)
    assert document.position(("grants", 0, "at"), key=True) == Position("f", 4, 5)
    assert document.position(("grants", 0, "missing", "deeper")) == Position("f", 3, 5)
    assert document.position(("nothing",)) == Position("f", 1, 1)
    assert fields_at(CharterFile, ("grants", 0)) == [
        "role",
        "at",
        "because",
        "for",
        "from",
        "until",
        "where",
        "to",
        "reach",
        "in",
    ]
    assert "kind" in fields_at(CharterFile, ("identity",))


GOOD = {"charter": "x", "tenant": "t", "purpose": "p", "identity": {"kind": "service-account", "name": "x"}}


@settings(max_examples=200, deadline=None)
@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(max_size=5) | st.floats(allow_nan=False),
        lambda v: (
            st.lists(v, max_size=3)
            | st.dictionaries(st.sampled_from(["role", "at", "for", "kind", "name", "x"]), v, max_size=3)
        ),
        max_leaves=6,
    ),
    st.sampled_from(["charter", "review", "identity", "grants", "credentials", "proofs", "zzz"]),
)
def test_whatever_stands_in_a_file_is_read_or_told(value: Any, key: str) -> None:
    from sigillum.reading.document import Document

    try:
        validate(CharterFile, Document("f", {**GOOD, key: value}, {}, {}))
    except FileError as problem:
        assert problem.mistakes
        assert all(m.what and m.mend and m.position for m in problem.mistakes)
    else:
        assert key != "zzz"


@pytest.mark.parametrize(
    ("section", "what"),
    [
        ({"grants": [{"role": "r", "at": "p", "for": "1d", "until": "2027-01-01T00:00:00Z"}]}, "both say when it ends"),
        (
            {"grants": [{"role": "r", "at": "p", "from": "2027-01-02T00:00:00Z", "until": "2027-01-01T00:00:00Z"}]},
            "does not lie after",
        ),
        ({"grants": [{"role": "r", "at": "/p"}]}, "not a place"),
        ({"charter": "Wind Ingest"}, "not a charter's name"),
        ({"credentials": [{"name": "k", "kind": "api-token", "keep_in": "holder"}]}, "no holder can make the key"),
        ({"credentials": [{"name": "k", "kind": "key-pair", "signed_by": "ca"}]}, "are for a certificate"),
        ({"credentials": [{"name": "k", "kind": "certificate", "certificate": "file:x"}]}, "what the house's CA answered"),
        ({"credentials": [{"name": "k", "kind": "key-pair", "public_key": "file:x"}]}, "key that its holder made"),
        ({"credentials": [{"name": "k", "kind": "key-pair", "keep_in": "holder", "public_key": "x"}]}, "names a file"),
        ({"credentials": [{"name": "k", "kind": "key-pair", "lasts": "1d", "renew_before": "2d"}]}, "not shorter"),
        ({"credentials": [{"name": "k", "kind": "key-pair", "lasts": "never", "why": "so"}]}, "nobody accepted"),
        ({"credentials": [{"name": "k", "kind": "key-pair", "lasts": "9d", "why": "so"}]}, "without an end"),
        (
            {
                "credentials": [
                    {
                        "name": "k",
                        "kind": "key-pair",
                        "lasts": "never",
                        "why": "so",
                        "accepted_by": "a",
                        "review": "2027-01-01",
                        "renew_before": "2d",
                    }
                ]
            },
            "means nothing",
        ),
        ({"proofs": [{"at": "p"}]}, "`can` or `cannot`"),
        ({"proofs": [{"can": "a.b", "cannot": "a.c", "at": "p"}]}, "`can` or `cannot`"),
        ({"proofs": [{"cannot": "a.b", "at": "p", "count": 1}]}, "cannot stand here"),
        ({"proofs": [{"can": "append", "at": "p"}]}, "not a permission"),
        ({"review": "soon"}, "not a date"),
        ({"identity": {"kind": "service-acount", "name": "x"}}, "cannot be 'service-acount'"),
    ],
)
def test_what_cannot_stand_together(section: dict[str, Any], what: str) -> None:
    from sigillum.reading.document import Document

    with pytest.raises(FileError) as problem:
        validate(CharterFile, Document("f", {**GOOD, **section}, {}, {}))
    assert any(what in m.what for m in problem.value.mistakes), problem.value.mistakes


GRANTS, KEY = (
    "  - {role: stream-writer, at: brindlemoor/sensing-prod, because: stores the readings}\n",
    "  - {name: ingest-key, kind: key-pair, lasts: 90d",
)


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("charter: wind-ingest", "charter: Wind_Ingest"),
        ("charter: wind-ingest", "chartr: wind-ingest"),
        ("tenant: summit", "tenant: [summit]"),
        ("kind: service-account", "kind: robot"),
        ("name: wind-ingest,", "name: 'wind ingest',"),
        ("lasts: 90d", "lasts: 90 days"),
        ("lasts: 90d", "lasts: P"),
        ("lasts: 90d", "lasts: P3M"),
        ("lasts: 90d", "lasts: 90"),
        ("lasts: 90d", "lasts: 1y"),
        ("kind: key-pair", "kind: key-pare"),
        ("limits: [stream.append,", "limits: [append,"),
        ("at: brindlemoor/sensing-prod, because", "at: /brindlemoor, because"),
        ("at: brindlemoor/sensing-prod, because", "at: brindlemoor//x, because"),
        (GRANTS, GRANTS.replace("}", ", for: 1h, until: 2027-03-01T08:00:00Z}")),
        (GRANTS, GRANTS.replace("}", ", until: 2027-03-01}")),
        (GRANTS, GRANTS.replace("}", ", until: 2027-03-01T08:00:00}")),
        (GRANTS, GRANTS.replace("}", ", from: tomorrow}")),
        (GRANTS, GRANTS.replace("}", ", to: kai.lund}")),
        ("role: stream-writer, ", ""),
        ("owner: mara", "review: 1.3.2027\nowner: mara"),
        (KEY, KEY + ", password_from: 'env:X'"),
        (KEY, KEY + ", public_key: 'file:x'"),
        (KEY, KEY.replace("kind: key-pair", "kind: password") + ", keep_in: holder"),
        (KEY, KEY.replace("kind: key-pair", "kind: password") + ", password_from: hunter2"),
        ("{cannot: stream.delete", "{can: stream.read, cannot: stream.delete"),
        ("{cannot: stream.delete, at", "{at"),
        ("{can: stream.read, at: brindlemoor/sensing-prod/streams/mast-4, count", "{can: stream.read, count"),
        ("count: 3}", "count: 3, at_least: 2}"),
        ("{cannot: stream.delete, at", "{cannot: stream.delete, count: 1, at"),
        ("{cannot: stream.delete, at", "{cannot: delete, at"),
        ("{cannot: stream.delete, at", "{cannot: sign-in, at"),
        ("{cannot: stream.delete, at", "{cannot: stream.delete, from: 10.0.0.1, at"),
        ("count: 3", "count: -1"),
        ("proofs:", "services: [{service: store}]\nproofs:"),
        ("proofs:", "member_of: crew\nproofs:"),
        ("proofs:", "roles: [{name: x}]\nproofs:"),
        ("proofs:", "proofs: []\nprofs:"),
    ],
)
def test_the_schema_refuses_what_a_schema_can_refuse(desk: Desk, old: str, new: str) -> None:
    assert old in CHARTER
    text = CHARTER.replace(old, new, 1)
    judge = jsonschema.Draft202012Validator(json_schema())
    assert list(judge.iter_errors(parse(text, "c").data)), text
    desk.charter(text)
    assert desk.run("charter", "check", str(desk.folder / "charters" / "wind-ingest.yaml")).code == 3


def test_the_schema_takes_what_the_check_takes() -> None:
    judge = jsonschema.Draft202012Validator(json_schema())
    example = Path(str(files("sigillum").joinpath("example", "charters")))
    texts = [
        CHARTER,
        *(p.read_text() for p in example.glob("*.yaml")),
        CHARTER.replace(GRANTS, GRANTS.replace("}", ", until: 2027-03-01T08:00:00.5+01:00, where: {stage: [dev]}}")),
        CHARTER.replace("lasts: 90d", "lasts: P1DT12H"),
        CHARTER.replace("lasts: 90d", "lasts: PT10M"),
        CHARTER.replace(
            "{cannot: stream.delete, at: brindlemoor/sensing-prod/streams/mast-4}", "{cannot: sign-in, from: 10.0.0.1}"
        ),
    ]
    assert [list(judge.iter_errors(parse(text, "c").data)) for text in texts] == [[]] * len(texts)
    worlds = jsonschema.Draft202012Validator(check.schema())
    for path in usual_world().parent.glob("*.yaml"):
        assert not list(worlds.iter_errors(parse(path.read_text(), "w").data))


@pytest.mark.parametrize(
    ("spoils", "told"),
    [
        (
            {"tenant: summit": "tenant: nowhere", "purpose:": "purpos:"},
            ["knows no tenant 'nowhere'", "did you mean `purpose`?"],
        ),
        (
            {"tenant: summit": "tenant: nowhere", "kind: service-account": "kind: service-acount"},
            ["knows no tenant 'nowhere'", "service-account?"],
        ),
        (
            {"lasts: 90d": "lasts: 90 days", "because: stores the readings": "becaus: x, in: awya"},
            ["is not a duration", "did you mean `because`?"],
        ),
        ({"lasts: 90d": "lasts: 90 days", "owner:": "ownr:"}, ["is not a duration", "did you mean `owner`?"]),
    ],
)
def test_all_mistakes_come_at_once_and_none_follows_from_another(desk: Desk, spoils: dict[str, str], told: list[str]) -> None:
    text = CHARTER
    for old, new in spoils.items():
        assert old in text, old
        text = text.replace(old, new)
    desk.charter(text)
    ran = desk.run("charter", "check", "wind-ingest", "--format", "json")
    said = [f"{m['what']} {m['do']}" for m in ran.json["mistakes"]]
    assert (ran.code, len(said)) == (3, len(told)), said
    assert all(any(t in s for s in said) for t in told), said


STANDARD = frozenset(
    [
        "$schema",
        "$defs",
        "$ref",
        "$id",
        "title",
        "description",
        "type",
        "properties",
        "required",
        "additionalProperties",
        "items",
        "enum",
        "const",
        "anyOf",
        "oneOf",
        "allOf",
        "not",
        "if",
        "then",
        "else",
        "pattern",
        "format",
        "minimum",
        "maximum",
        "exclusiveMinimum",
        "exclusiveMaximum",
        "minLength",
        "maxLength",
        "minItems",
        "maxItems",
        "uniqueItems",
        "default",
        "examples",
        "minProperties",
        "maxProperties",
        "propertyNames",
        "patternProperties",
        "prefixItems",
        "contains",
        "dependentRequired",
    ]
)
FLAGS = frozenset(w for word in ("y", "n", "yes", "no", "on", "off") for w in (word, word.capitalize(), word.upper()))
NAMED = frozenset(("properties", "$defs", "dependentRequired", "patternProperties"))  # what stands in them are names of our own


def schemas(bare: Desk) -> dict[str, dict[str, Any]]:
    words = ("charter schema", "dialect schema", "sandbox world schema", "config schema")
    return {w: json.loads(bare.run(*w.split()).out) for w in words}


def keywords(schema: Any, *, names: bool = False) -> Iterator[tuple[str, bool]]:
    """Every key of a schema, and whether it is a keyword."""
    for key, inner in schema.items() if isinstance(schema, dict) else ():
        yield key, not names
        if not (key in ("enum", "const", "default", "examples") and not names):
            yield from keywords(inner, names=key in NAMED and not names)
    for inner in schema if isinstance(schema, list) else ():
        yield from keywords(inner)


def words(schema: Any) -> Iterator[str]:
    """Every word that a schema takes as a value."""
    for key, inner in schema.items() if isinstance(schema, dict) else ():
        yield from (str(v) for v in (inner if key == "enum" else [inner]) if key in ("enum", "const") and isinstance(v, str))
        yield from words(inner)
    for inner in schema if isinstance(schema, list) else ():
        yield from words(inner)


def test_schemas_hold_standard_keywords_and_no_word_that_older_readers_take_for_a_flag(bare: Desk) -> None:
    for name, schema in schemas(bare).items():
        jsonschema.Draft202012Validator.check_schema(schema)
        found = set(keywords(schema))
        assert {k for k, keyword in found if keyword} <= STANDARD, name
        assert not {k for k, keyword in found if not keyword} & FLAGS, name
        assert not set(words(schema)) & FLAGS, name


def test_what_ships_reads_alike_in_yaml_one_point_one() -> None:
    def flags(value: Any) -> Iterator[Any]:
        for inner in (*value.keys(), *value.values()) if isinstance(value, dict) else value if isinstance(value, list) else ():
            yield from [inner] if isinstance(inner, bool) else flags(inner)

    for path in Path(str(files("sigillum"))).rglob("*.yaml"):
        reader = YAML(typ="safe", pure=True)
        reader.version = (1, 1)
        text = path.read_text(encoding="utf-8")
        older, ours = reader.load(text.replace("${", "$(")), parse(text, str(path), most=100_000).data
        assert len(list(flags(older))) == len(list(flags(ours))), path
