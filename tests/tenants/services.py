"""Small HTTP services, each after its own taste: what the dialects of the tests describe. They share no code with what is tested."""

from __future__ import annotations

import base64
import json
import re
import secrets
import threading
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qsl, unquote, urlsplit

Json = dict[str, Any]
LOOKS = re.compile(r"/login|/oauth/token|.*/search")  # what is sent by POST and changes nothing


class Refuse(Exception):
    """An answer that is no success."""

    def __init__(self, status: int, body: Any = None) -> None:
        super().__init__(status)
        self.status, self.body = status, body


class Asked:
    """One request."""

    def __init__(self, handler: BaseHTTPRequestHandler) -> None:
        parts = urlsplit(handler.path)
        self.method, self.path, self.query = handler.command, parts.path, dict(parse_qsl(parts.query))
        self.headers = handler.headers
        raw = handler.rfile.read(int(handler.headers.get("Content-Length") or 0))
        form = "form" in (handler.headers.get("Content-Type") or "")
        self.body: Any = dict(parse_qsl(raw.decode(), keep_blank_values=True)) if form else json.loads(raw) if raw else {}

    def basic(self) -> tuple[str, str]:
        name, _, password = (
            base64.b64decode((self.headers.get("Authorization") or "").removeprefix("Basic ")).decode().partition(":")
        )
        return name, password


class Service:
    """Routes are methods marked with `route`; `fates` is what becomes of the changes that come, in order: lost-before, lost-after,
    busy, late; one that is called does something meanwhile, and says which; anything else arrives.
    """

    key = "admin-key"

    def __init__(self) -> None:
        self.fates: list[str | Callable[[], str]] = []
        self.late: list[Asked] = []  # what was given up, and still arrives one day
        self.changes, self.seen = 0, list[str]()
        self.hidden = ""  # a pattern of addresses that may not be looked at
        self.lock = threading.RLock()
        service = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version, wbufsize, disable_nagle_algorithm = "HTTP/1.1", -1, True

            def handle_one(self) -> None:
                asked = Asked(self)
                with service.lock:
                    service.seen.append(f"{asked.method} {asked.path}")
                    fate = (
                        service.fates.pop(0)
                        if service.fates and asked.method != "GET" and not LOOKS.fullmatch(asked.path)
                        else ""
                    )
                    fate = fate() if callable(fate) else fate
                    if fate == "late":
                        service.late.append(asked)
                    if fate in ("lost-before", "late"):
                        self.close_connection = True
                        self.connection.close()
                        return
                    status, headers, body = (503, {}, {}) if fate == "busy" else service.answer(asked)
                    service.changes += asked.method != "GET" and status < 300 and not LOOKS.fullmatch(asked.path)
                if fate == "lost-after":
                    self.close_connection = True
                    self.connection.close()
                    return
                content = b"" if body is None else body if isinstance(body, bytes) else json.dumps(body).encode()
                self.send_response(status)
                for name, value in {"Content-Type": "application/json", **headers, "Content-Length": str(len(content))}.items():
                    self.send_header(name, value)
                self.end_headers()
                self.wfile.write(content)

            do_GET = do_POST = do_PUT = do_PATCH = do_DELETE = handle_one  # noqa: N815 - names of the library

            def log_message(self, *given: Any) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        self.address = f"http://127.0.0.1:{self.server.server_port}"
        threading.Thread(target=self.server.serve_forever, args=(0.05,), daemon=True).start()

    def deliver(self) -> list[int]:
        """What is late arrives."""
        with self.lock:
            late, self.late = self.late, []
            return [self.answer(asked)[0] for asked in late]

    def stop(self) -> None:
        self.server.shutdown()
        self.server.server_close()

    def answer(self, asked: Asked) -> tuple[int, dict[str, str], Any]:
        if self.hidden and asked.method == "GET" and re.match(self.hidden, asked.path):
            return 403, {}, {"message": "you may not look at that"}
        for name in dir(type(self)):
            method = getattr(type(self), name)
            for verb, pattern in getattr(method, "routes", ()):
                found = re.fullmatch(pattern, asked.path) if verb == asked.method else None
                if found:
                    try:
                        given = method(self, asked, *(unquote(g) for g in found.groups()))
                    except Refuse as no:
                        return no.status, {}, no.body
                    return given if isinstance(given, tuple) else (200, {}, given)
        return 404, {}, {"message": "no such address"}


