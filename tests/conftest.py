"""A sandbox in a process of its own, fresh tenants in it, and workspaces in temporary folders."""

from __future__ import annotations

import contextlib
import itertools
import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import keyring
import pytest
import urllib3
from hypothesis import Phase, settings
from keyring.backend import KeyringBackend
from ruamel.yaml import YAML

import compiled  # noqa: F401  (before anything of ours is)
from sigillum.cli.main import main
from sigillum.cli.sandboxes import usual_world

Json = dict[str, Any]
OWNER = "mara.teel@brindlemoor.example"
SLOW = 60.0
settings.register_profile("patient", deadline=None)  # no test asserts on wall-clock time
settings.register_profile(
    "searching", deadline=None, derandomize=True, phases=(Phase.explicit, Phase.generate)
)  # `make mutants`
settings.load_profile(os.environ.get("SIGILLUM_HYPOTHESIS", "patient"))


def examples(number: int) -> int:
    """So many cases of a property; `make mutants`, which runs them hundreds of times, tries a fifth of them."""
    return number // 5 if os.environ.get("SIGILLUM_HYPOTHESIS") == "searching" else number


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--soak", action="store_true", help="run the long tests")
    parser.addoption("--tell", action="store_true", help="write tests/core/stories.txt anew, to be read before it is committed")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    if not config.getoption("--soak"):
        for item in items:
            if item.get_closest_marker("soak"):
                item.add_marker(pytest.mark.skip(reason="only with --soak"))


@dataclass
class Away:
    """One tenant of the sandbox, made for one test."""

    name: str
    address: str
    tokens: dict[str, str]
    sandbox: Sandbox

    def state(self) -> Json:
        return self.sandbox.control("state", {"tenant": self.name})

    def limits(self, **limits: float) -> None:
        self.sandbox.control("tenants", {"limits": {self.name: limits}})

    def scim(
        self, method: str, path: str, body: Any = None, admin: str = "ada.rusk", headers: dict[str, str] | None = None
    ) -> urllib3.BaseHTTPResponse:
        """One raw SCIM exchange, without any code of ours."""
        content = json.dumps(body).encode() if body is not None else None
        return self.sandbox.pool.request(
            method,
            f"{self.address}{path}",
            body=content,
            retries=False,
            redirect=False,
            headers={
                "Authorization": f"Bearer {self.tokens[admin]}",
                "Content-Type": "application/scim+json",
                **(headers or {}),
            },
        )

    def make(self, path: str, body: Json) -> Json:
        answer = self.scim("POST", path, body)
        assert answer.status == 201, answer.data
        return dict(answer.json())

    def of(self, name: str, account: str = "wind-ingest") -> list[Json]:
        """The resources of a type that belong to an account."""
        resources = self.state()["resources"]
        if name == "User":
            return [u for u in resources["User"] if u["userName"] == account]
        ids = {u["id"] for u in resources["User"] if u["userName"] == account}
        return [r for r in resources[name] if r["principal"]["value"] in ids]


@dataclass
class Sandbox:
    """The running sandbox and its control interface."""

    about: Json
    pool: urllib3.PoolManager = field(default_factory=lambda: urllib3.PoolManager(maxsize=8))
    numbers: Iterator[int] = field(default_factory=lambda: itertools.count(1))

    def control(self, what: str, body: Json | None = None) -> Json:
        answer = self.pool.request(
            "POST" if body is not None else "GET",
            f"{self.about['control']}/{what}",
            body=json.dumps(body).encode() if body is not None else None,
            headers={"Authorization": f"Bearer {self.about['token']}"},
        )
        assert answer.status == 200, answer.data
        return dict(answer.json())

    def tenant(self, like: str = "summit", **limits: float) -> Away:
        name = f"t{os.getpid()}-{next(self.numbers)}"
        made = self.control("tenants", {"open": {name: like}, "limits": {name: limits}})
        return Away(name, made["tenants"][name], made["tokens"][name], self)

    def faults(self, *orders: Json) -> None:
        self.control("faults", {"clear": True, "orders": list(orders)})

    def clock(self, **order: Any) -> str:
        return str(self.control("clock", order or None)["now"])


def start_sandbox(folder: Path, world: Path) -> tuple[subprocess.Popen[bytes], Json]:
    process = subprocess.Popen(
        [sys.executable, "-m", "sigillum.sandbox", "--world", str(world), "--folder", str(folder)], stdin=subprocess.DEVNULL
    )
    ready = folder / "running.json"
    for _ in range(400):
        if ready.exists():
            return process, json.loads(ready.read_text())
        assert process.poll() is None, "the sandbox ended"
        time.sleep(0.05)
    raise AssertionError("the sandbox did not become ready")


