"""Real servers on loopback in temporary folders: what they need, how they start, and how they stop."""

from __future__ import annotations

import json
import os
import pwd
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg
import urllib3
from cryptography.hazmat.primitives import serialization

from cli.test_certificates import House

PACKAGES = {
    "postgres": "postgresql",
    "rabbitmq-server": "rabbitmq-server",
    "node": "nodejs",
    "npm": "npm",
}  # a program, and the Debian package that brings it
HOME = Path(__file__).parents[2] / ".venv-real"  # where the servers that are Python packages live
PLACES = ("/usr/sbin", "/usr/bin")


def program(name: str) -> str | None:
    """Where a server's program is; Debian keeps those of PostgreSQL by version."""
    found = shutil.which(name, path=os.pathsep.join([os.environ.get("PATH", ""), *PLACES]))
    versions = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"), key=lambda p: int(p.parts[-3]))
    return found or (str(versions[-1]) if versions else None)


def install() -> None:
    """What is not there yet, where that is allowed; otherwise it is said what to install. Ends the program where it cannot."""
    lacking = [package for name, package in PACKAGES.items() if program(name) is None]
    if lacking and os.getuid() == 0 and shutil.which("apt-get"):
        environment = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
        for words in (["apt-get", "update", "-qq"], ["apt-get", "install", "-y", "-qq", "--no-install-recommends", *lacking]):
            subprocess.run(words, check=False, env=environment, stdout=subprocess.DEVNULL)
        lacking = [package for name, package in PACKAGES.items() if program(name) is None]
    if lacking:
        sys.exit(f"install these Debian packages first, then run `make real` again: {' '.join(lacking)}")
    wanted = (Path(__file__).parent / "requirements.txt").read_text()
    if not (HOME / "ready").is_file() or (HOME / "ready").read_text() != wanted:
        subprocess.run([sys.executable, "-m", "venv", "--clear", HOME], check=True)
        subprocess.run(
            [
                HOME / "bin" / "python",
                "-m",
                "pip",
                "install",
                "-qq",
                "--disable-pip-version-check",
                "-r",
                Path(__file__).parent / "requirements.txt",
            ],
            check=True,
        )
        (HOME / "ready").write_text(wanted)
    strangers()


STRANGERS = HOME / "strangers"  # programs of the npm registry that speak what we speak


def strangers() -> None:
    """What of the npm registry is not there yet. Ends the program where it cannot be had."""
    ours = Path(__file__).parent / "strangers"
    STRANGERS.mkdir(exist_ok=True)
    for path in ours.iterdir():
        shutil.copy(path, STRANGERS / path.name)
    wanted = (ours / "package.json").read_text()
    if not (STRANGERS / "ready").is_file() or (STRANGERS / "ready").read_text() != wanted:
        subprocess.run(
            [str(program("npm")), "install", "--no-package-lock", "--no-audit", "--no-fund", "--silent"],
            check=True,
            cwd=STRANGERS,
        )
        (STRANGERS / "ready").write_text(wanted)


def node(script: str, *words: object) -> Any:
    """What one of the strangers' scripts says."""
    ran = subprocess.run(
        [str(program("node")), STRANGERS / script, *map(str, words)], check=True, capture_output=True, text=True, timeout=60
    )
    return json.loads(ran.stdout)


def answering(address: str, tries: int = 150) -> None:
    """Wait until a server answers there; what comes next says it where it never does."""
    for _ in range(tries):
        with suppress(urllib3.exceptions.HTTPError):
            if urllib3.request("GET", address, retries=False).status == 200:
                return
        time.sleep(0.2)


@contextmanager
def issuer(folder: Path) -> Iterator[str]:
    """An OpenID provider; its address is its name as an issuer."""
    folder.mkdir()
    port = free_port()
    with (folder / "out").open("wb") as out:
        server = subprocess.Popen(
            [str(program("node")), STRANGERS / "issuer.mjs", str(port)], cwd=folder, stdout=out, stderr=out
        )
    address = f"http://127.0.0.1:{port}"
    try:
        answering(f"{address}/.well-known/openid-configuration")
        yield address
    finally:
        server.terminate()
        server.wait(30)


def free_port() -> int:
    with socket.socket() as made:
        made.bind(("127.0.0.1", 0))
        return int(made.getsockname()[1])


@dataclass
class Database:
    """A PostgreSQL server with one database."""

    port: int
    admin: str
    password: str
    log: Path
    house: House  # the authority whose client certificates it takes

    @property
    def address(self) -> str:
        return f"postgresql://127.0.0.1:{self.port}/app"

    def connect(self, user: str = "", password: str = "", database: str = "app") -> psycopg.Connection[tuple[object, ...]]:
        return psycopg.connect(
            host="127.0.0.1",
            port=self.port,
            dbname=database,
            user=user or self.admin,
            password=password or self.password,
            autocommit=True,
        )

    def run(self, *statements: str, database: str = "app") -> list[tuple[object, ...]]:
        with self.connect(database=database) as connection:
            for statement in statements:
                cursor = connection.execute(statement.encode())
            return cursor.fetchall() if cursor.description else []


