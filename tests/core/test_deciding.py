"""Deciding in the core alone: windows without effect, the smallest change, the chain, and costs that stay small."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from access.worlds import BASE, FELT_SECONDS, PATHS, PERMISSIONS, questions, seconds, tenants
from conftest import examples
from core.fake import otherwise, thing
from sigillum.core.deciding.explanations import ChainLink, explain
from sigillum.core.deciding.refusals import ABOUT, Cause
from sigillum.core.deciding.shadows import shadows
from sigillum.core.deciding.values import (
    NEVER,
    Decision,
    Held,
    Hidden,
    KnownPlace,
    KnownPrincipal,
    Membership,
    Question,
    Right,
    Team,
)
from sigillum.core.deciding.waiting import outlook
from sigillum.core.deciding.world import World
from sigillum.core.kinds.profile import Operation
from sigillum.core.values.worlds import Observed

Json = dict[str, Any]


def moment(text: str | None) -> datetime | None:
    return datetime.fromisoformat(text) if text else None


def world_of(described: Json) -> World[Observed]:
    """A world file's tenant as deciding needs it; names stand for ids."""
    people = [*described["people"], *described["accounts"], *described["foreign"]]
    kinds = {f["name"]: "foreign" for f in described["foreign"]}
    teams = described["teams"]
    return World(
        principals={
            p["name"]: KnownPrincipal(
                p["name"],
                p["name"],
                kinds.get(p["name"], "service-account"),
                p.get("active", True),
                True,
                p.get("location", ""),
            )
            for p in people
        }
        | {t["name"]: KnownPrincipal(t["name"], t["name"], "team") for t in teams},
        teams={t["name"]: Team(t["name"], t["name"], tuple(t.get("reach", ())), t.get("everyone", False)) for t in teams},
        memberships=[Membership(m, t["name"]) for t in teams for m in t["members"]]
        + [Membership(j["member"], t["name"], moment(j["at"])) for t in teams for j in t.get("joined", [])],
        licensed={h: frozenset([x["name"]]) for x in described.get("licences", ()) for h in x["holders"]},
        places={
            p["path"]: KnownPlace(
                p["path"],
                p["kind"],
                tuple((s, None) for s in p.get("services", [])),
                p.get("location", ""),
                tuple(p.get("labels", {}).items()),
            )
            for p in described["places"]
        },
        roles={r["name"]: frozenset(r["permissions"]) for r in described["roles"]},
        rights=[
            Right(
                f"g{n}",
                g["to"],
                g["role"],
                g["at"],
                moment(g.get("from")),
                moment(g.get("until")),
                tuple((k, frozenset(v)) for k, v in g.get("where", {}).items()),
                moment(g.get("made")),
            )
            for n, g in enumerate(described["grants"])
        ],
        credentials={
            c["name"]: Held(
                c["name"],
                c["of"],
                c["name"],
                c["active"],
                moment(c.get("from")),
                moment(c.get("until")),
                frozenset(c["limits"]),
            )
            for c in described["credentials"]
        },
        operations={
            n: Operation(
                n,
                p["class"],
                "GET",
                "",
                p.get("service", ""),
                p.get("located", False),
                tuple(p.get("needs", ())),
                licence=p.get("licence", ""),
            )
            for n, p in described["permissions"].items()
        },
        felt=timedelta(seconds=described["limits"]["felt_seconds"]),
    )


ROLES = [thing("role", p, name=f"only {p}", permissions=((p, "looks"),)) for p in PERMISSIONS]


@settings(max_examples=examples(150), deadline=None)
@given(tenants(), st.lists(st.tuples(questions, seconds), min_size=6, max_size=6))
def test_the_smallest_change_really_allows_it_and_the_reason_fits_the_verdict(described: Json, asked: list[Any]) -> None:
    world = world_of(described)
    for (who, permission, place, with_credential), at in asked:
        question = Question(who, permission, place, BASE + timedelta(seconds=at), "key" if with_credential else "")
        told = explain(world, question, ROLES)
        assert told.decision.allowed == world.allowed(*question)
        assert told.decision.allowed == (told.decision.cause is Cause.ALLOWED)
        assert all(
            world.decide(question._replace(at=e)).allowed == told.decision.allowed
            for e in world.edges(question)
            if question.at < e < (told.changes_at or question.at)
        )
        for right in (told.decision.by, *told.decision.also) if told.decision.allowed else ():
            assert right is not None
            assert (
                otherwise(world, rights=[right]).allowed(*question._replace(credential=""))
                or world.operations[permission].needs
            )
        assert told.deciding is not None
        if told.decision.allowed:
            assert not any(link.good is False for link in told.links)
            continue
        assert told.deciding.good is False
        assert told.mends[0].cause is (
            told.decision.needed.cause
            if told.decision.needed and told.decision.needed.cause is not Cause.PLACE_UNKNOWN
            else told.decision.cause
        )
        assert told.decision.cause in ABOUT
        hopeless = {
            Cause.PLACE_UNKNOWN,
            Cause.CREDENTIAL_UNKNOWN,
            Cause.PERMISSION_UNKNOWN,
            Cause.RIGHT_MISSING,
            Cause.PRINCIPAL_UNKNOWN,
        }
        assert told.mends[-1].cause in hopeless or len(told.mends) < 8  # it came to an end where all of it allows


