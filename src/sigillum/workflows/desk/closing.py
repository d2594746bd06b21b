"""How an undertaking ended, written down."""

from __future__ import annotations

from sigillum.core.records.history import CLOSED, NUMBER, UNDERTAKING
from sigillum.core.undertakings.undertaking import S, Undertaking
from sigillum.ledger.port import Fresh

from .office import Office


def close(office: Office, sort: Undertaking[S], undertaking: S, how: str, *before: Fresh, **about: str) -> None:
    """Write down how an undertaking ended, with what else belongs into the same transaction."""
    office.books.writable_ledger().append([*before, closing(sort, undertaking, how, **about)])


def closing(sort: Undertaking[S], undertaking: S, how: str, **about: str) -> Fresh:
    """The entry that closes an undertaking."""
    return Fresh(CLOSED, undertaking.uid, {UNDERTAKING: sort.name, NUMBER: undertaking.key, "how": how, **about})
