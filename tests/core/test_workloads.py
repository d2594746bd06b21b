"""Two-sided links: either half alone, both that disagree, what has to start anew, and a cluster as a whole."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from typing import Any

import pytest

from core.fake import PROFILE, Fake, thing
from core.test_compare import charter, enacted
from sigillum.core.charter.charter import Charter, Identity
from sigillum.core.charter.rules import HouseRules
from sigillum.core.charter.wants import TrustWant, WorkloadWant
from sigillum.core.deciding.links import Half, Home, Row, estate, halves, runs
from sigillum.core.facets.workload.check import check
from sigillum.core.facets.workload.facet import words
from sigillum.core.federation.conditions import Condition
from sigillum.core.federation.trusts import Issuer
from sigillum.core.federation.trusts import Trust as Terms
from sigillum.core.kinds.kind import Fact
from sigillum.core.kinds.trusting import Trust
from sigillum.core.kinds.workloads import LocalAccount, MachineGroup, Workload
from sigillum.core.records.steps import Outline
from sigillum.core.values.errors import NotYetError
from sigillum.core.values.marks import Mark

AT, SUBJECT = PROFILE.issuer, "yard:st:beat"
WANT = WorkloadWant("far", "st", "beat", ("beat", "tick"), ("low", "up"), trust="yard")
BOUND = TrustWant(Terms("yard", "https://yard.example", "aud", subject=SUBJECT))
OPEN = dataclasses.replace(PROFILE, powers=None)
HOME = Home("away", AT, "p1", "wind")
LOCAL = LocalAccount("beat", "st", "uid-1", SUBJECT, (("p1", AT),))
TRUST = Trust("p1", "yard", "https://yard.example", "aud", subject=SUBJECT, principal_name="wind")


def wanted(want: WorkloadWant | None = WANT, **more: Any) -> Charter:
    return charter((), (), workload=want, **{"trusts": (BOUND,), **more})


def house(*, links: tuple[tuple[str, str], ...] | None = (), identities: str = "machine") -> Fake:
    fake = Fake(profile=OPEN, refusing=True)  # what waits for others is not done
    fake.far["local-account"] = (
        [thing("local-account", "l1", name="beat", compartment="st", subject=SUBJECT, links=links)] if links is not None else []
    )
    fake.far["machine-group"] = [thing("machine-group", f"g-{n}", name=n, identities=identities) for n in ("low", "up", "side")]
    fake.far["machine-group"].append(thing("machine-group", "g-later", name="later", identities="machine", later=True))
    fake.far["workload"] = [
        thing(
            "workload",
            f"w-{n}",
            name=n,
            compartment="st",
            account="beat",
            groups=("low", "side"),
            runs_as=("yard:machines:low",),
        )
        for n in ("beat", "tick")
    ]
    return fake


def told(outline: Outline, *codes: str) -> list[str]:
    return [n.text for n in outline.notes if n.code in codes]


def start(fake: Fake, subject: str = SUBJECT) -> None:
    fake.far["workload"] = [w.with_(runs_as=(subject,)) for w in fake.far["workload"]]


def test_both_halves_are_made_in_two_tenants_each_group_is_switched_and_what_starts_anew_is_waited_for() -> None:
    fake = house()
    outline = fake.compare(wanted())
    by_id = {s.id: s for s in outline.steps}
    link = next(s for s in outline.steps if s.id.verb == "link")
    assert {by_id[n].facet for n in link.needs} == {"account", "trust"}
    waits = [s for s in outline.steps if s.id.verb == "start"]
    assert [s.about for s in waits] == [f"until {n} has started anew and runs as st/beat, in far" for n in ("beat", "tick")]
    assert all({by_id[n].id.verb for n in s.needs} == {"finish", "link"} for s in waits)
    assert told(outline, "group-left-out") == [
        "what runs on side has the identity of its machines, and the charter leaves that group out: add side to `groups`"
    ]
    assert len(told(outline, "later-groups")) == 1 and not told(outline, "half-missing")
    fake.enact(wanted())
    assert [type(r.error) for r in fake.results if r.error is not None] == [NotYetError, NotYetError]
    [local] = fake.far["local-account"]
    assert local.body.links == ((fake.things["account"][0].id, AT),)
    assert [g.body.identities for g in fake.far["machine-group"]] == ["workload", "workload", "machine", "machine"]
    assert enacted(fake, wanted()) == [("wait", "workload"), ("wait", "workload"), ("prove", "proof")]
    start(fake)
    assert fake.compare(wanted()).steps[0].facet == "proof"
    assert [s.id.verb for s in fake.compare(wanted(WANT._replace(made_later=True))).steps][:1] == ["switch"]
    enacted(fake, wanted(None))
    assert (fake.far["local-account"][0].body.links, fake.things["trust"] != []) == ((), True)  # not ours to end, but the link


def test_a_local_account_of_ours_is_made_linked_and_ended() -> None:
    fake = house(links=None, identities="workload")
    made = WANT._replace(programs=("beat",), groups=())
    assert [s.id.verb for s in fake.enact(wanted(made)).steps if s.facet == "workload"] == ["make", "link", "start"]
    [local] = fake.far["local-account"]
    assert (local.body.name, local.body.compartment, len(local.body.links)) == ("beat", "st", 1)
    other = thing("local-account", "l9", name="old", compartment="st", subject="yard:st:old", links=local.body.links)
    fake.far["local-account"].append(other)
    assert "st/old acts as wind, and away does not trust it" in told(fake.compare(wanted(made)), "link-extra")[0]
    enacted(fake, wanted(None))
    assert fake.far["local-account"] == [other]


def test_one_deleted_and_made_anew_and_one_that_acts_as_another_are_asked_about() -> None:
    fake = house()
    fake.enact(wanted())
    fake.far["local-account"] = [thing("local-account", "l2", name="beat", compartment="st", subject=SUBJECT)]
    outline = fake.compare(wanted())
    assert (told(outline, "made-anew") != [], next(s.id.verb for s in outline.steps if s.facet == "workload")) == (True, "ask")
    assert "half-missing: away trusts st/beat as wind, and far does not say" in told(outline, "half-missing")[0]
    assert "link" in [s.id.verb for s in fake.compare(wanted(), adopt=True).steps]
    fake.far["local-account"] = []
    gone = fake.compare(wanted())
    assert "whoever makes it acts as that" in told(gone, "half-missing")[0]
    fake.far["local-account"] = [
        thing("local-account", "l1", name="beat", compartment="st", subject=SUBJECT, links=(("p9", AT),))
    ]
    outline = fake.compare(wanted())
    assert ("acts as p9" in told(outline, "halves-disagree")[0], next(str(s.kind) for s in outline.steps)) == (True, "ask")


@pytest.mark.parametrize(
    ("want", "code"),
    [
        (WANT._replace(account="default"), "default-account"),
        (WANT._replace(programs=("beet",)), "program-unknown"),
        (WANT._replace(account="bat"), "other-account"),
    ],
)
def test_what_is_odd_is_noted(want: WorkloadWant, code: str) -> None:
    assert told(house().compare(wanted(want)), code)


@pytest.mark.parametrize(
    ("when", "code"),
    [
        ((), "lasting-id"),
        ((Condition(("id",), "equals", "uid-1"),), ""),
        ((Condition(("id",), "equals", "uid-0"),), "lasting-differs"),
    ],
)
def test_the_id_that_no_namesake_gets_is_told(when: tuple[Condition, ...], code: str) -> None:
    fake = house()
    fake.far["local-account"] = [r.with_(lasting="uid-1") for r in fake.far["local-account"]]
    bound = BOUND._replace(trust=BOUND.trust._replace(when=when), issuer=Issuer("https://yard.example", lasting=("id",)))
    assert [n.code for n in fake.compare(wanted(trusts=(bound,))).notes if n.code.startswith("lasting")] == (
        [code] if code else []
    )


def test_what_no_cluster_has_is_a_mistake_and_what_is_hidden_changes_nothing() -> None:
    assert [m.code for m in house().compare(wanted(WANT._replace(groups=("lower", "later")))).mistakes] == ["group-unknown"] * 2
    bare = Fake(profile=dataclasses.replace(OPEN, carries={n: f for n, f in PROFILE.carries.items() if n != "local-account"}))
    assert [m.code for m in bare.compare(wanted()).mistakes] == ["no-cluster"]
    hidden = house()
    seen = hidden.answer
    hidden.answer = lambda query, tenant="away": Fact(unknown="dark") if query.kind.name == "workload" else seen(query, tenant)  # type: ignore[method-assign]
    outline = hidden.compare(wanted())
    assert not [s for s in outline.steps if s.facet == "workload"] and told(outline, "unknown")


# the local account, the trusts; the code, and a part of what is said
@pytest.mark.parametrize(
    ("local", "trusts", "code", "text"),
    [
        (LOCAL, [TRUST], "both", "far says so, and away trusts it"),
        (None, [TRUST], "half-missing", "whoever makes it acts as that"),
        (None, [], "half-missing", "knows no local account st/beat"),
        (LOCAL._replace(links=()), [TRUST], "half-missing", "far does not say"),
        (LOCAL, [], "half-missing", "away does not trust it"),
        (LOCAL._replace(links=()), [], "half-missing", "neither"),
        (LOCAL._replace(links=(("p1", "https://other.example"),)), [TRUST], "half-missing", "does not say"),
        (LOCAL._replace(links=(("p2", AT),)), [TRUST], "halves-disagree", "acts as p2"),
        (LOCAL, [TRUST._replace(subject="yard:st:be\u0430t")], "halves-disagree", "CYRILLIC SMALL LETTER A"),
        (LOCAL, [TRUST._replace(subject="", when=('{"claim":["x"],"present":true}',))], "facts-unknown", "is not shown"),
        (LOCAL, [TRUST._replace(when=('{"claim":["a","id"],"equals":"u1"}',))], "both", "far says so, and away trusts it"),
        (LOCAL, [TRUST._replace(when=('{"claim":["a","id"],"equals":"u0"}',))], "halves-disagree", "its id is u1"),
        (LOCAL._replace(lasting=""), [TRUST._replace(when=('{"claim":["a","id"],"equals":"u1"}',))], "facts-unknown", ""),
        (LOCAL, [TRUST._replace(subject="", when=("odd",))], "half-missing", "does not trust"),
        (LOCAL, [TRUST._replace(subject="", acts_as='["account"]')], "both", ""),
    ],
)
def test_two_records_held_against_each_other(local: LocalAccount | None, trusts: list[Trust], code: str, text: str) -> None:
    found = halves("far", HOME, local._replace(lasting="u1") if local is LOCAL else local, "st/beat", trusts, ("a", "id"))
    assert (found.code, text in found.text) == (code, True), found


def test_as_whom_it_runs_and_what_is_wrong_with_the_whole() -> None:
    low, up, later = MachineGroup("low", "machine"), MachineGroup("up", "workload"), MachineGroup("later", "machine", True)
    beat = Workload("beat", "st", "beat", ("low", "up"), ("yard:machines:low", SUBJECT))
    assert runs(beat, SUBJECT, [low, up], "far") == "beat runs as yard:machines:low: the machines of low share one"
    assert "when it starts anew" in runs(beat._replace(groups=("up",)), SUBJECT, [low, up], "far")
    assert (
        runs(beat._replace(runs_as=()), SUBJECT, [], "far"),
        runs(beat._replace(runs_as=(SUBJECT,)), SUBJECT, [], "far"),
    ) == ("nothing of beat runs at far", "")
    tick = Workload("tick", "st", "default", ("low",), ("yard:machines:low",))
    row = Row("st/default", "yard:st:default", "away", "wind", Half("both", ""), ())

    def codes(*workloads: Workload, rows: tuple[Row, ...] = (), groups: tuple[MachineGroup, ...] = (low, up)) -> list[str]:
        return [f"{f.code} {f.text.split()[0]}" for f in estate("far", [LOCAL], workloads, groups, rows)]

    assert (codes(tick), codes(tick, beat), codes(beat), codes()) == (["machine-shared all"], ["machine-shared with"], [], [])
    assert codes(beat, rows=(row,), groups=(up, later)) == ["machine-shared groups", "default-account st/default"]


@pytest.mark.parametrize(
    ("change", "code"),
    [
        (lambda c: c, ""),
        (lambda c: dataclasses.replace(c, workload=None), ""),
        (lambda c: dataclasses.replace(c, identity=Identity("team", "crew", "Crew")), "workload-kind"),
        (lambda c: dataclasses.replace(c, workload=WANT._replace(tenant="nowhere")), "tenant-unknown"),
        (lambda c: dataclasses.replace(c, workload=WANT._replace(tenant="away")), "workload-home"),
        (lambda c: dataclasses.replace(c, workload=WANT._replace(trust="yrad")), "half-missing"),
        (lambda c: dataclasses.replace(c, trusts=(BOUND._replace(tenant="far"),)), "half-missing"),
    ],
)
def test_what_the_section_says_of_the_rest(change: Callable[[Charter], Charter], code: str) -> None:
    assert [m.code for m in check(change(wanted()), HouseRules(), ["away", "far"])] == ([code] if code else [])


def test_its_marks_in_words() -> None:
    marks = [
        Mark("workload", "far", key)
        for key in (
            (("compartment", "st"), ("account", "a")),
            (("compartment", "st"), ("account", "a"), ("acts", "as it")),
            (("group", "g"),),
            (("program", "p"),),
        )
    ]
    assert [words(m) for m in marks] == ["the local account st/a", "the link of st/a", "the machines of g", "the workload p"]
