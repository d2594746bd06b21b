"""Requests as text: who is asked for what, with every value; and one that arrived, compared anew."""

from __future__ import annotations

from rich.console import Group, RenderableType
from rich.text import Text

from sigillum.core.records.requests import Request
from sigillum.workflows.answer import Answering

from .common import Ident, pairs, value_text

HIDDEN = ("principal", "client_id", "subject", "owner", "deputy")
MADE_FOR_US = ("place_id", "role_id", "carrier")  # ids that only repeat what is said in words


def text(request: Request, ident: Ident) -> RenderableType:
    """The wish, and the values in the order in which somebody types them."""
    rows = [("tenant", ident(request.tenant)), ("power", request.power), ("to", ident(request.to) or "whoever has the power"),
            ("charter", request.charter), ("why", request.why)]
    values = [(name, ident(str(v)) if name in HIDDEN else value_text(v)) for name, v in request.values.items()
              if v not in (None, "", (), []) and name not in MADE_FOR_US]
    more = [("id", ident(request.id))] if request.id else []
    return Group(Text(f"{request.do} {request.about}", style="bold"), "", pairs(rows), "", pairs([*more, *values]))


def answering(found: Answering, ident: Ident) -> RenderableType:
    """A request that arrived: who signed, what it asks, and how it stands there now."""
    state = "It is so already; only a receipt is written." if found.stands else "It is not so yet."
    return Group(Text(found.signer, "dim"), "", text(found.request, ident), "", Text(state))
