"""`sigillum with`"""
# ruff: noqa: N999  the module is named as the command

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import NO_FORM, common
from sigillum.cli.streams import write
from sigillum.core.values.errors import Outcome, SigillumError, UsageError

if TYPE_CHECKING:
    from sigillum.workflows.tokens.programs import Given

RUNS_ANOTHER = True  # what stands behind -- is not for us
EXAMPLE = """examples:
  sigillum with wind-ingest -- ./store-readings.sh
  sigillum with wind-ingest -- sh -c 'curl -H "@$WIND_INGEST_HEADER_FILE" https://summit.example/streams'
  sigillum with --env FEED_TOKEN=keyring:feed -- ./feed.sh
  sigillum with gate-reader --env KEY=store:cairn/brindlemoor/sensing/ingest-key -- ./gate.sh
  sigillum with --profile mast-reader.json -- ./show-wind.sh     without any key, where the workload runs
  sigillum with --as wind-ingest --lend 10m --because 'mast 4 is silent' -- ./look.sh
  sigillum with wind-ingest timetable-publisher --put environment -- python publish.py

variables, by the charter's name in capitals:
  WIND_INGEST_TOKEN_FILE    a file in memory that always holds a token with time left
  WIND_INGEST_HEADER_FILE   the same as a header line, for programs that read headers from a file
  WIND_INGEST_TENANT        the tenant's address; for a password also ..._USER and ..._PASSWORD_FILE
  WIND_INGEST_TOKEN ...     with --put environment: the values themselves, fetched once

what this prevents: no secret stands in an argument or in a file on a disk; nothing of the workspace's own secrets is in
the program's environment; no descriptor of ours is open in it; it and we leave no core file.

what it cannot prevent: root, debuggers of this user, swap, crash reporters and `set -x` see what the program sees; what
stands in its environment can be read by this user's programs and is inherited by its own; after a kill with signal 9 the
file in memory stays until `with` is run again."""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "with",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        usage="sigillum with [options] CHARTER ... -- COMMAND ...",
        description="Run a command that signs in as charters' identities, with what it needs for as long as it runs. Signals, "
        "terminal and exit code pass through, and nothing is printed.",
    )
    parser.add_argument("charters", nargs="*", metavar="CHARTER", help="as whom it signs in")
    parser.add_argument("--credential", default="", metavar="NAME", help="with this one of the charter (default: its first)")
    parser.add_argument(
        "--as",
        dest="principals",
        action="append",
        default=[],
        metavar="WHO",
        help="act as this account, without any credential of it; several: each acts as the next",
    )
    parser.add_argument("--tenant", metavar="TENANT", default="", help="with --as: where, if WHO is no charter")
    parser.add_argument("--lend", default="", metavar="DURATION", help="with --as: lend yourself the right, if need be")
    parser.add_argument("--because", default="", metavar="WHY", help="with --lend")
    parser.add_argument(
        "--put",
        dest="how",
        choices=("file", "environment"),
        default="file",
        help="where the tokens are: in files in memory that are kept fresh, or in the environment, once",
    )
    parser.add_argument(
        "--profile", metavar="FILE", help="as the workload of this profile (`trust profile`); no workspace is needed"
    )
    parser.add_argument("--allow-command", action="store_true", help="the profile may run a command to read its token")
    parser.add_argument(
        "--env",
        action="append",
        default=[],
        metavar="NAME=REFERENCE",
        help="a variable with the value that a reference names: env:NAME, file:PATH, keyring:NAME, or store:TENANT/PATH, "
        "which is read as the identity of a CHARTER of that tenant",
    )


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.tokens.programs import give, references, stripped

    if not args.another:
        raise UsageError("no command is named", where="with", mend="write it behind `--`")
    if not args.charters and not args.env and not args.profile and not args.principals:
        raise UsageError("nothing is to be given", where="with", mend="name a charter, a profile, or a variable with --env")
    context.mute()
    if args.profile:
        return _workload(args, context)
    if args.principals:
        return _acting(args, context)
    office = context.office
    charters = office.charters(args.charters) if args.charters else []
    environment = stripped(office, charters, os.environ)
    given = [give(office, charter, args.credential) for charter in charters]
    for one in given:
        environment |= {one.variable(end): value for end, value in one.public.items()}
    environment |= {name: secret.reveal() for name, secret in references(office, args.env, charters, args.credential).items()}
    return _run(args, context, environment, given, lambda: [give(office, c, args.credential) for c in charters])


