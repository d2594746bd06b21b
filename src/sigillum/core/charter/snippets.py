"""Snippets: what must work, written as a call that somebody can run: one shell line, or a program. No secret stands in them."""

from __future__ import annotations

import json
import shlex
from typing import NamedTuple
from urllib.parse import quote

from sigillum.core.kinds.profile import Operation

CHANGING = ("POST", "PUT", "PATCH")


class Call(NamedTuple):
    """One request of an identity. `header`: the variable that names the file with its `Authorization` line."""

    charter: str
    about: str
    method: str
    url: str
    header: str
    body: str = ""


def call_of(charter: str, header: str, work: str, operation: Operation, place: str) -> Call:
    """The request that uses a permission at a place."""
    url = work.rstrip("/") + operation.template.replace("{place}", quote(place))
    body = json.dumps({"items": [{"note": "a first try"}]}) if operation.method in CHANGING else ""
    return Call(charter, f"can {operation.permission} at {place}", operation.method, url, header, body)


def written(call: Call, language: str) -> str:
    """The call in a language; its token comes from a file in memory. Raises KeyError."""
    return {"shell": _shell, "python": _python}[language](call)


def _shell(call: Call) -> str:
    data = f" -H 'Content-Type: application/json' --data {shlex.quote(call.body)}" if call.body else ""
    inner = f'curl --silent --show-error --fail-with-body -X {call.method} -H "@${call.header}"{data} {shlex.quote(call.url)}'
    return f"sigillum with {call.charter} -- sh -c {shlex.quote(inner)}\n"


def _python(call: Call) -> str:
    data = f", data={call.body.encode()!r}" if call.body else ""
    extra = '        request.add_header("Content-Type", "application/json")\n' if call.body else ""
    return f'''"""{call.about}. Run it with: sigillum with {call.charter} -- python3 THIS-FILE"""

import os
import urllib.request


def call() -> bytes:
    with open(os.environ[{call.header!r}], encoding="utf-8") as file:  # read anew each time: it is kept fresh
        name, _, value = file.read().strip().partition(": ")
        request = urllib.request.Request({call.url!r}, method={call.method!r}{data})
        request.add_header(name, value)
{extra}    with urllib.request.urlopen(request, timeout=30) as answer:
        return answer.read()


print(call().decode())
'''
