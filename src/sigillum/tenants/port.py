"""What every driver offers: facts, exactly one change at a time, a token, a question, a trial."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol, runtime_checkable

from sigillum.core.deciding.proofs import Trial
from sigillum.core.kinds.changes import Change, End, Entry, Make
from sigillum.core.kinds.kind import Fact, Kind, Query, Record
from sigillum.core.kinds.profile import Operation, Profile
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import ClockReading
from sigillum.keeping.port import Vault

if TYPE_CHECKING:
    from sigillum.core.deciding.values import Question


OWN = "registration/"  # ids of credentials that a dynamic client registration holds begin so


class RightMissingError(RefusedError):
    """It knows who asks, and that one lacks a right."""

    code = "right-missing"


class Result(StrEnum):
    """What became of one request that changes something."""

    DONE = "done"
    EXISTS = "exists"  # 409 uniqueness: made before, or the name is somebody else's
    STALE = "stale"  # the version it named is no longer the newest
    MISSING = "missing"  # the thing is not there
    REFUSED = "refused"
    BUSY = "busy"  # not done, and to be tried again later
    LOST = "lost"  # sent, and the answer is not known
    UNSENT = "unsent"  # never reached the tenant


class Reply(NamedTuple):
    """The outcome of one request; `record` as the tenant answered it, `secret` where it handed one out."""

    result: Result
    record: Record[Any] | None = None
    detail: str = ""
    wait_seconds: float | None = None
    secret: Secret | None = None
    error: Exception | None = None
    confirmed: str = ""  # who confirmed it, where a person did it
    seen: bool = True  # of an end: False where no look will ever show it


def refused(what: str, where: str, mend: str = "describe it there, or have it done by hand") -> Reply:
    """The reply to what was not sent, since it cannot be."""
    error = RefusedError(what, where=where, mend=mend)
    return Reply(Result.REFUSED, detail=what, error=error)


class Address(NamedTuple):
    """One tenant as the workspace knows it. `ca` names a file of trusted authorities."""

    name: str
    address: str
    stage: str = ""
    admin: str = ""
    driver: str = "open"
    issuer: str = ""
    ca: str = ""
    follow_its_clock: bool = False
    facts: str = ""  # of a tenant by hand: the folder of its facts
    dialect: str = ""  # of a tenant of that driver: the file that describes its interface
    auth: str = ""  # of a database server: how it may ask for a password, where not by SCRAM
    dialect_digest: str = ""  # of a description that comes with the tool: of the text that was agreed to
    origins: tuple[str, ...] = ()  # addresses beside its own and its issuer's to which something may be sent

    @property
    def trusted(self) -> list[str]:
        """The addresses to whose origins tokens and assertions may go: what a person wrote, and nothing that it announces."""
        return [a for a in (self.address, self.issuer, *self.origins) if a]


class Proof(NamedTuple):
    """What an identity signs in with: its principal id and a private JWK, or a token that is a secret.

    A client presents its `client_id`, with a key or with a `secret`.
    """

    principal: str
    key: Mapping[str, Any] | None = None
    algorithm: str = "Ed25519"
    token: Secret | None = None
    client_id: str = ""
    secret: Secret | None = None
    account: str = ""  # the account's name, with `secret` as its password
    certificate: str = ""  # with a key: the `x5t#S256` of the certificate over it, which the assertion names
    der: str = ""  # that certificate itself, base64
    credential: str = ""  # its id there
    place: str = ""  # where it is for one place alone: for which
    person: str = ""  # for whom it acts by a delegation, by the name there, for one `scope` (RFC 6749 §3.3)
    scope: str = ""
    trust: str = ""  # the id of a trust, by which `assertion` is exchanged
    actor: Secret | None = None  # beside a trust: the access token of who acts (RFC 8693 §2.1)
    assertion: Secret | None = None  # of a foreign principal: a token of its home, made for this tenant


class SignedIn(NamedTuple):
    """A fresh sign-in: the token, and as whom the tenant says it runs."""

    token: Secret
    principal: str
    said: str
    scheme: str = "Bearer"  # how the token is presented (RFC 6750), or "Basic" for a name and password (RFC 7617)
    lives_seconds: int | None = None  # where the answer told it
    credential: str = ""  # with which one, where what is presented names it, too

    def header(self) -> str:
        """The value of `Authorization`."""
        return f"{self.scheme} {self.token.reveal()}"


class Looking(Protocol):
    """Looking. Every method may raise UnreachableError; looking up what may not be seen gives unknown facts."""

    address: Address
    profile: Profile
    clock: ClockReading | None
    known_seconds: float  # how old is what is known of its interface

    def say(self, text: str) -> None:
        """Something that the administrator should know, beside the result."""
        ...

    def facts(self, queries: Iterable[Query[Any]]) -> dict[Query[Any], Fact[Any]]:
        """Answer all queries, with as few requests as it takes."""
        ...

    def read(self, kind: Kind[Any], identity: str) -> Record[Any] | None:
        """The thing as look-ups show it now, None where they show none. Raises RefusedError."""
        ...


class Changes(Protocol):
    """Changing: each method is exactly one request."""

    def make(self, make: Make, mark: str) -> Reply:
        """`mark`: the externalId to write."""
        ...

    def change(self, change: Change) -> Reply:
        """Where it names a version, it fails if the thing has changed since."""
        ...

    def enter(self, entry: Entry) -> Reply:
        """Put one value into a list, with what stands beside it, or take it out; doing it twice is the same as once."""
        ...

    def end(self, end: End) -> Reply:
        """Remove one thing."""
        ...

    def fetch_secret(self, identity: str) -> Reply:
        """The secret that the tenant made for a credential."""
        ...


class Foreseen(NamedTuple):
    """A making that is ready to be sent: `send` writes just what was looked at, and the document looks like `digest` then."""

    digest: str
    send: Callable[[], Reply]


@runtime_checkable
class Foreseeing(Protocol):
    """What can say how the document looks in which a thing is one entry among others', as a digest."""

    def foresee(self, make: Make, mark: str) -> Foreseen | None:
        """Once this has arrived; None where it is no entry, or the document is not shown."""
        ...

    def looks(self, kind: Kind[Any], identity: str) -> str:
        """Now; empty where it is not shown."""
        ...


