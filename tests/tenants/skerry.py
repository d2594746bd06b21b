"""A service that answers little: ids in headers, tokens in headers, numbers for flags, rights inside the account, wholes of teams, a search by
POST with its cursor in the body, accounts that live in places, roles without what they allow.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
from typing import Any

from tenants.services import Asked, Json, Refuse, Service, route


class Skerry(Service):
    """Lights below keepers' houses."""

    def __init__(self) -> None:
        super().__init__()
        self.sessions: set[str] = set()
        self.lights: dict[str, Json] = {}
        self.crews: dict[str, Json] = {"c1": {"crew": "c1", "title": "night", "rev": 1, "lights": ["7"]}}
        self.codes: dict[str, Json] = {}
        self.jobs: dict[str, Json] = {}
        self.numbers = iter(range(10, 10_000))

    @route("POST", "/login")
    def login(self, asked: Asked) -> Any:
        if asked.body != {"who": "hugo.pell", "word": self.key}:
            raise Refuse(401, {"fault": {"text": "no"}})
        self.sessions.add(made := secrets.token_hex(8))
        return 204, {"X-Light-Token": made}, None

    def admin(self, asked: Asked) -> None:
        if asked.headers.get("X-Light-Token") not in self.sessions:
            raise Refuse(401, {"fault": {"text": "no token"}})

    def there(self, house: str, light: str) -> Json:
        found = self.lights.get(light)
        if found is None or found["house"] != house:
            raise Refuse(404, {"fault": {"text": "no such light"}})
        return found

    @route("GET", "/houses")
    def houses(self, asked: Asked) -> Any:
        self.admin(asked)
        return [{"key": "h1", "title": "north"}, {"key": "h2", "title": "trial"}]

    @route("POST", "/houses/([^/]+)/search")
    def search(self, asked: Asked, house: str) -> Any:
        self.admin(asked)
        start, mine = int(asked.body.get("from", 0)), [v for v in self.lights.values() if v["house"] == house]
        return {"hits": mine[start : start + 2], "from": start + 2, "left": max(0, len(mine) - start - 2)}

    @route("POST", "/houses/([^/]+)/lights")
    def make(self, asked: Asked, house: str) -> Any:
        self.admin(asked)
        if any(v["title"] == asked.body["title"] for v in self.lights.values()):
            raise Refuse(409, {"fault": {"text": "title is taken"}})
        number = str(next(self.numbers))
        self.lights[number] = {"number": number, "house": house, "on": 1, "rights": ["seen"], "rev": 1, **asked.body}
        self.jobs[number] = {"looks": 0}
        return 202, {"Location": f"/jobs/{number}"}, None

    @route("GET", "/jobs/([^/]+)")
    def job(self, asked: Asked, number: str) -> Any:
        self.admin(asked)
        self.jobs[number]["looks"] += 1
        return {"state": "ready" if self.jobs[number]["looks"] > 1 else "burning in"}

    @route("GET", "/houses/([^/]+)/lights/([^/]+)")
    def one(self, asked: Asked, house: str, light: str) -> Any:
        self.admin(asked)
        found = self.there(house, light)
        return 200, {"ETag": f'"{found["rev"]}"'}, {n: v for n, v in found.items() if n != "rev"}

    @route("PUT", "/houses/([^/]+)/lights/([^/]+)")
    def write(self, asked: Asked, house: str, light: str) -> Any:
        self.admin(asked)
        found = self.there(house, light)
        if asked.headers.get("If-Match") != f'"{found["rev"]}"':
            raise Refuse(412, {"fault": {"text": "changed meanwhile"}})
        self.lights[light] = {**found, **asked.body, "rev": found["rev"] + 1}
        return 204, {}, None

    @route("DELETE", "/houses/([^/]+)/lights/([^/]+)")
    def end(self, asked: Asked, house: str, light: str) -> Any:
        self.admin(asked)
        self.there(house, light)
        del self.lights[light]
        self.codes = {n: c for n, c in self.codes.items() if c["light"] != light}
        return 204, {}, None

    @route("GET", "/rights")
    def rights(self, asked: Asked) -> Any:
        self.admin(asked)
        return ["seen", "looker", "clerk", "king"]

    @route("GET", "/crews")
    def crews_(self, asked: Asked) -> Any:
        self.admin(asked)
        return list(self.crews.values())

    @route("GET", "/crews/([^/]+)")
    def crew(self, asked: Asked, crew: str) -> Any:
        self.admin(asked)
        return 200, {"ETag": f'"{self.crews[crew]["rev"]}"'}, {n: v for n, v in self.crews[crew].items() if n != "rev"}

    @route("PUT", "/crews/([^/]+)")
    def write_crew(self, asked: Asked, crew: str) -> Any:
        self.admin(asked)
        if asked.headers.get("If-Match") != f'"{self.crews[crew]["rev"]}"':
            raise Refuse(412, {"fault": {"text": "changed meanwhile"}})
        self.crews[crew] = {**asked.body, "rev": self.crews[crew]["rev"] + 1}
        return 204, {}, None

    @route("GET", "/lights/([^/]+)/codes")
    def codes_(self, asked: Asked, light: str) -> Any:
        self.admin(asked)
        return [{n: v for n, v in c.items() if n != "code"} for c in self.codes.values() if c["light"] == light]

    @route("POST", "/lights/([^/]+)/codes")
    def make_code(self, asked: Asked, light: str) -> Any:
        self.admin(asked)
        number = str(next(self.numbers))
        self.codes[number] = {"number": number, "light": light, "code": secrets.token_hex(12), **asked.body}
        return 201, {"Location": f"/lights/{light}/codes/{number}?shown=once"}, {"code": self.codes[number]["code"]}

    @route("DELETE", "/lights/([^/]+)/codes/([^/]+)")
    def end_code(self, asked: Asked, light: str, number: str) -> Any:
        self.admin(asked)
        if self.codes.pop(number, None) is None:
            raise Refuse(404, {"fault": {"text": "no such code"}})
        return 204, {}, None

    def who(self, asked: Asked) -> Json:
        number, code = asked.basic()  # the code's number, not the light's
        found = self.codes.get(number)
        if found is None or not hmac.compare_digest(
            hashlib.sha256(found["code"].encode()).digest(), hashlib.sha256(code.encode()).digest()
        ):
            raise Refuse(401, {"fault": {"text": "no"}})
        light = self.lights[found["light"]]
        if not light["on"]:
            raise Refuse(401, {"fault": {"text": "off"}})
        return light

    def rights_at(self, asked: Asked, house: str) -> set[str]:
        """A light's rights are for the house that it is in."""
        light = self.who(asked)
        return set(light["rights"]) if light["house"] == house else set()

    @route("GET", "/houses/([^/]+)/cargo")
    def cargo(self, asked: Asked, house: str) -> Any:
        if not {"looker", "clerk"} & self.rights_at(asked, house):
            raise Refuse(403, {"fault": {"text": "not yours"}})
        return "seen"

    @route("POST", "/houses/([^/]+)/cargo")
    def load(self, asked: Asked, house: str) -> Any:
        if "clerk" not in self.rights_at(asked, house):
            raise Refuse(403, {"fault": {"text": "not yours"}})
        return {}

    def count(self) -> tuple[list[str], int, list[str]]:
        return (
            [v["title"] for v in self.lights.values()],
            len(self.codes),
            [r for v in self.lights.values() for r in v["rights"] if r != "seen"],
        )
