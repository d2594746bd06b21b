"""`sigillum sandbox start | stop | show | world | change | clock | limit | fault | machine | anew`"""

from __future__ import annotations

import argparse
import signal
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sigillum.cli import sandboxes
from sigillum.cli.context import Context
from sigillum.cli.options import NO_FORM, common, verbs_of
from sigillum.core.values.errors import FileError, Outcome, UsageError
from sigillum.core.values.times import format_instant, parse_duration, parse_instant, rough_duration

EXAMPLE = """examples:
  sigillum sandbox start --background
  sigillum sandbox world new hill.yaml      a world of your own to begin with
  sigillum sandbox world check hill.yaml
  sigillum sandbox start --world hill.yaml --state .sigillum/hill.json --background
  sigillum sandbox change hill.yaml         the running one follows the changed file
  sigillum sandbox clock +11m
  sigillum sandbox clock freeze
  sigillum sandbox fault status --http-status 503 --retry-after 2 --method POST --count 3
  sigillum sandbox limit summit felt_seconds 20
  sigillum sandbox machine valley reader-1 --audience summit --out reader.jwt
  sigillum sandbox anew stationyard heartbeat
  sigillum sandbox stop"""
MOST_SKEW_SECONDS = 300  # beyond it a command refuses, unless the tenant's entry says to follow its clock
LIMITS = (
    "felt_seconds",
    "arrival_seconds",
    "token_seconds",
    "assertion_seconds",
    "keys_per_principal",
    "credential_seconds",
    "answer_items",
)
FAULTS = ("latency", "status", "lost-before", "lost-after", "torn", "rubbish", "endless", "redirect")


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "sandbox",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        description="Simulated tenants on this machine, to try everything with.",
    )
    verbs = verbs_of(parser)
    _add_start(verbs)
    verbs.add_parser("stop", parents=[common(NO_FORM)], help="end it", description="End the sandbox.")
    verbs.add_parser(
        "show",
        parents=[common()],
        help="its tenants, and how to add them",
        description="The tenants it serves, and how to add them.",
    )
    world = verbs.add_parser(
        "world",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        help="begin and check world files",
        description="World files describe simulated tenants; docs/sandbox.md teaches all they can say.",
    )
    inner = verbs_of(world, "world_verb")
    new = inner.add_parser(
        "new",
        parents=[common(NO_FORM)],
        help="write a small one to begin with",
        description="Write a small world file, with a line for each thing it can say.",
    )
    new.add_argument("file", type=Path, metavar="FILE", help="a new file")
    check = inner.add_parser(
        "check",
        parents=[common()],
        help="every mistake at once, with its place",
        description="Check a world file: every mistake at once, each with its place and its mend.",
    )
    check.add_argument("file", type=Path, metavar="FILE")
    inner.add_parser(
        "schema", parents=[common(NO_FORM)], help="the JSON Schema, for editors", description="Print the JSON Schema."
    )
    _add_change(verbs)


def _add_start(verbs: Any) -> None:
    start = verbs.add_parser(
        "start",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        help="serve the tenants of a world file",
        description="Serve the tenants of a world file on loopback; Ctrl-C ends it.",
    )
    start.add_argument("--background", action="store_true", help="come back at once; `sandbox stop` ends it")
    start.add_argument("--world", type=Path, metavar="FILE", help="the world file (default: the demo world)")
    start.add_argument(
        "--state", type=Path, metavar="FILE", help="keep all that is done in this file, and go on from it, on the same port"
    )
    start.add_argument("--quiet", action="store_true", help="do not tell how its tenants are added")
    start.add_argument("--port", type=int, default=0, help="on 127.0.0.1 (default: a free one)")


def _add_change(verbs: Any) -> None:
    change = verbs.add_parser(
        "change",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        help="follow a changed world file",
        description="The running sandbox follows a changed world file: what is new is made, what is "
        "changed is changed, what is gone is ended. What was enacted stays.",
    )
    change.add_argument("file", type=Path, metavar="FILE")
    _disturbing(verbs)


