"""Clients: two things with three identifiers, permissions in three states, and rights in a second tenant."""

from __future__ import annotations

import dataclasses
import json
from datetime import timedelta
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from core.fake import NOW, PROFILE, Fake, ours, thing
from sigillum.core.charter.charter import Charter, CredentialWant, GrantWant, Identity, PermissionWant, ProofWant, ServiceWant
from sigillum.core.charter.rules import HouseRules
from sigillum.core.deciding.explanations import explain
from sigillum.core.deciding.refusals import Cause
from sigillum.core.deciding.values import Asks, Consent, Held, KnownPlace, KnownPrincipal, Question, Right
from sigillum.core.deciding.world import World
from sigillum.core.facets.registry import check
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.changes import Change, End, Entry, Make, plain
from sigillum.core.kinds.identities import CLIENT, TEAM
from sigillum.core.kinds.profile import Operation
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import RULE, Exemption
from sigillum.core.records.letters import document, read
from sigillum.core.records.requests import (
    Request,
    fulfilled,
    numbered,
    references,
    request_of,
    standing_for,
    step_of,
)
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.values.errors import FileError
from sigillum.core.values.marks import Mark, StepId
from sigillum.core.values.secret import Secret
from sigillum.core.values.worlds import Observed

DAY = 86_400
SEND = PermissionWant("mail", "mail.send", "on-behalf", ("root/a/one",))
READ = PermissionWant("mail", "mail.read", "alone")
KEY = CredentialWant("main", "key-pair", 90 * DAY, 14 * DAY)
SECRET = CredentialWant("shared", "shared-secret", 90 * DAY, 14 * DAY)
FAR = GrantWant("reader", "root/b", tenant="far")


def client(**more: Any) -> Charter:
    identity = more.pop("identity", Identity("client", "mailer", "Mailer"))
    return Charter("mailer", "away", "test", "x", "m@x.example", identity, **more)


def codes(fake: Fake, wanted: Charter) -> list[str]:
    return [n.code for n in fake.compare(wanted).notes]


clients = st.builds(
    client,
    permissions=st.lists(
        st.sampled_from([SEND, READ, SEND._replace(only=()), SEND._replace(acts="alone")]),
        max_size=3,
        unique_by=lambda p: (p.scope, p.acts),
    ).map(tuple),
    credentials=st.sampled_from([(), (KEY,), (KEY, SECRET)]),
    grants=st.sampled_from(
        [
            (),
            (GrantWant("reader", "root/a"),),
            (FAR,),
            (FAR, GrantWant("reader", "root/a")),
            (FAR, FAR._replace(at="root", lasts_seconds=DAY)),
        ]
    ),
    services=st.sampled_from([(), (ServiceWant("store", "root/b", tenant="far"),)]),
    identity=st.sampled_from([Identity("client", "mailer", "Mailer", redirects=r) for r in ((), ("https://x.example/back",))]),
)


@settings(max_examples=examples(150), deadline=None)
@given(st.lists(st.tuples(clients, st.integers(0, DAY), st.integers(0, 14)), min_size=1, max_size=3))
def test_clients_in_two_tenants_end_as_wished_wherever_it_stopped(story: list[tuple[Charter, int, int]]) -> None:
    fake = Fake()
    for wanted, seconds, most in story:
        fake.enact(wanted, most=most)
        fake.pass_(seconds)
        for _ in range(3):
            fake.enact(wanted)
        assert fake.compare(wanted).steps == ()
        (registered,) = fake.things["client"]
        (principal,) = fake.things["principal"]
        assert len({registered.id, principal.id, registered.value("client_id")}) == 3
        assert principal.value("client_id") == registered.value("client_id")
        assert {t.value("principal") for t in fake.things["credential"]} <= {registered.id}
        assert {t.value("principal") for t in (*fake.things["consent"], *fake.things["grant"])} <= {principal.id}
        assert {(t.value("scope"), t.value("acts"), t.value("only")) for t in fake.things["consent"]} == {
            (p.scope, p.acts, p.only) for p in wanted.permissions
        }
        assert set(registered.value("requests")) == {("mail", p.scope, p.acts) for p in wanted.permissions}
        if wanted.elsewhere:
            (foreign,) = fake.far["account"]
            assert (foreign.value("type"), foreign.value("subject")) == ("foreign", registered.value("client_id"))
            assert {t.value("principal") for t in fake.far["grant"]} <= {foreign.id}
            assert fake.far["credential"] == fake.far["client"] == []


