"""`sigillum lend`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import common, duration, instant
from sigillum.core.values.errors import Outcome, UsageError, worst

EXAMPLE = """examples:
  sigillum lend stream-keeper --at brindlemoor/sensing-prod/streams/mast-test --to wind-ingest --for 10m \\
      --because 'clears the test mast'
  sigillum lend place-manager --at brindlemoor/cameras --to ines.vole@brindlemoor.example \\
      --until 2027-03-01T18:00:00Z --because 'moves the cameras' --tenant summit"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "lend",
        parents=[common()],
        epilog=EXAMPLE,
        description="Lend a role for a while. A loan always has an end and a reason, and is never renewed: lending the same "
        "again while it is in force changes nothing.",
    )
    parser.add_argument("role", help="the role's name in the tenant")
    parser.add_argument("--at", required=True, metavar="PLACE", help="a path; `@NAME`: a principal as the place")
    parser.add_argument("--to", required=True, metavar="PRINCIPAL", help="its name or id, or a charter's name")
    end = parser.add_mutually_exclusive_group(required=True)
    end.add_argument("--for", dest="lasts", metavar="DURATION", help="10m, 8h ...")
    end.add_argument("--until", metavar="INSTANT", help="first instant at which it holds no more")
    parser.add_argument("--because", required=True, metavar="WHY", help="why; it stands in the tenant and the ledger")
    parser.add_argument(
        "--tenant", metavar="TENANT", default="", help="where, if `--to` is no charter and there are several tenants"
    )
    parser.add_argument("--yes", action="store_true", help="do not ask where something speaks against it")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import loans as view
    from sigillum.cli.views.hints import advised
    from sigillum.workflows.lending.lend import LoanWish, lend, propose

    if not args.because.strip():
        raise UsageError("a loan always has a reason", where="--because", mend="say why, in a few words")
    proposal = propose(
        context.office,
        LoanWish(
            args.role,
            args.at,
            args.to,
            args.because,
            duration(args.lasts, "--for") if args.lasts else None,
            instant(args.until, "--until") if args.until else None,
            args.tenant,
        ),
    )
    if proposal.refused:
        first = next(o for o in proposal.objections if o.refuse)
        raise UsageError(first.what, where=f"lend {args.role}", mend=advised(first.code, first.mend))
    if proposal.standing is None:
        context.say(view.before(proposal))
        if proposal.warned and not args.yes and not context.agreed("Lend it all the same?"):
            context.say("Nothing was lent.")
            return Outcome.NO
    loan, results = lend(context.office, proposal)
    failed = [r.error for r in results if r.error is not None]
    state = "in-force" if not failed else "refused" if failed[0].outcome is Outcome.REFUSED else "begun"
    context.give("loan", view.as_json(loan, state, failed), view.lent(loan, not results, failed, context.ident))
    return worst([e.outcome for e in failed])