@settings(max_examples=examples(150), deadline=None)
@given(tenants(), st.lists(st.tuples(questions, seconds), min_size=4, max_size=4), st.data())
def test_what_rests_on_a_hidden_fact_is_not_known_and_never_wrong(
    described: Json, asked: list[Any], data: st.DataObject
) -> None:
    whole = world_of(described)
    everything = [
        Hidden("everyone"),
        *(Hidden("place", p) for p in PATHS),
        *(Hidden("role", r) for r in whole.roles),
        *(Hidden(w, p) for p in whole.principals for w in ("principal", "rights", "teams", "credentials")),
    ]
    hidden = set(data.draw(st.lists(st.sampled_from(everything), min_size=1, max_size=3)))
    shown = otherwise(
        whole,
        hidden={h: f"{h.what} {h.of} is not shown" for h in hidden},
        places={n: p for n, p in whole.places.items() if Hidden("place", n) not in hidden},
        principals={n: p for n, p in whole.principals.items() if Hidden("principal", n) not in hidden},
        roles={n: p for n, p in whole.roles.items() if Hidden("role", n) not in hidden},
        rights=[r for r in whole.rights if Hidden("rights", r.carrier) not in hidden],
        memberships=[m for m in whole.memberships if Hidden("teams", m.member) not in hidden],
        teams={n: t._replace(everyone=t.everyone and Hidden("everyone") not in hidden) for n, t in whole.teams.items()},
        credentials={n: c for n, c in whole.credentials.items() if Hidden("credentials", c.principal) not in hidden},
    )
    for (who, permission, place, with_credential), at in asked:
        question = Question(who, permission, place, BASE + timedelta(seconds=at), "key" if with_credential else "")
        told, truth = explain(shown, question, ROLES), whole.decide(question)
        assert told.decision.allowed in (truth.allowed, None)
        assert shown.allowed(*question) == told.decision.allowed
        assert (told.decision.allowed is None) == (told.decision.cause is Cause.FACTS_UNKNOWN) == bool(told.decision.hidden)
        if told.decision.allowed is None:
            assert told.deciding == ChainLink("not shown", None, "; ".join(told.decision.hidden))
            assert "ask with an administrator who may look" in told.mends[0].text


def test_hidden_grants_are_not_nothing_granted() -> None:
    world = World(
        principals={"w": KnownPrincipal("w", "w")}, places={"root": KnownPlace("root")}, roles={"r": frozenset(["a.b"])}
    )
    question = Question("w", "a.b", "root", BASE)
    assert world.decide(question).cause is Cause.NOTHING_GRANTED
    for hidden in (Hidden("rights", "w"), Hidden("teams", "w"), Hidden("everyone")):
        assert otherwise(world, hidden={hidden: "403"}).decide(question) == Decision(None, Cause.FACTS_UNKNOWN, hidden=("403",))
    right = Right("g", "w", "r", "root")
    assert otherwise(world, rights=[right], hidden={Hidden("teams", "w"): "403"}).allowed(*question) is True
    assert outlook(otherwise(world, hidden={Hidden("rights", "w"): "403"}), question, True, timedelta(0)).state == "unclear"


def covered(world: World[Observed], right: Right, permission: str, place: str, until: datetime) -> bool:
    """Brute force: at the end, at every later edge and just around it, do other rights alone allow it?"""
    others = otherwise(world, rights=[r for r in world.rights if r.id != right.id], operations={})
    edges = {until, *(e for r in others.rights for e in others.cut(r)[:2]), *(c.begin for c in others.carriers(right.carrier))}
    moments = {e + timedelta(seconds=s) for e in edges if until <= e < NEVER - timedelta(days=1) for s in (-1, 0, 1)} | {
        NEVER - timedelta(days=1)
    }
    return all(others.allowed(right.carrier, permission, place, m) for m in moments if m >= until)


@settings(max_examples=examples(150), deadline=None)
@given(tenants())
def test_every_window_without_effect_is_found(described: Json) -> None:
    for account in described["accounts"]:
        account["active"] = True
    world = world_of(described)
    for right in world.rights:
        found = {(s.permission, s.place) for s in shadows(world, right, PATHS)}
        node_paths = [
            p
            for p in PATHS
            if (node := world.node(p)) is not None
            and right.place in node.inside
            and all(node.labels.get(n) in v for n, v in right.labels)
        ]
        expected = {
            (permission, place)
            for place in node_paths
            for permission in world.roles[right.role]
            if right.until is not None and covered(world, right, permission, place, right.until)
        }
        assert found == expected
        for shadow in shadows(world, right, PATHS):
            alone = otherwise(world, rights=list(shadow.by))
            assert covered(alone, right, shadow.permission, shadow.place, right.until or BASE)