@pytest.mark.parametrize(
    ("permission", "code"),
    [
        (SEND._replace(api="mial"), "api-unknown"),
        (SEND._replace(scope="mail.sned"), "scope-unknown"),
        (READ._replace(acts="on-behalf"), "acts"),
        (SEND._replace(only=("root/a",)), "only"),
        (READ._replace(only=("root/a/one",)), "only"),
    ],
)
def test_permissions_that_cannot_be(permission: PermissionWant, code: str) -> None:
    outline = Fake().compare(client(permissions=(permission,)))
    assert [m.code for m in outline.mistakes] == [code]
    assert outline.mistakes[0].mend


def test_what_is_said_of_permissions() -> None:
    fake = Fake()
    always = client(permissions=(SEND._replace(scope="me.read", only=()), SEND._replace(only=())))
    assert codes(fake, always) == ["permission-always", "permission-wide"]
    fake.enact(always)
    assert [t.value("scope") for t in fake.things["consent"]] == ["mail.send"]
    assert [r[1] for r in fake.things["client"][0].value("requests")] == ["mail.send"]
    principal = fake.things["principal"][0].id

    def stands(**more: Any) -> list[str]:
        fake.things["consent"] = [
            thing(
                "consent",
                "theirs",
                **{
                    "principal": principal,
                    "api": "mail",
                    "scope": "mail.read",
                    "acts": "alone",
                    "only": (),
                    "by": "nils",
                    **more,
                },
            )
        ]
        wanted = client(permissions=(READ,))
        return [c for c in codes(fake, wanted) if c.startswith("consent")] + [
            " ".join(v for _, v in s.mark.key) for s in fake.compare(wanted).steps if s.facet == "permission"
        ]

    assert stands() == ["consent-stands"]
    assert stands(acts="on-behalf") == ["consent-other-way", "consent-extra", "mail mail.read alone"]
    assert stands(only=("root/a/one",)) == ["consent-beside", "mail mail.read alone"]
    assert stands(scope="mail.send") == ["consent-extra", "mail mail.read alone"]


def test_what_the_tenant_will_choose_hides_nothing_from_foresight() -> None:
    """The id of a client yet to be made stands in its principal, its consents and its registration alike."""
    operations = {**PROFILE.operations, "mail.read": Operation("mail.read", "looks", "POST", "/{place}", api="mail")}
    fake = Fake(profile=dataclasses.replace(PROFILE, operations=operations, powers=None))
    at = "root/a/one"
    for proof, mistakes in ((ProofWant(False, "mail.read", at), ["breaks-cannot"]), (ProofWant(True, "mail.read", at), [])):
        outline = fake.compare(client(permissions=(READ,), credentials=(KEY,), proofs=(proof,)))
        assert [m.code for m in outline.mistakes] == mistakes
        assert "will not hold" not in " ".join(n.text for n in outline.notes)


def test_somebody_elses_client_of_that_name() -> None:
    fake = Fake()
    theirs = thing("client", "x1", "1", name="mailer", client_id="c-x", redirects=("https://old",))
    fake.things["client"] = [theirs]
    outline = fake.compare(client())
    assert [(c.kind.name, c.matches) for c in outline.collisions] == [("client", False)]
    assert outline.blocked
    adopted = fake.enact(client(), adopt=True)
    assert [(str(s.kind), s.facet) for s in adopted.steps] == [("keep", "client"), ("change", "client"), ("make", "client")]
    assert fake.things["client"][0].value("redirects") == ()
    fake.things["client"], fake.things["principal"] = [], []
    fake.pass_(1000)
    assert codes(fake, client())[0] == "gone"
    fake.enact(client())
    assert [t.mark for t in fake.things["principal"]] == [ours(Mark("client", "away", (("part", "principal"),)), 2)]


