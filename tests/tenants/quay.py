"""A small service with numbers and paths, logins in addresses, names that are taken in one yard alone, whole days, and short marks."""

from __future__ import annotations

import base64
import hashlib
import itertools
import re
import time
from datetime import date
from typing import Any

from joserfc import jws, jwt
from joserfc.jwk import JWKRegistry

from tenants.services import Asked, Json, Refuse, Service, route


class Quay(Service):
    """A yard answers by its number and by its path; keys are shown by the SHA-256 of their DER form; a level is an object."""

    def __init__(self) -> None:
        super().__init__()
        self.yards = {7: "north", 8: "south", 9: "trial"}
        self.dockers: dict[int, Json] = {}
        self.keys: dict[int, Json] = {}
        self.crews: dict[tuple[int, str], Json] = {}
        self.numbers = itertools.count(100)

    def admin(self, asked: Asked) -> None:
        if asked.headers.get("Authorization") != f"Bearer {self.key}":
            raise Refuse(401)

    def yard(self, named: str) -> int:
        found = [n for n, path in self.yards.items() if named in (str(n), path)]
        if not found:
            raise Refuse(404)
        return found[0]

    def docker(self, yard: str, login: str) -> Json:
        found = [d for d in self.dockers.values() if (d["yard"], d["login"]) == (self.yard(yard), login)]
        if not found:
            raise Refuse(404)
        return found[0]

    @route("GET", "/yards")
    def yards_(self, asked: Asked) -> Any:
        self.admin(asked)
        return [{"number": n, "path": p} for n, p in self.yards.items()]

    @route("GET", "/yards/([^/]+)")
    def yard_(self, asked: Asked, named: str) -> Any:
        self.admin(asked)
        return {"number": self.yard(named), "path": self.yards[self.yard(named)]}

    @route("GET", "/yards/([^/]+)/dockers")
    def dockers_(self, asked: Asked, yard: str) -> Any:
        self.admin(asked)
        return [d for d in self.dockers.values() if d["yard"] == self.yard(yard)]

    @route("POST", "/yards/([^/]+)/dockers")
    def hire(self, asked: Asked, yard: str) -> Any:
        self.admin(asked)
        if not re.fullmatch("sig-[a-z0-9]{12}", asked.body["note"]) or not re.fullmatch("[a-z][a-z0-9-]*", asked.body["login"]):
            raise Refuse(400, {"message": "a note has sixteen characters, and a login small letters"})
        if any((d["yard"], d["login"]) == (self.yard(yard), asked.body["login"]) for d in self.dockers.values()):
            raise Refuse(409)
        number = next(self.numbers)
        self.dockers[number] = {"number": number, "yard": self.yard(yard), "works": True, **asked.body}
        return 201, {}, self.dockers[number]

    @route("PATCH", "/yards/([^/]+)/dockers/([^/]+)")
    def change(self, asked: Asked, yard: str, login: str) -> Any:
        self.admin(asked)
        self.docker(yard, login).update(asked.body)
        return {}

    @route("DELETE", "/yards/([^/]+)/dockers/([^/]+)")
    def dismiss(self, asked: Asked, yard: str, login: str) -> Any:
        self.admin(asked)
        number = self.docker(yard, login)["number"]
        del self.dockers[number]
        self.keys = {n: k for n, k in self.keys.items() if k["docker"] != number}
        self.crews.pop((self.yard(yard), login), None)
        return 204, {}, None

    @route("GET", "/yards/([^/]+)/dockers/([^/]+)/keys")
    def keys_(self, asked: Asked, yard: str, login: str) -> Any:
        self.admin(asked)
        number = self.docker(yard, login)["number"]
        return [{n: v for n, v in k.items() if n != "pem"} for k in self.keys.values() if k["docker"] == number]

    @route("POST", "/yards/([^/]+)/dockers/([^/]+)/keys")
    def register(self, asked: Asked, yard: str, login: str) -> Any:
        self.admin(asked)
        lines = asked.body["pem"].split("-----")[2]
        shown = base64.b64encode(hashlib.sha256(base64.b64decode(lines)).digest()).decode().rstrip("=")
        if any(k["pem"] == asked.body["pem"] for k in self.keys.values()):
            raise Refuse(409)
        number = next(self.numbers)
        made = {"print": f"SHA256:{shown}", "name": asked.body["name"], "last_day": asked.body.get("last_day")}
        self.keys[number] = {"key": number, "docker": self.docker(yard, login)["number"], "pem": asked.body["pem"], **made}
        return 201, {}, {"key": number}

    @route("DELETE", "/keys/([^/]+)")
    def revoke(self, asked: Asked, number: str) -> Any:
        self.admin(asked)
        if self.keys.pop(int(number), None) is None:
            raise Refuse(404)
        return 204, {}, None

    @route("GET", "/yards/([^/]+)/crew")
    def crew(self, asked: Asked, yard: str) -> Any:
        self.admin(asked)
        return [c for (y, _), c in self.crews.items() if y == self.yard(yard)]

    @route("PUT", "/yards/([^/]+)/crew/([^/]+)")
    def place(self, asked: Asked, yard: str, login: str) -> Any:
        self.admin(asked)
        if asked.body["access"] not in ({"slug": "viewer", "level": 10}, {"slug": "loader", "level": 20}):
            raise Refuse(400)
        if (day := asked.body.get("last_day")) and date.fromisoformat(day) < date.today():  # noqa: DTZ011 - as this service does
            raise Refuse(400)
        self.crews[self.yard(yard), login] = {"docker": self.docker(yard, login)["number"], "last_day": None, **asked.body}
        return 204, {}, None

    @route("DELETE", "/yards/([^/]+)/crew/([^/]+)")
    def drop(self, asked: Asked, yard: str, login: str) -> Any:
        self.admin(asked)
        if self.crews.pop((self.yard(yard), login), None) is None:
            raise Refuse(404)
        return 204, {}, None

    def who(self, asked: Asked) -> Json:
        token = (asked.headers.get("Authorization") or "").removeprefix("Bearer ")
        try:
            key = self.keys[int(jws.extract_compact(token.encode()).headers()["kid"])]
            claims = jwt.decode(token, JWKRegistry.import_key(key["pem"], "EC"), algorithms=["ES256"]).claims
            docker = self.dockers[key["docker"]]
            assert claims["aud"] == "quay" and claims["exp"] > time.time() and docker["works"]
        except Exception:
            raise Refuse(401) from None
        return docker

    @route("GET", "/me")
    def me(self, asked: Asked) -> Any:
        return {"number": self.who(asked)["number"]}

    @route("GET", "/yards/([^/]+)/cargo")
    def cargo(self, asked: Asked, yard: str) -> Any:
        return self.may(asked, yard, 10)

    @route("POST", "/yards/([^/]+)/cargo")
    def load(self, asked: Asked, yard: str) -> Any:
        return self.may(asked, yard, 20)

    def may(self, asked: Asked, yard: str, level: int) -> Json:
        who = self.who(asked)["number"]
        held = [c for (y, _), c in self.crews.items() if y == self.yard(yard) and c["docker"] == who]
        if not any(c["access"]["level"] >= level for c in held):
            raise Refuse(403)
        return {}

    def count(self) -> tuple[list[str], int, list[str]]:
        own = [d["login"] for d in self.dockers.values() if d["note"].startswith("sig-")]
        return own, len(self.keys), [f"{c['access']['slug']} {c['docker']}" for c in self.crews.values()]
