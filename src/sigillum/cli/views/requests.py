"""Requests as text: who is asked for what, with every value; and one that arrived, compared anew."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.console import Group, RenderableType
from rich.text import Text

from sigillum.core.records.requests import Request
from sigillum.core.records.results import result
from sigillum.core.values.text import plain, whole
from sigillum.workflows.handing.answer import Arrived, Asked, told

from .common import Ident, pairs, value_text

HIDDEN = ("principal", "client_id", "subject", "owner", "deputy")


def text(request: Request, ident: Ident) -> RenderableType:
    """The wish, and every value that would be sent, in the order in which somebody types them."""
    rows = [
        ("request", f"{request.number}, of the charter {request.charter}"),
        ("tenant", ident(request.tenant)),
        ("power", request.power),
        ("to", ident(request.to) or "whoever has the power"),
        ("in their words", f"{request.do} {request.about}"),
        ("why", request.why),
        ("expires", request.expires),
    ]
    made = request.do == "make"  # with nothing in a field it is made without it; a change empties it
    values = [(name, _value(name, v, ident)) for name, v in request.values.items() if not made or v not in (None, "", (), [])]
    if request.after:
        rows.append(("after", f"request {', '.join(map(str, request.after))} of this file"))
    rows += [(name.replace("_", " "), text) for name, text in request.accepted.items()]
    more = [("id", ident(request.id))] if request.id else []
    return Group(
        Text(f"{request.do} {request.thing}", style="bold"),
        "",
        pairs([(n, whole(v)) for n, v in rows]),
        "",
        pairs([(n, whole(v)) for n, v in (*more, *values)]),
    )


def _value(name: str, value: Any, ident: Ident) -> str:
    """One value, whole; what another request of the file will give is called by its number."""
    if (given := result(value)) is not None:
        return f"({given})"
    if isinstance(value, list):
        value = [f"({given})" if (given := result(v)) is not None else tuple(v) if isinstance(v, list) else v for v in value]
    return ident(str(value)) if name in HIDDEN and value else value_text(value)


def texts(requests: Sequence[Request], ident: Ident) -> RenderableType:
    """Every request of a file, one below the other."""
    return Group(*(part for n, r in enumerate(requests) for part in (*([""] if n else []), text(r, ident))))


def answering(found: Arrived, ident: Ident) -> RenderableType:
    """Requests that arrived: who signed, what they ask, how it is there now, and what is answered no more."""
    parts: list[RenderableType] = [Text(found.signer, "dim")]
    for asked in found.asked:
        means = [(label, f"{ident(plain(id_))} is {ident(plain(what))}") for label, id_, what in asked.means]
        looked = [Text(f"As {found.tenant} knows what it names:", "bold"), pairs(means), ""] if means else []
        parts += ["", text(asked.given, ident), "", *looked, *_beside(asked, ident), Text(_state(asked))]
    for request, why in found.left:
        parts += ["", Text(f"Not answered: request {request.number} ({request.about}) {plain(why)}", "yellow")]
    return Group(*parts)


def _state(asked: Asked) -> str:
    if asked.after:
        numbers = ", ".join(map(str, asked.after))
        return f"It is looked up and carried out once request {numbers} is, and not without it."
    if asked.stands:
        return "It is so already; only a receipt is written."
    if asked.changes is not None:
        return "It is there already, and not as it is asked for: carrying it out changes what is named above."
    return "It is not so yet."


def _beside(asked: Asked, ident: Ident) -> list[RenderableType]:
    """What is like it and there already, with what differs: an end, a place, a window."""
    rows = [(ident(there.id), told(there)) for there in asked.beside]
    return [Text("Already there, and similar:", "bold"), pairs(rows), ""] if rows else []
