"""Behind somebody's back at services that a dialect describes: another hand changes what a charter made in their own stores, and what
they answer to the identity's own requests, sent again, is the truth.
"""

from __future__ import annotations

import copy
import json
import re
import shutil
from collections.abc import Iterator
from typing import Any

import pytest

from conftest import Desk
from sigillum.workflows.desk.office import Office
from sigillum.workflows.desk.settings import Settings
from tenants.services import Asked, Service
from tenants.shore import Ferry
from tenants.test_dialect import TASTES, House

GONE = object()
PASSING = ("seen", "late", "sessions", "operations", "jobs", "logins", "fates")  # what is no record of the service
NAMES = ("login", "handle", "title", "label", "name", "house")  # by these it is found, and they are no wish of a charter
CREDENTIALS = ("tokens", "passes", "secrets", "keys", "codes", "users")
OTHERS = {"looker": "clerk", "watch": "steer", "north": "trial", "enabled": "off", "aboard": "ashore"}
OWN = re.compile(r".*/(cargo|log|course|vaults/[^/]+/keys(/trial)?)")  # what only the identity asks
AS_SAID = "everything is as the charter says"


class Watched:
    """A service that notes what the identity itself asks."""

    def __init__(self, service: Service) -> None:
        self.service, self.calls = service, list[Asked]()
        answer = service.answer

        def noted(asked: Asked) -> tuple[int, dict[str, str], Any]:
            try:
                given = answer(asked)
            except (KeyError, StopIteration):  # its store does not fit together any more
                given = 500, {}, {}
            if OWN.fullmatch(asked.path) or "assertion" in str(asked.body):
                self.calls.append(asked)
            return given

        self.answer = answer
        service.answer = noted  # type: ignore[method-assign]

    @property
    def store(self) -> dict[str, Any]:
        passing = (*PASSING, "tokens") if isinstance(self.service, Ferry) else PASSING
        plain = {n: v for n, v in vars(self.service).items() if n not in passing and isinstance(v, dict | set)}
        return copy.deepcopy(plain)

    def put(self, store: dict[str, Any]) -> None:
        vars(self.service).update(copy.deepcopy(store))

    def let_in(self) -> list[bool]:
        """What the service answers now to what the identity asked when it was proved, in that order."""
        out = []
        token = ""
        for asked in self.calls:
            if token:
                asked.headers.replace_header("Authorization", token)
            try:
                status, _, body = self.answer(asked)
            except KeyError:  # its owner is gone
                status, body = 401, {}
            if "assertion" in str(asked.body):
                token = f"Bearer {body.get('access_token', 'none')}"
                continue
            out.append(status < 300 and not (isinstance(body, dict) and body.get("ok") is False))
        return out


