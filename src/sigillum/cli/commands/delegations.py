"""`sigillum delegations`"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import common, formats
from sigillum.core.values.errors import Outcome, UsageError
from sigillum.core.values.text import did_you_mean

if TYPE_CHECKING:
    from sigillum.workflows.proving.by_delegation import Listed

EXAMPLE = """examples:
  sigillum delegations roster
  sigillum delegations roster --format csv
  sigillum delegations roster --section lift-telephone     the lines of a charter that ask for just that
  sigillum delegations roster --end lift-telephone --because 'nobody owns it'"""
SHORT = ("whose", "acts for", "scopes", "by whom, and last used")
COLUMNS = ("whose", "by", "domain", "for", "scopes", "no charter asks for", "last used")


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "delegations",
        parents=[common()],
        epilog=EXAMPLE,
        description="Who may act for people in a tenant: whose, for whom, with which OAuth scopes, since when unused, and "
        "which scopes no charter asks for. One that nobody owns can be given a charter, or be ended.",
    )
    parser.add_argument("tenant", metavar="TENANT")
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--section", metavar="WHOSE", help="print the `delegation:` of a charter that asks for just that")
    which.add_argument("--end", metavar="WHOSE", help="end it; one that a charter owns ends by that")
    parser.add_argument("--because", default="", metavar="WHY", help="with --end")
    parser.add_argument("--yes", action="store_true", help="do not ask before it is ended")
    formats(parser, "table", "csv")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.proving.by_delegation import listed

    found = listed(context.office, args.tenant)
    if args.section or args.end:
        return _one(args, context, found)
    _show(args, context, found)
    return Outcome.NO if any(not f.owner or f.unasked for f in found) else Outcome.DONE


def _one(args: argparse.Namespace, context: Context, found: list[Listed]) -> Outcome:
    """Of one of them: its section for a charter, or its end."""
    from sigillum.workflows.proving.by_delegation import end, section_of

    wanted = args.section or args.end
    one = next((f for f in found if wanted in (f.name, f.id)), None)
    if one is None:
        raise UsageError(
            f"nobody called {wanted!r} has a delegation at {args.tenant}",
            where="delegations",
            mend=did_you_mean(wanted, [f.name for f in found]) or "look at the list",
        )
    if args.section:
        context.show_text(section_of(one))
        return Outcome.DONE
    if not args.because.strip():
        raise UsageError("it is not said why", where="--end", mend="add --because WHY")
    if not args.yes and not context.agreed(f"End the right of {one.name} to act for people of {one.delegation.domain}?"):
        context.say("Nothing was changed.")
        return Outcome.NO
    end(context.office, args.tenant, one, args.because.strip())
    context.show_text(f"{one.name} may act for nobody of {one.delegation.domain} any more.")
    return Outcome.DONE


def _show(args: argparse.Namespace, context: Context, found: list[Listed]) -> None:
    from sigillum.cli.views.common import comma_separated, table
    from sigillum.core.values.times import format_instant

    def row(one: Listed) -> list[str]:
        body = one.delegation
        used = format_instant(body.used_at) if body.used_at is not None else "never seen"
        return [
            one.name,
            one.owner or "nobody here",
            body.domain,
            ", ".join(body.people),
            ", ".join(body.scopes),
            ", ".join(one.unasked),
            used,
        ]

    def short(one: Listed) -> list[str]:
        whose, by, domain, people, _, _, used = row(one)
        scopes = "\n".join(f"{s}{', unasked' if s in one.unasked else ''}" for s in one.delegation.scopes)
        return [whose, f"{people}\nof {domain}", scopes, f"{by}\n{used}"]

    if args.format == "json":
        context.show_json(
            "delegations",
            {
                "tenant": args.tenant,
                "delegations": [
                    {
                        "id": f.id,
                        "whose": f.name,
                        "by": f.owner,
                        "domain": f.delegation.domain,
                        "people": list(f.delegation.people),
                        "scopes": list(f.delegation.scopes),
                        "unasked": list(f.unasked),
                        "used_at": format_instant(f.delegation.used_at) if f.delegation.used_at else None,
                    }
                    for f in found
                ],
            },
        )
    elif args.format == "csv":
        context.show_text(comma_separated(COLUMNS, map(row, found)))
    elif found:
        context.show(table(SHORT, map(short, found), ("whose",)))
    else:
        context.say(f"Nobody may act for people at {args.tenant}.")
