"""Three more small services: one with levels, squads and assertions, one with windows and forms, one that keeps secrets."""

from __future__ import annotations

import base64
import hashlib
import json
import re
import secrets
import time
from typing import Any
from urllib.parse import unquote

from joserfc import jwt
from joserfc.jwk import JWKRegistry

from tenants.services import Asked, Json, Refuse, Service, route


class Ferry(Service):
    """Tokens by purpose, which are refused after a few requests; levels, of which one has one at a deck; squads, which have levels, too; a
    search language; keys that are sent; labels of small letters; 404 for what is not there and for what one may not see.
    """

    def __init__(self) -> None:
        super().__init__()
        self.tokens: dict[str, Json] = {}
        self.crew: dict[str, Json] = {}
        self.squads: dict[str, Json] = {}
        self.keys: dict[str, Json] = {}
        self.levels: dict[tuple[str, str, str], str] = {}
        self.decks = ["north", "trial"]

    @route("POST", "/oauth/token")
    def token(self, asked: Asked) -> Any:
        form, made = asked.body, secrets.token_hex(8)
        if form.get("grant_type") == "client_credentials":
            if (form["client_id"], form["client_secret"]) != ("hugo.pell", self.key):
                raise Refuse(401, {"error": "invalid_client"})
            self.tokens[made] = {"scope": form["scope"], "left": 5, "uid": ""}
            return {"access_token": made, "token_type": "Bearer"}
        head = json.loads(base64.urlsafe_b64decode(form["assertion"].partition(".")[0] + "=="))
        key = self.keys.get(head.get("kid", ""))
        try:
            assert key is not None
            claims = jwt.decode(form["assertion"], JWKRegistry.import_key(key["jwk"]), algorithms=["ES256"]).claims
            assert (claims["aud"], claims["iss"]) == ("ferry", key["uid"])
            assert claims["exp"] > time.time() and self.crew[key["uid"]]["on"]
        except Exception:
            raise Refuse(400, {"error": "invalid_grant"}) from None
        self.tokens[made] = {"scope": "", "left": 1000, "uid": key["uid"]}
        return {"access_token": made, "token_type": "Bearer"}

    def bearer(self, asked: Asked) -> Json:
        found = self.tokens.get((asked.headers.get("Authorization") or "").removeprefix("Bearer "))
        if found is None or found["left"] <= 0 or (found["uid"] and not self.crew.get(found["uid"], {}).get("on")):
            raise Refuse(401, {"message": "token ended"})
        found["left"] -= 1
        return found

    def admin(self, asked: Asked) -> None:
        wanted = "crew.read" if asked.method == "GET" else "crew.write"
        if self.bearer(asked)["scope"] != wanted:
            raise Refuse(404, {"code": "NotFound"})

    def there(self, identity: str) -> Json:
        if identity not in self.crew:
            raise Refuse(404, {"code": "NotFound"})
        return self.crew[identity]

    @route("GET", "/oauth/scopes")
    def scopes(self, asked: Asked) -> Any:
        self.admin(asked)
        return {"scopes": ["crew.read"]}

    @route("GET", "/crew")
    def crew_(self, asked: Asked) -> Any:
        self.admin(asked)
        number, all_ = int(asked.query["page"]), list(self.crew.values())
        return {"crew": all_[2 * number - 2 : 2 * number]}

    @route("GET", "/crew/search")
    def search(self, asked: Asked) -> Any:
        self.admin(asked)
        found = re.fullmatch(r'handle = "((?:[^"\\]|\\.)*)"', asked.query["q"], re.DOTALL)
        if found is None:
            raise Refuse(400, {"message": "that is no search"})
        wanted = re.sub(r"\\(.)", r"\1", found[1], flags=re.DOTALL)
        return {"crew": [c for c in self.crew.values() if c["handle"] == wanted]}

    @route("POST", "/crew")
    def join(self, asked: Asked) -> Any:
        self.admin(asked)
        if not re.fullmatch("[a-z0-9-]{0,63}", asked.body["labels"]["sigillum"]):
            raise Refuse(400, {"message": "a label is of small letters"})
        if any(c["handle"] == asked.body["handle"] for c in self.crew.values()):
            raise Refuse(409, {"message": "taken"})
        identity = secrets.token_hex(4)
        self.crew[identity] = {"uid": identity, "on": True, "seen": None, **asked.body}
        return 201, {}, {"made": identity}

    @route("GET", "/crew/(?!search)([^/]+)")
    def one(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        return self.there(identity)

    @route("PATCH", "/crew/([^/]+)")
    def change(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        self.there(identity).update(asked.body)
        return {}

    @route("DELETE", "/crew/([^/]+)")
    def leave(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        self.there(identity)
        del self.crew[identity]
        self.keys = {i: k for i, k in self.keys.items() if k["uid"] != identity}
        self.levels = {k: v for k, v in self.levels.items() if k[2] != identity}
        return 204, {}, None

    @route("GET", "/crew/([^/]+)/keys")
    def keys_(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        self.there(identity)
        return {"keys": [k for k in self.keys.values() if k["uid"] == identity]}

    @route("POST", "/crew/([^/]+)/keys")
    def register(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        self.there(identity)
        key = JWKRegistry.import_key(asked.body["jwk"])
        number = key.thumbprint()
        if number in self.keys:
            raise Refuse(409, {"message": "this key is there"})
        self.keys[number] = {
            "kid": number,
            "uid": identity,
            "jwk": asked.body["jwk"],
            "label": asked.body["label"],
            "ends": asked.body["ends"],
        }
        return 201, {}, {"kid": number}

    @route("DELETE", "/keys/([^/]+)")
    def revoke(self, asked: Asked, number: str) -> Any:
        self.admin(asked)
        if self.keys.pop(number, None) is None:
            raise Refuse(404, {"code": "NotFound"})
        return 204, {}, None

    @route("GET", "/squads")
    def squads_(self, asked: Asked) -> Any:
        self.admin(asked)
        return {"squads": list(self.squads.values())}

    @route("POST", "/squads")
    def found_squad(self, asked: Asked) -> Any:
        self.admin(asked)
        number = f"q-{asked.body['title']}"
        self.squads[number] = {"squad": number, "members": [], **asked.body}
        return 201, {}, {"squad": number}

    @route("DELETE", "/squads/([^/]+)")
    def disband(self, asked: Asked, squad: str) -> Any:
        self.admin(asked)
        if self.squads.pop(squad, None) is None:
            raise Refuse(404, {"code": "NotFound"})
        return 204, {}, None

    @route("PUT", "/squads/([^/]+)/members/([^/]+)")
    def into(self, asked: Asked, squad: str, identity: str) -> Any:
        self.admin(asked)
        if identity not in self.squads[squad]["members"]:
            self.squads[squad]["members"].append(identity)
        return 204, {}, None

    @route("DELETE", "/squads/([^/]+)/members/([^/]+)")
    def out_of(self, asked: Asked, squad: str, identity: str) -> Any:
        self.admin(asked)
        if identity not in self.squads[squad]["members"]:
            raise Refuse(404, {"code": "NotFound"})
        self.squads[squad]["members"].remove(identity)
        return 204, {}, None

    @route("GET", "/decks")
    def decks_(self, asked: Asked) -> Any:
        self.admin(asked)
        return {"decks": self.decks}

    @route("GET", "/decks/([^/]+)")
    def deck(self, asked: Asked, deck: str) -> Any:
        self.admin(asked)
        if deck not in self.decks:
            raise Refuse(404, {"code": "NotFound"})
        return {"deck": deck}

    @route("GET", "/decks/([^/]+)/(crew|squads)")
    def levels_(self, asked: Asked, deck: str, which: str) -> Any:
        self.admin(asked)
        return {
            "levels": [{"who": f"{which}/{w}", "level": v} for (d, k, w), v in self.levels.items() if (d, k) == (deck, which)]
        }

    @route("PUT", "/decks/([^/]+)/(crew|squads)/([^/]+)")
    def set_level(self, asked: Asked, deck: str, which: str, who: str) -> Any:
        self.admin(asked)
        self.levels[deck, which, who] = asked.body["level"]
        return 204, {}, None

    @route("DELETE", "/decks/([^/]+)/(crew|squads)/([^/]+)")
    def no_level(self, asked: Asked, deck: str, which: str, who: str) -> Any:
        self.admin(asked)
        if self.levels.pop((deck, which, who), None) is None:
            raise Refuse(404, {"code": "NotFound"})
        return 204, {}, None

    def may(self, asked: Asked, deck: str, *levels: str) -> None:
        mine = str(self.bearer(asked)["uid"])
        held = {
            self.levels.get((deck, "crew", mine)),
            *(self.levels.get((deck, "squads", i)) for i, s in self.squads.items() if mine in s["members"]),
        }
        if not held & set(levels):
            raise Refuse(404, {"code": "NotFound"})

    @route("GET", "/me")
    def me(self, asked: Asked) -> Any:
        return {"uid": self.bearer(asked)["uid"]}

    @route("GET", "/decks/([^/]+)/log")
    def log(self, asked: Asked, deck: str) -> Any:
        self.may(asked, deck, "watch", "steer")
        return {}

    @route("POST", "/decks/([^/]+)/course")
    def course(self, asked: Asked, deck: str) -> Any:
        self.may(asked, deck, "steer")
        return {}

    def count(self) -> tuple[list[str], int, list[str]]:
        return (
            [c["handle"] for c in self.crew.values()],
            len(self.keys),
            [f"{v} {w}" for (_, k, w), v in self.levels.items() if k == "crew"],
        )


class Berth(Service):
    """Forms are sent and JSON comes back; changes name the version that was read; switching off has an address of its own; assignments end by
    themselves, in milliseconds; pages by a token in the body; a name and a secret; the tenant is asked for decisions by its administrator.
    """

    def __init__(self) -> None:
        super().__init__()
        self.services: dict[str, Json] = {}
        self.given: dict[str, Json] = {}
        self.secrets: dict[str, Json] = {}
        self.numbers = iter(range(1, 10_000))

    def admin(self, asked: Asked) -> None:
        if asked.basic() != ("hugo.pell", self.key):
            raise Refuse(401, {"reason": "who are you?"})

    def page(self, asked: Asked, all_: list[Json]) -> Json:
        start = int(asked.query.get("after") or 0)
        return {"found": all_[start : start + 2], "more": str(start + 2) if start + 2 < len(all_) else ""}

    def there(self, identity: str) -> Json:
        if identity not in self.services:
            raise Refuse(410, {"reason": "no such service"})
        return self.services[identity]

    @route("GET", "/services")
    def services_(self, asked: Asked) -> Any:
        self.admin(asked)
        return self.page(asked, list(self.services.values()))

    @route("POST", "/services")
    def make(self, asked: Asked) -> Any:
        self.admin(asked)
        if any(s["label"] == asked.body["label"] for s in self.services.values()):
            raise Refuse(400, {"reason": "label is not unique"})
        identity = str(next(self.numbers))
        self.services[identity] = {
            "number": int(identity),
            "label": asked.body["label"],
            "about": asked.body.get("about", ""),
            "memo": asked.body["memo"],
            "held": False,
            "rev": 1,
            "changed": int(time.time() * 1000),
        }
        return 201, {"Location": f"/services/{identity}"}, {"number": int(identity)}

    @route("GET", "/services/([^/]+)")
    def one(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        return self.there(identity)

    def touched(self, asked: Asked, identity: str) -> Json:
        self.admin(asked)
        made = self.there(identity)
        if asked.headers.get("If-Match") not in (None, str(made["rev"])):
            raise Refuse(412, {"reason": "changed meanwhile"})
        made["rev"] += 1
        return made

    @route("PATCH", "/services/([^/]+)")
    def change(self, asked: Asked, identity: str) -> Any:
        self.touched(asked, identity)["about"] = asked.body["about"]
        return {}

    @route("POST", "/services/([^/]+)/(hold|release)")
    def hold(self, asked: Asked, identity: str, which: str) -> Any:
        self.touched(asked, identity)["held"] = which == "hold"
        return {}

    @route("DELETE", "/services/([^/]+)")
    def end(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        self.there(identity)
        del self.services[identity]
        return 204, {}, None

    @route("GET", "/roles")
    def roles(self, asked: Asked) -> Any:
        self.admin(asked)
        return {
            "found": [{"code": "looker", "can": "cargo.read"}, {"code": "clerk", "can": "cargo.read,cargo.load"}],
            "more": "",
        }

    @route("GET", "/berths")
    def berths(self, asked: Asked) -> Any:
        self.admin(asked)
        return self.page(asked, [{"path": "north"}, {"path": "trial"}, {"path": "south"}])

    @route("GET", "/assignments")
    def assignments(self, asked: Asked) -> Any:
        self.admin(asked)
        return self.page(asked, [g for g in self.given.values() if str(g["who"]) == asked.query["who"]])

    @route("POST", "/assignments")
    def assign(self, asked: Asked) -> Any:
        self.admin(asked)
        identity = str(next(self.numbers))
        self.given[identity] = {
            "id": int(identity),
            "who": int(asked.body["who"]),
            "role": asked.body["role"],
            "where": asked.body["where"],
            "ends": int(asked.body["ends"]) if asked.body.get("ends") else None,
            "memo": asked.body["memo"],
        }
        return 201, {}, {"id": int(identity)}

    @route("DELETE", "/assignments/([^/]+)")
    def unassign(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        if self.given.pop(identity, None) is None:
            raise Refuse(410, {"reason": "no such assignment"})
        return 204, {}, None

    @route("GET", "/services/([^/]+)/secrets")
    def secrets_(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        self.there(identity)
        return self.page(
            asked, [{k: v for k, v in s.items() if k != "hash"} for s in self.secrets.values() if s["service"] == identity]
        )

    @route("POST", "/services/([^/]+)/secrets")
    def make_secret(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        self.there(identity)
        number, value = str(next(self.numbers)), secrets.token_urlsafe(24)
        self.secrets[number] = {
            "number": number,
            "service": identity,
            "title": asked.body["title"],
            "memo": asked.body["memo"],
            "last_seen": None,
            "ends": asked.body["ends"],
            "hash": hashlib.sha256(value.encode()).hexdigest(),
        }
        return 201, {}, {"number": number, "value": value}

    @route("DELETE", "/services/([^/]+)/secrets/([^/]+)")
    def end_secret(self, asked: Asked, identity: str, number: str) -> Any:
        self.admin(asked)
        if self.secrets.pop(number, None) is None:
            raise Refuse(410, {"reason": "no such secret"})
        return 204, {}, None

    def may(self, identity: str, what: str, berth: str) -> bool:
        roles = {
            g["role"]
            for g in self.given.values()
            if (str(g["who"]), g["where"]) == (identity, berth) and (g["ends"] is None or g["ends"] > time.time() * 1000)
        }
        return bool(roles & ({"looker", "clerk"} if what == "cargo.read" else {"clerk"}))

    @route("GET", "/may")
    def decide(self, asked: Asked) -> Any:
        self.admin(asked)
        return {"answer": "yes" if self.may(asked.query["who"], asked.query["do"], asked.query["at"]) else "no"}

    def who(self, asked: Asked) -> str:
        name, value = asked.basic()
        found = next(
            (
                s
                for s in self.secrets.values()
                if s["hash"] == hashlib.sha256(value.encode()).hexdigest() and s["service"] == name
            ),
            None,
        )
        if found is None or self.services.get(name, {"held": True})["held"]:
            raise Refuse(401, {"reason": "who are you?"})
        found["last_seen"] = int(time.time())
        return name

    @route("GET", "/me")
    def me(self, asked: Asked) -> Any:
        return {"number": int(self.who(asked))}

    @route("GET", "/berths/([^/]+)/cargo")
    def cargo(self, asked: Asked, berth: str) -> Any:
        if not self.may(self.who(asked), "cargo.read", berth):
            raise Refuse(403, {"reason": "not yours"})
        return {}

    @route("POST", "/berths/([^/]+)/cargo")
    def load(self, asked: Asked, berth: str) -> Any:
        if not self.may(self.who(asked), "cargo.load", berth):
            raise Refuse(403, {"reason": "not yours"})
        return {}

    def count(self) -> tuple[list[str], int, list[str]]:
        return (
            [s["label"] for s in self.services.values()],
            len(self.secrets),
            [f"{g['role']} {g['who']}" for g in self.given.values() if str(g["who"]) in self.services],
        )


class Cellar(Service):
    """A store: bins with secrets in versions; readers with tokens, each of which reads the bins that list it."""

    def __init__(self) -> None:
        super().__init__()
        self.bins: dict[str, dict[str, list[tuple[int, str]]]] = {"north": {}, "trial": {}}
        self.readers: dict[str, Json] = {}
        self.tokens: dict[str, Json] = {}
        self.lists: set[tuple[str, str]] = set()
        self.numbers = iter(range(1, 10_000))

    def admin(self, asked: Asked) -> None:
        if asked.headers.get("Cellar-Key") != self.key:
            raise Refuse(401, {"error": "no key"})

    def versions_of(self, bin_: str, name: str) -> list[tuple[int, str]]:
        if not self.bins.get(bin_, {}).get(name):
            raise Refuse(404, {"error": "nothing is there"})
        return self.bins[bin_][name]

    @route("GET", "/bins")
    def bins_(self, asked: Asked) -> Any:
        self.admin(asked)
        return {"bins": [{"bin": b} for b in self.bins]}

    @route("GET", "/bins/([^/]+)/secrets/([^/]+)")
    def get(self, asked: Asked, bin_: str, name: str) -> Any:
        if asked.headers.get("Cellar-Key") != self.key and (bin_, self.who(asked)) not in self.lists:
            raise Refuse(403, {"error": "not on the list"})
        return {"payload": self.versions_of(bin_, name)[-1][1]}

    @route("PUT", "/bins/([^/]+)/secrets/([^/]+)")
    def put(self, asked: Asked, bin_: str, name: str) -> Any:
        self.admin(asked)
        if bin_ not in self.bins:
            raise Refuse(404, {"error": "no such bin"})
        self.bins[bin_].setdefault(name, []).append((next(self.numbers), asked.body["payload"]))
        return 201, {}, None

    @route("DELETE", "/bins/([^/]+)/secrets/([^/]+)")
    def remove(self, asked: Asked, bin_: str, name: str) -> Any:
        self.admin(asked)
        self.versions_of(bin_, name)
        del self.bins[bin_][name]
        return 204, {}, None

    @route("GET", "/bins/([^/]+)/secrets/([^/]+)/versions")
    def versions(self, asked: Asked, bin_: str, name: str) -> Any:
        self.admin(asked)
        return [{"number": n} for n, _ in self.versions_of(bin_, name)]

    @route("DELETE", "/bins/([^/]+)/secrets/([^/]+)/versions/([^/]+)")
    def end_version(self, asked: Asked, bin_: str, name: str, number: str) -> Any:
        self.admin(asked)
        self.bins[bin_][name] = [v for v in self.versions_of(bin_, name) if str(v[0]) != number]
        return 204, {}, None

    @route("GET", "/readers")
    def readers_(self, asked: Asked) -> Any:
        self.admin(asked)
        return list(self.readers.values())

    @route("PUT", "/readers/([^/]+)")
    def put_reader(self, asked: Asked, name: str) -> Any:
        self.admin(asked)
        self.readers[name] = {"reader": name, "note": asked.body["note"]}
        return self.readers[name]

    @route("DELETE", "/readers/([^/]+)")
    def end_reader(self, asked: Asked, name: str) -> Any:
        self.admin(asked)
        if self.readers.pop(name, None) is None:
            raise Refuse(404, {"error": "no such reader"})
        return 204, {}, None

    @route("GET", "/tokens")
    def tokens_(self, asked: Asked) -> Any:
        self.admin(asked)
        return [{k: v for k, v in t.items() if k != "token"} for t in self.tokens.values()]

    @route("POST", "/readers/([^/]+)/tokens")
    def make_token(self, asked: Asked, name: str) -> Any:
        self.admin(asked)
        if name not in self.readers:
            raise Refuse(404, {"error": "no such reader"})
        number = str(next(self.numbers))
        self.tokens[number] = {
            "number": number,
            "reader": name,
            "note": asked.body["note"],
            "days": asked.body["days"],
            "token": secrets.token_urlsafe(24),
            "used": None,
        }
        return 201, {}, self.tokens[number]

    @route("DELETE", "/tokens/([^/]+)")
    def end_token(self, asked: Asked, number: str) -> Any:
        self.admin(asked)
        if self.tokens.pop(number, None) is None:
            raise Refuse(404, {"error": "no such token"})
        return 204, {}, None

    @route("GET", "/bins/([^/]+)/list")
    def list_(self, asked: Asked, bin_: str) -> Any:
        self.admin(asked)
        return {"readers": sorted(r for b, r in self.lists if b == bin_)}

    @route("PUT", "/bins/([^/]+)/list/([^/]+)")
    def onto(self, asked: Asked, bin_: str, name: str) -> Any:
        self.admin(asked)
        self.lists.add((bin_, name))
        return 204, {}, None

    @route("DELETE", "/bins/([^/]+)/list/([^/]+)")
    def off(self, asked: Asked, bin_: str, name: str) -> Any:
        self.admin(asked)
        if (bin_, name) not in self.lists:
            raise Refuse(404, {"error": "not on the list"})
        self.lists.remove((bin_, name))
        return 204, {}, None

    def who(self, asked: Asked) -> str:
        given = unquote((asked.headers.get("Authorization") or "").removeprefix("Bearer "))
        found = next((t for t in self.tokens.values() if t["token"] == given and t["reader"] in self.readers), None)
        if found is None:
            raise Refuse(401, {"error": "no token"})
        found["used"] = time.strftime("%Y-%m-%d")
        return str(found["reader"])

    def count(self) -> tuple[list[str], int, list[str]]:
        return list(self.readers), len(self.tokens), [f"{b} {r}" for b, r in self.lists]
