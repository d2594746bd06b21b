"""Dialects: begin one from answers, check it, and prove one against the real thing with an identity that is thrown away."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query
from sigillum.core.values.errors import FileError, UsageError
from sigillum.core.values.times import format_instant, parse_instant, whole_second
from sigillum.testing.trial import TRIAL, DriverTrial
from sigillum.testing.trial_rows import Row, Tried
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, Office
from sigillum.workflows.desk.settings import Progress

if TYPE_CHECKING:
    from sigillum.tenants.dialect.driver import DialectTenant

OLD = timedelta(days=90)  # after which what was tried is told to be old


class Checked(NamedTuple):
    """A dialect without mistakes, and what can never be changed there since no call covers it."""

    dialect: str
    fixed: tuple[str, ...]


def check(folder: Path, files: list[str]) -> list[Checked]:
    """The dialects in these files, or in all under dialects/. Raises FileError with every mistake of all of them."""
    from sigillum.tenants.dialect.check import fixed_after_creation
    from sigillum.tenants.dialect.files import read

    names = files or sorted(f"dialects/{p.name}" for p in (folder / "dialects").glob("*.yaml"))
    found, mistakes = list[Checked](), list[Any]()
    for name in names:
        try:
            dialect = read(folder, name)
            found.append(Checked(dialect.dialect, tuple(fixed_after_creation(dialect))))
        except FileError as problem:
            if not problem.mistakes:
                raise
            mistakes += problem.mistakes
    if mistakes:
        raise FileError("", where=names[0], mistakes=tuple(mistakes))
    return found


# --- begin one --------------------------------------------------------------------------------------------------------
class DraftQuestion(NamedTuple):
    """What is asked to begin a dialect; `usual`: what an empty answer means."""

    name: str
    text: str
    usual: str = ""


QUESTIONS = (
    DraftQuestion(
        "token_header", "In which header does the administrator's token go (basic: name and password)? ", "Authorization"
    ),
    DraftQuestion("token_value", "What stands in that header, with {secret} for the token? ", "Bearer {secret}"),
    DraftQuestion("accounts", "Which address lists the accounts, below the tenant's own (like /v1/users)? "),
    DraftQuestion("items", "Where in that answer does the list stand (a JSON Pointer; empty: it is the list itself)? "),
    DraftQuestion("id", "Where in an entry does its id stand (like /id)? ", "/id"),
    DraftQuestion("login", "Where in an entry does the account's name stand (like /login)? ", "/name"),
    DraftQuestion("arrival", "How long may a change take until look-ups show it (at-once, unknown, or like 30s)? ", "unknown"),
)


def draft(name: str, answers: dict[str, str]) -> str:
    """A dialect to begin with. What nobody answered stands in it as a remark, and is not described."""
    login = answers["login"].rpartition("/")[2] or "name"
    header = answers["token_header"]
    way = "{basic: '{admin}'}" if header == "basic" else f"{{header: {header}, value: {_quoted(answers['token_value'])}}}"
    items = f", items: {answers['items']}" if answers["items"] else ""
    accounts = answers["accounts"].rstrip("/")
    return f"""\
dialect: {name}
about: ''                      # which product and version, where you read about it, and when
ways_in:
  administrator: {way}
  identity: {{}}                 # how accounts sign in, like api-token: {{header: Authorization, value: 'Bearer {{secret}}'}}
says: {{arrival: {answers["arrival"]}}}
things:
  account:
    id: {answers["id"]}
    shows: {{name: {answers["login"]}}}
    all: {{get: {accounts}{items}}}
    one: {{get: '{accounts}/{{id}}'}}
    # Not described yet, and so never done there:
    # make: {{post: {accounts}, body: {{{login}: '{{name}}'}}}}
    # change: [{{fields: [active], patch: '{accounts}/{{id}}', body: {{active: '{{active}}'}}}}]
    # end: {{delete: '{accounts}/{{id}}'}}
# Further things: team, place, role, grant, credential. docs/dialects.md shows a whole example.
"""


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


# --- prove one --------------------------------------------------------------------------------------------------------
def kept_of(office: Office, tenant: str) -> tuple[str, str]:
    """What trying it told of kill safety, and on which day; nothing where it was never tried."""
    kept = office.keepings.discovered(f"dialect_{tenant}")
    return (str(kept["safety"]), str(kept["at"])) if kept and "safety" in kept else ("", "")


def reach(office: Office, name: str) -> DialectTenant:
    """A tenant of the driver dialect. Raises UsageError where it is another."""
    from sigillum.tenants.dialect.driver import DialectTenant

    tenant = office.tenants.reach(name)
    if not isinstance(tenant, DialectTenant):
        raise UsageError(
            f"{name} is not spoken to by a dialect", where="dialect try", mend="name a tenant whose driver is dialect"
        )
    return tenant


def try_(office: Office, name: str, at: Sequence[str] = ()) -> Tried:
    """Everything that the dialect describes, done once with an identity of its own. Raises UsageError, UnreachableError."""
    tenant = reach(office, name)
    # another run at the same time would end what this one makes
    with office.books.writable_ledger().claim(f"dialect-{name}", BRIEFLY_SECONDS):
        return _tried(office, tenant, name, at)


def _tried(office: Office, tenant: DialectTenant, name: str, at: Sequence[str]) -> Tried:
    before = office.keepings.discovered(f"dialect_{name}") or {}
    identity = f"{TRIAL}-{secrets.token_hex(3)}"
    office.keepings.discover(f"dialect_{name}", {**before, "trial": identity})

    def show(row: Row) -> None:
        office.settings.progress(Progress(name, f"{row.what}: {row.came}"))

    trial = DriverTrial(tenant, identity, at, show)
    if before.get("trial"):
        trial.clear(str(before["trial"]))
    trial.steps.first(Query(ACCOUNT, "name", identity))  # where nobody answers, nothing is said of the dialect
    trial.run()
    now = format_instant(whole_second(office.tenants.now(name)))
    office.keepings.discover(
        f"dialect_{name}",
        {
            **(
                {"safety": trial.done.safety, "at": now}
                if trial.done.safety
                else {n: v for n, v in before.items() if n != "trial"}
            ),
            **({"trial": identity} if trial.done.left else {}),
        },
    )
    return trial.done


def old(at: str, now: Any) -> bool:
    """Was it tried so long ago that it should be tried again?"""
    return bool(at) and parse_instant(at) + OLD < now
