"""`sigillum retire`"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import answering, common
from sigillum.core.values.errors import Outcome, SigillumError, SomebodyError, UsageError, worst

if TYPE_CHECKING:
    from sigillum.workflows.stopping.plan import Plan

EXAMPLE = """examples:
  sigillum retire wind-ingest --rehearse                    what would end, who used it last, what would be left
  sigillum retire wind-ingest --because 'mast 4 is gone'
  sigillum retire wind-ingest                               once retired: its close-out list
  sigillum retire camera-archive --adopted-too --because 'the archive has moved'"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "retire",
        parents=[common()],
        epilog=EXAMPLE,
        description="End all that charters made: what hangs on an identity first, then the identity, in other tenants before "
        "home. What was taken over is given back. Each way in is tried before and after; what is left, and who "
        "has to see to it, goes into the ledger as a close-out list. It serves charters whose file is gone, too.",
    )
    parser.add_argument("charters", nargs="+", metavar="CHARTER", help="a charter's name, of today or of the ledger")
    parser.add_argument("--because", default="", metavar="WHY", help="why; it stands in the ledger")
    parser.add_argument("--rehearse", action="store_true", help="only say what would end and what would be left")
    parser.add_argument("--adopted-too", action="store_true", help="also end what was taken over")
    parser.add_argument(
        "--stopped-too", action="store_true", help="also end what somebody else switched off, which may be evidence"
    )
    answering(parser)
    parser.add_argument("--yes", action="store_true", help="do not ask")


def _against(plan: Plan, name: str, *, stopped_too: bool) -> SomebodyError | None:
    """What a person has to see to before anything ends."""
    if plan.found.stopped and not stopped_too:
        return SomebodyError(
            f"{name}: a person is asked {'; '.join(plan.found.stopped)}",
            where="retire",
            mend="it may be evidence: find out who stopped it; `--stopped-too` ends it regardless",
        )
    if plan.holdings:
        return SomebodyError(
            f"{name} cannot end, and nothing was begun: {'; '.join(plan.holdings)}",
            where="retire",
            mend="give what it owns to someone else, and revoke what it granted; then run this again",
        )
    return None


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import retirements as view
    from sigillum.cli.views.hints import problem_lines
    from sigillum.workflows.stopping.plan import plan
    from sigillum.workflows.stopping.retire import close_out, retire

    context.answered(args)
    office, outcomes, told, plans = context.office, list[Outcome](), list[dict[str, Any]](), []

    def problem(error: SigillumError) -> None:
        if len(args.charters) == 1 or error.outcome is Outcome.MACHINE:
            raise error
        for line in problem_lines(error):
            context.say(line)
        outcomes.append(error.outcome)

    for name in dict.fromkeys(args.charters):
        try:
            closed = close_out(office, name)
            if closed is not None:
                told.append(view.closed_json(closed))
                context.show(view.closed(closed, context.ident))
                continue
            one = plan(office, name, adopted=args.adopted_too)
        except SigillumError as error:
            problem(error)
            continue
        if args.rehearse or not args.yes:
            context.show(view.plan(one, context.ident))
        if args.rehearse:
            told.append(view.plan_json(one))
        elif (against := _against(one, name, stopped_too=args.stopped_too)) is not None:
            problem(against)
        else:
            plans.append(one)
    if plans and not args.because.strip() and not all(one.history.retiring for one in plans):
        raise UsageError("a retirement always has a reason", where="--because", mend="say why, in a few words")
    if plans and not args.yes and not context.agreed(f"End all of {', '.join(one.charter.name for one in plans)} for ever?"):
        context.say("Nothing was changed.")
        return Outcome.NO
    for one in plans:
        done = retire(office, one, args.because.strip())
        outcomes.append(done.outcome())
        told.append(view.retired_json(done, close_out(office, one.charter.name)))
        context.show(view.retired(done, close_out(office, one.charter.name), context.ident))
    context.give("retire", {"retired": told})
    return worst(outcomes)
