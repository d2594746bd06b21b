"""`python -m sigillum.sandbox`: serve a world file on loopback until told to stop."""

from __future__ import annotations

import argparse
import asyncio
import json
import os
import secrets
import socket
import sys
from functools import partial
from pathlib import Path
from typing import Any

import uvicorn
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from sigillum.reading import FileError

from .app import House, build
from .http.texts import loads
from .worlds import check, state

KEEP_SECONDS = 0.3


class Protocol(HttpToolsProtocol):
    """Hands the transport to the fault layer, which may have to cut it."""

    def on_message_begin(self) -> None:
        super().on_message_begin()
        self.scope["extensions"] = {"sandbox.transport": {"transport": self.transport}}


def _write_private(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    fresh = path.with_name(path.name + ".new")
    with os.fdopen(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
        file.write(text)
    fresh.replace(path)


def _announce(house: House, folder: Path, port: int) -> None:
    """Write the administrators' tokens, and last the file that says the sandbox is ready."""
    for tenant, admins in house.tokens.items():
        for admin, token in admins.items():
            _write_private(folder / f"{tenant}.{admin}.token", token + "\n")
    about: dict[str, Any] = {
        "pid": os.getpid(),
        "port": port,
        "control": f"{house.base}/control",
        "token": house.control_token,
        "tenants": {
            n: {
                "address": t.address,
                "title": t.described.get("title", n),
                "stage": t.described.get("stage"),
                "speaks": t.described.get("speaks", "standard"),
                "admins": sorted(house.tokens[n]),
            }
            for n, t in house.tenants.items()
        },
    }
    _write_private(folder / "running.json", json.dumps(about, indent=1))


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m sigillum.sandbox", description=__doc__)
    parser.add_argument("--world", type=Path, help="the world file")
    parser.add_argument("--port", type=int, default=0, help="port on 127.0.0.1 (default: a free one)")
    parser.add_argument("--folder", type=Path, help="where tokens and running.json are written")
    parser.add_argument("--state", type=Path, help="a file in which everything is kept, and from which it goes on")
    parser.add_argument("--check", type=Path, metavar="FILE", help="only check a world file")
    parser.add_argument("--schema", action="store_true", help="only print the JSON Schema of world files")
    given = parser.parse_args()
    try:
        if given.schema:
            sys.stdout.write(json.dumps(check.schema(), indent=1) + "\n")
            return 0
        if given.check is not None:
            found = check.read(given.check)
            sys.stdout.write(json.dumps({n: list(d) for n, d in found["tenants"].items()}) + "\n")
            return 0
        return _serve(given)
    except FileError as problem:
        sys.stderr.write(json.dumps({"mistakes": check.as_json(problem)}) + "\n")
    except (OSError, ValueError) as problem:
        sys.stderr.write(f"sandbox: {problem}\n")
    return 3


def _serve(given: argparse.Namespace) -> int:
    # Named TCP outright: asyncio switches Nagle's delay off only where the protocol number says so.
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    kept: dict[str, Any] | None = None
    if given.state is not None and given.state.exists():
        kept = loads(given.state.read_bytes())
    tell = partial(_write_private, given.folder / "starting")
    tell("reading the world")
    described = check.read(given.world) if given.world is not None else (kept or {}).get("world", {"tenants": {}})
    listener.bind(("127.0.0.1", given.port or int((kept or {}).get("port", 0))))
    listener.listen(2048)  # before anybody is told: early callers wait in the queue
    listener.set_inheritable(True)
    port = listener.getsockname()[1]
    house = House(described, f"http://127.0.0.1:{port}", secrets.token_urlsafe(24), tell=tell)
    if kept is not None:
        state.take(house, kept)
    if given.world is not None:
        house.change(described)
    if given.state is not None:
        _keep(house, given.state, port)
    house.announce = partial(_announce, house, given.folder, port)
    house.announce()
    config = uvicorn.Config(
        build(house),
        http=Protocol,
        log_level="error",
        access_log=False,
        date_header=False,
        server_header=False,
        lifespan="off",
        ws="none",
        loop="asyncio",
        timeout_graceful_shutdown=1,
    )
    Server(config, house).run(sockets=[listener])
    return 0


class Server(uvicorn.Server):
    """Keeps the state before it ends: afterwards the library raises the signal that ended it once more."""

    def __init__(self, config: uvicorn.Config, house: House) -> None:
        super().__init__(config)
        self.house = house

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        await super().shutdown(sockets)
        self.house.keep()


def _keep(house: House, path: Path, port: int) -> None:
    """Write the state down a moment after each change, once for all that change in that moment."""
    waiting = False

    def write() -> None:
        nonlocal waiting
        waiting = False
        _write_private(path, json.dumps(state.kept(house, port)))

    house.keep = write
    write()  # what cannot be kept is told now

    def dirty() -> None:
        nonlocal waiting
        if not waiting:
            waiting = True
            asyncio.get_running_loop().call_later(KEEP_SECONDS, write)

    house.dirty = dirty


if __name__ == "__main__":
    sys.exit(main())