def _disturbing(verbs: Any) -> None:
    """The verbs that change how it behaves, and what a machine of it would get."""
    clock = verbs.add_parser(
        "clock",
        parents=[common()],
        epilog=EXAMPLE,
        help="see or move its clock",
        description="See or move its clock. Where it differs from this machine's by over five minutes, "
        "sigillum.yaml is told to follow the sandbox's own tenants: `clock: tenant`.",
    )
    clock.add_argument(
        "to",
        nargs="*",
        help="+11m, `back 2h`, freeze, run, real (this machine's time), or an instant like 2027-03-01T08:00:00Z",
    )
    limit = verbs.add_parser(
        "limit",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        help="change a limit of one tenant",
        description="Change a limit of one tenant.",
    )
    limit.add_argument("tenant")
    limit.add_argument("name", choices=LIMITS, metavar="LIMIT", help=f"one of {', '.join(LIMITS)}")
    limit.add_argument("value", type=int)
    fault = verbs.add_parser(
        "fault",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        help="order something to go wrong",
        description="Order something to go wrong.",
    )
    kinds = ", ".join(FAULTS)
    fault.add_argument("kind", choices=(*FAULTS, "none"), metavar="KIND", help=f"{kinds}; none: forget all orders")
    fault.add_argument("--count", type=int, default=1, help="for how many requests (default: 1)")
    fault.add_argument("--method", default="", help="only for this method")
    fault.add_argument("--path", default="", help="only where the path contains this")
    fault.add_argument("--seconds", type=float, default=1.0, help="how long a latency is (default: 1)")
    fault.add_argument("--http-status", type=int, default=503, help="which status (default: 503)")
    fault.add_argument("--retry-after", type=int, metavar="SECONDS", help="what `Retry-After` says with the status")
    _machines(verbs)


def _machines(verbs: Any) -> None:
    """The verbs for its machines and workloads."""
    machine = verbs.add_parser(
        "machine",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        help="the identity token of one of its machines",
        description="What a machine or workload of a simulated tenant gets from where it runs: a token "
        "of its own, for an audience. It is written into a file of yours alone.",
    )
    machine.add_argument("tenant")
    machine.add_argument("name", metavar="MACHINE")
    machine.add_argument("--audience", required=True, metavar="TEXT", help="for whom the token is")
    machine.add_argument("--out", required=True, type=Path, metavar="FILE", help="replaced, if it is there")
    anew = verbs.add_parser(
        "anew",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        help="start a workload of a cluster anew",
        description="Start a workload of a simulated cluster anew, so that it notices what was changed.",
    )
    anew.add_argument("tenant")
    anew.add_argument("name", metavar="WORKLOAD")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    if args.verb == "world":
        return {"new": _new, "check": _check, "schema": _schema}[args.world_verb](args, context)
    folder = context.office.workspace.private / "sandbox"
    verbs = {
        "start": _start,
        "stop": _stop,
        "clock": _clock,
        "fault": _fault,
        "limit": _limit,
        "show": _show,
        "change": _change,
        "machine": _machine,
        "anew": _anew,
    }
    return verbs[args.verb](args, context, folder)


def _new(args: argparse.Namespace, context: Context) -> Outcome:
    text = sandboxes.usual_world().with_name("starter.yaml").read_text(encoding="utf-8")
    try:
        with args.file.open("x", encoding="utf-8") as file:
            file.write(text)
    except FileExistsError as problem:
        raise FileError("the file is there already", where=str(args.file), mend="name a new one") from problem
    context.document(
        f"Written: {args.file}, with one tenant. Next: change it, then `sigillum sandbox world check "
        f"{args.file}` and `sigillum sandbox start --world {args.file} --background`."
    )
    return Outcome.DONE


def _check(args: argparse.Namespace, context: Context) -> Outcome:
    found = sandboxes.check_world(args.file)
    context.give(
        "world",
        lambda: {"good": True, "tenants": list(found), "mistakes": []},
        f"{args.file}: no mistakes. Its tenants: {', '.join(found)}.",
    )
    return Outcome.DONE


def _schema(args: argparse.Namespace, context: Context) -> Outcome:
    context.document(sandboxes.world_schema())
    return Outcome.DONE


