"""`python -m sigillum.sandbox`: serve a world file on loopback until told to stop."""

from __future__ import annotations

import argparse
import json
import os
import secrets
import socket
import sys
from pathlib import Path
from typing import Any

import uvicorn
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from . import world
from .app import House, build


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
        "pid": os.getpid(), "port": port, "control": f"{house.base}/control", "token": house.control_token,
        "tenants": {n: {"address": t.scim, "title": t.described.get("title", n), "stage": t.described.get("stage"),
                        "admins": sorted(house.tokens[n])} for n, t in house.tenants.items()},
    }
    _write_private(folder / "running.json", json.dumps(about, indent=1))


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m sigillum.sandbox", description=__doc__)
    parser.add_argument("--world", type=Path, required=True, help="the world file")
    parser.add_argument("--port", type=int, default=0, help="port on 127.0.0.1 (default: a free one)")
    parser.add_argument("--folder", type=Path, required=True, help="where tokens and running.json are written")
    given = parser.parse_args()
    # Named TCP outright: asyncio switches Nagle's delay off only where the protocol number says so.
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        described = world.read(given.world)
        listener.bind(("127.0.0.1", given.port))
        listener.listen(2048)  # before anybody is told: early callers wait in the queue
    except (OSError, ValueError) as problem:
        print(f"sandbox: {problem}", file=sys.stderr)  # noqa: T201
        return 3
    listener.set_inheritable(True)
    port = listener.getsockname()[1]
    house = House(described, f"http://127.0.0.1:{port}", secrets.token_urlsafe(24))
    try:
        for name in described["tenants"]:
            house.open(name)
    except ValueError as problem:
        print(f"sandbox: {given.world}: {problem}", file=sys.stderr)  # noqa: T201
        return 3
    _announce(house, given.folder, port)
    config = uvicorn.Config(build(house), http=Protocol, log_level="error", access_log=False, date_header=False,
                            server_header=False, lifespan="off", ws="none", loop="asyncio",
                            timeout_graceful_shutdown=1)
    uvicorn.Server(config).run(sockets=[listener])
    return 0


if __name__ == "__main__":
    sys.exit(main())