@pytest.mark.parametrize(
    ("wanted", "code"),
    [
        (client(identity=Identity("service-account", "a", "a"), permissions=(SEND,)), "client-only"),
        (client(identity=Identity("service-account", "a", "a", redirects=("https://x",))), "client-only"),
        (client(identity=Identity("service-account", "a", "a"), credentials=(SECRET,)), "client-only"),
        (
            client(identity=Identity("service-account", "a", "a"), proofs=(ProofWant(True, "mail.send", "r", person="kai"),)),
            "client-only",
        ),
        (client(identity=Identity("team", "a", "a"), grants=(FAR,)), "elsewhere"),
        (client(grants=(FAR._replace(tenant="nowhere"),)), "tenant-unknown"),
        (client(identity=Identity("client", "a", "a", location="alps")), "not-client"),
        (client(credentials=(KEY._replace(kind="api-token"),)), "not-client"),
        (client(identity=Identity("client", "a", "a", confidential=False), credentials=(SECRET,)), "public-client"),
        (client(permissions=(SEND, SEND)), "permission-twice"),
        (client(), ""),
    ],
)
def test_what_only_clients_have(wanted: Charter, code: str) -> None:
    assert [m.code for m in check(wanted, HouseRules(), ["away", "far"])] == ([code] if code else [])


# --- deciding ---------------------------------------------------------------------------------------------------
RULES = {"mail.send": Operation("mail.send", "changes-data", "POST", "/{place}", api="mail")}


def world(consents: list[Consent], requests: frozenset[tuple[str, str, str]], rights: list[Right]) -> World[Observed]:
    return World(
        {
            "c": KnownPrincipal("c", "mailer", "client"),
            "kai": KnownPrincipal("kai", "Kai", "person"),
            "jon": KnownPrincipal("jon", "Jon", "person"),
        },
        places={p: KnownPlace(p) for p in ("box", "other")},
        roles={"user": frozenset({"mail.send"})},
        rights=rights,
        credentials={"k": Held("k", "c", "k")},
        operations=RULES,
        felt=timedelta(seconds=60),
        asks={"c": Asks("c", requests)},
        consents={"c": consents},
    )


ON, ALONE = ("mail", "mail.send", "on-behalf"), ("mail", "mail.send", "alone")
MAY = Right("g", "kai", "user", "box")


@pytest.mark.parametrize(
    ("requests", "consents", "person", "place", "cause"),
    [
        ((), (), "kai", "box", Cause.NOT_REQUESTED),
        ((ALONE,), (), "kai", "box", Cause.WAY_DIFFERS),
        ((ON,), (), "kai", "box", Cause.NOT_CONSENTED),
        ((ON,), ((ALONE, ()),), "kai", "box", Cause.WAY_DIFFERS),
        ((ON,), ((ON, ("other",)),), "kai", "box", Cause.CONSENT_NARROWER),
        ((ON,), ((ON, ()),), "nobody", "box", Cause.PERSON_UNKNOWN),
        ((ON,), ((ON, ()),), "jon", "box", Cause.PERSON_LACKS),
        ((ON,), ((ON, ("box",)),), "kai", "box", Cause.ALLOWED),
        ((ALONE,), ((ALONE, ()),), "", "other", Cause.ALLOWED),
        ((ON,), ((ON, ()),), "", "box", Cause.WAY_DIFFERS),
        ((ON,), ((ON, ()),), "kai", "other", Cause.PERSON_LACKS),
    ],
)
def test_each_cause_of_a_client_that_may_not(requests: Any, consents: Any, person: str, place: str, cause: Cause) -> None:
    made = world(
        [Consent(f"s{n}", "c", "mail.send", k[2], only) for n, (k, only) in enumerate(consents)], frozenset(requests), [MAY]
    )
    question = Question("c", "mail.send", place, NOW, "k", person)
    decision = made.decide(question)
    assert (decision.allowed, decision.cause) == (cause is Cause.ALLOWED, cause)
    assert made.allowed(*question) == decision.allowed
    roles = [thing("role", "r", name="user", permissions=(("mail.send", "changes-data"),))]
    explanation = explain(made, question, roles)
    assert bool(explanation.mends) != decision.allowed
    wrong = [k.name for k in explanation.links if k.good is False]
    assert bool(wrong) != decision.allowed
    if cause not in (Cause.ALLOWED, Cause.PERSON_UNKNOWN):
        assert (
            explanation.mends[0].cause is (Cause.NOTHING_GRANTED if cause is Cause.PERSON_LACKS else cause) or person == "kai"
        )


