"""`sigillum charter new | check | show | rename | split | schema`"""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import NO_FORM, charters, common, verbs_of
from sigillum.core.values.errors import FileError, Outcome, UsageError

EXAMPLE = """examples:
  sigillum charter new wind-ingest          asks five questions
  sigillum charter new wind-ingest --tenant summit --purpose 'Store wind readings' \\
      --owner mara.teel@brindlemoor.example --role stream-writer --at brindlemoor/sensing-prod
  sigillum charter new rota-sync --kind client --scope calendar:calendar.read --tenant roster --purpose 'Reads the rota'
  sigillum charter new ingest-team --kind team --member wind-ingest --tenant summit --purpose 'All that store winds'
  sigillum charter new --from-list stations.csv --template station.yaml --stages test,prod
  sigillum charter new camera-archive --describe camera-archive --tenant summit
  sigillum charter split wind-ingest        its key has two consumers: a charter for each
  sigillum charter check --all"""
QUESTIONS = (
    ("tenant", "In which tenant does the identity live? "),
    ("purpose", "What is the integration for? "),
    ("owner", "Who answers for it (mail address)? "),
    ("role", "Which role does it need? "),
    ("at", "At which place? "),
)


SORTS = {"at": "PLACE", "owner": "MAIL", "tenant": "TENANT"}  # of the values of some of them


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "charter", parents=[common(NO_FORM)], epilog=EXAMPLE, description="Write, check, show, rename and split charters."
    )
    verbs = verbs_of(parser)
    _add_new(verbs)
    _add_check(verbs)
    show = verbs.add_parser(
        "show", parents=[common()], help="one with its defaults filled in", description="A charter with its defaults filled in."
    )
    show.add_argument("name", metavar="CHARTER")
    _add_rename(verbs)
    _add_split(verbs)
    verbs.add_parser(
        "schema",
        parents=[common(NO_FORM)],
        help="the JSON Schema, for editors",
        description="The JSON Schema of a charter, for editors.",
    )


def _add_new(verbs: Any) -> None:
    new = verbs.add_parser(
        "new", parents=[common()], help="write one to begin with", epilog=EXAMPLE, description="Write a charter to begin with."
    )
    new.add_argument("name", nargs="?", default="")
    new.add_argument("--from-list", type=Path, metavar="FILE", help="a CSV list: one charter a line, from --template")
    new.add_argument(
        "--template", type=Path, metavar="FILE", help="with --from-list: a charter with ${column} where the lines differ"
    )
    new.add_argument("--stages", default="", help="with --from-list: one charter a line and stage, as ${stage}; with commas")
    for name, question in QUESTIONS:
        new.add_argument(f"--{name}", metavar=SORTS.get(name), help=question.rstrip("? ").lower())
    new.add_argument("--kind", choices=("service-account", "client", "team"), default="service-account", help="of identity")
    new.add_argument("--member-of", action="append", default=[], metavar="TEAM", help="a team that it joins; again for more")
    new.add_argument(
        "--member", action="append", default=[], metavar="NAME", help="with --kind team: who is in it; again for more"
    )
    new.add_argument(
        "--scope", action="append", default=[], metavar="SCOPE", help="with --kind client: what it uses, as API:SCOPE"
    )
    new.add_argument(
        "--acts", choices=("on-behalf", "alone"), default="alone", help="with --kind client: for people, or by itself"
    )
    new.add_argument(
        "--describe",
        dest="principal",
        metavar="PRINCIPAL",
        help="describe this account, team or client of the tenant as it stands (its name, id or client id)",
    )


def _add_check(verbs: Any) -> None:
    check = verbs.add_parser(
        "check",
        parents=[common()],
        help="every mistake, without asking a tenant",
        description="Check charters without asking a tenant; every mistake at once.",
    )
    charters(check)


def _add_rename(verbs: Any) -> None:
    rename = verbs.add_parser(
        "rename",
        parents=[common()],
        help="another name; what it made stays its own",
        description="Give a charter another name; what it made stays its own.",
    )
    rename.add_argument("name", metavar="CHARTER")
    rename.add_argument("new_name")


def _add_split(verbs: Any) -> None:
    split = verbs.add_parser(
        "split",
        parents=[common()],
        help="drafts of a charter for each consumer of a shared credential",
        description="Draft a charter for each consumer of one whose credentials several use: the same "
        "rights, an identity and a key of its own. When they work, retire the shared one.",
    )
    split.add_argument("name", metavar="CHARTER")
    split.add_argument("--save", action="store_true", help="write them into the workspace (default: show them)")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    verbs = {"new": _new, "check": _check, "show": _show, "rename": _rename, "split": _split, "schema": _schema}
    return verbs[args.verb](args, context)


