"""`sigillum sweep`"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import common
from sigillum.core.values.errors import Outcome, worst

if TYPE_CHECKING:
    from sigillum.workflows.stopping.sweep import Swept

EXAMPLE = """examples:
  sigillum sweep
  sigillum sweep --tenant summit --yes      for a timer
  sigillum sweep --install                  a timer's units and a crontab line, to be put where they belong"""
_DONE = {"grant": "Cleared", "suspension": "Reinstated", "rotation": "Taken further", "renewal": "Begun to renew"}


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "sweep",
        parents=[common()],
        epilog=EXAMPLE,
        description="Do what is due and needs nobody: clear grants of ours whose window has ended, reinstate what was "
        "suspended until now, take rotations further, and begin those of credentials that are to be renewed. Safe "
        "from a timer, and twice at once; where one fails, the others are done. Exit code 0 also while a rotation "
        "takes its time.",
    )
    parser.add_argument("--tenant", metavar="TENANT", default="", help="at this one only")
    parser.add_argument("--install", action="store_true", help="print (and do not install) a systemd timer and a crontab line")
    parser.add_argument("--yes", action="store_true", help="do not ask")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views.common import masked
    from sigillum.cli.views.words import plural
    from sigillum.workflows.stopping.sweep import due, sweep

    if args.install:
        context.document(installed(context))
        return Outcome.DONE
    found = due(context.office, args.tenant)
    context.show(*(f"{one.tenant}: {masked(one.about, context.ident)}, {one.why}" for one in found))
    if found and not args.yes and not context.agreed(f"Do what is due ({plural(len(found), 'thing')})?"):
        context.say("Nothing was changed.")
        return Outcome.NO
    swept = list(sweep(context.office, found)) if found else []
    for done in swept if context.for_people else ():
        if done.problem is not None:
            mend = f"\n  do     {done.problem.mend}" if done.outcome() is not Outcome.DONE else ""
            context.say(f"{done.item.about}: {done.problem.what}{mend}")
    context.give(
        "sweep",
        lambda: {"swept": [_json(s) for s in swept]},
        _summary(swept) if found else "Nothing to clear, to reinstate or to renew.",
    )
    return worst([s.outcome() for s in swept])


def _summary(swept: list[Swept]) -> str:
    """One line: how many of each kind were done, and how many were not."""
    from sigillum.cli.views.words import plural

    told = []
    for kind, word in _DONE.items():
        of = [s for s in swept if s.item.kind == kind]
        good = [s for s in of if s.outcome() is Outcome.DONE and (s.results or s.problem is None)]
        told += [f"{word}: {plural(len(good), 'credential' if kind == 'renewal' else kind)}."] if good else []
    waits = [s for s in swept if s.outcome() is Outcome.DONE and s.problem is not None]
    told += [f"{plural(len(waits), 'rotation')} under way."] if waits else []
    bad = [s for s in swept if s.outcome() is not Outcome.DONE]
    return " ".join([*told, *([f"Not done: {len(bad)}."] if bad else [])])


def _json(swept: Swept) -> dict[str, Any]:
    from sigillum.cli.views.hints import problem_json

    return {
        "kind": swept.item.kind,
        "tenant": swept.item.tenant,
        "about": swept.item.about,
        "why": swept.item.why,
        "outcome": int(swept.outcome()),
        "steps": [{"step": str(r.step.kind), "about": r.step.about, "state": str(r.state)} for r in swept.results],
        **({"problem": problem_json(swept.problem)} if swept.problem is not None else {}),
    }


def installed(context: Context) -> str:
    """What a timer needs, for this workspace and this program."""
    import shlex
    import sys

    folder = context.office.workspace.folder.resolve()
    run_ = shlex.join([sys.executable, "-m", "sigillum", "--workspace", str(folder), "sweep", "--yes"])
    unit = run_.replace("%", "%%")
    return (
        f"# sigillum-sweep.service\n[Unit]\nDescription=What is due in {folder}\n\n[Service]\nType=oneshot\n"
        f"ExecStart={unit}\n# what `env:` references need: EnvironmentFile=, readable by this user only\n\n"
        "# sigillum-sweep.timer\n[Timer]\nOnCalendar=*:0/15\nPersistent=true\nRandomizedDelaySec=60\n\n[Install]\n"
        f"WantedBy=timers.target\n\n# crontab\n*/15 * * * * {run_.replace('%', chr(92) + '%')}\n"
    )