def route(verb: str, pattern: str) -> Callable[[Any], Any]:
    """Mark a method as what answers such requests."""

    def mark(method: Any) -> Any:
        method.routes = [*getattr(method, "routes", ()), (verb, pattern)]
        return method

    return mark


class Pierhead(Service):
    """Hands with numeric ids, below them tokens; piers in a tree told by parents, each with a policy document under an ETag."""

    def __init__(self) -> None:
        super().__init__()
        self.hands: dict[str, Json] = {}
        self.tokens: dict[str, Json] = {}
        self.late_hands: dict[str, Json] | None = None  # made, and not shown yet
        self.piers = {"1": ("", "pierhead"), "2": ("1", "north"), "3": ("1", "trial")}
        self.policies: dict[str, tuple[int, Json]] = {p: (1, {"bindings": []}) for p in self.piers}
        self.numbers = iter(range(100, 10_000))
        self.heeds_etag, self.counts, self.reach = True, True, "here-and-below"

    def admin(self, asked: Asked) -> None:
        if asked.headers.get("X-Pierhead-Key") != self.key:
            raise Refuse(401, {"error": {"message": "who are you?"}})

    @route("GET", "/v1/hands")
    def hands_(self, asked: Asked) -> Any:
        self.admin(asked)
        start = int(asked.query.get("start", 0))
        return {"data": {"hands": list(self.hands.values())[start : start + 2]}}

    @route("POST", "/v1/hands")
    def make_hand(self, asked: Asked) -> Any:
        self.admin(asked)
        if any(r["login"] == asked.body["login"] for r in self.hands.values()):
            raise Refuse(422, {"error": {"code": "LoginTaken", "message": "login is taken"}})
        number = next(self.numbers)
        into = self.hands if self.late_hands is None else self.late_hands
        into[str(number)] = made = {
            "number": number,
            "login": asked.body["login"],
            "caption": asked.body.get("caption", ""),
            "remark": asked.body.get("remark", ""),
            "state": "enabled",
        }
        return 201, {}, {"hand": made}

    def hand(self, number: str) -> Json:
        if number not in self.hands:
            raise Refuse(404, {"error": {"message": "no such hand"}})
        return self.hands[number]

    @route("GET", "/v1/hands/([^/]+)")
    def hand_(self, asked: Asked, number: str) -> Any:
        self.admin(asked)
        return self.hand(number)

    @route("PUT", "/v1/hands/([^/]+)")
    def change_hand(self, asked: Asked, number: str) -> Any:
        self.admin(asked)
        if "number" in asked.body:
            raise Refuse(400, {"error": {"message": "number cannot be written"}})
        self.hands[number] = {"number": self.hand(number)["number"], **asked.body}
        return self.hands[number]

    @route("DELETE", "/v1/hands/([^/]+)")
    def end_hand(self, asked: Asked, number: str) -> Any:
        self.admin(asked)
        self.hand(number)
        del self.hands[number]
        self.tokens = {i: t for i, t in self.tokens.items() if t["hand"] != number}
        return 204, {}, None

    @route("GET", "/v1/hands/([^/]+)/tokens")
    def tokens_(self, asked: Asked, number: str) -> Any:
        self.admin(asked)
        self.hand(number)
        return {"data": [{k: v for k, v in t.items() if k != "secret"} for t in self.tokens.values() if t["hand"] == number]}

    @route("POST", "/v1/hands/([^/]+)/tokens")
    def make_token(self, asked: Asked, number: str) -> Any:
        self.admin(asked)
        self.hand(number)
        identity = secrets.token_hex(4)
        self.tokens[identity] = {
            "token_id": identity,
            "hand": number,
            "title": asked.body["title"],
            "remark": asked.body.get("remark", ""),
            "expires": asked.body["expires"],
            "secret": secrets.token_urlsafe(24),
            "seen": None,
        }
        return 201, {}, self.tokens[identity]

    @route("DELETE", "/v1/tokens/([^/]+)")
    def end_token(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        if self.tokens.pop(identity, None) is None:
            raise Refuse(404)
        return 204, {}, None

    @route("GET", "/v1/piers")
    def piers_(self, asked: Asked) -> Any:
        self.admin(asked)
        return [{"id": i, "above": above, "name": name} for i, (above, name) in self.piers.items()]

    @route("GET", "/v1/piers/([^/]+)/policy")
    def policy(self, asked: Asked, pier: str) -> Any:
        self.admin(asked)
        return 200, {"ETag": self.etag(pier)}, self.policies[pier][1]

    def etag(self, pier: str) -> str:
        """It counts, or is made of what stands there."""
        number, body = self.policies[pier]
        return f'"{number if self.counts else hash(json.dumps(body))}"'

    @route("PUT", "/v1/piers/([^/]+)/policy")
    def write_policy(self, asked: Asked, pier: str) -> Any:
        self.admin(asked)
        number, _ = self.policies[pier]
        if self.heeds_etag and asked.headers.get("If-Match") != self.etag(pier):
            raise Refuse(412, {"error": {"message": "it has changed"}})
        bindings = sorted(asked.body["policy"]["bindings"], key=lambda b: b["role"])  # it sorts and joins as it likes
        self.policies[pier] = (number + 1, {"bindings": [{**b, "members": sorted(set(b["members"]))} for b in bindings]})
        return self.policies[pier][1]

    def who(self, asked: Asked) -> Json:
        given = (asked.headers.get("Authorization") or "").removeprefix("Token ")
        found = next((t for t in self.tokens.values() if t["secret"] == given), None)
        if found is None or self.hands[found["hand"]]["state"] != "enabled":
            raise Refuse(401, {"error": {"message": "who are you?"}})
        return self.hands[found["hand"]]

    @route("GET", "/v1/me")
    def me(self, asked: Asked) -> Any:
        return {"hand": self.who(asked)["number"]}

    def may(self, number: Any, pier: str, roles: tuple[str, ...]) -> bool:
        asked = pier
        while pier:
            counts = self.reach == "here-and-below" or (pier == asked) is (self.reach == "here")
            held = any(b["role"] in roles and f"hand:{number}" in b["members"] for b in self.policies[pier][1]["bindings"])
            if counts and held:
                return True
            pier = self.piers[pier][0]
        return False

    @route("GET", "/v1/piers/([^/]+)/cargo")
    def cargo(self, asked: Asked, pier: str) -> Any:
        if not self.may(self.who(asked)["number"], pier, ("looker", "clerk")):
            raise Refuse(403, {"error": {"message": "not yours"}})
        return {"cargo": []}

    @route("POST", "/v1/piers/([^/]+)/cargo")
    def load(self, asked: Asked, pier: str) -> Any:
        if not self.may(self.who(asked)["number"], pier, ("clerk",)):
            raise Refuse(403, {"error": {"message": "not yours"}})
        return 201, {}, {}

    def count(self) -> tuple[list[str], int, list[str]]:
        """Names of accounts, how many credentials, and who holds what."""
        held = [f"{b['role']} {m}" for _, p in self.policies.values() for b in p["bindings"] for m in b["members"]]
        return [r["login"] for r in self.hands.values()], len(self.tokens), held


class Lock(Service):
    """Users by their names, made or changed alike by PUT, with a password inside; rights as triples; no place for a mark."""

    def __init__(self) -> None:
        super().__init__()
        self.users: dict[str, Json] = {"root": {"name": "root", "password": self.key, "group": "staff"}}
        self.rights: dict[tuple[str, str], Json] = {}

    def who(self, asked: Asked) -> str:
        name, password = asked.basic()
        if not password or self.users.get(name, {}).get("password") != password:
            raise Refuse(401, {"error": "not_authorised", "reason": "Login failed"})
        return name

    def admin(self, asked: Asked) -> None:
        if self.who(asked) != "root":
            raise Refuse(401, {"error": "not_authorised", "reason": "Not an administrator"})

    def user(self, name: str) -> Json:
        if name not in self.users:
            raise Refuse(404, {"error": "Object Not Found"})
        return {"name": name, "group": self.users[name]["group"], "hash": "#" * bool(self.users[name]["password"])}

    @route("GET", "/api/users")
    def users_(self, asked: Asked) -> Any:
        self.admin(asked)
        return [self.user(n) for n in self.users]

    @route("GET", "/api/users/([^/]+)")
    def user_(self, asked: Asked, name: str) -> Any:
        self.admin(asked)
        return self.user(name)

    @route("PUT", "/api/users/([^/]+)")
    def put_user(self, asked: Asked, name: str) -> Any:
        self.admin(asked)
        there = name in self.users
        self.users[name] = {"name": name, "password": asked.body.get("password", ""), "group": asked.body["group"]}
        return 204 if there else 201, {}, None

    @route("DELETE", "/api/users/([^/]+)")
    def end_user(self, asked: Asked, name: str) -> Any:
        self.admin(asked)
        self.user(name)
        del self.users[name]
        self.rights = {k: v for k, v in self.rights.items() if k[1] != name}
        return 204, {}, None

    @route("GET", "/api/vaults")
    def vaults(self, asked: Asked) -> Any:
        self.admin(asked)
        return [{"name": "/"}, {"name": "north"}, {"name": "trial"}]

    @route("GET", "/api/users/([^/]+)/rights")
    def rights_(self, asked: Asked, name: str) -> Any:
        self.admin(asked)
        self.user(name)
        return [{"vault": v, "user": u, **r} for (v, u), r in self.rights.items() if u == name]

    @route("PUT", "/api/rights/([^/]+)/([^/]+)")
    def put_rights(self, asked: Asked, vault: str, name: str) -> Any:
        self.admin(asked)
        self.user(name)
        self.rights[vault, name] = {n: asked.body[n] for n in ("set", "put", "get")}
        return 201, {}, None

    @route("DELETE", "/api/rights/([^/]+)/([^/]+)")
    def end_rights(self, asked: Asked, vault: str, name: str) -> Any:
        self.admin(asked)
        if self.rights.pop((vault, name), None) is None:
            raise Refuse(404, {"error": "Object Not Found"})
        return 204, {}, None

    @route("GET", "/api/whoami")
    def whoami(self, asked: Asked) -> Any:
        return {"name": self.who(asked)}

    @route("GET", "/api/vaults/([^/]+)/keys")
    def keys(self, asked: Asked, vault: str) -> Any:
        if not self.rights.get((vault, self.who(asked)), {}).get("get"):
            raise Refuse(403, {"error": "forbidden", "reason": "access refused"})
        return []

    @route("PUT", "/api/vaults/([^/]+)/keys/trial")
    def put_key(self, asked: Asked, vault: str) -> Any:
        if not self.rights.get((vault, self.who(asked)), {}).get("put"):
            raise Refuse(403, {"error": "forbidden", "reason": "access refused"})
        return 204, {}, None

    def count(self) -> tuple[list[str], int, list[str]]:
        ours = [u for n, u in self.users.items() if n != "root"]
        return (
            [u["name"] for u in ours],
            sum(bool(u["password"]) for u in ours),
            [f"{r['get']} {u}" for (_, u), r in self.rights.items()],
        )


class Wharf(Service):
    """A session first; makings that finish later, and are told by an operation; ends that are still listed, and spend their names;
    pages by a Link header; rights as addresses of their own, listed by place; refusals with status 200.
    """

    def __init__(self) -> None:
        super().__init__()
        self.crew: dict[str, Json] = {}
        self.operations: dict[str, Json] = {}
        self.passes: dict[str, Json] = {}
        self.held: set[tuple[str, str, str]] = set()
        self.sessions = set[str]()
        self.logins = 0

    @route("POST", "/login")
    def login(self, asked: Asked) -> Any:
        if asked.body.get("key") != self.key:
            return {"ok": False, "code": "NO", "text": "wrong key"}
        self.logins += 1
        self.sessions.add(session := secrets.token_hex(8))
        return {"ok": True, "session": session}

    def admin(self, asked: Asked) -> None:
        if asked.headers.get("X-Session") not in self.sessions:
            raise Refuse(401, {"ok": False, "text": "no session"})

    @route("GET", "/crew")
    def crew_(self, asked: Asked) -> Any:
        self.admin(asked)
        start, all_ = int(asked.query.get("from", 0)), list(self.crew.values())
        more = {"Link": f'</crew?from={start + 2}>; rel="next", </crew>; rel="first"'} if start + 2 < len(all_) else {}
        return 200, more, {"ok": True, "crew": all_[start : start + 2]}

    @route("POST", "/crew")
    def join(self, asked: Asked) -> Any:
        self.admin(asked)
        if any(c["handle"] == asked.body["handle"] for c in self.crew.values()):
            gone = any(c["handle"] == asked.body["handle"] and c["phase"] == "ashore" for c in self.crew.values())
            return {"ok": False, "code": "SPENT" if gone else "TAKEN", "text": "this handle was used"}
        operation, identity = secrets.token_hex(4), secrets.token_hex(4)
        self.operations[operation] = {"op": operation, "looks": 0, "crew": identity}
        self.crew[identity] = {
            "uid": identity,
            "handle": asked.body["handle"],
            "label": asked.body["label"],
            "phase": "aboard",
            "tags": asked.body.get("tags", []),
        }
        return 202, {}, {"ok": True, "op": f"/operations/{operation}"}

    @route("GET", "/operations/([^/]+)")
    def operation(self, asked: Asked, name: str) -> Any:
        self.admin(asked)
        self.operations[name]["looks"] += 1
        done = self.operations[name]["looks"] > 1
        return {"ok": True, "finished": done, **({"result": {"uid": self.operations[name]["crew"]}} if done else {})}

    @route("POST", "/crew/([^/]+)/ashore")
    def leave(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        if identity not in self.crew:
            return {"ok": False, "code": "GONE", "text": "unknown"}
        self.crew[identity]["phase"] = "ashore"
        return {"ok": True}

    @route("GET", "/docks")
    def docks(self, asked: Asked) -> Any:
        self.admin(asked)
        return {"ok": True, "docks": ["north", "trial"]}

    @route("GET", "/docks/([^/]+)/holders")
    def holders(self, asked: Asked, dock: str) -> Any:
        self.admin(asked)
        return {"ok": True, "holders": [{"who": w, "what": r} for d, w, r in sorted(self.held) if d == dock]}

    @route("PUT", "/docks/([^/]+)/holders/([^/]+)/([^/]+)")
    def hold(self, asked: Asked, dock: str, who: str, what: str) -> Any:
        self.admin(asked)
        self.held.add((dock, who, what))
        return {"ok": True}

    @route("DELETE", "/docks/([^/]+)/holders/([^/]+)/([^/]+)")
    def drop(self, asked: Asked, dock: str, who: str, what: str) -> Any:
        self.admin(asked)
        if (dock, who, what) not in self.held:
            return {"ok": False, "code": "GONE", "text": "not held"}
        self.held.remove((dock, who, what))
        return {"ok": True}

    @route("GET", "/passes")
    def passes_(self, asked: Asked) -> Any:
        self.admin(asked)
        return {
            "ok": True,
            "passes": [
                {k: v for k, v in p.items() if k != "secret"}
                for p in self.passes.values()
                if p["owner"] == asked.query.get("owner")
            ],
        }

    @route("POST", "/passes")
    def issue(self, asked: Asked) -> Any:
        self.admin(asked)
        once = asked.headers["Once"]
        if once not in self.passes:  # the same again is answered alike
            self.passes[once] = {
                "pass": secrets.token_hex(4),
                "once": once,
                "owner": asked.body["owner"],
                "last_day": asked.body["last_day"],
                "secret": secrets.token_urlsafe(24),
            }
        return {"ok": True, **self.passes[once]}

    @route("DELETE", "/passes/([^/]+)")
    def void(self, asked: Asked, identity: str) -> Any:
        self.admin(asked)
        once = next((o for o, p in self.passes.items() if p["pass"] == identity), "")
        if not once:
            return {"ok": False, "code": "GONE", "text": "unknown"}
        del self.passes[once]
        return {"ok": True}

    def who(self, asked: Asked) -> str:
        found = next((p for p in self.passes.values() if p["secret"] == asked.headers.get("X-Pass")), None)
        if found is None or self.crew[found["owner"]]["phase"] != "aboard":
            raise Refuse(401, {"ok": False, "text": "no pass"})
        return str(found["owner"])

    @route("GET", "/docks/([^/]+)/cargo")
    def cargo(self, asked: Asked, dock: str) -> Any:
        mine = {r for d, w, r in self.held if (d, w) == (dock, self.who(asked))}
        return {"ok": True} if mine & {"looker", "clerk"} else {"ok": False, "code": "DENIED", "text": "not yours"}

    @route("POST", "/docks/([^/]+)/cargo")
    def load(self, asked: Asked, dock: str) -> Any:
        mine = {r for d, w, r in self.held if (d, w) == (dock, self.who(asked))}
        return {"ok": True} if mine & {"clerk"} else {"ok": False, "code": "DENIED", "text": "not yours"}

    def count(self) -> tuple[list[str], int, list[str]]:
        aboard = [c for c in self.crew.values() if c["phase"] == "aboard"]
        return [c["handle"] for c in aboard], len(self.passes), [f"{r} {w}" for _, w, r in self.held]
