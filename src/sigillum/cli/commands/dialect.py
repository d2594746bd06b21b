"""`sigillum dialect list | show | accept | draft | check | try | schema`"""

from __future__ import annotations

import argparse
import json
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.forms import Column, Listing
from sigillum.cli.options import NO_FORM, common, verbs_of
from sigillum.core.values.errors import FileError, Outcome, UsageError

if TYPE_CHECKING:
    from sigillum.workflows.writing.descriptions import Difference, Listed

EXAMPLE = """examples:
  sigillum dialect list                         those that come with Sigillum, and yours
  sigillum tenant add cloud https://cloud.example:5000 --dialect keystone --admin boss --token env:CLOUD_PASSWORD
  sigillum dialect draft pierhead               asks what it has to know, and writes dialects/pierhead.yaml
  sigillum dialect check                    all under dialects/, every mistake at once
  sigillum dialect try pierhead --at pierhead/trial with one identity that it makes and ends
  sigillum dialect schema                   for editors"""

LISTED: tuple[Column[Listed], ...] = (
    Column("dialect", lambda d: d.name, unbroken=True),
    Column("version", lambda d: d.version),
    Column("proved", lambda d: d.proved, unbroken=True),
    Column("comes", lambda d: d.where),
    Column("tenants", lambda d: " ".join(d.tenants)),
    Column("describes", lambda d: d.about),
)
DIFFERENCES: tuple[Column[Difference], ...] = (
    Column("where", lambda d: d.where),
    Column("before", lambda d: d.before),
    Column("now", lambda d: d.now),
)


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "dialect",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        description="Describe a tenant's own HTTP interface in a file: begin one, check it, and "
        "prove it against the real thing.",
    )
    verbs = verbs_of(parser)
    _add_shipped(verbs)
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
    try_.add_argument(
        "--at",
        action="append",
        default=[],
        metavar="PLACE",
        help="where a role that only looks is granted, too (again for more)",
    )
    try_.add_argument("--yes", action="store_true", help="do not ask before an identity is made there")
    verbs.add_parser(
        "schema",
        parents=[common(NO_FORM)],
        help="the JSON Schema, for editors",
        description="The JSON Schema of a dialect file, for editors.",
    )


def _add_shipped(verbs: Any) -> None:
    verbs.add_parser(
        "list",
        parents=[common("table", tables=True)],
        help="which there are",
        epilog=EXAMPLE,
        description="The descriptions that come with Sigillum and those of this workspace, with the day on which each "
        "was proved last at the real service, and the tenants that use it.",
    )
    show = verbs.add_parser(
        "show",
        parents=[common(NO_FORM)],
        help="the text of one that comes with Sigillum",
        description="The text of a description that comes with Sigillum. Saved as dialects/NAME.yaml and changed, it is yours: "
        "a workspace's own description of a name is used instead of the one that comes with Sigillum.",
    )
    show.add_argument("name", help="of the description")
    accept = verbs.add_parser(
        "accept",
        parents=[common("table", tables=True)],
        help="use one that an upgrade changed",
        epilog=EXAMPLE,
        description="Show what an upgrade of Sigillum changed in the description of a tenant, and use it from now on. Until "
        "then nothing is done at that tenant.",
    )
    accept.add_argument("tenant")
    accept.add_argument("--yes", action="store_true", help="do not ask")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    verbs = {
        "list": _list,
        "show": _show,
        "accept": _accept,
        "draft": _draft,
        "check": _check,
        "try": _try,
        "schema": _schema,
    }
    return verbs[args.verb](args, context)


def _list(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.writing.descriptions import listed

    context.give_list("dialects", Listing("dialects", listed(context.office), LISTED, "There are none."))
    return Outcome.DONE


def _show(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.writing.descriptions import text_of

    context.document(text_of(args.name).rstrip())
    return Outcome.DONE


def _accept(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.writing.descriptions import accept, acceptance

    given = acceptance(context.office, args.tenant)
    about = given.found.dialect
    none = (
        "It is accepted already."
        if given.accepted
        else "Nothing that it says is different: only comments are."
        if given.known
        else f"What was accepted before is not kept here. Read it all: `sigillum dialect show {about.dialect}`."
    )
    context.say(f"{about.dialect}, version {about.version}, proved on {about.proved}")
    context.give_list("differences", Listing("differences", given.differences, DIFFERENCES, none))
    if given.accepted:
        return Outcome.DONE
    if not args.yes and not (context.for_people and context.agreed(f"Use it for {args.tenant}?")):
        context.say("Nothing was changed. `--yes` accepts it.")
        return Outcome.NO
    accept(context.office, given)
    context.say(f"{args.tenant} uses version {about.version} from now on.")
    return Outcome.DONE


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
