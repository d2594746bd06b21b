"""The lines of a work sheet: what a person does, with exact values, and what comes back."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from datetime import datetime
from typing import Any, NamedTuple

from sigillum.core.kinds.changes import Change, Doing, End, Entry, Make
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import format_instant


class Line(NamedTuple):
    """One line of the work sheet: what to do, the exact values, what to look at afterwards, and what comes back."""

    key: str  # the same whenever it is asked
    what: str
    values: tuple[tuple[str, str], ...] = ()
    look: str = ""
    wants_id: bool = False
    wants_secret: bool = False
    question: bool = False  # to be answered with yes or no
    whose: str = ""  # of a secret: the principal id that it is for


class Answer(NamedTuple):
    """What a person said: who, and what came back. `yes` None: neither was said; `whose`: for which principal a secret is."""

    by: str
    id: str = ""
    secret: Secret | None = None
    yes: bool | None = None
    whose: str = ""


Confirm = Callable[[Line], Answer | None]


VERBS = {"make": "make", "change": "change", "end": "end", "add": "add to", "take": "take out of"}
HIDDEN = ("carrier", "role_id", "place_id", "active")  # what a person has no field for
WORDS = {"type": "kind", "start": "from"}
KEPT_HERE = "(kept here: `sigillum handover CHARTER --reveal CHARTER` shows it)"
SKIP_EMPTY: tuple[Any, ...] = (None, "", (), [])


def print_of(secret: Secret) -> str:
    """How a secret is told from others by the two who have it, without showing it: `sha256sum` says the same."""
    return hashlib.sha256(secret.reveal().encode()).hexdigest()[:12]


def keyed(line: Line, tenant: str, about: str) -> Line:
    """The same with a key that names its tenant and `about`: its charter, and where something is made its generation."""
    return line._replace(key=f"{tenant}/{about} {line.key}")


def secret_line(name: str, identity: str, principal: str) -> Line:
    """The line for a secret that only the tenant can make."""
    return Line(
        f"secret of credential {name}",
        f"copy the secret of the credential {name}",
        (("id", identity), ("principal", principal)),
        "it is shown once: copy it before the page is left",
        wants_secret=True,
        whose=principal,
    )


def line_of(doing: Doing) -> Line:
    """The line for one change: exact values, nothing secret."""
    kind = doing.kind.name
    match doing:
        case Make():
            do, fields = "make", dict(doing.part)
        case Change():
            do, fields = "change", {"id": doing.id, **doing.part}
        case Entry():
            do, fields = "take" if doing.out else "add", {"id": doing.id, doing.field: doing.value, **doing.about}
        case End():
            do, fields = "end", {"id": doing.id}
    name = str(fields.get("name") or fields.get("role") or fields.get("id") or "")
    where = f" at {fields['place']}" if fields.get("place") else ""
    values = tuple(
        (WORDS.get(n, n), _shown(n, v)) for n, v in fields.items() if v not in SKIP_EMPTY and not (n in HIDDEN and do == "make")
    )
    look = {
        "make": f"the {kind} is listed with exactly these values, and with its id",
        "end": f"the {kind} is not listed any more",
    }.get(do, "the page shows these values after it was loaded again")
    return Line(f"{do} {kind} {name}{where}", f"{VERBS[do]} the {kind} {name}{where}", values, look, wants_id=do == "make")


def _shown(name: str, value: Any) -> str:
    if isinstance(value, Secret):
        return KEPT_HERE
    if name == "public_key" and isinstance(value, dict):
        return json.dumps(value)
    if isinstance(value, datetime):
        return format_instant(value)
    if isinstance(value, (tuple, list)):
        return ", ".join(" ".join(map(str, v)) if isinstance(v, (tuple, list)) else str(v) for v in value)
    return ("yes" if value else "no") if isinstance(value, bool) else str(value)
