"""`sigillum advise`"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import common
from sigillum.core.values.errors import FileError, Outcome, SigillumError, UsageError

if TYPE_CHECKING:
    from sigillum.core.charter.advice import Wish

EXAMPLE = """examples:
  sigillum advise                                     asks seven questions
  sigillum advise avalanche-mailer --signs-in form --in-the-name-of people --runs supplier --services mail.send
  sigillum advise night-robot --signs-in web --mailbox --stages test,prod --format json
  sigillum advise timetable-publisher --tenant summit --services board-publisher   what it takes is read there
  sigillum advise --file wish.yaml"""
QUESTIONS = (
    ("name", "What is the integration called? ", None),
    ("signs_in", "How does it sign in: tokens, form or web? ", ("tokens", "form", "web")),
    ("unattended", "Does it run with nobody there? ", ("yes", "no")),
    ("in_the_name_of", "In whose name does it act or write: own or people? ", ("own", "people")),
    ("mailbox", "Does it need a mailbox of its own? ", ("yes", "no")),
    ("accepts", "What do the services take (key-pair, api-token, shared-secret, password; commas)? ", None),
    ("runs", "Where does it run: own, cloud or supplier? ", ("own", "cloud", "supplier")),
)
LISTS = ("accepts", "services", "uses", "stages")
FLAGS = ("unattended", "mailbox", "shared")


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "advise",
        parents=[common()],
        epilog=EXAMPLE,
        description="Which kind of identity, which credential, and how many: each with its reason, what a thief would get, "
        "and a draft charter. Wishes that contradict each other are shown as a choice.",
    )
    parser.add_argument("name", nargs="?", help="what the integration is called")
    parser.add_argument("--file", type=Path, help="the answers in YAML, by the names of these options (with _ for -)")
    parser.add_argument("--tenant", metavar="TENANT", help="where it shall live")
    parser.add_argument("--signs-in", choices=("tokens", "form", "web"), help="asks for tokens, fills a form, or the web")
    parser.add_argument("--attended", dest="unattended", action="store_const", const=False, help="somebody is there")
    parser.add_argument("--unattended", dest="unattended", action="store_const", const=True, help="nobody is there")
    parser.add_argument("--in-the-name-of", choices=("own", "people"), help="in whose name it acts or writes")
    parser.add_argument("--mailbox", action="store_const", const=True, help="it needs a mailbox of its own")
    parser.add_argument("--accepts", help="credentials that the services take, with commas")
    parser.add_argument("--runs", choices=("own", "cloud", "supplier"), help="where it runs")
    parser.add_argument("--services", help="roles or scopes that it needs, with commas")
    parser.add_argument("--uses", help="what it is used for, with commas, where that is several things")
    parser.add_argument("--stages", help="dev, test, prod ..., with commas")
    parser.add_argument("--shared", action="store_const", const=True, help="you wish one identity for everything")
    parser.add_argument("--draft", action="store_true", help="print the draft charter alone")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import advice as view
    from sigillum.core.charter.advice import advise

    wish = _wish(args, context)
    found = advise(wish)
    context.give("advice", lambda: view.as_json(wish, found), found.draft if args.draft else lambda: view.text(wish, found))
    return Outcome.DONE


def _wish(args: argparse.Namespace, context: Context) -> Wish:
    """Flags, then the file, then questions where somebody sits here. Raises UsageError, FileError."""
    from sigillum.core.charter.advice import CREDENTIALS, TRUST, Wish

    given = _from_file(args.file) if args.file is not None else {}
    for name in Wish._fields:
        if getattr(args, name, None) is not None:
            given[name] = _list(getattr(args, name)) if name in LISTS else getattr(args, name)
    told = given.keys() & {"signs_in", "in_the_name_of", "mailbox", "accepts", "runs"}
    if args.file is None and not told and sys.stdin.isatty():
        for name, question, allowed in QUESTIONS:
            if name not in given:
                given[name] = _answer(context, name, question, allowed)
    if not given.get("name"):
        raise UsageError("it is not said what the integration is called", where="advise", mend="`sigillum advise NAME ...`")
    if "accepts" not in given and given.get("services") and str(given.get("tenant")) in _tenants(context):
        from sigillum.workflows.surveying.advising import accepted

        try:
            found = accepted(context.office, given["tenant"], given["services"])
            given |= {"accepts": found.kinds, "by": found.by} if found.kinds is not None else {}
        except SigillumError as problem:
            context.say(f"What its services take was not read at {given['tenant']}: {problem.what}.")
        return Wish(**given)
    strange = [c for c in given.get("accepts", ()) if c not in (*CREDENTIALS, TRUST)]
    if strange:
        raise UsageError(f"there is no credential {strange[0]!r}", where="--accepts", mend=f"known: {', '.join(CREDENTIALS)}")
    return Wish(**given)


def _tenants(context: Context) -> Iterable[str]:
    """Those of the workspace, where there is one: advice is given without any, too."""
    try:
        return context.office.workspace.file.tenants
    except FileError:
        return ()


def _list(text: str) -> tuple[str, ...]:
    return tuple(w.strip() for w in text.split(",") if w.strip())


def _answer(context: Context, name: str, question: str, allowed: tuple[str, ...] | None) -> Any:
    from sigillum.core.charter.advice import CREDENTIALS

    while True:
        typed = context.ask(question).lower()
        if allowed is None or typed in allowed:
            break
        context.say(f"Write {' or '.join(allowed)}.")
    if name in FLAGS:
        return typed == "yes"
    return (_list(typed) or CREDENTIALS) if name in LISTS else typed


def _from_file(path: Path) -> dict[str, Any]:
    from sigillum.core.charter.advice import NAMES, RUNS, SIGNS_IN, Wish
    from sigillum.core.values.text import did_you_mean
    from sigillum.reading.document import parse, read_text

    found = parse(read_text(path, str(path)), str(path)).data
    if not isinstance(found, dict):
        raise FileError("it holds no answers", where=str(path), mend="write `signs_in: form` and so on")
    words: dict[str, Any] = {"signs_in": SIGNS_IN, "runs": RUNS, "in_the_name_of": NAMES}
    for name, value in found.items():
        good = name in Wish._fields and (
            isinstance(value, bool)
            if name in FLAGS
            else isinstance(value, list)
            if name in LISTS
            else isinstance(value, str) and value in words.get(name, (value,))
        )
        if not good:
            known = words.get(name) or Wish._fields
            raise FileError(
                f"{name}: {str(value)[:40]!r} cannot be taken",
                where=str(path),
                mend=did_you_mean(name, Wish._fields) if name not in Wish._fields else f"known: {', '.join(known)}",
            )
    return {n: tuple(v) if isinstance(v, list) else v for n, v in found.items()}
