"""What every driver has to stand: a tenant that falls silent, never ends, or says our secrets back."""

from __future__ import annotations

import socket
import threading
from collections.abc import Callable
from contextlib import suppress

from sigillum.core.kinds.changes import Make
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Fact
from sigillum.core.values.errors import SigillumError
from sigillum.tenants.port import Result, Tenant

from .party import NotHereError, Party, Reached, ask


class Between:
    """Passes on what a client and a server say to each other, until it is told otherwise.

    `silent`: nothing is passed on any more. `flood`: what the server says has no end. `instead`: bytes that the server says,
    and others, equally many, that arrive.
    """

    def __init__(self, to: int) -> None:
        self._to, self.silent, self.flood, self.instead = to, False, False, (b"", b"")
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.port = int(self._listening.getsockname()[1])
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            client, _ = self._listening.accept()
            server = socket.create_connection(("127.0.0.1", self._to))
            threading.Thread(target=self._pass, args=(client, server), daemon=True).start()
            threading.Thread(target=self._pass, args=(server, client), kwargs={"said": True}, daemon=True).start()

    def _pass(self, source: socket.socket, target: socket.socket, *, said: bool = False) -> None:
        with suppress(OSError):  # the other direction has ended, and closed both
            while data := source.recv(65_536):
                if said and self.instead[0]:
                    data = data.replace(*self.instead)
                if not self.silent:
                    target.sendall(data)
                while said and self.flood:
                    target.sendall(b"x" * 65_536)
        with suppress(OSError):
            source.close()
            target.close()


def between(party: Party) -> tuple[Between, Tenant]:
    """Something that stands between a party's driver and its tenant. Raises NotHereError."""
    if not isinstance(party, Reached):
        raise NotHereError("its tenant is not reached over TCP")
    made = Between(party.port)
    return made, party.through(made.port)


def ends(act: Callable[[], object]) -> BaseException | object:
    """What an act gave or raised; it has to end by itself."""
    out = list[BaseException | object]()

    def run() -> None:
        try:
            out.append(act())
        except SigillumError as problem:
            out.append(problem)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    thread.join(60)
    assert not thread.is_alive(), "it does not come to its end"
    assert out, "and nothing but an error of ours comes out of it"
    return out[0]


def check_silence_is_left(party: Party) -> None:
    """Where the tenant says nothing any more, a look ends with an error, and a change is told as lost."""
    stands, tenant = between(party)
    assert ask(tenant, ACCOUNT, "name", "kit-0").known
    stands.silent = True
    looked = ends(lambda: ask(tenant, ACCOUNT, "name", "kit-0"))
    assert isinstance(looked, SigillumError) or not getattr(looked, "known", True), f"nothing is known then: {looked}"
    made = ends(lambda: tenant.make(Make(ACCOUNT, party.account("kit-1")), tenant.profile.marked("mark-1")))
    assert isinstance(made, SigillumError) or getattr(made, "result", None) in (Result.LOST, Result.UNSENT), made


def check_a_flood_is_bounded(party: Party) -> None:
    """Where an answer has no end, it is given up."""
    stands, tenant = between(party)
    assert ask(tenant, ACCOUNT, "name", "kit-0").known
    stands.flood = True
    looked = ends(lambda: ask(tenant, ACCOUNT, "name", "kit-0"))
    stands.flood = False
    assert isinstance(looked, (SigillumError, Fact)), looked


def check_what_is_said_back_is_masked(party: Party) -> None:
    """A secret of ours that the tenant says back in a text of its own is shown to nobody."""
    secret, tenant = party.secrets()[0], party.connect()
    part = {**party.account("kit-1"), "display": "x" * len(secret)}
    tenant.make(Make(ACCOUNT, part), tenant.profile.marked("mark-1"))
    stands, listening = between(party)
    stands.instead = (str(part["display"]).encode(), secret.encode())
    fact = ask(listening, ACCOUNT, "name", "kit-1")
    assert fact.records, "it is there"
    if "display" not in (listening.profile.carried(ACCOUNT) or ()):
        raise NotHereError("its accounts have no name to show")
    assert secret not in repr(fact), "a secret stands in a fact"
    assert fact.records[0].value("display") != part["display"], "and it was said back"
