"""A real identity service of a cloud, Keystone, in a temporary folder: with the policies that it ships, and SQLite."""

from __future__ import annotations

import os
import secrets
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import urllib3

from real.servers import HOME, answering, free_port

SETTINGS = """\
[DEFAULT]
log_file = {folder}/log
[database]
connection = sqlite:///{folder}/keystone.db
[token]
provider = fernet
[fernet_tokens]
key_repository = {folder}/tokens
[fernet_receipts]
key_repository = {folder}/tokens
[credential]
key_repository = {folder}/credentials
[oslo_policy]
enforce_scope = true
enforce_new_defaults = true
[security_compliance]
password_expires_days = 90
[identity]
password_hash_rounds = 4
"""
SERVE = """\
import waitress
from keystone.server.wsgi import initialize_public_application
served, log = initialize_public_application(), open("requests", "a", buffering=1)
def written(environ, start):
    log.write(environ["REQUEST_METHOD"] + " " + environ["PATH_INFO"] + "\\n")
    return served(environ, start)
waitress.serve(written, host="127.0.0.1", port={port}, threads=1)  # its middleware keeps the token of a request for all threads
"""


@dataclass
class Cloud:
    """Its address, and calls as its first administrator."""

    address: str
    password: str
    folder: Path
    mine: str = ""

    def changes(self) -> list[str]:
        """What was asked of it so far that is no look and no sign-in, by its own log."""
        sent = (self.folder / "requests").read_text().splitlines()
        return [line for line in sent if not line.startswith("GET ") and line != "POST /v3/auth/tokens"]

    def token(self, user: dict[str, Any], scope: dict[str, Any]) -> str:
        """Nothing, where the sign-in is refused."""
        return self.enter({"identity": {"methods": ["password"], "password": {"user": user}}, "scope": scope})

    def enter(self, said: dict[str, Any]) -> str:
        answer = urllib3.request("POST", f"{self.address}/v3/auth/tokens", json={"auth": said}, retries=False)
        return answer.headers.get("X-Subject-Token", "") if answer.status == 201 else ""

    def ids(self, kind: str) -> dict[str, str]:
        """Of all of a kind, by their names."""
        return {found["name"]: found["id"] for found in self.call("GET", kind)[1][kind]}

    def keys(self, user: str) -> list[dict[str, Any]]:
        """Its application credentials."""
        found: list[dict[str, Any]] = self.call("GET", f"users/{user}/application_credentials")[1]["application_credentials"]
        return found

    def call(self, method: str, path: str, body: Any = None, token: str = "") -> tuple[int, Any]:
        boss = {"name": "boss", "domain": {"id": "default"}, "password": self.password}
        self.mine = self.mine or self.token(boss, {"system": {"all": True}})
        headers = {"X-Auth-Token": token or self.mine}
        answer = urllib3.request(method, f"{self.address}/v3/{path}", json=body, headers=headers, retries=False)
        return answer.status, answer.json() if answer.data else None


@contextmanager
def keystone(folder: Path) -> Iterator[Cloud]:
    """With the domains `Default` and `valley`; in the first the projects `hut`, `trial` and `board`, and `deck` below `hut`."""
    folder.mkdir()
    port, password, settings = free_port(), secrets.token_hex(12), folder / "keystone.conf"
    settings.write_text(SETTINGS.format(folder=folder))
    made = Cloud(f"http://127.0.0.1:{port}", password, folder)
    environment = {**os.environ, "OS_KEYSTONE_CONFIG_FILES": str(settings), "OS_BOOTSTRAP_PASSWORD": password}
    owner = ["--keystone-user", str(os.getuid()), "--keystone-group", str(os.getgid())]
    with (folder / "out").open("wb") as out:
        for name in ("tokens", "credentials"):
            (folder / name).mkdir(0o700)
        for words in (
            ["db_sync"],
            ["fernet_setup", *owner],
            ["credential_setup", *owner],
            ["bootstrap", "--bootstrap-username", "boss", "--bootstrap-public-url", f"{made.address}/v3"],
        ):
            manage = [str(HOME / "bin" / "keystone-manage"), "--config-file", str(settings), *words]
            subprocess.run(manage, check=True, cwd=folder, stdout=out, stderr=out, env=environment)
        server = subprocess.Popen(
            [HOME / "bin" / "python", "-c", SERVE.format(port=port)], cwd=folder, stdout=out, stderr=out, env=environment
        )
    try:
        answering(f"{made.address}/v3", 600)
        assert made.call("POST", "domains", {"domain": {"name": "valley"}})[0] == 201
        for name, above in (("hut", {}), ("trial", {}), ("board", {}), ("deck", {"parent_id": "hut"})):
            above = {n: made.ids("projects")[v] for n, v in above.items()}
            assert made.call("POST", "projects", {"project": {"name": name, "domain_id": "default", **above}})[0] == 201
        yield made
    finally:
        server.terminate()
        server.wait(60)
