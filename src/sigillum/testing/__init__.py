"""A kit for drivers: what every driver has to hold, as checks that a third party runs against its own (docs/drivers.md).

Each check is a function that takes a `Party` and raises AssertionError. `conforms` runs one under pytest.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from typing import Any

from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Kind, Record, compared
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import SigillumError
from sigillum.core.values.secret import Secret
from sigillum.tenants.port import Proof, Reply, Result, Tenant

from .edges import Between, check_a_flood_is_bounded, check_silence_is_left, check_what_is_said_back_is_masked
from .party import NotHereError, Party, Placed, Reached, ask
from .trial import DriverTrial
from .trial_rows import DIFFERS

__all__ = ("CHECKS", "Between", "NotHereError", "Party", "Placed", "Reached", "ask", "conforms", "made")

NAMES = (
    "a b",
    "a/b",
    "..",
    "a?b=c",
    "a#b",
    'a"b',
    "a'b",
    "a\\b",
    "a;b",
    "{id}",
    "%2f",
    "ä",
    "漢字",
    "a:b",
    "a,b",
    "null",
    "-1",
)


def made(party: Party, tenant: Tenant, name: str = "kit-1", mark: str = "mark-1") -> Record[Any]:
    """An account, made."""
    reply = tenant.make(Make(ACCOUNT, party.account(name)), tenant.profile.marked(mark))
    assert reply.result is Result.DONE, f"an account is made: {reply}"
    assert reply.record is not None, "a making answers the thing that was made"
    assert reply.record.id, "and its id"
    return reply.record


def found_again(tenant: Tenant, kind: Kind[Any], part: Mapping[str, Any], mark: str) -> list[Record[Any]]:
    """Ours, by the mark; where the tenant has no place for it, by the natural key."""
    if kind.name not in tenant.profile.unmarked:
        return list(ask(tenant, kind, "mark", tenant.profile.marked(mark)).records)
    carried, shown = tenant.profile.carried(kind) or frozenset(), kind.shown(part)
    return [
        r
        for r in ask(tenant, kind, kind.key[0], str(shown[kind.key[0]])).records
        if all(kind.same(n, r.value(n), shown.get(n)) for n in kind.key if n in carried)
    ]


# --- facts ------------------------------------------------------------------------------------------------------------
def check_absent_is_known(party: Party) -> None:
    """Looking for what is not there gives a known fact without records."""
    tenant = party.connect()
    fact = ask(tenant, ACCOUNT, "name", "nobody-of-that-name")
    assert fact.known, f"absence is known: {fact.unknown}"
    assert fact.records == (), "and it is empty"
    assert tenant.read(ACCOUNT, "999999999") is None, "reading what is not there gives nothing"


def check_hidden_is_unknown(party: Party) -> None:
    """What may not be seen is unknown, with why, and never absent."""
    tenant = party.connect()
    made(party, tenant)
    party.hide(ACCOUNT)
    try:
        fact = ask(party.connect(), ACCOUNT, "name", "kit-1")
    except SigillumError as problem:
        assert problem.what, "an error says why"
        return
    assert not fact.known, "what may not be seen is not known"


def check_other_kinds_are_unknown(party: Party) -> None:
    """A kind that the tenant does not have is unknown."""
    tenant = party.connect()
    for kind in KINDS.values():
        if tenant.profile.carried(kind) is None:
            fact = ask(tenant, kind, next(iter(sorted(kind.finders)), "id"), "x")
            assert not fact.known or not fact.records, f"nothing is known of a {kind.name}"


def check_what_was_made_is_shown(party: Party) -> None:
    """By its id, its name and its mark, alike, in another run, with everything that was sent and that the tenant carries."""
    tenant, part = party.connect(), party.account("kit-1")
    record, again = made(party, tenant), party.connect()
    back = again.read(ACCOUNT, record.id)
    assert back is not None, "it is shown"
    sent = {n: v for n, v in part.items() if n != "active"}
    assert not compared(back, sent, again.profile.carried(ACCOUNT)).different, "as it was sent"
    assert [r.id for r in ask(again, ACCOUNT, "name", "kit-1").records] == [record.id], "it is found by its name"
    assert [r.id for r in found_again(again, ACCOUNT, part, "mark-1")] == [record.id], "it is found again as ours"


# --- changes ----------------------------------------------------------------------------------------------------------
def check_one_request_a_change(party: Party) -> None:
    """Making, changing and ending are one request each."""
    tenant = party.connect()
    for act in _acts(party, tenant):
        before = party.changes()
        reply = act()
        assert reply.result is Result.DONE, f"it is done: {reply}"
        assert party.changes() - before == 1, "by just one request"


def _acts(party: Party, tenant: Tenant) -> Any:
    record: list[Record[Any]] = []

    def make() -> Reply:
        reply = tenant.make(Make(ACCOUNT, party.account("kit-1")), tenant.profile.marked("mark-1"))
        record.extend([reply.record] if reply.record is not None else [])
        return reply

    yield make
    for kind, part in party.others(record[0].id):
        kept = list[Record[Any]]()

        def make_other(kind: Kind[Any] = kind, part: Mapping[str, Any] = part, kept: list[Record[Any]] = kept) -> Reply:
            reply = tenant.make(Make(kind, part), tenant.profile.marked(f"mark-{kind.name}"))
            kept.extend([reply.record] if reply.record is not None else [])
            return reply

        yield make_other
        yield lambda kind=kind, kept=kept: tenant.end(End(kind, kept[0].id))
    yield lambda: tenant.end(End(ACCOUNT, record[0].id))


def check_a_lost_answer_is_found_again(party: Party) -> None:
    """Whose answer was lost is told as lost, stands there once, and making it again makes no other."""
    tenant = party.connect()
    record = made(party, tenant, "kit-0", "mark-0")
    for kind, part in [(ACCOUNT, party.account("kit-1")), *party.others(record.id)]:
        mark = f"mark-{kind.name}"
        party.fate("lost-after")
        reply = tenant.make(Make(kind, part), tenant.profile.marked(mark))
        assert reply.result is Result.LOST, f"a lost answer is told as lost: {reply}"
        again = party.connect()
        found = found_again(again, kind, part, mark)
        assert len(found) == 1, f"the {kind.name} is found again, once: {found}"
        tenant = again


def check_what_never_arrived_is_made_again(party: Party) -> None:
    """What never arrived is told as lost or unsent, is not there, and can be made."""
    tenant, part = party.connect(), party.account("kit-1")
    party.fate("lost-before")
    reply = tenant.make(Make(ACCOUNT, part), tenant.profile.marked("mark-1"))
    assert reply.result in (Result.LOST, Result.UNSENT), f"it was not answered: {reply}"
    again = party.connect()
    assert not found_again(again, ACCOUNT, part, "mark-1"), "it is not there"
    made(party, again)


def check_busy_is_told(party: Party) -> None:
    """A tenant that is busy did nothing, and is asked again later."""
    tenant = party.connect()
    party.fate("busy")
    reply = tenant.make(Make(ACCOUNT, party.account("kit-1")), tenant.profile.marked("mark-1"))
    assert reply.result is Result.BUSY, f"busy is told: {reply}"
    assert ask(party.connect(), ACCOUNT, "name", "kit-1").records == (), "and nothing was done"
    made(party, tenant)


def check_a_taken_name_is_told(party: Party) -> None:
    """A name that is somebody else's is told, and nothing is changed there."""
    tenant = party.connect()
    record = made(party, tenant)
    reply = tenant.make(Make(ACCOUNT, party.account("kit-1")), tenant.profile.marked("mark-of-another"))
    assert reply.result is Result.EXISTS, f"a taken name is told: {reply}"
    assert [r.id for r in ask(party.connect(), ACCOUNT, "name", "kit-1").records] == [record.id], "nothing was made beside it"


