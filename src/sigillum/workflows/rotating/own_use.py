"""Our own use of a credential that is being rotated, written down so that it is nobody else's."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from datetime import timedelta

from sigillum.core.charter.charter import Charter, CredentialWant
from sigillum.core.records.history import STAGED, History
from sigillum.core.undertakings.rotation import Asked
from sigillum.core.values.marks import Mark
from sigillum.core.values.times import format_instant, whole_second
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.office import Office

LONGEST_USE = timedelta(minutes=10)  # so long a use of ours may take that was interrupted


@contextmanager
def ours(office: Office, stream: str, mark: Mark, number: int, key: str) -> Iterator[None]:
    """Using a credential that is being rotated ourselves. It is written down before and after, so that it is taken for nobody
    else's use, also where somebody is killed in between.
    """

    def note(until: timedelta, *, over: bool) -> None:
        now = max(begun, whole_second(office.tenants.now(mark.tenant)))  # its clock is read more exactly with each answer
        office.books.writable_ledger().append(
            [
                Fresh(
                    STAGED,
                    stream,
                    {
                        **mark.body(),
                        "generation": number,
                        "of": key,
                        "stage": Asked.OURS,
                        "at": format_instant(begun),
                        "until": format_instant(now + until),
                        "over": over,
                    },
                )
            ]
        )

    begun = whole_second(office.tenants.now(mark.tenant))
    note(LONGEST_USE, over=False)
    office.settings.boundary("our own use written")
    yield
    note(timedelta(seconds=1), over=True)


def trying_ours(
    office: Office, state: History, charter: Charter, credential: CredentialWant | None
) -> AbstractContextManager[None]:
    """The same for proofs, where the credential that they use is being rotated."""
    mark = Mark("credential", charter.tenant, (("name", credential.name),)) if credential is not None else None
    turn = state.turns.get(mark) if mark is not None else None
    if mark is None or turn is None:
        return nullcontext()
    return ours(office, state.charter, mark, turn.new if turn.given else turn.old, turn.key)