@pytest.fixture(scope="session")
def sandbox(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Sandbox]:
    folder = tmp_path_factory.mktemp("sandbox")
    yaml = YAML(typ="safe", pure=True)
    world = yaml.load(usual_world())
    summit = world["tenants"]["summit"]
    world["tenants"] |= {
        "once": {**summit, "secret_delivery": "once"},
        "loose": {**summit, "external_id_unique": False},
        "empty": {"admins": [{"name": "ada.rusk", "powers": "all"}]},
    }
    yaml.dump(world, folder / "world.yaml")
    process, about = start_sandbox(folder, folder / "world.yaml")
    yield Sandbox(about)
    process.terminate()
    process.wait(10)


@pytest.fixture
def away(sandbox: Sandbox) -> Iterator[Away]:
    """A fresh tenant; clock and faults are put back afterwards."""
    yield sandbox.tenant()
    sandbox.faults()


class FileKeyring(KeyringBackend):
    """A keyring in a file, behind the real library: it is the same one in every process of a test."""

    priority = 1

    def __init__(self, path: Path) -> None:
        super().__init__()  # type: ignore[no-untyped-call]
        self.path = path

    @property
    def kept(self) -> dict[str, str]:
        return dict(json.loads(self.path.read_text())) if self.path.exists() else {}

    def get_password(self, service: str, username: str) -> str | None:
        return self.kept.get(f"{service} {username}")

    def set_password(self, service: str, username: str, password: str) -> None:
        self.path.write_text(json.dumps({**self.kept, f"{service} {username}": password}))

    def delete_password(self, service: str, username: str) -> None:
        self.path.write_text(json.dumps({n: v for n, v in self.kept.items() if n != f"{service} {username}"}))


@pytest.fixture
def vault(tmp_path: Path) -> FileKeyring:
    made = FileKeyring(tmp_path / "keyring.json")
    keyring.set_keyring(made)
    return made


CHARTER = """\
charter: wind-ingest
tenant: summit
purpose: Store wind readings from the mast stations
owner: mara.teel@brindlemoor.example
identity: {kind: service-account, name: wind-ingest, display: Wind readings ingest}
grants:
  - {role: stream-writer, at: brindlemoor/sensing-prod, because: stores the readings}
credentials:
  - {name: ingest-key, kind: key-pair, lasts: 90d, limits: [stream.append, stream.read]}
proofs:
  - {can: stream.append, at: brindlemoor/sensing-prod/streams/mast-test}
  - {can: stream.read, at: brindlemoor/sensing-prod/streams/mast-4, count: 3}
  - {cannot: stream.delete, at: brindlemoor/sensing-prod/streams/mast-4}
  - {cannot: stream.append, at: brindlemoor/sensing-test/streams/mast-4}
"""