def made(before: Any, after: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Where there is something that was not there before."""
    if isinstance(after, set):
        yield from ((*path, entry) for entry in after - before)
    elif isinstance(after, dict | list | tuple):
        items = after.items() if isinstance(after, dict) else enumerate(after)
        for key, value in items:
            old = before.get(key) if isinstance(before, dict) else before[key] if key < len(before) else None
            if value != old and isinstance(old, dict | list | tuple | set) and old:
                yield from made(old, value, (*path, key))
            elif value != old and isinstance(value, dict | list | tuple | set):
                yield from made(old or type(value)(), value, (*path, key)) if not path else [(*path, key)]
            elif value != old and isinstance(after, list):
                yield (*path, key)


def leaves(value: Any, path: tuple[Any, ...]) -> Iterator[tuple[tuple[Any, ...], Any]]:
    """Every value in it that can be another one."""
    if isinstance(value, dict | list | tuple):
        for key, inner in value.items() if isinstance(value, dict) else enumerate(value):
            yield from leaves(inner, (*path, key))
    elif isinstance(value, bool | int | str) and value != "":
        yield path, value


def at(node: Any, path: tuple[Any, ...]) -> Any:
    for key in path:
        node = key if isinstance(node, set) else node[key]
    return node


def put(node: Any, path: tuple[Any, ...], value: Any) -> Any:
    """The same with another value there, or without it."""
    if not path:
        return value
    key, rest = path[0], path[1:]
    if isinstance(node, set):
        fresh = put(key, rest, value)
        return (node - {key}) | (set() if fresh is GONE else {fresh})
    if isinstance(node, dict):
        fresh = put(node[key], rest, value)
        return {n: (fresh if n == key else v) for n, v in node.items() if n != key or fresh is not GONE}
    fresh = put(node[key], rest, value)
    return type(node)(v if n != key else fresh for n, v in enumerate(node) if n != key or fresh is not GONE)


def another(value: Any) -> Any:
    if isinstance(value, bool):
        return not value
    if isinstance(value, int):
        return 1 - value if value in (0, 1) else value + 1
    return OTHERS.get(value, f"{value}x")


def changes(before: dict[str, Any], after: dict[str, Any]) -> Iterator[tuple[str, tuple[Any, ...], Any]]:
    """What another hand may do: take away what was made, and give each of its values another one."""
    for path in made(before, after):
        yield "deleted", path, GONE
        for spot, value in leaves(at(after, path), path):
            if str(value) in path or spot[-1] in NAMES or "sig-" in str(value):  # by these it is told from others, and no more
                continue
            yield f"changed from {value!r}", spot, another(value)


def wrong(house: House, watched: Watched, change: tuple[str, tuple[Any, ...], Any], after: dict[str, Any]) -> Iterator[str]:
    """What is said that the service denies, after one change."""
    what, path, value = change
    watched.put(put(after, path, value))
    truth = watched.let_in()
    code, out, err = (ran := house.desk.run("prove", "crane", "--format", "json")).code, ran.out, ran.err
    answer = json.loads(out) if out.startswith("{") else {}
    found = [p for one in answer.get("charters", ()) for p in one["proofs"]]
    assert "Traceback" not in err
    if not found and code in (0, 1):
        yield f"prove says nothing and ends with {code}"
    for proof, allowed in zip(found, truth, strict=False):
        if proof["held"] is not None and proof["held"] is not (allowed is proof["expectation"].startswith("can ")):
            yield f"prove says {proof['held']} of {proof['expectation']}, and it is {allowed}"
    watched.put(put(after, path, value))
    if path[0] not in CREDENTIALS:
        with Office.open(Settings(house.desk.folder)) as office:
            who = office.books.history("crane")[1].principal_id(house.name)
        for verb, allowed in zip(("read", house.words["changes"]), truth, strict=True):
            place = house.words["place" if verb == "read" else "trial"]
            ran = house.desk.run("explain", who, f"{house.words['thing']}.{verb}", place, "--format", "json")
            said = json.loads(ran.out)["questions"][0]["allowed"] if ran.out.startswith("{") else None
            if said is not None and said is not allowed:
                yield f"explain says {said} of {verb}, and it is {allowed}"
    ran = house.desk.run("rehearse", "crane", "--strict")
    sent = what == "deleted" or str(at(after, path)) in house.charter
    if sent and (ran.code == 0 or AS_SAID in ran.out):
        yield "rehearse --strict is silent"


@pytest.mark.parametrize("name", [n for n in TASTES if n != "cellar"])
def test_nothing_is_said_that_the_service_denies(bare: Desk, request: pytest.FixtureRequest, name: str) -> None:
    house = House(bare, name)
    try:
        watched = Watched(house.service)
        before = watched.store
        assert house.enact().code == 0
        after = watched.store
        watched.calls.clear()
        assert house.desk.run("prove", "crane").code == 0
        after = {**watched.store, **{n: v for n, v in after.items() if n in ("hands", "crew")}}
        asked = list(watched.calls)
        assert watched.let_in() == [True, False]
        shutil.copytree(bare.folder / ".sigillum", bare.folder / "kept")
        every = list(changes(before, after))
        told = []
        for change in every if request.config.getoption("--soak") else every[::4]:
            watched.calls = list(asked)
            told += [f"{change[1]} {change[0]}: {w}" for w in wrong(house, watched, change, after)]
            shutil.rmtree(bare.folder / ".sigillum")
            shutil.copytree(bare.folder / "kept", bare.folder / ".sigillum")
        print(f"{len(every)} changes at {name}")
        assert len(every) >= 4
        assert "\n".join(told) == ""
    finally:
        house.service.stop()
