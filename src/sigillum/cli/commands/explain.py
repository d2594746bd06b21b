"""`sigillum explain`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import common, moment
from sigillum.core.values.errors import Outcome, UsageError

EXAMPLE = """examples:
  sigillum explain wind-ingest stream.append brindlemoor/sensing-prod/streams/mast-4
  sigillum explain wind-ingest stream.delete brindlemoor/sensing-prod/streams/mast-4 --when +11m
  sigillum explain wind-ingest stream.delete brindlemoor/sensing-prod --with ingest-key --ask-tenant
  sigillum explain wind-ingest --matrix
  sigillum explain avalanche-mailer mail.send brindlemoor/mailboxes/board --for-person kai.lund@brindlemoor.example
  sigillum explain ada.rusk stream.read brindlemoor/cameras --as camera-archive --tenant summit
  sigillum explain station-heartbeat stream.append brindlemoor/sensing-prod --workload heartbeat
  sigillum explain night-robot --sign-in --ip 198.51.100.7 --ask-tenant
  sigillum explain ingest-team stream.read,stream.append brindlemoor/cameras,brindlemoor/sensing-prod --matrix"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "explain",
        parents=[common(tables=True)],
        epilog=EXAMPLE,
        description="Say whether a principal may use a permission at a place, and why: the whole chain, the link that decides, "
        "what else would allow it, and the smallest change that would. Exit code 1 where it is refused.",
    )
    parser.add_argument("who", help="a charter's name, or a principal's name or id")
    parser.add_argument("permission", nargs="?", default="", help="thing.verb; for a matrix several with commas")
    parser.add_argument(
        "place",
        nargs="?",
        default="",
        help="a path, `self`, or `@NAME` for a principal as the place; for a matrix several with commas",
    )
    parser.add_argument(
        "--when", default="", metavar="TIME", help="`+11m`, or an instant (default: now, by the tenant's clock)"
    )
    parser.add_argument("--with", dest="with_", default="", metavar="CREDENTIAL", help="with this one, and its limits")
    parser.add_argument("--for-person", default="", metavar="PERSON", help="of a client: for whom it acts (default: alone)")
    parser.add_argument(
        "--tenant", metavar="TENANT", default="", help="where, if WHO is no charter and there are several tenants"
    )
    parser.add_argument(
        "--as",
        dest="principals",
        action="append",
        default=[],
        metavar="WHO",
        help="acting as this account; several: each acts as the next",
    )
    parser.add_argument("--workload", default="", metavar="NAME", help="done by this workload of the charter's cluster")
    parser.add_argument("--ask-tenant", action="store_true", help="put the tenant's own answer beside ours")
    parser.add_argument("--sign-in", action="store_true", help="instead: may WHO sign in, and which rule decides?")
    parser.add_argument("--ip", default="", metavar="ADDRESS", help="with --sign-in: from where")
    parser.add_argument("--interactive", action="store_true", help="with --sign-in: somebody sits there (default: a program)")
    parser.add_argument("--second-factor", action="store_true", help="with --sign-in: a second factor is presented")
    parser.add_argument("--device", action="store_true", help="with --sign-in: from a device that the tenant manages")
    parser.add_argument(
        "--matrix",
        action="store_true",
        help="many permissions and places in one table; of a charter its own where none are named",
    )


def run(args: argparse.Namespace, context: Context) -> Outcome:
    if args.sign_in:
        return _sign_in(args, context)
    from sigillum.cli.views import explained as view
    from sigillum.workflows.surveying.explain import run as explain
    from sigillum.workflows.surveying.explain import through

    wish = _wish(args, context)
    if args.principals and args.matrix:
        raise UsageError("a matrix is of one principal", where="--as", mend="leave --as or --matrix out")
    if args.workload:
        found = _by_workload(args, context, wish)
    else:
        found = through(context.office, wish, args.principals) if args.principals else explain(context.office, wish)
    context.give(
        "explanation",
        lambda: {"questions": [view.as_json(f) for f in found]},
        lambda: (view.matrix if args.matrix else view.texts)(found, context.ident),
        listing=view.listing(found),
    )
    for one in found:
        if one.differs:
            context.say(view.difference(one))
    if any(f.differs for f in found):
        return Outcome.NO
    verdicts = [f.explanation.decision.allowed for f in found]
    return Outcome.DONE if args.matrix or all(verdicts) else Outcome.SOMEBODY if None in verdicts else Outcome.NO


def _by_workload(args: argparse.Namespace, context: Context, wish: Any) -> Any:
    from sigillum.workflows.surveying.links import explained

    if args.principals or args.ask_tenant:
        raise UsageError(
            "a workload acts by itself, and nobody else is asked", where="--workload", mend="leave --as and --ask-tenant out"
        )
    return explained(context.office, context.office.charters([args.who])[0], wish, args.workload)


def _sign_in(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import signing as view
    from sigillum.core.deciding.sign_in import Attempt
    from sigillum.workflows.surveying.sign_in import sign_in

    if args.permission or args.place or args.matrix or args.when:
        raise UsageError("a sign-in has no permission, place or time", where="--sign-in", mend="leave them out")
    attempt = Attempt(args.ip, args.interactive, args.second_factor, args.device)
    told = sign_in(context.office, args.who, attempt, args.tenant, ask_tenant=args.ask_tenant)
    context.give("sign-in", lambda: view.as_json(told), lambda: view.text(told, context.ident))
    return Outcome.DONE if told.verdict.allowed and not told.differs else Outcome.NO


def _wish(args: argparse.Namespace, context: Context) -> Any:
    from sigillum.workflows.surveying.explain import Wish, usual

    permissions, places = (tuple(p for p in text.split(",") if p) for text in (args.permission, args.place))
    if args.matrix and not permissions and not places:
        permissions, places = usual(context.office, args.who)
    if not permissions or not places:
        raise UsageError(
            "a permission and a place are needed",
            where="explain",
            mend="`sigillum explain WHO PERMISSION PLACE`, or --matrix with a charter's name",
        )
    if not args.matrix and len(permissions) * len(places) > 1:
        raise UsageError("several permissions or places are asked for", where="explain", mend="say --matrix, too")
    if context.as_table and not args.matrix:
        raise UsageError("only a matrix is a table", where="--format", mend="say --matrix, or use --format json")
    at, later = moment(args.when, "--when")
    return Wish(args.who, permissions, places, at, later, args.with_, args.tenant, args.ask_tenant, args.for_person)
