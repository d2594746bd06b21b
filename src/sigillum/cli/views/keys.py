"""What a file of key material is, as text; never the private part itself."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.console import Group, RenderableType
from rich.text import Text

from .common import Ident, pairs

if TYPE_CHECKING:
    from sigillum.keys.shapes import Shape

SHOWN_AS_IDS = ("principal_id", "credential_id", "subject", "sub", "iss")


def holds_private(found: Sequence[Shape]) -> bool | None:
    """Evidence for a reviewer; None: it cannot be told without its password."""
    said = [s.private for s in found]
    return True if True in said else None if None in said else False


def text(name: str, found: Sequence[Shape], ident: Ident) -> RenderableType:
    parts: list[RenderableType] = []
    for shape in found:
        size = f", {shape.bits} bits" if shape.bits else ""
        rows = [("form", shape.form), *([("algorithm", f"{shape.algorithm}{size}")] if shape.algorithm else []),
                *([("strength", shape.strength)] if shape.strength else []),
                *([("thumbprint", ident(shape.thumbprint))] if shape.thumbprint else []),
                *([("until", shape.until)] if shape.until else []),
                *((n.replace("_", " "), ident(v) if n in SHOWN_AS_IDS else v) for n, v in shape.about)]
        parts += [Text(shape.kind, "bold"), pairs(rows), ""]
    told = {True: "It holds a private key or secret.", False: "It holds no private key.",
            None: "Whether it holds a private key cannot be told without its password."}[holds_private(found)]
    return Group(*parts, Text(f"{name}: {told}", "bold"))