def _change(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    try:
        text = args.file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as problem:
        raise FileError("the world file cannot be read", where=str(args.file), mend="check its path") from problem
    done = sandboxes.control(folder, "change", {"world": text, "shown": str(args.file)})
    context.document(f"The sandbox follows {args.file} now: {', '.join(done['tenants'])}. What was enacted stays.")
    return Outcome.DONE


def _machine(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    from sigillum.keeping.private import write_private

    found = sandboxes.control(folder, "machine", {"tenant": args.tenant, "name": args.name, "audience": args.audience})
    write_private(args.out, found["token"] + "\n")
    context.document(
        f"{args.out} holds what {args.name} of {args.tenant} would get, for {args.audience}, until {found['ends']}."
    )
    return Outcome.DONE


def _anew(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    sandboxes.control(folder, "started", {"tenant": args.tenant, "name": args.name})
    context.document(f"{args.name} of {args.tenant} was started anew.")
    return Outcome.DONE


def _hints(context: Context, about: dict[str, Any], folder: Path) -> str:
    root = context.office.workspace.folder
    lines = []
    for name, tenant in about["tenants"].items():
        lines.append(f"{name}: {tenant['title']}, {tenant['address']}")
        for admin in tenant["admins"]:
            token = (folder / f"{name}.{admin}.token").relative_to(root)
            driver = " --driver dialect" if tenant.get("speaks") == "own" else ""
            lines.append(f"  sigillum tenant add {name} {tenant['address']}{driver} --admin {admin} --token 'file:{token}'")
    return "\n".join(lines)


def _start(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    from sigillum.workflows.desk.settings import Progress

    state = args.state.absolute() if args.state is not None else None
    process, about = sandboxes.start(
        folder, args.world, args.port, state, lambda text: context.progress(Progress("sandbox", text))
    )
    context.document(
        f"The sandbox runs (process {about['pid']}): {', '.join(about['tenants'])}."
        if args.quiet
        else f"The sandbox runs (process {about['pid']}). Its tenants, and how to add them:\n{_hints(context, about, folder)}"
    )
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
    context.document("The sandbox has ended." if ended else "No sandbox runs here.")
    return Outcome.DONE


def _show(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    about = sandboxes.alive(folder)
    context.give(
        "sandbox",
        lambda: {"running": about is not None, "tenants": (about or {}).get("tenants", {})},
        _hints(context, about, folder) if about else "No sandbox runs here.",
    )
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
        raise UsageError(
            str(problem), where="sandbox clock", mend="write +11m, `back 2h`, freeze, run, real or an instant"
        ) from problem
    said = sandboxes.control(folder, "clock", body)
    skew = (parse_instant(said["now"]) - datetime.now(UTC)).total_seconds()
    means = _meaning(context, folder, skew) if body is not None or abs(skew) > MOST_SKEW_SECONDS else ""
    context.give(
        "clock",
        {"now": said["now"], "frozen": said["frozen"], "skew_seconds": round(skew), "means": means},
        f"The sandbox's clock says {said['now']}{', frozen' if said['frozen'] else ''}." + (f"\n{means}" if means else ""),
    )
    return Outcome.DONE


def _meaning(context: Context, folder: Path, skew: float) -> str:
    """What its clock means for this workspace, whose entries of the sandbox's own tenants follow it from now on."""
    from sigillum.workflows.writing.begin import follow_clocks

    if abs(skew) <= MOST_SKEW_SECONDS:
        return "That is this machine's time, or near it: nothing has to be said in sigillum.yaml."
    about = sandboxes.running(folder)
    fresh, all_ = follow_clocks(context.office, str(about["control"]) if about is not None else "")
    if not all_:
        return "No tenant of this workspace is the sandbox's."
    where = "ahead of" if skew > 0 else "behind"
    told = f"{rough_duration(round(skew))} {where} this machine; windows and keys follow it at {', '.join(all_)}"
    return (
        f"{told}: `clock: tenant` was written to sigillum.yaml."
        if fresh
        else f"{told}, as sigillum.yaml says (`clock: tenant`)."
    )


def _limit(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    sandboxes.control(folder, "tenants", {"limits": {args.tenant: {args.name: args.value}}})
    context.document(f"At {args.tenant} {args.name} is {args.value} now.")
    return Outcome.DONE


def _fault(args: argparse.Namespace, context: Context, folder: Path) -> Outcome:
    if args.kind == "none":
        sandboxes.control(folder, "faults", {"clear": True})
        context.document("Nothing is ordered to go wrong.")
        return Outcome.DONE
    order = {
        "kind": args.kind,
        "count": args.count,
        "method": args.method,
        "path": args.path,
        "seconds": args.seconds,
        "status": args.http_status,
        "retry_after": args.retry_after,
    }
    sandboxes.control(folder, "faults", {"orders": [order]})
    where = f" {args.method} {args.path}".rstrip()
    context.document(f"Ordered: {args.kind} for the next {args.count} request{'s' if args.count != 1 else ''}{where}.")
    return Outcome.DONE