def test_a_consent_is_felt_later_and_only_clients_act_for_people() -> None:
    fresh = world([Consent("s", "c", "mail.send", "alone", (), NOW)], frozenset({ALONE}), [MAY])
    question = Question("c", "mail.send", "box", NOW)
    assert fresh.decide(question).cause is Cause.NOT_FELT
    assert fresh.next_change(question) == NOW + timedelta(seconds=60)
    assert fresh.decide(Question("kai", "mail.send", "box", NOW, "", "jon")).cause is Cause.NO_DELEGATE
    assert [k.name for k in explain(fresh, Question("kai", "mail.send", "box", NOW, "", "jon")).links if k.good is False] == [
        "person"
    ]
    assert fresh.allowed("kai", "mail.send", "box", NOW)  # people need no consent


# --- requests ---------------------------------------------------------------------------------------------------
MARK = Mark("grant", "away", (("role", "reader"),))
WHEN = NOW + timedelta(days=1)


def step(action: Any) -> Step:
    return Step(StepId(MARK, 1, "make"), StepKind.MAKE, "grant of reader", action, power="grants", why="so")


@pytest.mark.parametrize(
    ("action", "before", "after"),
    [
        (
            Make(GRANT, {"principal": "p", "role": "reader", "place": "root", "until": WHEN}),
            thing("grant", "c1", principal="p", role="writer", place="root"),
            thing("grant", "c1", principal="p", role="reader", place="root", until=WHEN),
        ),
        (
            Change(CLIENT, "c1", {"redirects": ("https://x",)}),
            thing("client", "c1"),
            thing("client", "c1", redirects=("https://x",)),
        ),
        (Change(CLIENT, "c1", {"redirects": ()}), thing("client", "c1", redirects=("https://x",)), thing("client", "c1")),
        (Entry(TEAM, "c1", "members", "p"), thing("team", "c1", members=("q",)), thing("team", "c1", members=("p", "q"))),
        (Entry(TEAM, "c1", "members", "p", out=True), thing("team", "c1", members=("p",)), thing("team", "c1")),
        (
            Entry(RULE, "c1", "exempt", "p", {"accepted_by": "mara", "why": "w", "review": "2099-01-01"}),
            thing("rule", "c1"),
            thing("rule", "c1", exempt=(Exemption("p"),)),
        ),
        (End(GRANT, "c1"), thing("grant", "c1"), None),
    ],
)
def test_a_request_is_compared_anew_and_becomes_the_same_step(action: Any, before: Any, after: Any) -> None:
    asked = numbered(request_of(step(action), action, "https://t.example", "mailer"), 3, "2099-01-01T00:00:00Z", ("d",))
    (arrived,) = read(json.loads(json.dumps(document([asked]))), "file")
    assert arrived.digest == asked.digest
    assert arrived == asked
    assert fulfilled(arrived, (before,)) is False
    assert fulfilled(arrived, (after,) if after is not None else ()) is not False
    made = step_of(arrived, arrived.digest, "away")
    assert made.action == action
    assert (made.power, made.about) == ("grants", "grant of reader")