@contextmanager
def postgresql(folder: Path) -> Iterator[Database]:
    """Started for these tests alone, as a user that may run it."""
    owner = pwd.getpwnam("postgres") if os.getuid() == 0 else None
    data, log, password = folder / "data", folder / "log", secrets.token_hex(12)
    folder.mkdir()
    (folder / "pw").write_text(password)
    if owner is not None:
        for path in (folder, folder / "pw"):
            os.chown(path, owner.pw_uid, owner.pw_gid)
        for parent in folder.parents[:3]:
            parent.chmod(parent.stat().st_mode | 0o011)

    def as_owner() -> None:
        if owner is not None:
            os.setgid(owner.pw_gid)
            os.setuid(owner.pw_uid)

    port = free_port()
    subprocess.run(
        [
            str(program("initdb")),
            "-D",
            data,
            "-U",
            "boss",
            "-A",
            "scram-sha-256",
            f"--pwfile={folder / 'pw'}",
            "-E",
            "UTF8",
            "--no-sync",
        ],
        check=True,
        preexec_fn=as_owner,
        cwd=folder,
        stdout=subprocess.DEVNULL,
    )
    house = House()
    for name, data_ in (
        ("ca.pem", house.own.public_bytes(serialization.Encoding.PEM)),
        (
            "key.pem",
            house.key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            ),
        ),
    ):
        (folder / name).write_bytes(data_)
        (folder / name).chmod(0o600)
        if owner is not None:
            os.chown(folder / name, owner.pw_uid, owner.pw_gid)
    rules = data / "pg_hba.conf"
    rules.write_text(f"hostssl app clerk-9,clerk-8 127.0.0.1/32 cert map=machines\n{rules.read_text()}")
    (data / "pg_ident.conf").write_text("machines clerk-9 clerk-9\nmachines gauge-1 clerk-8\n")
    tls = [
        w for n, f in (("cert_file", "ca"), ("key_file", "key"), ("ca_file", "ca")) for w in ("-c", f"ssl_{n}={folder / f}.pem")
    ]
    with log.open("wb") as out:
        server = subprocess.Popen(
            [
                str(program("postgres")),
                "-D",
                data,
                "-p",
                str(port),
                "-c",
                "listen_addresses=127.0.0.1",
                "-k",
                str(folder),
                "-c",
                "log_statement=all",
                "-c",
                "fsync=off",
                "-c",
                "max_connections=100",
                "-c",
                "ssl=on",
                *tls,
            ],
            preexec_fn=as_owner,
            cwd=folder,
            stdout=out,
            stderr=out,
        )
    made = Database(port, "boss", password, log, house)
    try:
        for _ in range(300):
            with suppress(psycopg.OperationalError):
                made.run("CREATE DATABASE app", database="postgres")
                break
            time.sleep(0.1)
        yield made
    finally:
        server.send_signal(signal.SIGINT)  # without waiting for anybody
        server.wait(30)


@dataclass
class Broker:
    """A RabbitMQ node with its management interface."""

    port: int
    address: str

    def call(
        self, method: str, path: str, body: object = None, user: tuple[str, str] = ("guest", "guest")
    ) -> tuple[int, object]:
        answer = urllib3.request(
            method, f"{self.address}/api/{path}", json=body, headers=urllib3.make_headers(basic_auth=":".join(user))
        )
        return answer.status, json.loads(answer.data) if answer.data else None


@contextmanager
def rabbitmq(folder: Path) -> Iterator[Broker]:
    """One node, on loopback, with a port mapper of its own."""
    folder.mkdir()
    node, web, mapper, peers = (free_port() for _ in range(4))
    (folder / "plugins").write_text("[rabbitmq_management].\n")
    (folder / "rabbit.conf").write_text(
        f"management.tcp.port = {web}\nmanagement.tcp.ip = 127.0.0.1\nlisteners.tcp.1 = 127.0.0.1:{node}\n"
    )
    environment = {
        **os.environ,
        "HOME": str(folder),
        "ERL_EPMD_PORT": str(mapper),
        "ERL_EPMD_ADDRESS": "127.0.0.1",
        "RABBITMQ_DIST_PORT": str(peers),
        **{
            f"RABBITMQ_{name}": str(value)
            for name, value in {
                "MNESIA_BASE": folder / "data",
                "LOG_BASE": folder / "log",
                "NODENAME": f"trial-{node}@localhost",
                "NODE_PORT": node,
                "PID_FILE": folder / "pid",
                "ENABLED_PLUGINS_FILE": folder / "plugins",
                "CONFIG_FILE": folder / "rabbit",
                "SERVER_ADDITIONAL_ERL_ARGS": "-kernel inet_dist_use_interface {127,0,0,1}",
            }.items()
        },
    }
    with (folder / "out").open("wb") as out:  # the usual start gives up being root, and could not read this folder
        server = subprocess.Popen(
            ["/usr/lib/rabbitmq/bin/rabbitmq-server"], env=environment, cwd=folder, stdout=out, stderr=out
        )
    made = Broker(node, f"http://127.0.0.1:{web}")
    try:
        for _ in range(600):
            with suppress(urllib3.exceptions.HTTPError):
                if made.call("GET", "whoami")[0] == 200:
                    break
            time.sleep(0.2)
        for place in ("orders", "trial"):
            made.call("PUT", f"vhosts/{place}")
            made.call("PUT", f"permissions/{place}/guest", {"configure": ".*", "write": ".*", "read": ".*"})
            made.call("PUT", f"queues/{place}/sigillum-trial", {"durable": False})
        yield made
    finally:
        server.terminate()
        server.wait(60)
        subprocess.run(["epmd", "-port", str(mapper), "-kill"], check=False, stdout=subprocess.DEVNULL, env=environment)


