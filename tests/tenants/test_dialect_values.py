"""What a value of ours looks like in their words, and theirs in ours; pointers into answers; how a list goes on."""

from __future__ import annotations

import base64
import hashlib
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, load_pem_public_key

from sigillum.core.values.secret import Secret
from sigillum.protocols.http import Answer
from sigillum.tenants.dialect.call_model import ListSection, PageSection, ShownSection
from sigillum.tenants.dialect.calls import Speaker, Spoken, _following
from sigillum.tenants.dialect.values import (
    DER_PRINT,
    FORMS,
    NOTHING,
    MisfitError,
    ValueRefusedError,
    address_of,
    at,
    filled,
    from_them,
    header_of,
    shown,
    to_them,
)

NOW = datetime(2026, 12, 2, 1, 30, tzinfo=UTC)
END = NOW + timedelta(days=2, hours=1)
WORDS = {"state": {"1": True, "0": False, "paused": "off"}}
KEY = {"kty": "OKP", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}
BOTH = [  # form, ours, theirs
    ("text", "crane-7", "crane-7"),
    ("iso", END, "2026-12-04T02:30:00Z"),
    ("epoch", END, 1796351400),
    ("epoch_ms", END, 1796351400000),
    ("day", datetime(2026, 12, 4, tzinfo=UTC), "2026-12-04"),
    ("last_day", datetime(2026, 12, 5, tzinfo=UTC), "2026-12-04"),
    ("spaced", END, "2026-12-04 02:30:00"),
    ("http_date", END, "Fri, 04 Dec 2026 02:30:00 GMT"),
    ("comma", ("a", "b"), "a,b"),
    ("jwk", KEY, KEY),
    ("label", "Crane/7", "inzgc3tff43q"),
    ("flag", True, True),
    ("negated", True, False),
    ("state", True, 1),
    ("state", "off", "paused"),
]
ONE_WAY = [  # only sent
    ("lower", "Crane", "crane"),
    ("seconds", END, 176400),
    ("seconds", NOW - timedelta(days=1), 1),
    ("minutes", END, 2940),
    ("hours", END, 49),
    ("days", END, 3),
    ("quoted", 'a"b\\', '"a\\"b\\\\"'),
    ("doubled", "o'neil", "'o''neil'"),
    ("there", "x", True),
]
MISFITS = [
    ("text", True),
    ("text", 1.5),
    ("text", "x" * 20_000),
    ("text", None),
    ("lower", []),
    ("iso", "yesterday"),
    ("epoch", "soon"),
    ("epoch", 10**30),
    ("day", "2026-13-01"),
    ("http_date", "never"),
    ("comma", {"a": 1}),
    ("pem", "-----BEGIN PUBLIC KEY-----"),
    ("flag", 1),
    ("flag", "true"),
    ("negated", None),
    ("der_hex", "no print"),
    ("der_base64", "a"),
]


@pytest.mark.parametrize(("form", "ours", "theirs"), BOTH)
def test_a_value_goes_to_them_and_comes_back(form: str, ours: Any, theirs: Any) -> None:
    sent = to_them(ours, form, WORDS, NOW)
    assert (sent, type(sent)) == (theirs, type(theirs))
    assert from_them(theirs, form, WORDS) == ours


@pytest.mark.parametrize(("form", "ours", "theirs"), ONE_WAY)
def test_a_value_that_is_only_sent(form: str, ours: Any, theirs: Any) -> None:
    assert to_them(ours, form, WORDS, NOW) == theirs


@pytest.mark.parametrize(("form", "theirs"), MISFITS)
def test_what_does_not_fit_is_no_value(form: str, theirs: Any) -> None:
    with pytest.raises(MisfitError):
        from_them(theirs, form, WORDS)


def test_every_form_is_tried_here() -> None:
    assert {f for f, *_ in BOTH + ONE_WAY} | {"pem", "der_hex", "der_base64"} == set(FORMS) | {"state"}
    assert from_them(to_them(KEY, "pem", {}, NOW), "pem", {})["x"] == KEY["x"]


def test_a_print_over_the_der_form_is_that_of_another_library() -> None:
    whole = load_pem_public_key(str(to_them(KEY, "pem", {}, NOW)).encode()).public_bytes(
        Encoding.DER, PublicFormat.SubjectPublicKeyInfo
    )
    digest = hashlib.sha256(whole).digest()
    spaced, plain = ":".join(f"{b:02X}" for b in digest), base64.b64encode(digest).decode()
    assert (to_them(KEY, "der_hex", {}, NOW), to_them(KEY, "der_base64", {}, NOW)) == (digest.hex(), plain)
    shown_ = {from_them(spaced, "der_hex", {}), *(from_them(t, "der_base64", {}) for t in (plain, f"SHA256:{plain[:-1]}"))}
    assert (shown_, from_them("", "der_hex", {})) == ({DER_PRINT + digest.hex()}, "")


def test_a_word_that_they_do_not_have_is_refused_and_one_of_theirs_that_we_do_not_have_stays() -> None:
    with pytest.raises(ValueRefusedError):
        to_them("broken", "state", WORDS, NOW)
    assert (from_them("on fire", "state", WORDS), from_them(None, "state", WORDS)) == ("on fire", None)
    assert to_them(1, "state", {"state": {"yes": True, "one": 1}}, NOW) == "one"  # 1 is no flag
    assert (to_them("", "text", {}, NOW), to_them(None, "iso", {}, NOW)) == (None, None)