def check_what_is_gone_is_told(party: Party) -> None:
    """Ended, it is shown no more; ending or changing it again is told as missing."""
    tenant = party.connect()
    record = made(party, tenant)
    assert tenant.end(End(ACCOUNT, record.id)).result is Result.DONE, "it is ended"
    again = party.connect()
    assert again.read(ACCOUNT, record.id) is None, "it is shown no more"
    assert again.end(End(ACCOUNT, record.id)).result in (Result.MISSING, Result.DONE), "ending it again is no trouble"
    changed = again.change(Change(ACCOUNT, record.id, {"active": False}))
    assert changed.result in (Result.MISSING, Result.REFUSED), f"what is gone is not changed: {changed}"


def check_a_trial_holds(party: Party) -> None:
    """Everything that the tenant can do, done once with an identity of its own: no line differs, and nothing is left."""
    places = party.places if isinstance(party, Placed) else ()
    trial = DriverTrial(party.connect(), "kit-trial", places, account=party.account)
    trial.run()
    differing = [r for r in trial.done.rows if r.came == DIFFERS]
    assert not differing, f"it does as it says: {differing}"
    assert not trial.done.left, f"nothing is left: {trial.done.left}"


# --- values and secrets -----------------------------------------------------------------------------------------------
def check_values_stay_values(party: Party) -> None:
    """No name changes what is asked for: each is made as it is, or refused, and nobody else is touched."""
    tenant = party.connect()
    record = made(party, tenant)
    for name in NAMES:
        acts: list[Callable[[], object]] = [
            partial(tenant.end, End(ACCOUNT, name)),
            partial(tenant.change, Change(ACCOUNT, name, {"active": False})),
            partial(ask, tenant, ACCOUNT, "name", name),
            partial(tenant.read, ACCOUNT, name),
        ]
        for act in acts:
            try:
                answered = act()
            except SigillumError:
                continue
            done = isinstance(answered, Reply) and answered.result is Result.DONE
            assert not done, f"nothing is called {name!r}, and something was done"
    assert tenant.read(ACCOUNT, record.id) is not None, "and nobody else was touched"


