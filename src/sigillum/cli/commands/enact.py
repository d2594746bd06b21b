"""`sigillum enact`"""

from __future__ import annotations

import argparse
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.forms import listing_of
from sigillum.cli.options import FEW, answering, charters, common, duration, ours, waiting
from sigillum.core.values.errors import Outcome, UsageError, worst

if TYPE_CHECKING:
    from sigillum.core.charter.charter import Charter
    from sigillum.workflows.enacting.enact import EnactChoices, Enacted
    from sigillum.workflows.enacting.rehearse import Rehearsal

EXAMPLE = """examples:
  sigillum enact wind-ingest
  sigillum enact --all --yes                answers the question beforehand
  sigillum enact wind-ingest --wait 12m     until the changes are felt
  sigillum enact depot-feed --answers done.yaml    at a tenant by hand: confirms the work sheet's lines
  sigillum enact wind-ingest --yes --end    also ends what a prod charter no longer asks for"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "enact",
        parents=[common(tables=True)],
        epilog=EXAMPLE,
        description="Show the rehearsal, ask, carry the steps out, read each back, and prove. It can be stopped at any "
        "moment and run again; what is as the charter says is left alone.",
    )
    charters(parser)
    parser.add_argument("--yes", action="store_true", help="do not ask; ending in the stage prod also wants --end")
    parser.add_argument("--end", action="store_true", help="also end things in the stage prod")
    parser.add_argument("--no-prove", action="store_true", help="leave the proofs for later")
    parser.add_argument(
        "--adopt",
        action="store_true",
        help="take over what Sigillum did not make: what "
        "has the same name, and its credentials, grants and memberships that the charter asks for",
    )
    parser.add_argument(
        "--end-extra", action="store_true", help="also end grants on the identity that no charter and no loan wants"
    )
    parser.add_argument("--switch-on", action="store_true", help="also switch on again what somebody else switched off")
    ours(parser)
    parser.add_argument("--revive", action="store_true", help="begin anew what was retired, under the same name")
    parser.add_argument("--lost", action="store_true", help="a key that was kept and is not here is lost: begin the next one")
    parser.add_argument(
        "--send-again", action="store_true", help="you made sure that an earlier request without answer did not arrive"
    )
    parser.add_argument(
        "--outside", action="append", default=[], metavar="FILE", help="a token from outside: tried by the charter's trusts"
    )
    answering(parser)
    waiting(parser)


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.enacting.doubts import said_ours
    from sigillum.workflows.enacting.enact import EnactChoices
    from sigillum.workflows.tokens.claims import text_of

    if args.no_prove and args.outside:
        raise UsageError("--outside is for proofs, which --no-prove omits", where="--outside", mend="omit one of them")
    context.wait_seconds = duration(args.wait, "--wait") if args.wait else 0
    context.answered(args)
    office = context.office
    charters = context.charters(args)
    if args.ours:
        said_ours(office, charters, args.ours)
    choices = EnactChoices(
        not args.no_prove,
        args.end,
        args.adopt,
        args.send_again,
        args.end_extra,
        args.switch_on,
        args.revive,
        args.lost,
        tuple(text_of(file).strip() for file in args.outside),
    )
    if args.yes:
        return _carry_out(args, context, charters, choices)
    from sigillum.workflows.enacting.rehearse import rehearse_all

    rehearsals = list(rehearse_all(office, charters, lambda charter: choices.allowed))
    if len(_ready(rehearsals)) < len(rehearsals) or context.for_people:
        _show(context, rehearsals)
    if not args.end and _ends_in_prod(context, _ready(rehearsals)):
        ends = context.ask("This ends things in the stage prod. Write `end` to end them too, or press Enter to keep them: ")
        choices = replace(choices, end=ends == "end")
        if not choices.end:  # what else that changes is seen before anybody agrees
            rehearsals = list(rehearse_all(office, charters, lambda c: choices.allowed_for(office, c)))
            _show(context, [r for r in rehearsals if r.outline.blocked])
    ready = _ready(rehearsals)
    if not ready:
        return worst([r.outcome() for r in rehearsals])
    if not _agreed(context, ready, choices):
        context.say("Nothing was changed.")
        return Outcome.NO
    outcome = _carry_out(args, context, [r.charter for r in ready], choices)
    return worst([outcome, *(r.outcome() for r in rehearsals if r.error is not None or r.outline.blocked)])


def _ready(rehearsals: list[Rehearsal]) -> list[Rehearsal]:
    return [r for r in rehearsals if r.error is None and not r.outline.blocked and r.outline.steps]


def _show(context: Context, rehearsals: list[Rehearsal]) -> None:
    """The rehearsal stands beside the result, so it goes to stderr."""
    import sys

    from sigillum.cli.views import rehearsal

    context.quiet()
    told = [r for r in rehearsals if len(rehearsals) <= FEW or not r.unchanged or context.options.verbose]
    for result in told:
        context.draw(rehearsal.text(result, context.ident), sys.stderr)
        context.say("")
    if len(told) < len(rehearsals):
        context.say(f"{len(rehearsals)} charters, nothing to do in {len(rehearsals) - len(told)} of them.\n")


def _agreed(context: Context, ready: list[Rehearsal], choices: EnactChoices) -> bool:
    from sigillum.workflows.enacting.enact import left_out

    count = sum(len(r.outline.steps) - len(left_out(context.office, r.charter, r.outline, choices)) for r in ready)
    return context.agreed(f"Carry out {count} step{'s' if count != 1 else ''}?")


def _ends_in_prod(context: Context, ready: list[Rehearsal]) -> bool:
    from sigillum.workflows.enacting.enact import wants_end

    return any(wants_end(context.office, r.charter, s) for r in ready for s in r.outline.steps)


def _carry_out(args: argparse.Namespace, context: Context, charters: list[Charter], choices: EnactChoices) -> Outcome:
    from sigillum.cli.views import enacted
    from sigillum.workflows.enacting.enact import enact_all

    results = enact_all(context.office, charters, choices)
    outcomes = [done.outcome() for done in results]
    told = [enacted.as_json(d) for d in results]
    steps = ({"charter": d["charter"], **step} for d in told for step in d["steps"])
    table = listing_of("steps", "charter step about state error.what error.do", steps)
    context.give("enacted", {"charters": told}, listing=table)
    if context.for_people:
        _tell(args, context, results)
    return worst(outcomes)


def _tell(args: argparse.Namespace, context: Context, results: list[Enacted]) -> None:
    """What became of each; trouble with this machine is told last, and raised."""
    from sigillum.cli.views.words import closing

    machine = next((d.error for d in results if d.error is not None and d.error.outcome is Outcome.MACHINE), None)
    for done in results:
        outcome = done.outcome()
        if machine is not None and done.error is machine and not done.results:
            continue  # nothing was reached; the trouble itself is told last
        if outcome is Outcome.INTERRUPTED and not done.results:
            context.show(f"{done.charter.name}: {closing(done)}")
        elif len(results) <= FEW or outcome is not Outcome.DONE:
            _show_one(context, done)
        elif not done.unchanged or context.options.verbose:
            context.show(f"{done.charter.name}: {closing(done)}")
    for orphan in context.office.books.orphans() if args.all else ():
        context.say(f"{orphan.charter}: its file is gone, and what it made is left behind; `sigillum rehearse --all` lists it")
    if machine is not None:
        raise machine
    if len(results) > 1:
        same = sum(1 for d in results if d.unchanged) if len(results) > FEW and not context.options.verbose else 0
        good = sum(1 for d in results if d.outcome() is Outcome.DONE)
        context.show(
            f"{len(results)} charters: {good} as wished, {len(results) - good} not."
            + (f" Nothing was to be done in {same} of them. (-v names them.)" if same else "")
        )


def _show_one(context: Context, done: Enacted) -> None:
    """What became of a charter; of one that somebody must mend or decide first, why."""
    from sigillum.cli.views import enacted, rehearsal

    if done.blocked and done.outline is not None:
        context.show(rehearsal.of_outline(done.charter, done.outline, context.ident))
    else:
        context.show(enacted.text(done, context.ident))
