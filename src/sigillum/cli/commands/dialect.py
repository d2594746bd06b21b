"""`sigillum dialect draft | check | try | schema`"""

from __future__ import annotations

import argparse
import json
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import NO_FORM, common, verbs_of
from sigillum.core.values.errors import FileError, Outcome, UsageError

EXAMPLE = """examples:
  sigillum dialect draft pierhead               asks what it has to know, and writes dialects/pierhead.yaml
  sigillum dialect check                    all under dialects/, every mistake at once
  sigillum dialect try pierhead --at pierhead/trial with one identity that it makes and ends
  sigillum dialect schema                   for editors"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "dialect",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        description="Describe a tenant's own HTTP interface in a file: begin one, check it, and "
        "prove it against the real thing.",
    )
    verbs = verbs_of(parser)
    draft = verbs.add_parser(
        "draft",
        parents=[common()],
        help="begin one, by questions",
        epilog=EXAMPLE,
        description="Begin a dialect by questions. What is not described is never done there.",
    )
    draft.add_argument("name", help="of the dialect, and of its file under dialects/")
    from sigillum.workflows.writing.dialects import QUESTIONS

    for question in QUESTIONS:
        draft.add_argument(
            f"--{question.name.replace('_', '-')}", metavar="ANSWER", help=question.text.rstrip("? ").replace("%", "%%")
        )
    check = verbs.add_parser(
        "check",
        parents=[common()],
        help="every mistake, without asking a tenant",
        description="Check dialect files without asking a tenant; every mistake at once.",
    )
    check.add_argument("files", nargs="*", metavar="FILE", help="relative to the workspace (default: all under dialects/)")
    try_ = verbs.add_parser(
        "try",
        parents=[common()],
        help="prove one against the real thing",
        epilog=EXAMPLE,
        description="Do everything that a dialect describes, with one identity that is made for it and "
        "ended: read back, compared, tried twice. What it tells of kill safety stands in "
        "`tenant inspect` from then on.",
    )
    try_.add_argument("tenant")
    try_.add_argument("--at", default="", metavar="PLACE", help="where a role that only looks is granted, too")
    try_.add_argument("--yes", action="store_true", help="do not ask before an identity is made there")
    verbs.add_parser(
        "schema",
        parents=[common(NO_FORM)],
        help="the JSON Schema, for editors",
        description="The JSON Schema of a dialect file, for editors.",
    )


def run(args: argparse.Namespace, context: Context) -> Outcome:
    return {"draft": _draft, "check": _check, "try": _try, "schema": _schema}[args.verb](args, context)


def _draft(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.writing.begin import write_new
    from sigillum.workflows.writing.dialects import QUESTIONS, check, draft

    folder = context.office.workspace.folder
    answers = dict[str, str]()
    for question in QUESTIONS:
        if question.name == "token_value" and answers["token_header"] == "basic":  # noqa: S105 - the name of a question
            answers["token_value"] = ""
            continue
        given = getattr(args, question.name)
        answers[question.name] = (context.ask(question.text) if given is None else given) or question.usual
    if not answers["accounts"].startswith("/"):
        raise UsageError("it is not said which address lists the accounts", where="--accounts", mend="write it like /v1/users")
    shown = f"dialects/{args.name}.yaml"
    write_new(folder / shown, shown, draft(args.name, answers))
    check(folder, [shown])
    context.give(
        "written",
        {"files": [shown]},
        f"{shown} was written. Next: describe the rest (docs/dialects.md), `sigillum dialect check`, then "
        f"`sigillum tenant add {args.name} ADDRESS --driver dialect --admin NAME --token env:NAME`.",
    )
    return Outcome.DONE


def _check(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.writing.dialects import check

    try:
        found = check(context.office.workspace.folder, args.files)
    except FileError as problem:
        return context.mistaken(problem)
    names = ", ".join(checked.dialect for checked in found) or "no dialects"
    fixed = [
        f"{checked.dialect}: no `change:` covers {', '.join(checked.fixed)}; it stays as it was created"
        for checked in found
        if checked.fixed
    ]
    context.give(
        "check",
        {"good": True, "dialects": [checked.dialect for checked in found], "fixed": fixed, "mistakes": []},
        *fixed,
        f"{names}: no mistakes. Whether the tenant speaks so, `sigillum dialect try` shows.",
    )
    return Outcome.DONE


def _try(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import dialects as view
    from sigillum.workflows.writing.dialects import reach, try_

    reach(context.office, args.tenant)
    if not args.yes and not context.agreed(f"Make an identity at {args.tenant}, try everything with it, and end it?"):
        context.say("Nothing was changed.")
        return Outcome.NO
    found = try_(context.office, args.tenant, args.at)
    context.give("tried", lambda: view.as_json(found), lambda: view.tried(found))
    return Outcome.DONE if found.good else Outcome.NO


def _schema(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.tenants.dialect.files import schema

    context.document(json.dumps(schema(), indent=1))
    return Outcome.DONE