def check_secrets_stand_nowhere(party: Party) -> None:
    """No log, representation or error holds a secret."""
    tenant = party.connect()
    record = made(party, tenant)
    told: list[object] = [tenant.profile, tenant.address, record]
    for kind, part in party.others(record.id):
        reply = tenant.make(Make(kind, part), tenant.profile.marked(f"mark-{kind.name}"))
        told += [reply, reply.error, tenant.make(Make(kind, part), tenant.profile.marked(f"mark-{kind.name}-again"))]
        if kind is CREDENTIAL and reply.record is not None:
            caught = tenant.fetch_secret(reply.record.id)
            told.append(caught)
            if caught.secret is not None:
                told += [*party.said]
                assert caught.secret.reveal() not in " ".join(map(repr, told)), "what was caught stands nowhere"
    try:
        told.append(tenant.sign_in(Proof(record.id, token=Secret("wrong-token-4711"), account="")))
    except SigillumError as problem:
        told += [problem, problem.what, problem.mend]
    said = " ".join([*map(repr, told), *map(str, told), *party.said])
    for secret in [*party.secrets(), "wrong-token-4711"]:
        assert secret not in said, "a secret stands in what is told"


CHECKS: tuple[Callable[[Party], None], ...] = (
    check_absent_is_known,
    check_hidden_is_unknown,
    check_other_kinds_are_unknown,
    check_what_was_made_is_shown,
    check_one_request_a_change,
    check_a_lost_answer_is_found_again,
    check_what_never_arrived_is_made_again,
    check_busy_is_told,
    check_a_taken_name_is_told,
    check_what_is_gone_is_told,
    check_a_trial_holds,
    check_values_stay_values,
    check_secrets_stand_nowhere,
    check_silence_is_left,
    check_a_flood_is_bounded,
    check_what_is_said_back_is_masked,
)


def conforms(check: Callable[[Party], None], party: Party) -> None:
    """One check, as a test of pytest; what the tenant does not have is left out, and said."""
    import pytest

    try:
        check(party)
    except NotHereError as reason:
        pytest.skip(str(reason))