@pytest.mark.parametrize(
    ("pointer", "found"),
    [
        ("/a~1b", 1),
        ("/a~0b", 2),
        ("/plain", 3),
        ("/in/0", 4),
        ("/in/1", None),
        ("/none", None),
        ("/none/deeper", None),
        ("/plain/deeper", None),
    ],
)
def test_a_pointer_finds_what_it_names_and_nothing_else(pointer: str, found: Any) -> None:
    document = {"a/b": 1, "a~b": 2, "a~1b": 9, "a~0b": 9, "plain": 3, "in": [4]}
    assert at(document, pointer) == found
    assert at(document, pointer, NOTHING) == (NOTHING if found is None else found)


def test_a_template_keeps_types_and_leaves_out_what_is_not_there() -> None:
    values = {"n": 7, "on": False, "none": None, "end": END, "list": ("a", "b"), "secret": Secret("s3cret")}
    template = {"n": "{n}", "on": "{on}", "gone": "{none}", "said": "n is {n}{none}", "in": ["{list}", "{none}"], "fix": 5}
    assert filled(template, values, {}, NOW) == {"n": 7, "on": False, "said": "n is 7", "in": [["a", "b"]], "fix": 5}
    assert filled({"s": "{secret}", "e": "{end}"}, values, {}, NOW) == {"s": "s3cret", "e": "2026-12-04T02:30:00Z"}
    for value in ("", ".", "..", None):
        with pytest.raises(ValueRefusedError, match="needs n, and it is"):
            address_of("/things/{n}", {"n": value}, {}, NOW)
    assert address_of("/things/{n}{?on,none}", values, {}, NOW) == "/things/7?on=false"
    with pytest.raises(ValueRefusedError, match="secret"):
        address_of("/things/{secret}", values, {}, NOW)
    for bad in ("a\r\nb", "ä"):
        with pytest.raises(ValueRefusedError):
            header_of("{n}", {"n": bad}, {}, NOW)


LINKS = '<https://x.example/1>; rel="prev", <https://x.example/3>; rel="last next"'


@pytest.mark.parametrize(
    ("page", "body", "items", "goes_on"),
    [
        ({"link": "next"}, {}, [1], ("https://x.example/3", {})),
        ({"link": "first"}, {}, [1], None),
        ({"address": "/next"}, {"next": "/p2"}, [], ("/p2", {})),
        ({"address": "/next"}, {"next": ""}, [1], None),
        ({"token": "/t", "query": "from"}, {"t": "x"}, [], ("", {"from": "x"})),
        ({"token": "/t", "query": "from"}, {"t": ""}, [1], None),
        ({"offset": "skip"}, {}, [1, 2], ("", {"skip": 12})),
        ({"offset": "skip"}, {}, [], None),
        ({"number": "page"}, {}, [1], ("", {"page": 4})),
        ({"number": "page", "first": 0}, {}, [1], ("", {"page": 3})),
        ({"number": "page", "more": "/more"}, {"more": True}, [1], ("", {"page": 4})),
        *[({"number": "page", "more": "/more"}, {"more": m}, [1], None) for m in (None, False, 0, "", "false")],
        ({"number": "page", "more": "/more"}, {}, [1], None),
    ],
)
def test_a_list_goes_on_as_it_says(page: dict[str, Any], body: Any, items: list[Any], goes_on: Any) -> None:
    answer = Answer(200, {"Link": LINKS}, b"", "https://x.example/2", NOW, NOW)
    assert _following(PageSection(**page), Spoken("ok", answer, body, ""), items, 2, 12) == goes_on


@pytest.mark.parametrize(
    ("entry", "found"),
    [
        ({"a": {"id": "1"}, "b": {"id": "2"}}, "1"),
        ({"b": {"id": "2"}}, "2"),
        ({"a": {"id": None}, "b": {"id": "2"}}, None),  # empty is said, and is not left out
        ({"c": {"id": "3"}}, NOTHING),
    ],
)
def test_a_value_stands_in_the_first_of_several_places(entry: Any, found: Any) -> None:
    assert shown(ShownSection.model_validate({"any": ["/a/id", "/b/id"]}), entry, {}, {}, "text") == found


class Told(Speaker):
    """Two pages of three entries of several sorts, by how many were read."""

    def __init__(self) -> None:
        self.base = "https://x.example"

    def ask(self, call: Any, values: Any, *, url: str = "", more: Any = None) -> Spoken:
        start = int((more or {}).get("skip", 0))
        body = {"all": [{"n": n, **({"of": n} if n % 2 else {})} for n in range(start, min(start + 3, 6))]}
        return Spoken("done", Answer(200, {}, b"{}", "https://x.example/2", NOW, NOW), body, "")


def test_entries_of_another_sort_are_left_out_and_still_counted_for_the_next_page() -> None:
    call = ListSection.model_validate({"get": "/all", "items": "/all", "only": {"at": "/of"}, "page": {"offset": "skip"}})
    assert [[i["n"] for i in items] for _, items in Told().pages(call, {})] == [[1], [3, 5], []]