@dataclass
class Web:
    """A server that speaks HTTP, with what its administrator presents."""

    address: str
    token: str

    def call(self, method: str, path: str, body: object = None, token: str = "") -> tuple[int, Any]:
        answer = urllib3.request(
            method,
            f"{self.address}/{path}",
            json=body,
            headers={"Authorization": f"token {token or self.token}"},
            retries=False,
        )
        return answer.status, json.loads(answer.data) if answer.data and "json" in answer.headers.get(
            "Content-Type", ""
        ) else answer.data.decode()

    def wait(self, path: str) -> Web:
        for _ in range(300):
            with suppress(urllib3.exceptions.HTTPError):
                if self.call("GET", path)[0] == 200:
                    return self
            time.sleep(0.2)
        raise TimeoutError(path)


HUB = """\
from jupyterhub.proxy import Proxy

class Nowhere(Proxy):  # nothing is started for anybody, so there is nothing to pass on
    should_start = False
    routes = {{}}
    async def add_route(self, routespec, target, data):
        self.routes[routespec] = {{"routespec": routespec, "target": target, "data": data}}
    async def delete_route(self, routespec):
        self.routes.pop(routespec, None)
    async def get_all_routes(self):
        return self.routes

c = get_config()  # noqa
c.JupyterHub.proxy_class = Nowhere
c.JupyterHub.bind_url, c.JupyterHub.hub_bind_url = "http://127.0.0.1:{front}", "http://127.0.0.1:{port}"
c.JupyterHub.authenticator_class, c.Authenticator.allow_all = "dummy", True
c.JupyterHub.db_url, c.JupyterHub.cookie_secret_file = "sqlite:///{folder}/hub.sqlite", "{folder}/cookie"
c.JupyterHub.services = [{{"name": "boss", "api_token": "{token}"}}]
c.JupyterHub.load_groups = {{"lookers": {{"users": []}}}}
c.JupyterHub.load_roles = [
    {{"name": "provisioner", "scopes": ["admin:users", "admin:groups", "tokens", "list:users"], "services": ["boss"]}},
    {{"name": "looker", "scopes": ["read:metrics"], "groups": ["lookers"]}}]
"""


@contextmanager
def jupyterhub(folder: Path) -> Iterator[Web]:
    """A hub with one group whose members may read its page of figures."""
    folder.mkdir()
    port, token = free_port(), secrets.token_hex(20)
    (folder / "hub.py").write_text(HUB.format(front=free_port(), port=port, folder=folder, token=token))
    with (folder / "out").open("wb") as out:
        server = subprocess.Popen(
            [HOME / "bin" / "python", "-m", "jupyterhub", "-f", folder / "hub.py"], cwd=folder, stdout=out, stderr=out
        )
    try:
        yield Web(f"http://127.0.0.1:{port}", token).wait("hub/api/user")
    finally:
        server.terminate()
        server.wait(60)


@contextmanager
def directory(folder: Path) -> Iterator[Web]:
    """A plain SCIM server: users and groups, and nothing of ours."""
    folder.mkdir()
    port, token = free_port(), secrets.token_hex(20)
    with (folder / "out").open("wb") as out:
        server = subprocess.Popen(
            [HOME / "bin" / "scim2-server", "--port", str(port), "--bearer-token", token], cwd=folder, stdout=out, stderr=out
        )
    made = Web(f"http://127.0.0.1:{port}/v2", token)
    try:
        for _ in range(300):
            with suppress(urllib3.exceptions.HTTPError):
                if (
                    urllib3.request(
                        "GET", f"{made.address}/Users", headers={"Authorization": f"Bearer {token}"}, retries=False
                    ).status
                    == 200
                ):
                    break
            time.sleep(0.1)
        yield made
    finally:
        server.terminate()
        server.wait(60)


if __name__ == "__main__":
    install()