@runtime_checkable
class Owning(Protocol):
    """Where an identity may own things, with which it cannot end."""

    def holdings(self, identity: str) -> tuple[str, ...]:
        """What keeps an account from being ended, in words: objects that it owns, and what hangs on it elsewhere."""
        ...


@runtime_checkable
class Revoking(Protocol):
    """What can end a token before its time."""

    def revoke(self, token: Secret) -> None:
        """As the administrator; whether it is ended shows when it is presented. Raises RefusedError, UnreachableError."""
        ...


@runtime_checkable
class Acting(Protocol):
    """Where one principal may act as another."""

    def act_as(self, principal: str, by: SignedIn | None = None) -> SignedIn:
        """A token of the principal; who acts is the administrator, or who signed in. Raises RefusedError."""
        ...


@runtime_checkable
class Signing(Protocol):
    """Where the tenant signs for an identity that has no key."""

    def sign_for(self, principal: str, claims: Mapping[str, Any], by: SignedIn | None = None) -> Secret:
        """An assertion with just these claims; who asks is the administrator, or who signed in.

        Raises RightMissingError, RefusedError.
        """
        ...


class SignIns(Protocol):
    """The identity's own side: signing in, and using permissions."""

    def sign_in(self, proof: Proof) -> SignedIn:
        """A new token, never a cached one. Raises RefusedError."""
        ...

    def taken(self, signed_in: SignedIn) -> bool | None:
        """Is what somebody signed in with still taken? None: there is nothing to ask."""
        ...

    def as_administrator(self, principal: str) -> SignedIn:
        """Not signed in as the identity: questions about it are asked by the administrator."""
        ...

    def token_for(self, proof: Proof, issuer: str) -> Secret:
        """A token of a client that proves it at another tenant, whose issuer is named (RFC 8707). Raises RefusedError."""
        ...

    def attempt(self, signed_in: SignedIn, operation: Operation, place: str) -> Trial:
        """Really use a permission. The caller has made sure that it cannot harm."""
        ...

    @property
    def token_endpoint(self) -> str:
        """Where its identities sign in; empty where there is no such place."""
        ...


class Decisions(Protocol):
    """The tenant's own decisions, without doing anything."""

    def ask(self, signed_in: SignedIn, permission: str, place: str, person: str = "") -> Trial:
        """May whoever signed in? `person`: the id of the one on whose behalf a client acts."""
        ...

    def ask_sign_in(self, account: str, context: Mapping[str, Any]) -> Trial:
        """The tenant's own answer to whether an account may sign in like this. Raises RefusedError."""
        ...

    def ask_all(self, questions: Sequence[Question]) -> list[Trial]:
        """The tenant's decisions of now, asked by the administrator; one request for many. Raises RefusedError."""
        ...


class Stores(Protocol):
    """Keeping secrets, where a tenant is a secret store."""

    def store(self, path: str, by: SignedIn | None = None) -> Vault | None:
        """One secret of it, and its generations, as the administrator or as who signed in; None: it is not a store."""
        ...


class Tenant(Looking, Changes, SignIns, Decisions, Stores, Protocol):
    """One tenant, whole: what a driver offers."""


class Clocked(Protocol):
    """What has a clock of its own."""

    @property
    def clock(self) -> ClockReading | None: ...


def now_at(tenant: Clocked, here: datetime) -> datetime:
    """The tenant's time, by its clock reading."""
    return here + (tenant.clock.shift if tenant.clock is not None else timedelta(0))


class Link(NamedTuple):
    """How a driver reaches the outside: the administrator's token, time limit, log, and folder for `ca`."""

    token: Secret
    folder: Path
    timeout_seconds: float = 15.0
    log: Any = None
    say: Any = None
    registrations: Any = None  # what is kept of clients that a tenant registered (RFC 7591)
    register: Any = None  # keeps what such a tenant says anew of one
    confirm: Any = None  # asks a person to confirm a line of a work sheet
    pause: Any = None  # waits so many seconds, and says why; it ends when a person asks to stop
    kept: Any = None  # what was kept of its interface, a JSON object
    keep: Any = None  # keeps that
    keys: Any = None  # gives the public halves of the keys that are kept here, as JWK
