"""What a file of key material is, as text; never the private part itself."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from rich.console import Group, RenderableType
from rich.text import Text

from sigillum.core.values.errors import Outcome
from sigillum.core.values.times import format_instant

from .common import Ident, masked, pairs, table

if TYPE_CHECKING:
    from sigillum.keys.shapes import Shape
    from sigillum.workflows.surveying.attest import Attested
    from sigillum.workflows.surveying.scan import Lying

SARIF = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
SHOWN_AS_IDS = ("principal_id", "credential_id", "subject", "sub", "iss", "spki")


def holds_private(found: Sequence[Shape]) -> bool | None:
    """Evidence for a reviewer; None: it cannot be told without its password."""
    said = [s.private for s in found]
    return True if True in said else None if None in said else False


def text(name: str, found: Sequence[Shape], ident: Ident) -> RenderableType:
    parts: list[RenderableType] = []
    for shape in found:
        size = f", {shape.bits} bits" if shape.bits else ""
        rows = [
            ("form", shape.form),
            *([("algorithm", f"{shape.algorithm}{size}")] if shape.algorithm else []),
            *([("strength", shape.strength)] if shape.strength else []),
            *([("thumbprint", ident(shape.thumbprint))] if shape.thumbprint else []),
            *([("until", shape.until)] if shape.until else []),
            *(
                (n.replace("_", " "), ident(v) if n in SHOWN_AS_IDS else v)
                for n, v in shape.about
                if n not in ("algorithm", "ends")
            ),
        ]  # which stand above
        parts += [Text(shape.kind, "bold"), pairs(rows), ""]
    told = {
        True: "It holds a private key or secret.",
        False: "It holds no private key.",
        None: "Whether it holds a private key cannot be told without its password.",
    }[holds_private(found)]
    return Group(*parts, Text(f"{name}: {told}", "bold"))


def lying(key: Lying) -> str:
    """Where something lies, what it is, and whose."""
    found, ours = key.finding, key.ours
    told = f"{key.path}:{found.line}:{found.column}: a {found.what}"
    if found.until:
        told += f", {'ended' if found.ended else 'until'} {found.until}"
    if ours is not None:
        told += f"; ours: {ours.what}, {ours.state}" + (
            f"; whoever has it could use {ours.could}" if ours.alive and ours.could else ""
        )
    return told


def lying_json(key: Lying) -> dict[str, Any]:
    ours = key.ours
    told = {"what": ours.what, "alive": ours.alive, "could": ours.could} if ours is not None else None
    return {"file": key.path, **key.finding._asdict(), "ours": told}


def sarif(found: Sequence[Lying]) -> dict[str, Any]:
    """As SARIF 2.1.0 (OASIS), which code hosts and editors read."""
    from sigillum import __version__

    rules = sorted({key.finding.what for key in found})
    results = [
        {
            "ruleId": key.finding.what.replace(" ", "-"),
            "ruleIndex": rules.index(key.finding.what),
            "level": "error" if key.ours is not None and key.ours.alive else "warning",
            "message": {"text": lying(key)},
            "partialFingerprints": {"mark/v1": key.finding.mark},
            "locations": [
                {
                    "physicalLocation": {
                        "artifactLocation": {"uri": quote(key.path.replace(chr(92), "/"))},
                        "region": {"startLine": key.finding.line, "startColumn": key.finding.column},
                    }
                }
            ],
        }
        for key in found
    ]
    told = [{"id": r.replace(" ", "-"), "shortDescription": {"text": f"A {r} that stands literally in a file"}} for r in rules]
    return {
        "$schema": SARIF,
        "version": "2.1.0",
        "runs": [{"tool": {"driver": {"name": "Sigillum", "version": __version__, "rules": told}}, "results": results}],
    }


def attested(found: Attested, ident: Ident) -> RenderableType:
    """The page for a reviewer: place by place, and how the identity is used instead."""
    charter, rows = found.charter, list[tuple[Any, ...]]()
    for looked in found.looked:
        came = ("not known", "yellow") if looked.found is None else ("found", "bold red") if looked.found else ("none", "green")
        rows.append((looked.where, Text(*came), masked("\n".join(looked.found or ()), ident) or looked.how))
    said = {
        Outcome.DONE: f"No private key of {charter.identity.name} exists in any place that was looked at.",
        Outcome.NO: f"{charter.identity.name} has keys or secrets.",
        Outcome.SOMEBODY: "A place could not be looked at, so it is not established.",
    }[found.outcome()]
    instead = (
        [Text("how it is used instead", "bold"), *(Text(masked(words, ident)) for words in found.instead), Text("")]
        if found.instead
        else []
    )
    head = f" of {charter.tenant}, {charter.purpose}; looked at {format_instant(found.at)}"
    return Group(
        Text.assemble((charter.identity.name, "bold"), head),
        Text(""),
        table(("where", "keys", "how, or which"), rows, ("keys",)),
        Text(""),
        *instead,
        Text(said, "bold"),
    )


def attested_json(found: Attested) -> dict[str, Any]:
    return {
        "charter": found.charter.name,
        "at": format_instant(found.at),
        "none": found.outcome() is Outcome.DONE,
        "looked": [
            {"where": looked.where, "found": list(looked.found) if looked.found is not None else None, "how": looked.how}
            for looked in found.looked
        ],
        "instead": list(found.instead),
    }
