"""Faults to order: what goes wrong with the next requests that match."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from typing import Any

from starlette.types import ASGIApp, Message, Receive, Scope, Send

KINDS = ("latency", "status", "lost-before", "lost-after", "torn", "rubbish", "endless", "redirect")


@dataclass
class Fault:
    """One order: `kind` for the next `count` requests of `method` whose path contains `path`."""

    kind: str
    count: int = 1
    method: str = ""
    path: str = ""
    seconds: float = 0.0
    status: int = 503
    retry_after: int | None = None
    skip: int = 0

    def takes(self, method: str, path: str) -> bool:
        """Does this order apply to the request? Counts down."""
        if self.count <= 0 or (self.method and self.method != method) or self.path not in path:
            return False
        if self.skip > 0:
            self.skip -= 1
            return False
        self.count -= 1
        return True


class FaultLayer:
    """ASGI middleware in front of the tenants. The control interface is never disturbed."""

    def __init__(self, app: ASGIApp, orders: list[Fault]) -> None:
        self.app, self.orders = app, orders

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if not self.orders or scope["type"] != "http" or scope["path"].startswith("/control/"):
            await self.app(scope, receive, send)
            return
        fault = next((f for f in self.orders if f.takes(scope["method"], scope["path"])), None)
        self.orders[:] = [f for f in self.orders if f.count > 0]
        await (self.app(scope, receive, send) if fault is None else self._disturb(fault, scope, receive, send))

    async def _disturb(self, fault: Fault, scope: Scope, receive: Receive, send: Send) -> None:
        transport: Any = scope.get("extensions", {}).get("sandbox.transport", {}).get("transport")
        if fault.kind == "latency":
            await asyncio.sleep(fault.seconds)
            await self.app(scope, receive, send)
        elif fault.kind == "lost-before":
            transport.abort()
            await asyncio.sleep(0)
        elif fault.kind in ("lost-after", "torn"):
            whole: list[Message] = []

            async def hold(message: Message) -> None:
                whole.append(message)

            await self.app(scope, receive, hold)
            if fault.kind == "torn" and len(whole) > 1:
                await send(whole[0])
                body: bytes = whole[1].get("body", b"")
                await send({"type": "http.response.body", "body": body[: len(body) // 2], "more_body": True})
                await asyncio.sleep(0.01)
            transport.abort()
            await asyncio.sleep(0)
        else:
            await self._answer(fault, send)

    async def _answer(self, fault: Fault, send: Send) -> None:
        headers: list[tuple[bytes, bytes]] = [(b"content-type", b"application/json")]
        status, body = 200, b'{"schemas": "what'
        if fault.kind == "status":
            status, body = fault.status, b'{"detail": "ordered"}'
            if fault.retry_after is not None:
                headers.append((b"retry-after", str(fault.retry_after).encode()))
        elif fault.kind == "redirect":
            status, body = 302, b""
            headers.append((b"location", b"http://127.0.0.1:9/elsewhere"))
        await send({"type": "http.response.start", "status": status, "headers": headers})
        for _ in range(4000 if fault.kind == "endless" else 0):
            await send({"type": "http.response.body", "body": b" " * 65536, "more_body": True})
        await send({"type": "http.response.body", "body": body})


def order(described: Any) -> Fault:
    """Read an order from the control interface. Raises ValueError."""
    if not isinstance(described, dict) or described.get("kind") not in KINDS:
        raise ValueError(f"kind must be one of {', '.join(KINDS)}")
    try:
        return Fault(**described)
    except TypeError as problem:
        raise ValueError(str(problem)) from problem