def _workload(args: argparse.Namespace, context: Context) -> Outcome:
    """By a profile alone: nothing of a workspace is read."""
    from sigillum.workflows.tokens.profiles import let_in, load

    if args.charters or args.env or args.credential:
        raise UsageError("a profile stands for itself", where="--profile", mend="name nothing beside it")
    profile, environment = load(args.profile, commands=args.allow_command), dict(os.environ)

    def give() -> list[Given]:
        return [let_in(profile, os.environ, timeout_seconds=context.options.timeout_seconds)]

    environment = {n: v for n, v in environment.items() if not n.startswith("SIGILLUM_") and n != profile.reads.variable}
    given = give()
    for one in given:
        environment |= {one.variable(end): value for end, value in one.public.items()}
    return _run(args, context, environment, given, give)


def _acting(args: argparse.Namespace, context: Context) -> Outcome:
    """As an account that this workspace has no credential of; the first line says as whom, by whom, and until when."""
    from sigillum.cli.options import duration
    from sigillum.workflows.lending.act_as import ActingWish, act, give_back
    from sigillum.workflows.tokens.programs import stripped

    if args.charters or args.env or args.credential:
        raise UsageError("whoever is acted as stands for itself", where="--as", mend="name nothing beside it")
    if bool(args.lend) != bool(args.because.strip()):
        raise UsageError("a loan has a duration and a reason", where="--lend", mend="write --lend 10m --because WHY")
    seconds = duration(args.lend, "--lend") if args.lend else 0
    wish = ActingWish(tuple(args.principals), args.tenant, seconds, args.because.strip())
    acted, environment = act(context.office, wish), stripped(context.office, [], os.environ)
    write(sys.stderr, f"{acted.words}\n")
    given = acted.given()
    environment |= {given.variable(end): value for end, value in given.public.items()}
    again = wish._replace(lend_seconds=0)
    return _run(
        args,
        context,
        environment,
        [given],
        lambda: [act(context.office, again).given()],
        (lambda: give_back(context.office, acted)) if acted.loan is not None else None,
    )


def _run(
    args: argparse.Namespace,
    context: Context,
    environment: dict[str, str],
    given: list[Given],
    fresh: Callable[[], list[Given]],
    over: Callable[[], None] | None = None,
) -> Outcome:
    """Run the command with what it is given, and fetch that anew for as long as it runs; `over` is done when it has ended."""
    from sigillum.cli.child import beside, die_of, instead
    from sigillum.cli.running import Passed
    from sigillum.keeping.memory import MemoryFolder

    if args.how == "environment" or not given:
        for one in given:
            environment |= {one.variable(end): secret.reveal() for end, secret in one.secrets.items()}
    if (args.how == "environment" or not given) and over is None:
        context.close()
        instead(args.another, environment)
    folder = MemoryFolder()

    def put(one: Given) -> None:
        if args.how == "environment":
            return
        for end, secret in one.secrets.items():
            environment[one.variable(f"{end}_FILE")] = str(folder.write(_file(one.charter, end), secret))

    def again() -> float:
        anew = fresh()
        for one in anew:
            put(one)
        return min(one.again_seconds for one in anew)

    def failed(problem: SigillumError) -> None:
        write(sys.stderr, f"sigillum with: there is no fresh token: {problem.what}\n")

    try:
        for one in given:
            put(one)
        code = beside(args.another, environment, again, min(one.again_seconds for one in given), failed)
    finally:
        folder.remove()
        if over is not None:
            over()
    if code < 0:
        context.close()
        die_of(-code)
    raise SystemExit(Passed(code))


def _file(charter: str, end: str) -> str:
    return f"{charter}.{end.lower()}"