texts = st.text("abc xyz-é.", min_size=1, max_size=8)
FORMS: dict[str, st.SearchStrategy[Any]] = {
    "str": texts,
    "bool": st.booleans(),
    "int": st.integers(0, 99),
    "bool | None": st.booleans(),
    "datetime | None": st.sampled_from([WHEN, NOW]),
    "tuple[str, ...]": st.lists(texts, max_size=3).map(tuple),
    "tuple[tuple[str, str], ...]": st.lists(st.tuples(texts, texts), max_size=2).map(tuple),
    "tuple[tuple[str, str, str], ...]": st.lists(st.tuples(texts, texts, texts), max_size=2).map(tuple),
}


@st.composite
def doings(draw: st.DrawFn) -> Any:
    kind = draw(st.sampled_from(sorted(KINDS.values(), key=lambda k: k.name)))
    fields = {
        n: FORMS[form] for n, t in kind.type.__annotations__.items() if (form := getattr(t, "__forward_arg__", t)) in FORMS
    }
    part = draw(st.fixed_dictionaries({}, optional=fields))
    about = draw(st.dictionaries(st.sampled_from(["accepted_by", "why", "review"]), texts))
    return draw(
        st.sampled_from(
            [
                Make(kind, part),
                Change(kind, "x-1", part, about=about if kind.name != "credential" else {}),
                End(kind, "x-1"),
                Entry(kind, "x-1", "members", "p", about),
                Entry(kind, "x-1", "members", "p", about, out=True),
            ]
        )
    )


@given(doings())
def test_every_kind_of_step_survives_the_way_there_and_back(doing: Any) -> None:
    asked = numbered(request_of(step(doing), doing, "https://t.example", "mailer"), 3, "2099-01-01T00:00:00Z")
    (arrived,) = read(json.loads(json.dumps(document([asked]))), "file")
    assert (arrived, arrived.digest) == (asked, asked.digest)
    assert step_of(arrived, arrived.digest, "away").action == doing
    assert {r.label for r in references(arrived)} <= {
        "about",
        "principal",
        "role",
        "place",
        "members",
        "targets",
        "holders",
        "exempt",
    }
    assert all(
        any(r.id == str(v) for r in references(arrived))
        for v in (getattr(doing, "id", None), getattr(doing, "value", None))
        if v
    )


READER, PLACED = thing("role", "r-1", name="reader"), thing("place", "p-1", path="root/a")


@pytest.mark.parametrize(
    ("values", "wrong"),
    [
        ({}, ""),
        ({"role": "writer"}, "says role writer and would send reader"),
        ({"place": "root/b"}, "says place root/b and would send root/a"),
        ({"role_id": "r-9"}, "by an id that is not there"),
        ({"principal": "x-9"}, "by an id that is not there"),
        ({"place": "@a-1", "place_id": "a-1"}, ""),
        ({"place": "@a-2", "place_id": "a-1"}, "would send @a-1"),
    ],
)
def test_ids_and_names_in_a_request_have_to_agree(values: dict[str, str], wrong: str) -> None:
    request = Request(
        "make",
        "grant",
        "t",
        "a",
        {"principal": "a-1", "role": "reader", "role_id": "r-1", "place": "root/a", "place_id": "p-1", **values},
    )
    records = [READER, PLACED, thing("account", "a-1", name="wind")]

    def told() -> list[str]:
        return [standing_for(one, [r for r in records if r.kind in one.kinds]) for one in references(request)]

    if wrong:
        with pytest.raises(FileError, match=wrong):
            told()
    else:
        assert told()[:2] == ["account wind", "role reader"]


def test_requests_hold_no_secret_and_strange_files_are_refused() -> None:
    with pytest.raises(ValueError, match="never"):
        plain({"name": "x", "inner": ({"deep": Secret("s")},)})
    good = Request("make", "grant", "t", "a", {"principal": "p"}).body()
    for wrong in ({"kind": "x"}, {"do": "burn"}, {"thing": "moon"}, {"values": 4}, {"about": 4}):
        with pytest.raises(FileError):
            read({**good, **wrong}, "file")