def test_one_right_without_end_is_named_alone() -> None:
    def right(name: str, until: int | None, start: int | None = None) -> Right:
        return Right(
            name,
            "wind",
            "r",
            "root",
            BASE + timedelta(seconds=start) if start is not None else None,
            BASE + timedelta(seconds=until) if until is not None else None,
        )

    base = World(
        principals={"wind": KnownPrincipal("wind", "wind")},
        places={"root": KnownPlace("root")},
        roles={"r": frozenset(["a.b"])},
    )
    loan = right("loan", 600)
    for rights, by in (
        ([right("week", 9000), right("ever", None)], ["ever"]),
        ([right("a", 700), right("b", None, 650)], ["a", "b"]),
        ([right("a", 700), right("b", None, 701)], []),
        ([right("a", None, 600)], ["a"]),
        ([right("a", None, 601)], []),
    ):
        found = list(shadows(otherwise(base, rights=[loan, *rights]), loan, ["root"]))
        assert [r.id for s in found for r in s.by] == by


@pytest.mark.parametrize(
    ("at", "cause"),
    [
        (-1, Cause.NOT_FELT),
        (FELT_SECONDS - 1, Cause.NOT_FELT),
        (FELT_SECONDS, Cause.ALLOWED),
        (599, Cause.ALLOWED),
        (600, Cause.WINDOW_ENDED),
    ],
)
def test_the_exact_second(at: int, cause: Cause) -> None:
    until = BASE + timedelta(seconds=600)
    world = World(
        principals={"w": KnownPrincipal("w", "w")},
        places={"root": KnownPlace("root")},
        roles={"r": frozenset(["a.b"])},
        rights=[Right("g", "w", "r", "root", until=until, made=BASE)],
        felt=timedelta(seconds=FELT_SECONDS),
    )
    question = Question("w", "a.b", "root", BASE + timedelta(seconds=at))
    assert world.decide(question).cause is cause
    assert world.next_change(question) == (
        BASE + timedelta(seconds=FELT_SECONDS) if at < FELT_SECONDS else until if at < 600 else None
    )


def test_only_what_could_matter_is_looked_at() -> None:
    """Ten thousand strangers' grants are never compiled for a question about one principal."""
    world = World(
        principals={"w": KnownPrincipal("w", "w")},
        places={"root": KnownPlace("root")},
        roles={"r": frozenset(["a.b"])},
        rights=[Right(f"g{n}", f"p{n}", "r", "root") for n in range(10_000)] + [Right("g", "w", "r", "root")],
    )
    assert world.allowed("w", "a.b", "root", BASE)
    assert list(world._tables) == ["w"]


def test_a_permission_of_other_kinds_of_place_and_a_key_for_another_place_are_no_use() -> None:
    """What a role allows by its name alone, a place of another kind does not have; a bare verdict says the same."""
    world = World[Observed](
        principals={"w": KnownPrincipal("w", "w")},
        places={"cloud": KnownPlace("cloud", "domain"), "cloud/hut": KnownPlace("cloud/hut", "project")},
        roles={"r": frozenset(["project.show", "domain.show"])},
        rights=[Right("g", "w", "r", "cloud")],
        operations={n: Operation(n, "looks", "GET", "", at=(n.partition(".")[0],)) for n in ("project.show", "domain.show")},
        credentials={"k": Held("k", "w", place="cloud/hut")},
    )
    for permission, place, credential, cause in (
        ("project.show", "cloud/hut", "", Cause.ALLOWED),
        ("domain.show", "cloud", "", Cause.ALLOWED),
        ("domain.show", "cloud/hut", "", Cause.MEANS_NOTHING),
        ("project.show", "cloud", "", Cause.MEANS_NOTHING),
        ("project.show", "cloud/hut", "k", Cause.ALLOWED),
        ("domain.show", "cloud", "k", Cause.LIMITS_NARROWER),
    ):
        decision = world.decide(Question("w", permission, place, BASE, credential))
        assert (decision.cause, decision.allowed) == (cause, cause is Cause.ALLOWED), (permission, place)
        assert world.allowed("w", permission, place, BASE, credential) is (cause is Cause.ALLOWED)
    told = explain(world, Question("w", "domain.show", "cloud/hut", BASE))
    assert [k.text for k in told.links if k.good is False] == [
        "cloud/hut (project), and domain.show means something at domain alone"
    ]
    assert all(m.cause is not Cause.ALLOWED for m in told.mends)