def _new(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.charters import files
    from sigillum.workflows.writing import describe, drafts

    office = context.office
    if args.from_list is not None:
        return _from_list(args, context)
    if not args.name:
        raise UsageError("no name is given", where="charter new", mend="`sigillum charter new NAME`, or --from-list FILE")
    if args.principal:
        if not args.tenant:
            raise UsageError("--describe requires --tenant", where="charter new", mend="specify the tenant of the account")
        path = describe.from_principal(office, args.name, args.tenant, args.principal)
        shown = files.shown_path(office.workspace, path)
        return _written(
            context, [shown], f"{shown} describes {args.principal} as it stands. Next: `sigillum rehearse {args.name}`."
        )
    usual = office.workspace.file.defaults.owner
    answers = dict[str, str]()
    rights = bool(args.scope or args.member_of) or args.kind == drafts.TEAM  # enough to say: a role need not be asked for
    for name, question in QUESTIONS:
        if name in ("role", "at") and rights and not args.role:
            continue
        given = getattr(args, name) or (usual if name == "owner" else None)
        if name == "role" and not given and sys.stdin.isatty():
            _show_roles(context, answers["tenant"])
        answers[name] = given or context.ask(question)
    path = drafts.new(
        office,
        drafts.Wanted(
            args.name,
            **answers,
            kind=args.kind,
            member_of=tuple(args.member_of),
            members=tuple(args.member),
            scopes=tuple(args.scope),
            acts=args.acts,
        ),
    )
    shown = files.shown_path(office.workspace, path)
    return _written(
        context, [shown], f"{shown} was written. Next: look at it, add proofs, then `sigillum rehearse {args.name}`."
    )


def _written(context: Context, files: list[str], told: str, **more: Any) -> Outcome:
    """What was written, in the form that was asked for."""
    context.give("written", {"files": files, **more}, told)
    return Outcome.DONE


def _from_list(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views.words import plural
    from sigillum.workflows.writing.lists import from_list

    if args.template is None or args.name or args.principal:
        raise UsageError(
            "a list needs a template, and nothing else",
            where="--from-list",
            mend="`sigillum charter new --from-list FILE --template FILE`",
        )
    written = from_list(context.office, args.from_list, args.template, [s.strip() for s in args.stages.split(",") if s.strip()])
    told = [f"charters/{p.name}" for p in written.fresh]
    were = "was" if len(written.fresh) == 1 else "were"
    told.append(f"{plural(len(written.fresh), 'charter')} {were} written, without mistakes.")
    told += [f"{plural(len(written.same), 'charter')} of the list stood there already."] if written.same else []
    told += [f"Left as they are, and other than the list says: {', '.join(written.differ)}."] if written.differ else []
    return _written(
        context,
        [f"charters/{p.name}" for p in written.fresh],
        "\n".join([*told, "Next: `sigillum rehearse --all`."]),
        there=written.same,
        differ=written.differ,
    )


def _show_roles(context: Context, tenant: str) -> None:
    """The roles to choose from, each permission with its class; nothing where the tenant cannot be asked."""
    from sigillum.cli.views.tenants import roles
    from sigillum.core.values.errors import SigillumError
    from sigillum.workflows.surveying.inspect import inspect

    try:
        found = inspect(context.office, tenant)
    except SigillumError as problem:
        context.say(f"({tenant} could not be asked for its roles: {problem.what})")
        return
    context.draw(roles(found), sys.stderr)


def _check(args: argparse.Namespace, context: Context) -> Outcome:
    try:
        found = context.charters(args)
    except FileError as problem:
        return context.mistaken(problem)
    from datetime import UTC, datetime

    from sigillum.charters.lookalikes import cautions
    from sigillum.core.charter.rules import overdue

    today = datetime.now(UTC).date()
    late = [(c.name, text) for c in found for text in overdue(c, today)]
    worth = [(c.name, text) for c in found if c.trusts for text in cautions(c)]
    names = ", ".join(c.name for c in found) or "no charters"
    context.give(
        "check",
        {
            "good": True,
            "charters": [c.name for c in found],
            "mistakes": [],
            "overdue": [{"charter": name, "text": text} for name, text in late],
            "warnings": [{"charter": name, "text": text} for name, text in worth],
        },
        f"{names}: no mistakes. What only the tenant knows, `sigillum rehearse` checks.",
    )
    for name, text in (*late, *worth) if context.for_people else ():
        context.say(f"warning  {name}: {text}")
    return Outcome.DONE


def _show(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import charters

    charter = context.office.charters([args.name])[0]
    context.give("charter", lambda: charters.as_json(charter), lambda: charters.text(charter, context.ident))
    return Outcome.DONE


def _rename(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.charters import files
    from sigillum.workflows.writing.drafts import rename

    path = rename(context.office, args.name, args.new_name)
    shown = files.shown_path(context.office.workspace, path)
    return _written(context, [shown], f"{args.name} is called {args.new_name} now ({shown}); what it made stays its own.")


def _split(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.charters import files
    from sigillum.workflows.writing.drafts import split, write

    drafts = split(context.office, args.name)
    shown = {files.shown_path(context.office.workspace, path): text for path, text in drafts.items()}
    if args.save:
        for path, text in drafts.items():
            write(path, text)
        told = f"Written: {', '.join(shown)}. When they work, `sigillum retire {args.name}`."
        return _written(context, list(shown), told)
    context.give(
        "drafts",
        lambda: {"drafts": [{"file": path, "text": text} for path, text in shown.items()]},
        lambda: "\n".join(f"# {path}\n{text}" for path, text in shown.items()),
    )
    return Outcome.DONE


def _schema(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.charters.files import json_schema

    context.document(json.dumps(json_schema(), indent=1))
    return Outcome.DONE
