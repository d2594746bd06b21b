"""`sigillum tenant add | list | inspect | places | identify | moved`"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.forms import Column, Listing
from sigillum.cli.options import NO_FORM, common, verbs_of
from sigillum.core.values.errors import Outcome

if TYPE_CHECKING:
    from sigillum.charters.workspace import TenantSection
    from sigillum.core.kinds.access import Place

EXAMPLE = """examples:
  sigillum tenant add summit https://summit.example/scim/v2 --admin ada.rusk --token env:SUMMIT_TOKEN --stage prod
  sigillum tenant list
  sigillum tenant inspect summit
  sigillum tenant places brindlemoor/sensing-prod    what lies below a place; without one, at the top
  sigillum tenant identify 4f0c1d2e3a4b5c6d    what is this, and where may it be used?
  sigillum tenant moved summit --because 'its new name, change 4711'    the same tenant, at another address"""
TENANTS: tuple[Column[tuple[str, TenantSection]], ...] = (
    Column("tenant", lambda t: t[0]),
    Column("address", lambda t: t[1].address, mask="whole"),
    Column("stage", lambda t: t[1].stage or ""),
    Column("administrator", lambda t: t[1].admin.name, mask="whole"),
    Column("driver", lambda t: t[1].driver),
)
PLACES: tuple[Column[Place], ...] = (
    Column("place", lambda p: p.path, unbroken=True),
    Column("kind", lambda p: p.type, unbroken=True),
    Column("location", lambda p: p.location),
    Column("services", lambda p: " ".join(service for service, _ in p.services)),
    Column("labels", lambda p: " ".join(f"{name}={value}" for name, value in p.labels)),
    Column("test", lambda p: "yes" if p.test else ""),
)


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "tenant",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        description="Add, list and inspect tenants, and identify what they know.",
    )
    verbs = verbs_of(parser)
    _add_add(verbs)
    verbs.add_parser(
        "list",
        parents=[common("table", tables=True)],
        help="those of the workspace",
        description="The tenants of the workspace; asks none of them.",
    )
    _add_inspect(verbs)
    _add_places(verbs)
    _add_identify(verbs)
    moved = verbs.add_parser(
        "moved",
        parents=[common()],
        help="it is the same one, at another address",
        description="Say that a tenant is the one that the ledger knows, though its address in sigillum.yaml is another one "
        "now. Until then nothing is done there: the ids in the ledger could name something else.",
    )
    moved.add_argument("name", metavar="TENANT")
    moved.add_argument("--because", required=True, metavar="WHY", help="how you know; it is recorded in the ledger")


def _add_add(verbs: Any) -> None:
    add = verbs.add_parser(
        "add",
        parents=[common()],
        help="reach one, and write it into sigillum.yaml",
        epilog=EXAMPLE,
        description="Reach a tenant, and write it into sigillum.yaml.",
    )
    add.add_argument("name", help="how charters call it")
    add.add_argument("address", help="its SCIM base address, or where its interface begins (https, or http on this machine)")
    add.add_argument("--admin", required=True, metavar="NAME", help="on whose behalf Sigillum acts there")
    add.add_argument(
        "--token", metavar="REFERENCE", help="where that administrator's bearer token is: env:NAME, file:PATH or keyring:NAME"
    )
    add.add_argument("--stage", help="dev, test, prod ... (default: what the tenant says)")
    add.add_argument("--issuer", metavar="ADDRESS", help="its authorization server, where its profile names none")
    add.add_argument("--ca", metavar="FILE", help="file of trusted authorities, relative to the workspace")
    add.add_argument(
        "--driver",
        help="how it is spoken to: open (default), dialect for an interface of its own that a file "
        "describes, postgresql for a database server, or by-hand for a tenant without an interface",
    )
    add.add_argument(
        "--dialect",
        metavar="NAME",
        help="described by one that comes with Sigillum (`sigillum dialect list`), or by a file of yours (with --driver "
        "dialect, default: dialects/NAME.yaml)",
    )
    add.add_argument("--facts", metavar="FOLDER", help="with --driver by-hand: where its facts are (default: facts/NAME)")


def _add_inspect(verbs: Any) -> None:
    inspect = verbs.add_parser(
        "inspect",
        parents=[common()],
        help="what one can do, and its limits",
        description="What a tenant can do, its limits, its clock, and what you may do there.",
    )
    inspect.add_argument("name", metavar="TENANT")


def _add_places(verbs: Any) -> None:
    places = verbs.add_parser(
        "places",
        parents=[common("table", tables=True)],
        help="what lies below a place",
        description="The places right below one, or at the top of the tree.",
    )
    places.add_argument("under", nargs="?", default="", metavar="UNDER", help="a place's path (default: the top)")
    places.add_argument("--tenant", metavar="TENANT", default="", help="whose, if the workspace knows several")


def _add_identify(verbs: Any) -> None:
    identify = verbs.add_parser(
        "identify",
        parents=[common()],
        help="what is this identifier, and where may it be used",
        description="What an identifier is, whose, where it may be used, and which others belong to it. Never paste a secret.",
    )
    identify.add_argument("value")
    identify.add_argument(
        "--tenant", metavar="TENANT", default="", help="ask this one only (default: every tenant of the workspace)"
    )
    identify.add_argument("--send", action="store_true", help="also ask for what could be a secret")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    return {"add": _add, "list": _list, "inspect": _inspect, "places": _places, "identify": _identify, "moved": _moved}[
        args.verb
    ](args, context)


def _add(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.writing.begin import add_tenant
    from sigillum.workflows.writing.descriptions import chosen

    admin = {"name": args.admin, **({"token": args.token} if args.token else {})}
    section = {
        "address": args.address,
        "stage": args.stage,
        "admin": admin,
        "issuer": args.issuer,
        "facts": args.facts,
        "ca": args.ca,
        **chosen(context.office, args.name, args.dialect, args.driver),
    }
    given = {name: value for name, value in section.items() if value is not None}
    header = add_tenant(context.settings(), context.office.workspace.folder, args.name, given)
    context.give(
        "added",
        {"tenant": header.tenant, "address": header.address, "stage": header.stage, "administrator": header.administrator},
        f"{header.tenant} is known now. Next: `sigillum tenant inspect {header.tenant}`, then `sigillum charter new`.",
    )
    return Outcome.DONE


def _list(args: argparse.Namespace, context: Context) -> Outcome:
    tenants = list(context.office.workspace.file.tenants.items())
    context.give_list("tenants", Listing("tenants", tenants, TENANTS, "No tenants yet: `sigillum tenant add` adds one."))
    return Outcome.DONE


def _inspect(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import tenants
    from sigillum.workflows.surveying.inspect import inspect

    found = inspect(context.office, args.name)
    context.give("tenant", lambda: tenants.as_json(found), lambda: tenants.text(found, context.ident))
    return Outcome.DONE


def _places(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.surveying.inspect import places

    found = places(context.office, args.under, args.tenant)
    none = f"No place lies below {args.under}." if args.under else "The tenant shows no places."
    context.give_list("places", Listing("places", found, PLACES, none, spare=True))
    return Outcome.DONE


def _identify(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import identified
    from sigillum.workflows.surveying.identify import identify

    found = identify(context.office, args.value, args.tenant, send=args.send)
    context.give("identified", lambda: identified.as_json(found), lambda: identified.text(found, args.value, context.ident))
    return Outcome.DONE if found.found or found.form else Outcome.NO


def _moved(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.writing.begin import moved

    before, now = moved(context.office, args.name, args.because)
    context.give(
        "moved",
        {"tenant": args.name, "before": before, "address": now},
        f"{args.name} is at {context.ident(now)} from now on; the ledger knew it at {context.ident(before or 'no address')}.",
    )
    return Outcome.DONE
