"""Ending a doubt by a person's word: that it was Sigillum itself that ended something, or switched it off."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import OURS, WAS, Generation, History, State
from sigillum.core.undertakings.suspension import SUSPENSIONS
from sigillum.core.values.errors import UsageError
from sigillum.core.values.times import format_instant
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office


def said_ours(office: Office, charters: Iterable[Charter], who: str) -> None:
    """Write down whose word it is. Raises UsageError where nobody is named or nothing is in doubt, MachineError."""
    charters = list(charters)
    if not who.strip():
        raise UsageError("the person who says so is not specified", where="--ours", mend="specify who looked")
    fresh = list[Fresh]()
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        for charter in charters:
            uid, state = office.books.history(charter.name)
            for made, was in _doubts(office, uid, state):
                at = format_instant(office.tenants.now(made.mark.tenant))
                body = {
                    **made.mark.body(),
                    "generation": made.number,
                    "thing": made.kind,
                    WAS: was,
                    "who": who.strip(),
                    "at": at,
                }
                fresh.append(Fresh(OURS, uid, body))
        if not fresh:
            raise UsageError(
                f"nothing of {', '.join(c.name for c in charters)} is in doubt",
                where="--ours",
                mend="leave it out; what someone else switched off comes back by `--switch-on`",
            )
        office.books.writable_ledger().append(fresh)


def _doubts(office: Office, uid: str, state: History) -> Iterator[tuple[Generation, str]]:
    """Whatever is off or gone, while this ledger neither knows nor excludes that it was us; and what it was."""
    held = {
        s.mark for s in office.books.begun(SUSPENSIONS) if s.uid == uid and s.sent and not s.left
    }  # its tenant shows no versions
    for mark, all_ in state.generations.items():
        newest = all_[-1]
        if newest.live and (newest.perhaps_off or mark in held):
            yield newest, "off"
    for mark, turn in state.turns.items():
        new = next((g for g in state.generations.get(mark, ()) if g.number == turn.new), None)
        if new is None or new.state is not State.MADE or new.ending:
            continue
        query = Query(CREDENTIAL, "id", new.id)
        fact = office.tenants.reach(mark.tenant).facts([query])[query]
        if fact.known and not fact.records:
            yield new, "ended"
