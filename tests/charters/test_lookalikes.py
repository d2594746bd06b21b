"""Texts of a trust that look like other ones: a mistake in an issuer's address, a mistake or a warning elsewhere (UTS 39)."""

from __future__ import annotations

import pytest

from conftest import Desk

CHARTER = """\
charter: masts
tenant: hill
purpose: Reads the masts
owner: you@hill.example
identity: {{kind: service-account, name: masts}}
trusts:
  - name: outside
    issuer: {issuer}
    audience: "{audience}"
    subject: "{subject}"
    when: [{{claim: branch, equals: "{claim}"}}]
"""
PLAIN = {"issuer": "https://issuer.example", "audience": "hill", "subject": "repo:acme/x", "claim": "main"}
TEXTS = {  # what stands there, and what is said of it
    "\u0430cme": (3, "mixes scripts"),
    "\u0430\u0441\u0435\u043e\u0440": (0, "is not aceop, and looks like it"),
    "\u0441\u043b\u0443\u0436\u0431\u0430": (0, ""),
    "ma\u0131n": (0, "maın is not main"),
    "a\u2010b": (0, "U+2010 HYPHEN"),
    "a\u2215b": (0, "U+2215 DIVISION SLASH"),
    "a\u3002b": (0, "U+3002"),
    "\u0661\u0662": (0, "ARABIC-INDIC DIGIT ONE"),
    "\uff4d\uff41\uff49\uff4e": (0, "is not main"),
    "a\u0332b": (0, "COMBINING LOW LINE"),
    "e\u0301": (3, "NFC"),
    "a\u200bb": (3, "cannot be seen"),
    "main ": (3, "a blank"),
    " main": (3, "a blank"),
    "gr\u00f6\u00dfe": (0, ""),
    "\u65e5\u672c": (0, ""),
}
ISSUERS = {
    "https://issu\u0435r.example": "U+0435",
    "https://i\u0301ssuer.example": "stands in no address",
    "https://\uff49ssuer.example": "U+FF49",
    "https://issuer.example/\u0441": "U+0441",
    "https://issuer\u3002example": "U+3002",
    "https://issuer.example?x=1": "is no issuer",
    "https://xn--issur-4ve.example": "",
}


def check(bare: Desk, **said: str) -> tuple[int, str, str]:
    bare.charter(CHARTER.format(**{**PLAIN, **said}), "masts")
    ran = bare.run("charter", "check", "masts")
    return ran.code, ran.out, ran.err


@pytest.fixture
def hill(bare: Desk) -> Desk:
    file = bare.folder / "sigillum.yaml"
    hill = "tenants:\n  hill: {address: https://hill.example/scim/v2, admin: {name: you, token: 'env:HILL_TOKEN'}}\n"
    file.write_text(file.read_text().replace("tenants: {}\n", hill))
    return bare


def test_what_looks_like_another_text_is_told(hill: Desk) -> None:
    assert check(hill)[0] == 0
    for text, (code, told) in TEXTS.items():
        for field in ("audience", "subject", "claim"):
            found, out, err = check(hill, **{field: text})
            assert (found, told in out + err, told != "" or "look" not in err) == (code, True, True), (field, text, out, err)
    hill.charter(CHARTER.format(**{**PLAIN, "subject": "ma\u0131n"}), "masts")
    (warning,) = [
        w
        for w in hill.run("charter", "check", "masts", "--format", "json").json["warnings"]
        if "look" in w["text"] or "main" in w["text"]
    ]
    assert "the trust outside" in warning["text"]


def test_an_issuers_address_has_the_letters_of_addresses(hill: Desk) -> None:
    file = hill.folder / "sigillum.yaml"
    before = file.read_text()
    for address, told in ISSUERS.items():
        found, out, err = check(hill, issuer=f"'{address}'")
        assert (found, told in out + err) == (3 if told else 0, True), (address, out, err)
        file.write_text(f"{before}issuers:\n  outside: {{address: '{address}'}}\n")
        found, out, err = check(hill, issuer="outside")
        assert (found, told in out + err) == (3 if told else 0, True), (address, out, err)
        file.write_text(before)


def test_names_and_marks_that_a_tenant_would_misread_are_mistakes(hill: Desk) -> None:
    file = hill.folder / "sigillum.yaml"
    file.write_text(
        file.read_text().replace(
            "  hill: {",
            "  db: {address: postgresql://db.example/app, driver: postgresql, admin: {name: boss, token: 'env:B'}}\n  hill: {",
        )
    )
    for tenant, name, display, told in (
        ("db", "public", "x", "keeps the name 'public' for itself"),
        ("db", "pg_reader", "x", "keeps the name 'pg_reader' for itself"),
        ("db", "reader", "Reads [sigillum:abc]", "what Sigillum marks its own with"),
        ("hill", "reader", "Reads [PASSWORD:x]", "what Sigillum marks its own with"),
        ("db", "reader", "Reads [things]", ""),
        ("hill", "public", "x", ""),
    ):
        hill.charter(
            f"charter: r\ntenant: {tenant}\npurpose: Reads\nowner: you@hill.example\n"
            f"identity: {{kind: service-account, name: {name}, display: '{display}'}}\n",
            "r",
        )
        ran = hill.run("charter", "check", "r")
        assert (ran.code, told in ran.out + ran.err) == (3 if told else 0, True), (tenant, name, display, ran.out, ran.err)


def test_a_lone_dollar_in_a_template_is_a_mistake_with_its_place(hill: Desk) -> None:
    template, rows = hill.folder / "t.yaml", hill.folder / "l.csv"
    rows.write_text("name\nmast-1\n")
    words = ("charter", "new", "--from-list", str(rows), "--template", str(template))
    body = "charter: ${name}\ntenant: hill\nowner: you@hill.example\npurpose: COSTS a month\nidentity: {kind: service-account, name: x}\n"
    for costs, told in (
        ("5 $", f"{template}:4:12: a `$` stands alone"),
        ("$5", f"{template}:4:10: a `$`"),
        ("$$5", ""),
        ("${", "stands alone"),
    ):
        template.write_text(body.replace("COSTS", costs))
        ran = hill.run(*words)
        assert (ran.code, told in ran.err, "fault of ours" in ran.err) == (3 if told else 0, True, False), (costs, ran.err)


def test_no_name_of_a_column_steers_the_terminal(hill: Desk) -> None:
    (hill.folder / "l.csv").write_text("st\x1b[31mation,b\u202e\na,b\n")
    (hill.folder / "t.yaml").write_text("charter: ${station}\n")
    ran = hill.run("charter", "new", "--from-list", str(hill.folder / "l.csv"), "--template", str(hill.folder / "t.yaml"))
    assert (ran.code, "did you mean" in ran.err, "\x1b" in ran.err, "\u202e" in ran.err) == (3, True, False, False)
