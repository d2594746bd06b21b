"""Requests as text: who is asked for what, with every value; and one that arrived, compared anew."""

from __future__ import annotations

from rich.console import Group, RenderableType
from rich.text import Text

from sigillum.core.records.requests import Request
from sigillum.core.values.text import plain, whole
from sigillum.workflows.handing.answer import Answering

from .common import Ident, pairs, value_text

HIDDEN = ("principal", "client_id", "subject", "owner", "deputy")


def text(request: Request, ident: Ident) -> RenderableType:
    """The wish, and every value that would be sent, in the order in which somebody types them."""
    rows = [
        ("tenant", ident(request.tenant)),
        ("power", request.power),
        ("to", ident(request.to) or "whoever has the power"),
        ("charter", request.charter),
        ("in their words", f"{request.do} {request.about}"),
        ("why", request.why),
    ]
    made = request.do == "make"  # with nothing in a field it is made without it; a change empties it
    values = [
        (name, ident(str(v)) if name in HIDDEN and v else value_text(v))
        for name, v in request.values.items()
        if not made or v not in (None, "", (), [])
    ]
    rows += [(name.replace("_", " "), text) for name, text in request.accepted.items()]
    more = [("id", ident(request.id))] if request.id else []
    return Group(
        Text(f"{request.do} {request.thing}", style="bold"),
        "",
        pairs([(n, whole(v)) for n, v in rows]),
        "",
        pairs([(n, whole(v)) for n, v in (*more, *values)]),
    )


def answering(found: Answering, ident: Ident) -> RenderableType:
    """A request that arrived: who signed, what it asks, and how it stands there now."""
    state = "It is so already; only a receipt is written." if found.stands else "It is not so yet."
    means = [(label, f"{ident(plain(id_))} is {ident(plain(what))}") for label, id_, what in found.means]
    looked = [Text(f"As {found.tenant} knows what it names:", "bold"), pairs(means), ""] if means else []
    return Group(Text(found.signer, "dim"), "", text(found.request, ident), "", *looked, Text(state))
