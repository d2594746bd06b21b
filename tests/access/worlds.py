"""Made-up worlds in the words of a world file, and questions about them: for the two deciders, and for the core alone."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from hypothesis import strategies as st

Json = dict[str, Any]
BASE = datetime(2027, 3, 1, 12, 0, tzinfo=UTC)
PATHS = ("root", "root/a", "root/a/x", "root/a/x/deep", "root/b", "root/b/y", "root/bb")
PERMISSIONS = ("stream.read", "stream.append", "data.query", "job.run", "tool.use")
PEOPLE, TEAMS = ("wind", "cam", "mara", "stranger"), ("crew", "ring", "all", "hub")
FELT_SECONDS = 120


def stamp(seconds: int) -> str:
    return (BASE + timedelta(seconds=seconds)).isoformat().replace("+00:00", "Z")


# A few instants, so that edges meet each other and the questions.
seconds = st.sampled_from([-600, -120, -1, 0, 1, 60, 119, 120, 121, 180, 600, 601])
maybe_labels = st.one_of(
    st.none(), st.dictionaries(st.sampled_from(["stage", "zone"]), st.sampled_from(["dev", "prod"]), max_size=2)
)
rules = st.one_of(
    st.none(),
    st.dictionaries(
        st.sampled_from(["stage", "zone"]),
        st.lists(st.sampled_from(["dev", "prod"]), min_size=1, max_size=2, unique=True),
        max_size=2,
    ),
)


@st.composite
def windows(draw: st.DrawFn) -> Json:
    begin, end = draw(st.one_of(st.none(), st.none(), seconds)), draw(st.one_of(st.none(), seconds))
    if begin is not None and end is not None and begin >= end:
        begin = None
    return {k: stamp(v) for k, v in (("from", begin), ("until", end)) if v is not None}


@st.composite
def grants(draw: st.DrawFn) -> Json:
    at = draw(st.sampled_from(["root", "root", "root/a", *PATHS, "@cam"]))
    grant: Json = {
        "to": draw(st.sampled_from([*PEOPLE, *TEAMS])),
        "role": draw(st.sampled_from(["r0", "r1", "r2", "r3"])),
        "at": at,
        **draw(windows()),
    }
    where, made = draw(st.one_of(st.none(), rules)), draw(st.one_of(st.none(), st.none(), seconds))
    return {**grant, **({"where": where} if where else {}), **({"made": stamp(made)} if made is not None else {})}


@st.composite
def tenants(draw: st.DrawFn) -> Json:
    """A tenant described as a world file does."""
    services, needs = draw(st.booleans()), draw(st.booleans())
    permissions: Json = {p: {"class": "looks", "call": f"GET /{p}/{{place}}"} for p in PERMISSIONS}
    if services:
        permissions["stream.append"]["service"] = "store"
    if draw(st.integers(0, 2)) == 0:
        permissions["tool.use"]["licence"] = "seat"
    permissions["data.query"] |= {"located": True, **({"needs": ["job.run@project"]} if needs else {})}
    places = [
        {
            k: v
            for k, v in {
                "path": path,
                "kind": draw(st.sampled_from(["project", "folder"])),
                "labels": draw(maybe_labels),
                "services": draw(st.sampled_from([None, ["store"]])),
                "location": draw(st.sampled_from([None, None, "east", "west"])),
                "made": stamp(draw(seconds)) if path in ("root/a/x", "root/b/y") and draw(st.integers(0, 4)) == 0 else None,
            }.items()
            if v is not None
        }
        for path in PATHS
    ]
    members = st.lists(st.sampled_from([*PEOPLE, *TEAMS[:2]]), max_size=3, unique=True)
    teams = []
    for number, name in enumerate(TEAMS):
        inside = [m for m in draw(members) if m not in TEAMS or TEAMS.index(m) < number]
        late = draw(st.booleans()) and bool(inside)
        teams.append(
            {
                "name": name,
                "members": inside[1:] if late else inside,
                **({"joined": [{"member": inside[0], "at": stamp(draw(seconds))}]} if late else {}),
                **({"reach": draw(st.lists(st.sampled_from(PATHS), min_size=1, max_size=3))} if draw(st.booleans()) else {}),
                **({"everyone": True} if name == "all" else {}),
            }
        )
    return {
        "admins": [{"name": "ada.rusk", "powers": "all"}],
        "limits": {"felt_seconds": draw(st.sampled_from([0, FELT_SECONDS]))},
        "permissions": permissions,
        "places": places,
        "teams": teams,
        "roles": [
            {"name": f"r{n}", "permissions": draw(st.lists(st.sampled_from(PERMISSIONS), min_size=2, unique=True))}
            for n in range(4)
        ],
        "people": [{"name": "mara"}],
        "foreign": [{"name": "stranger", "organisation": "valley.example"}],
        "accounts": [
            {"name": n, "active": draw(st.integers(0, 9)) < 9, **({"location": "east"} if draw(st.booleans()) else {})}
            for n in ("wind", "cam")
        ],
        "licences": [
            {
                "name": "seat",
                "kind": "per-user",
                "total": 9,
                "holders": draw(st.lists(st.sampled_from(PEOPLE[:3]), max_size=2, unique=True)),
            }
        ],
        "grants": draw(st.lists(grants(), min_size=4, max_size=12)),
        "credentials": [
            {
                "of": "wind",
                "name": "key",
                "limits": draw(st.sampled_from([[], PERMISSIONS[:2], PERMISSIONS[1:4]])),
                "active": draw(st.integers(0, 9)) < 9,
                **draw(windows()),
            }
        ],
    }


questions = st.tuples(
    st.sampled_from([*PEOPLE, "wind", "wind", "wind", "crew"]),
    st.sampled_from(PERMISSIONS),
    st.sampled_from([*PATHS, *PATHS, "@cam", "root/none"]),
    st.booleans(),
)
