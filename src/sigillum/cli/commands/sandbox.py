"""`sigillum sandbox start | stop | clock | fault | limit | show`"""

from __future__ import annotations

import argparse
import signal
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sigillum.cli import sandboxes
from sigillum.cli.context import Context
from sigillum.cli.options import common
from sigillum.core.values.errors import Outcome, UsageError
from sigillum.core.values.times import format_instant, parse_duration, parse_instant

EXAMPLE = """examples:
  sigillum sandbox start --background
  sigillum sandbox clock +11m
  sigillum sandbox clock freeze
  sigillum sandbox fault status --status 503 --retry-after 2 --method POST --count 3
  sigillum sandbox limit summit felt_seconds 20
  sigillum sandbox stop"""
LIMITS = ("felt_seconds", "arrival_seconds", "token_seconds", "assertion_seconds", "keys_per_principal",
          "credential_seconds", "answer_items")
FAULTS = ("latency", "status", "lost-before", "lost-after", "torn", "rubbish", "endless", "redirect")


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser("sandbox", parents=[common()], epilog=EXAMPLE,
                                   description="Simulated tenants on this machine, to try everything with.")
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    start = verbs.add_parser("start", parents=[common()], epilog=EXAMPLE,
                             description="Serve the tenants of a world file on loopback; Ctrl-C ends it.")
    start.add_argument("--background", action="store_true", help="come back at once; `sandbox stop` ends it")
    start.add_argument("--world", type=Path, metavar="FILE", help="the world file (default: the demo world)")
    start.add_argument("--port", type=int, default=0, help="on 127.0.0.1 (default: a free one)")
    verbs.add_parser("stop", parents=[common()], description="End the sandbox.")
    verbs.add_parser("show", parents=[common()], description="The tenants it serves, and how to add them.")
    clock = verbs.add_parser("clock", parents=[common()], epilog=EXAMPLE, description="See or move its clock.")
    clock.add_argument("to", nargs="*", help="+11m, `back 2h`, freeze, run, real (this machine's time), "
                       "or an instant like 2027-03-01T08:00:00Z")
    limit = verbs.add_parser("limit", parents=[common()], epilog=EXAMPLE, description="Change a limit of one tenant.")
    limit.add_argument("tenant")
    limit.add_argument("name", choices=LIMITS)
    limit.add_argument("value", type=int)
    fault = verbs.add_parser("fault", parents=[common()], epilog=EXAMPLE, description="Order something to go wrong.")
    fault.add_argument("kind", choices=(*FAULTS, "none"), help="what goes wrong; none: forget all orders")
    fault.add_argument("--count", type=int, default=1, help="for how many requests (default: 1)")
    fault.add_argument("--method", default="", help="only for this method")
    fault.add_argument("--path", default="", help="only where the path contains this")
    fault.add_argument("--seconds", type=float, default=1.0, help="how long a latency is (default: 1)")
    fault.add_argument("--status", type=int, default=503, help="which status (default: 503)")
    fault.add_argument("--retry-after", type=int, metavar="SECONDS", help="what `Retry-After` says with the status")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    folder = context.office.workspace.private / "sandbox"
    verbs = {"start": _start, "stop": _stop, "clock": _clock, "fault": _fault, "limit": _limit, "show": _show}
    return verbs[args.verb](args, context, folder)


def _hints(context: Context, about: dict[str, Any], folder: Path) -> str:
    root = context.office.workspace.folder
    lines = []
    for name, tenant in about["tenants"].items():
        lines.append(f"{name}: {tenant['title']}, {tenant['address']}")
        for admin in tenant["admins"]:
            token = (folder / f"{name}.{admin}.token").relative_to(root)
            lines.append(f"  sigillum tenant add {name} {tenant['address']} --admin {admin} --token 'file:{token}'")
    return "\n".join(lines)


def _start(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    process, about = sandboxes.start(folder, args.world or sandboxes.usual_world(), args.port)
    context.show_text(f"The sandbox runs (process {about['pid']}). Its tenants, and how to add them:\n"
                      f"{_hints(context, about, folder)}")
    if args.background:
        process.returncode = 0  # it goes on without us
        return Outcome.DONE
    signal.signal(signal.SIGTERM, lambda *_: process.terminate())
    try:
        process.wait()
    except KeyboardInterrupt:
        sandboxes.stop(folder)
        process.wait()
        context.say("\nThe sandbox has ended.")
    return Outcome.DONE


def _stop(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    ended = sandboxes.stop(folder)
    context.show_text("The sandbox has ended." if ended else "No sandbox runs here.")
    return Outcome.DONE


def _show(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    about = sandboxes.running(folder)
    context.show_text(_hints(context, about, folder) if about else "No sandbox runs here.")
    return Outcome.DONE if about else Outcome.NO


def _clock(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    body: dict[str, Any] | None = None
    to = " ".join(args.to)
    try:
        if to in ("freeze", "run"):
            body = {"freeze": to == "freeze"}
        elif to == "real":
            body = {"set": format_instant(datetime.now(UTC)), "freeze": False}
        elif to.startswith(("+", "back ")):
            back = to.startswith("back ")
            body = {"move": parse_duration(to.removeprefix("back ").lstrip("+")) * (-1 if back else 1)}
        elif to:
            body = {"set": format_instant(parse_instant(to))}
    except ValueError as problem:
        raise UsageError(str(problem), where="sandbox clock", mend="write +11m, `back 2h`, freeze, run, real or an instant"
                         ) from problem
    said = sandboxes.control(folder, "clock", body)
    context.show_text(f"The sandbox's clock says {said['now']}{', frozen' if said['frozen'] else ''}.")
    return Outcome.DONE


def _limit(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    sandboxes.control(folder, "tenants", {"limits": {args.tenant: {args.name: args.value}}})
    context.show_text(f"At {args.tenant} {args.name} is {args.value} now.")
    return Outcome.DONE


def _fault(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    if args.kind == "none":
        sandboxes.control(folder, "faults", {"clear": True})
        context.show_text("Nothing is ordered to go wrong.")
        return Outcome.DONE
    order = {"kind": args.kind, "count": args.count, "method": args.method, "path": args.path, "seconds": args.seconds,
             "status": args.status, "retry_after": args.retry_after}
    sandboxes.control(folder, "faults", {"orders": [order]})
    where = f" {args.method} {args.path}".rstrip()
    context.show_text(f"Ordered: {args.kind} for the next {args.count} request{'s' if args.count != 1 else ''}{where}.")
    return Outcome.DONE