@dataclass
class Ran:
    """What a run of the program gave back."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Json:
        return dict(json.loads(self.out))


@dataclass
class Desk:
    """A workspace folder, and the program run in it."""

    folder: Path
    capture: pytest.CaptureFixture[str]

    def charter(self, text: str = CHARTER, name: str = "wind-ingest") -> Path:
        path = self.folder / "charters" / f"{name}.yaml"
        path.write_text(text)
        return path

    def run(self, *arguments: str) -> Ran:
        """In this process."""
        self.capture.readouterr()
        code = main(["--workspace", str(self.folder), *arguments])
        out, err = self.capture.readouterr()
        return Ran(code, out, err)

    def program(self, *arguments: str, **environment: str) -> Ran:
        """As its own process, in the workspace's folder."""
        done = subprocess.run(
            [sys.executable, "-m", "sigillum", *arguments],
            cwd=self.folder,
            capture_output=True,
            text=True,
            env={**os.environ, **environment},
            stdin=subprocess.DEVNULL,
            timeout=SLOW,
        )
        return Ran(done.returncode, done.stdout, done.stderr)

    def answered(self, answers: str, *arguments: str) -> Ran:
        """As its own process with a terminal to answer at."""
        ours, theirs = os.openpty()
        process = subprocess.Popen(
            [sys.executable, "-m", "sigillum", *arguments],
            cwd=self.folder,
            stdin=theirs,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        os.close(theirs)
        os.write(ours, answers.encode())
        out, err = process.communicate(timeout=SLOW)
        os.close(ours)
        return Ran(process.returncode, out, err)

    def know_valley(self, away: Away) -> str:
        """Write the issuer valley of the same sandbox into sigillum.yaml, and return its address."""
        valley = f"{away.address.removesuffix(f'/{away.name}/scim/v2')}/valley"
        settings = self.folder / "sigillum.yaml"
        settings.write_text(
            settings.read_text()
            + f"issuers:\n  valley: {{address: '{valley}', subject: [{{part: account, is: number}}, {{part: machine_role}}], owner: [account]}}\n"
        )
        return valley

    def know(self, away: Away, name: str = "summit", admin: str = "ada.rusk", extra: str = "", stage: str = "prod") -> None:
        """Write a tenant into sigillum.yaml."""
        token = self.folder / ".sigillum" / f"{name}.{admin}.token"
        token.write_text(away.tokens[admin])
        token.chmod(0o600)
        entry = (
            f"  {name}:\n    address: {away.address}\n    stage: {stage}\n    admin: {{name: {admin}, "
            f"token: 'file:{token.relative_to(self.folder)}'}}\n{extra}"
        )
        path = self.folder / "sigillum.yaml"
        path.write_text(path.read_text().replace("tenants: {}\n", "tenants:\n").replace("tenants:\n", "tenants:\n" + entry))


@pytest.fixture
def bare(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> Desk:
    """A workspace without tenants."""
    desk = Desk(tmp_path / "house", capsys)
    assert main(["init", str(desk.folder), "--owner", OWNER]) == 0
    return desk


@pytest.fixture
def desk(bare: Desk, away: Away) -> Desk:
    """A workspace that knows the tenant `summit`, with the charter wind-ingest."""
    bare.know(away)
    bare.charter()
    return bare


@pytest.fixture
def ticking(sandbox: Sandbox) -> Iterator[Callable[[int], None]]:
    """Move the sandbox's clock; it is put back afterwards."""
    yield lambda seconds: (sandbox.clock(move=seconds), None)[1]
    sandbox.clock(set=datetime.now(UTC).isoformat(), freeze=False)


@pytest.fixture
def forked() -> Callable[[Desk, list[str], Callable[[str], None]], tuple[int, int]]:
    """Run the program in a forked child, whose journal boundaries are told to a function; exit code and signal."""

    def run(desk: Desk, arguments: list[str], boundary: Callable[[str], None]) -> tuple[int, int]:
        child = os.fork()
        if child == 0:
            code = 99
            try:
                null = os.open(os.devnull, os.O_RDWR)
                for number in (0, 1, 2):
                    os.dup2(null, number)
                from sigillum.cli.context import Context

                original = Context.settings

                def settings(self: Context) -> Any:
                    made = original(self)
                    made.boundary = boundary
                    return made

                Context.settings = settings  # type: ignore[method-assign]
                code = main(["--workspace", str(desk.folder), *arguments])
            finally:
                os._exit(code)
        _, status = os.waitpid(child, 0)
        return os.waitstatus_to_exitcode(status) if os.WIFEXITED(status) else 0, os.WTERMSIG(status) if os.WIFSIGNALED(
            status
        ) else 0

    return run


Fork = Callable[[Desk, list[str], Callable[[str], None]], tuple[int, int]]


def boundaries(desk: Desk, fork: Fork, arguments: list[str]) -> list[str]:
    """The names of all journal boundaries of an undisturbed run, in order."""
    path = desk.folder / "seen"

    def note(name: str) -> None:
        with path.open("a") as file:
            file.write(name + "\n")

    assert fork(desk, arguments, note) == (0, 0)
    return list(dict.fromkeys(path.read_text().splitlines()))


class Both:
    """A client that reads the file of a credential, and where it is refused the one beside it, and the first one again."""

    def __init__(self, house: Desk, name: str, let_in: Callable[[str], bool]) -> None:
        self.house, self.name, self.let_in, self.refused, self._over = house, name, let_in, list[float](), threading.Event()

    def once(self) -> bool:
        for ending in ("", ".next", ""):
            path = max(
                (self.house.folder / ".sigillum" / "keys").glob(f"*/current/{self.name}.json"),
                key=lambda p: p.lstat().st_mtime_ns,
            )
            with contextlib.suppress(FileNotFoundError):
                if self.let_in(json.loads(path.with_name(f"{self.name}{ending}.json").read_text())["secret"]):
                    return True
        return False

    def _run(self) -> None:
        while not self._over.wait(0.02):
            if not self.once():
                self.refused.append(time.time())

    def __enter__(self) -> Both:
        self._thread = threading.Thread(target=self._run)
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()


def kill_at(wanted: str) -> Callable[[str], None]:
    """What kills the program at one boundary."""

    def boundary(name: str) -> None:
        if name == wanted:
            os.kill(os.getpid(), signal.SIGKILL)

    return boundary
