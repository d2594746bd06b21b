"""`sigillum trust try | profile | links`"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.forms import Listing
from sigillum.cli.options import NO_FORM, common, verbs_of
from sigillum.core.values.errors import FileError, Outcome, UsageError

EXAMPLE = """examples:
  sigillum trust try claims.json mast-reader       would such a token act as it? which condition does not hold?
  sigillum trust try token.jwt mast-reader --trust valley
  sigillum trust try - mast-reader < token.jwt
  sigillum trust profile mast-reader --token-file /run/identity/token --out mast-reader.json   for the machine: no secret in it
  sigillum trust profile mast-reader --address http://127.0.0.1:8470/token --pointer /token --out mast-reader.json
  sigillum trust links stationyard                 as whom do its workloads act elsewhere, and do both sides say so?"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "trust",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        description="Trusts in outside issuers: who may act as an identity without any key of it.",
    )
    verbs = verbs_of(parser)
    try_ = verbs.add_parser(
        "try",
        parents=[common()],
        help="hold a token or claims against a charter's trusts",
        epilog=EXAMPLE,
        description="Hold a token, or claims as JSON, against the trusts of a charter, condition by "
        "condition. Nobody is asked, and no signature is checked. Exit code 1: no match, or an expired or unsigned token.",
    )
    try_.add_argument("file", metavar="FILE", help="a token or a JSON object of claims; or - for standard input")
    try_.add_argument("charter", metavar="CHARTER")
    try_.add_argument("--trust", default="", metavar="NAME", help="only this one")
    profile = verbs.add_parser(
        "profile",
        parents=[common()],
        help="how a workload gets in, without any secret",
        epilog=EXAMPLE,
        description="Write what a workload needs to get in by a trust: where it reads its own token, "
        "for whom, where it goes with that, as whom. `with --profile` uses it.",
    )
    profile.add_argument("charter", metavar="CHARTER")
    profile.add_argument("--trust", default="", metavar="NAME", help="by this one (default: its only one)")
    profile.add_argument("--list", action="store_true", dest="listing", help="only list the profiles that were written here")
    way = profile.add_mutually_exclusive_group()
    way.add_argument("--token-file", metavar="PATH", help="the workload reads its token from this file")
    way.add_argument("--address", metavar="URL", help="from this address")
    way.add_argument("--variable", metavar="VAR", help="from this variable")
    way.add_argument("--command", dest="runs", metavar="CMD", help="from a command; `with --profile` wants a flag for that")
    profile.add_argument("--header", action="append", default=[], metavar="NAME=VALUE", help="of an address: goes along")
    profile.add_argument("--pointer", default="", metavar="POINTER", help="where it stands, if that is JSON (RFC 6901)")
    profile.add_argument("--out", metavar="FILE", help="into this new file (default: it is printed)")
    links = verbs.add_parser(
        "links",
        parents=[common("table", tables=True)],
        help="whom a cluster's workloads act as: both records of it",
        epilog=EXAMPLE,
        description="The local accounts of a cluster, as whom they act elsewhere, and as "
        "whom its workloads run: what the cluster says beside what the other tenant trusts, also where "
        "only one of them knows it. Exit code 1 where something is wrong.",
    )
    links.add_argument("tenant", metavar="CLUSTER")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    if args.verb == "links":
        return _links(args, context)
    return _profile(args, context) if args.verb == "profile" else _try(args, context)


def _profile(args: argparse.Namespace, context: Context) -> Outcome:
    import json

    from sigillum.workflows.tokens.profiles import note, profile_of

    if args.listing:
        return _profiles(args, context)
    if not (args.token_file or args.address or args.variable or args.runs is not None):
        raise UsageError(
            "it is not said where the workload reads its token",
            where="trust profile",
            mend="write --token-file, --address, --variable or --command",
        )
    headers = dict(pair.partition("=")[::2] for pair in args.header)
    if args.header and (not args.address or not all(headers) or not all(headers.values())):
        raise UsageError("a header belongs to an address", where="--header", mend="write --address URL --header NAME=VALUE")
    if args.runs is not None and not args.runs.strip():
        raise UsageError("no command is named", where="--command", mend="write it as one text, like 'cat /run/token'")
    found = {
        "file": args.token_file,
        "address": args.address,
        "variable": args.variable,
        "header": headers,
        "at": args.pointer,
        "command": _words(args.runs),
    }
    made = profile_of(context.office, args.charter, args.trust, {n: v for n, v in found.items() if v})
    text = json.dumps(made, indent=1)
    if not args.out:
        note(context.office, args.charter, made, "")
        context.document(text)
        return Outcome.DONE
    try:
        with Path(args.out).open("x", encoding="utf-8") as opened:  # nothing in it is secret
            opened.write(f"{text}\n")
    except OSError as problem:
        raise FileError(f"it cannot be written: {problem.strerror}", where=args.out, mend="name a new file") from problem
    note(context.office, args.charter, made, str(Path(args.out).absolute()))
    context.show(
        f"The profile stands in {args.out}. No secret is in it; `sigillum key read {args.out}` shows that, and "
        f"`sigillum with --profile {args.out} -- COMMAND` uses it where the workload runs."
    )
    return Outcome.DONE


def _profiles(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.tokens.profiles import written

    found = written(context.office, args.charter)
    said = {True: "its trust exists", False: "its trust is gone: write it again", None: "its trust is not shown"}
    rows = [p._asdict() | {"state": said[p.exists]} for p in found]
    lines = [f"{r['to'] or '(printed)'}  trust {r['trust']}, written at {r['at']}: {r['state']}" for r in rows]
    context.give("profiles", {"profiles": rows}, "\n".join(lines) or f"No profile of {args.charter} was written here.")
    return Outcome.NO if any(p.exists is False for p in found) else Outcome.DONE


def _words(text: str | None) -> list[str] | None:
    """The words of a command. Raises UsageError where a quote is not closed."""
    import shlex

    try:
        return shlex.split(text) if text is not None else None
    except ValueError as problem:
        raise UsageError(f"the command cannot be read: {problem}", where="--command", mend="close its quotes") from problem


def _try(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import tokens as view
    from sigillum.workflows.tokens.claims import text_of, try_trusts

    found = try_trusts(context.office, text_of(args.file), args.charter, args.trust)
    context.give("trust", lambda: view.trial_json(found), lambda: view.trial(found))
    return Outcome.DONE if found.matching and not found.findings else Outcome.NO


def _links(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views.links import LINKS, WORKLOADS
    from sigillum.workflows.surveying.links import estate_of

    found = estate_of(context.office, args.tenant)
    rows = Listing("links", found.rows, LINKS)
    programs = Listing("workloads", found.workloads, WORKLOADS)
    nobody = f"No local account of {args.tenant} acts as anybody elsewhere."
    context.give_list(
        "links",
        rows,
        *(() if found.rows else (nobody,)),
        *(("", programs) if found.workloads else ()),
        *(f"\n{finding.code}: {finding.text}" for finding in found.findings),
        cluster=found.cluster,
        workloads=programs.data(),
        findings=[{"code": f.code, "text": f.text} for f in found.findings],
        unseen=list(found.unseen),
    )
    for name in found.unseen:
        context.say(f"Whom {name} trusts is not shown: what only it knows is missing here.")
    return Outcome.NO if found.findings else Outcome.SOMEBODY if found.unseen else Outcome.DONE
