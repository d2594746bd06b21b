"""`sigillum delegations`"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.forms import Column, Listing
from sigillum.cli.options import common
from sigillum.core.values.errors import Outcome, UsageError
from sigillum.core.values.text import did_you_mean

if TYPE_CHECKING:
    from sigillum.workflows.proving.by_delegation import Listed

EXAMPLE = """examples:
  sigillum delegations roster
  sigillum delegations roster --format csv
  sigillum delegations roster --section lift-telephone     the lines of a charter that ask for just that
  sigillum delegations roster --end-of lift-telephone --because 'nobody owns it'"""


def _scopes(delegation: Listed) -> str:
    return "\n".join(f"{scope}{', unasked' if scope in delegation.unasked else ''}" for scope in delegation.delegation.scopes)


COLUMNS: tuple[Column[Listed], ...] = (
    Column("id", lambda f: f.id, people=False, mask="whole"),
    Column("whose", lambda f: f.name, unbroken=True),
    Column("people", lambda f: f.delegation.people, head="acts for"),
    Column("domain", lambda f: f.delegation.domain, under="people", words="of {}"),
    Column(
        "which",
        _scopes,
        head="scopes",
        data=False,
    ),
    Column("scopes", lambda f: f.delegation.scopes, people=False),
    Column("unasked", lambda f: f.unasked, people=False),
    Column("owner", lambda f: f.owner or "nobody here", head="by whom, and last used", data=False),
    Column("by", lambda f: f.owner, people=False),
    Column("used", lambda f: f.delegation.used_at or "never seen", under="owner", data=False),
    Column("used_at", lambda f: f.delegation.used_at, people=False),
)


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "delegations",
        parents=[common("table", tables=True)],
        epilog=EXAMPLE,
        description="Who may act for people in a tenant: whose, for whom, with which OAuth scopes, since when unused, and "
        "which scopes no charter asks for. One that nobody owns can be given a charter, or be ended.",
    )
    parser.add_argument("tenant", metavar="TENANT")
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--section", metavar="WHOSE", help="print the `delegation:` of a charter that asks for just that")
    which.add_argument("--end-of", metavar="WHOSE", help="end it; one that a charter owns ends by that")
    parser.add_argument("--because", default="", metavar="WHY", help="with --end-of")
    parser.add_argument("--yes", action="store_true", help="do not ask before it is ended")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.proving.by_delegation import listed

    found = listed(context.office, args.tenant)
    if args.section or args.end_of:
        return _one(args, context, found)
    nobody = f"Nobody may act for people at {args.tenant}."
    context.give_list("delegations", Listing("delegations", found, COLUMNS, nobody), tenant=args.tenant)
    return Outcome.NO if any(not f.owner or f.unasked for f in found) else Outcome.DONE


def _one(args: argparse.Namespace, context: Context, found: list[Listed]) -> Outcome:
    """Of one of them: its section for a charter, or its end."""
    from sigillum.workflows.proving.by_delegation import end, section_of

    wanted = args.section or args.end_of
    delegation = next((f for f in found if wanted in (f.name, f.id)), None)
    if delegation is None:
        raise UsageError(
            f"nobody called {wanted!r} has a delegation at {args.tenant}",
            where="delegations",
            mend=did_you_mean(wanted, [f.name for f in found]) or "look at the list",
        )
    if args.section:
        context.show(section_of(delegation))
        return Outcome.DONE
    if not args.because.strip():
        raise UsageError("it is not said why", where="--end-of", mend="add --because WHY")
    if not args.yes and not context.agreed(
        f"End the right of {delegation.name} to act for people of {delegation.delegation.domain}?"
    ):
        context.say("Nothing was changed.")
        return Outcome.NO
    end(context.office, args.tenant, delegation, args.because.strip())
    context.show(f"{delegation.name} may act for nobody of {delegation.delegation.domain} any more.")
    return Outcome.DONE
