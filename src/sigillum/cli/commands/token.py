"""`sigillum token read | fetch | mint | swap | try | end`"""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import NO_FORM, common, duration, verbs_of
from sigillum.core.values.errors import FileError, Outcome, UsageError

if TYPE_CHECKING:
    from sigillum.core.values.secret import Secret
    from sigillum.workflows.tokens.usage import Used

EXAMPLE = """examples:
  sigillum token read token.jwt                       header, claims, times in words, what is wrong with it
  sigillum token read - --tenant summit < token.jwt  and is it genuine, by its issuer's keys?
  sigillum token read token.jwt --audience summit     is it for whom it should be?
  sigillum token fetch wind-ingest --out access.token   a fresh access token, into a file of yours alone
  sigillum token mint wind-ingest --lives 60s --out assertion.jwt   a self-signed assertion; what it says is shown first
  sigillum token swap mast-reader outside.jwt --out access.token   for a token from outside, by a trust
  sigillum token fetch --as wind-ingest --out access.token   of an account that you may act as
  sigillum token fetch tower-report --with-token machine.token --out access.token   its tenant signs for it
  sigillum token fetch rota-calendar-sync --for-person kai.lund@brindlemoor.example --scope calendar.read --out kai.token
  sigillum token try access.token stream.read brindlemoor/sensing-prod --tenant summit   401 or 403, and why
  sigillum token end access.token --tenant summit           and is it refused from now on?
  sigillum token swap mast-reader - --fd 3 3> access.token < outside.jwt"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "token",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        description="Look at signed tokens (JWT), and get access tokens. A token itself is never "
        "printed: it goes into a file of yours alone, or to a descriptor.",
    )
    verbs = verbs_of(parser)
    read = verbs.add_parser(
        "read",
        parents=[common()],
        help="what a token says, and what is wrong with it",
        epilog=EXAMPLE,
        description="Header, claims, times in words, and what is wrong with a token. Whether it is "
        "genuine, only its issuer's keys show. Exit code 1: nobody should take it.",
    )
    read.add_argument("file", metavar="FILE", help="or - for standard input")
    read.add_argument("--tenant", metavar="TENANT", help="by its time and limits, and verified with the issuer's keys")
    read.add_argument("--audience", default="", metavar="TEXT", help="for whom it has to be")
    _getting(verbs)
    try_ = verbs.add_parser(
        "try",
        parents=[common()],
        help="use it, and tell a bogus token from a missing right",
        epilog=EXAMPLE,
        description="Use a token for a permission at a place, where looking is all that "
        "does; otherwise ask with it. 401 (the token is not taken) and 403 (the right is missing) are "
        "told apart and explained. Exit code 1: refused.",
    )
    try_.add_argument("file", metavar="FILE", help="or - for standard input")
    try_.add_argument("permission", help="thing.verb")
    try_.add_argument("place", help="a path")
    try_.add_argument("--tenant", required=True, metavar="TENANT")
    end = verbs.add_parser(
        "end",
        parents=[common()],
        help="have a token ended before its time",
        epilog=EXAMPLE,
        description="Have a token ended (RFC 7009), and see by a call whether it is refused. Exit code 7: it is still taken.",
    )
    end.add_argument("file", metavar="FILE", help="or - for standard input")
    end.add_argument("--tenant", required=True, metavar="TENANT", help="the tenant that gave it")


def _getting(verbs: Any) -> None:
    """The verbs by which one gets a token, or an assertion."""
    fetch = verbs.add_parser(
        "fetch",
        parents=[common()],
        help="a fresh access token of a charter's identity",
        epilog=EXAMPLE,
        description="Sign in as a charter's identity with a credential that is kept here, and write the "
        "access token where that was said.",
    )
    fetch.add_argument("charter", metavar="CHARTER", nargs="?", default="")
    fetch.add_argument(
        "--as",
        dest="principals",
        action="append",
        default=[],
        metavar="WHO",
        help="instead: act as this account, without any credential of it; several: each acts as the next",
    )
    fetch.add_argument("--tenant", metavar="TENANT", default="", help="with --as: where, if WHO is no charter")
    fetch.add_argument("--credential", default="", metavar="NAME", help="with this one of the charter (default: its first)")
    fetch.add_argument("--for-person", default="", metavar="PERSON", help="by its delegation, for this one person")
    fetch.add_argument("--outside", metavar="FILE", help="for this token from outside, by a trust; `token swap` says more")
    fetch.add_argument("--scope", default="", metavar="SCOPE", help="with --for-person: for this one OAuth scope")
    swap = verbs.add_parser(
        "swap",
        parents=[common()],
        help="an access token for a token from outside",
        epilog=EXAMPLE,
        description="Exchange a token from outside for an access token of the identity (RFC 8693), where "
        "one of its trusts lets it in. It is held against the trusts here first.",
    )
    swap.add_argument("charter", metavar="CHARTER")
    swap.add_argument("file", metavar="FILE", help="the token; or - for standard input")
    swap.add_argument("--trust", default="", metavar="NAME", help="by this one")
    swap.add_argument("--actor", metavar="FILE", help="the access token of who acts with it, whom the new one names")
    mint = verbs.add_parser(
        "mint",
        parents=[common()],
        help="a self-signed assertion of a charter's identity",
        epilog=EXAMPLE,
        description="An assertion that a charter's identity signs for itself (RFC 7523) with a key that is "
        "kept here. Its header and claims are shown before they are encoded and signed.",
    )
    mint.add_argument("charter", metavar="CHARTER")
    mint.add_argument("--credential", default="", metavar="NAME", help="with the key of this one (default: its first)")
    mint.add_argument("--audience", default="", metavar="TEXT", help="for whom (default: the tenant's issuer)")
    mint.add_argument("--lives", metavar="TIME", help="how long it holds, 60s where nothing is said")
    for one in (fetch, mint):
        one.add_argument(
            "--with-token",
            metavar="FILE",
            help="where the tenant signs for it: what the identity got on the "
            "machine to which it is attached (default: the administrator asks)",
        )
    for one in (fetch, swap, mint):
        where = one.add_mutually_exclusive_group(required=True)
        where.add_argument("--out", metavar="FILE", help="a new file, which nobody else may read")
        where.add_argument("--fd", type=int, metavar="N", help="an open file descriptor")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    return {"read": _read, "mint": _mint, "end": _end, "try": _try}.get(args.verb, _got)(args, context)


def _try(args: argparse.Namespace, context: Context) -> Outcome:
    """Two refusals that look alike to whoever meets them."""
    from sigillum.workflows.tokens.claims import text_of
    from sigillum.workflows.tokens.usage import use

    done = use(context.office, text_of(args.file), args.tenant, args.permission, args.place)
    trial = done.trial
    outcome = {True: Outcome.DONE, False: Outcome.NO, None: Outcome.SOMEBODY}[trial.allowed]
    state = {True: "allowed", None: "not known"}.get(trial.allowed, "not taken" if trial.unauthenticated else "refused")
    how = "tried" if done.tried else "asked, not tried"
    context.give(
        "tried",
        {
            "state": state,
            "allowed": trial.allowed,
            "tried": done.tried,
            "reason": trial.reason,
            "subject": done.subject,
            "cause": done.cause,
            "scopes": list(done.scopes),
            "findings": [{"code": f.code, "what": f.what} for f in done.findings],
        },
        f"{state}: {args.permission} at {args.place} ({how}; {trial.reason})",
        *([_refusal(args, context, done)] if trial.allowed is False else []),
    )
    return outcome


def _refusal(args: argparse.Namespace, context: Context, done: Used) -> str:
    """Which of the two refusals it is, and why."""
    if done.trial.unauthenticated:
        told = "; ".join(f.what for f in done.findings) or "on its face nothing is wrong: it was ended, or is nobody's here"
        return f"The token is not taken, so nothing was said about any right (401): {told}."
    who = f" {context.ident(done.subject)}" if done.subject else ""
    cause = f": {done.cause}" if done.cause else ""
    more = (
        f"It is for {', '.join(done.scopes)} only."
        if done.scopes
        else f"`sigillum explain{who} {args.permission} {args.place} --tenant {args.tenant}` says what would mend it."
    )
    return f"The token is good, and the right is missing (403){cause}. {more}"


def _given(file: str | None) -> str:
    """The text of a file that may be named."""
    from sigillum.workflows.tokens.claims import text_of

    return text_of(file) if file else ""


def _mint(args: argparse.Namespace, context: Context) -> Outcome:
    """What it says is shown before it exists; what was shown is what is signed."""
    from sigillum.cli.views import tokens as view
    from sigillum.workflows.tokens.assertions import mint

    out = _place(args)
    made = mint(
        context.office,
        args.charter,
        args.credential,
        args.audience,
        duration(args.lives, "--lives") if args.lives else None,
        _given(args.with_token),
    )
    context.show(view.minted(made, context.ident))
    out(made.signed())
    where = args.out or f"descriptor {args.fd}"
    context.give(
        "minted",
        {"charter": made.charter.name, "where": where, "header": dict(made.header), "claims": dict(made.claims)},
        f"Signed with {made.how}; it stands in {where}.",
    )
    return Outcome.DONE


def _end(args: argparse.Namespace, context: Context) -> Outcome:
    """An answer of 200 shows nothing; a call with the token does."""
    from sigillum.workflows.tokens.claims import text_of
    from sigillum.workflows.tokens.usage import end

    done = end(context.office, text_of(args.file), args.tenant)
    was = {True: "It was taken before", False: "It was refused before, too", None: "Whether it was taken before is not known"}
    now = {
        True: "and is still taken: run the same command again in a while",
        False: "and is refused now",
        None: "and nothing can be asked that would show whether it is refused now",
    }
    context.give("ended", {"taken_before": done.before, "taken_now": done.after}, f"{was[done.before]}, {now[done.after]}.")
    return Outcome.NOT_YET if done.after else Outcome.DONE


def _got(args: argparse.Namespace, context: Context) -> Outcome:
    """Nothing but where it went, as whom, and for how long."""
    from sigillum.core.values.times import rough_duration
    from sigillum.workflows.tokens.access import fetch, swap
    from sigillum.workflows.tokens.claims import text_of

    office = context.office
    out = _place(args)
    if args.verb == "fetch" and args.principals:
        return _acting(args, context, out)
    if args.verb == "fetch" and not args.charter:
        raise UsageError("nobody is named", where="token fetch", mend="name a charter, or an account with --as")
    if args.verb == "fetch" and args.outside:
        got = swap(office, args.charter, text_of(args.outside))
    elif args.verb == "fetch":
        if bool(args.for_person) != bool(args.scope):
            raise UsageError(
                "a person and a scope go together", where="token fetch", mend="write --for-person PERSON --scope SCOPE"
            )
        got = fetch(office, args.charter, args.credential, _given(args.with_token), args.for_person, args.scope)
    else:
        got = swap(office, args.charter, text_of(args.file), args.trust, _given(args.actor))
    out(got.signed_in.token)
    where = args.out or f"descriptor {args.fd}"
    lives = got.signed_in.lives_seconds
    context.give(
        "got",
        {
            "charter": got.charter.name,
            "where": where,
            "how": got.how,
            "lives_seconds": lives,
            "scheme": got.signed_in.scheme,
        },
        f"A token of {got.charter.identity.name}, by {got.how}, stands in {where}"
        f"{f'; it lives {rough_duration(lives)}' if lives else ''}.",
    )
    return Outcome.DONE


def _acting(args: argparse.Namespace, context: Context, out: Callable[[Secret], None]) -> Outcome:
    """A token of somebody who is acted as; nobody renews it."""
    from sigillum.workflows.lending.act_as import ActingWish, act

    acted = act(context.office, ActingWish(tuple(args.principals), args.tenant))
    out(acted.signed_in.token)
    where = args.out or f"descriptor {args.fd}"
    context.give(
        "got",
        {"chain": list(acted.chain), "where": where, "lives_seconds": acted.signed_in.lives_seconds},
        f"{acted.words}: the token stands in {where}.",
    )
    return Outcome.DONE


def _place(args: argparse.Namespace) -> Callable[[Secret], None]:
    """Where it goes, looked at before anything is fetched. Raises FileError."""
    if args.out:
        path = Path(args.out)
        if path.exists():
            raise FileError("there is a file already", where=args.out, mend="name a new one")
        from sigillum.keeping.private import write_private

        return lambda secret: write_private(path, secret.reveal() + "\n")
    try:
        os.fstat(args.fd)
    except OSError as problem:
        raise FileError(f"descriptor {args.fd} is not open", where="--fd", mend="open one, like `3> FILE`") from problem

    def write(secret: Secret) -> None:
        with os.fdopen(os.dup(args.fd), "w") as opened:
            opened.write(secret.reveal() + "\n")

    return write


def _read(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import tokens as view
    from sigillum.workflows.tokens.claims import look_against, look_at, text_of

    text = text_of(args.file)
    found = look_against(context.office, text, args.tenant, args.audience) if args.tenant else look_at(text, args.audience)
    context.give("token", lambda: view.as_json(found), lambda: view.text(found, context.ident))
    return Outcome.DONE if found.good else Outcome.NO
