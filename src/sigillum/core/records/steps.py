"""Steps: the changes that enacting would make, in order, and what speaks against them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from types import MappingProxyType
from typing import Any, NamedTuple

from sigillum.core.kinds.changes import Change, Doing, End, Entry, Make
from sigillum.core.kinds.kind import Kind
from sigillum.core.values.asked import AskedWant
from sigillum.core.values.errors import Mistake
from sigillum.core.values.marks import Id, Mark, StepId


class StepKind(StrEnum):
    """What a step does, in the word that is shown."""

    KEEP = "keep"
    MAKE = "make"
    CHANGE = "change"
    END = "end"
    WAIT = "wait"
    PROVE = "prove"
    ASK = "ask"


class KeepKey(NamedTuple):
    """Make a private key here and keep it."""

    credential: str
    generation: int
    algorithm: str
    keep_in: str = "file"


class Certify(NamedTuple):
    """Put a certificate beside a key that is kept: one that the key signs itself, or what the house's CA answered (`der`)."""

    credential: str
    generation: int
    subject: str
    start: str
    until: str
    der: str = ""


class KeepSecret(NamedTuple):
    """Make a password here and keep it, or keep the one that `source` refers to."""

    credential: str
    generation: int
    source: str = ""
    keep_in: str = "file"


class Kept(NamedTuple):
    """A secret that is kept here; it is read when the request is sent, and stands in no step."""

    credential: str
    generation: int


class Adopt(NamedTuple):
    """Write into the ledger that a thing is ours: taken over, or `found` by the externalId of our own intent.

    With `value`: that entry of it, not the thing itself. `terms`: with which it stands, of one that is taken over.
    """

    kind: Kind[Any]
    id: str
    found: bool = False
    value: str = ""
    terms: Mapping[str, Any] = {}


class Catch(NamedTuple):
    """Fetch a secret that only the tenant can make, straight into its keeping place."""

    credential: str
    generation: int
    id: Id
    about: Mapping[str, Any] = MappingProxyType({})  # what is written beside it
    keep_in: str = "file"


class Complete(NamedTuple):
    """Write beside what is kept whose it is, where a kill came between."""

    credential: str
    generation: int
    id: str
    about: Mapping[str, Any] = MappingProxyType({})


class Await(NamedTuple):
    """Wait until look-ups show a thing, for so many seconds at most.

    With `field` until `value` is in that list of it, `only`: and nothing else; `finished`: until the tenant has made it to its
    end.
    """

    kind: Kind[Any]
    id: str
    seconds: int
    field: str = ""
    value: str = ""
    finished: bool = False
    only: bool = False


class Prove(NamedTuple):
    """Try proofs, by their number in the charter; None: all. With `credential` (its name) by that one, else by the first.

    `leaving`: the steps that end something once this has held; it is decided `without` these grants, by their ids.
    """

    proofs: tuple[int, ...] | None = None
    credential: str = ""
    leaving: tuple[StepId, ...] = ()
    without: tuple[str, ...] = ()


class Turning(NamedTuple):
    """Reach a stage of a rotation: what it takes depends on the stage; that it is reached goes into the ledger."""

    stage: str
    rotation: str
    credential: str
    generation: int
    old: int
    how: str = ""  # how it is known, where that was found while deciding


class CertificateRequest(NamedTuple):
    """For which key, and for whom."""

    credential: str
    generation: int
    subject: str


class Ask(NamedTuple):
    """Something that only a person can do: `action` is what another administrator is asked for, `to` who holds the power.

    Without an action there is other `advice`, or another charter is to be enacted first.
    """

    action: Doing | None = None
    to: str = ""
    contact: str = ""
    about: str = ""  # what it is about, without whom it is asked of
    charter_first: str = ""
    advice: str = ""
    stopped: bool = False  # somebody else switched it off
    tells: AskedWant | None = None  # a value that `to` is asked to tell
    request: CertificateRequest | None = None  # what the house's CA is sent


Action = Complete | KeepKey | Certify | KeepSecret | Adopt | Make | Change | Entry | End | Catch | Await | Prove | Ask | Turning
DOING = (Make, Change, Entry, End)


class Need(NamedTuple):
    """A step needs whatever provides something of this type in its tenant; known when all facets have compared."""

    type: type[Any]
    where: Callable[[Any], bool] = lambda provided: True
    tenant: str = ""


class Usual(StrEnum):
    """Reasons that are the same for everybody: they stand in every record, and a rehearsal on a screen leaves them out."""

    ASKED = "the charter asks for it"
    PROVES = "the identity proves itself"
    MADE_HERE = "it is made where it is kept, before the public half is sent"
    SHOWN_ONCE = "only the tenant can make it, and it is shown once"
    KEPT = "it is kept, so it may prove something now"
    PRINCIPAL = "roles and consents go to the principal, never to the client"
    PROVED = "nothing is proven before a probe proved it"


USUAL = frozenset(map(str, Usual))


@dataclass(frozen=True, slots=True)
class Step:
    """One change. `needs` names the steps that must be done before; `power` the administrator's power it takes."""

    id: StepId
    kind: StepKind
    about: str
    action: Action
    needs: tuple[StepId, ...] = ()
    power: str = ""
    why: str = ""
    before: Mapping[str, Any] = field(default_factory=dict)
    after: Mapping[str, Any] = field(default_factory=dict)
    by: str = ""  # the administrator who acts, where it is not the usual one
    unasked: bool = False  # of an end: it was asked for by an option of its own

    @property
    def mark(self) -> Mark:
        return self.id.mark

    @property
    def tenant(self) -> str:
        return self.id.mark.tenant

    @property
    def facet(self) -> str:
        return self.id.mark.facet

    @property
    def generation(self) -> int:
        return self.id.generation

    @property
    def doing(self) -> Doing | None:
        """The change of one thing that it makes, or asks somebody for."""
        action = self.action.action if isinstance(self.action, Ask) else self.action
        return action if isinstance(action, DOING) else None


class Collision(NamedTuple):
    """A thing of the wanted name that Sigillum did not make, side by side with what is wanted."""

    kind: Kind[Any]
    name: str
    id: str
    rows: tuple[tuple[str, Any, Any], ...]  # attribute, wanted, existing
    matches: bool


class Note(NamedTuple):
    """Something worth knowing: a stable code and a sentence; `warning` where it may go wrong; all `names` that it is about,
    where the sentence has the first few.
    """

    code: str
    text: str
    warning: bool = True
    names: tuple[str, ...] = ()


# notes about how something is set up, at any time: worth a look, and no difference from what the charter says
ADVICE = frozenset(
    (
        "account-wide",
        "acts-not-administers",
        "administers-not-acts",
        "all-of-issuer",
        "can-nothing",
        "cost",
        "cost-free",
        "cost-payer",
        "credential-endless",
        "credential-shared",
        "default-account",
        "delegation-all",
        "exemption-open",
        "free-claim",
        "inside-name",
        "lasting-id",
        "later-groups",
        "limits-alone",
        "look-alike",
        "no-subject",
        "narrower-role",
        "number-big",
        "permission-always",
        "permission-wide",
        "prefix-wide",
        "recycled",
        "review-overdue",
        "shared-issuer",
        "subject-wide",
        "switch-misleads",
    )
)
NOT_OFF = "not-off"  # a note: it is to be suspended, and is on
HELD, TURNING = "suspended", "rotating"  # notes: it is suspended; a credential is being rotated
CHANGED = "credential-changed"  # note: of something that is there another hand changed what no step of ours mends
DARK = "not-shown"  # note: a field of something that is there is not shown now, so whether it differs is not known
HIDDEN, NEVER_HERE = "unknown", "never-here"  # notes: something wanted cannot be looked up now; it can never stand there


@dataclass(frozen=True, slots=True)
class Outline:
    """What enacting a charter would do now. Nothing of it is stored."""

    charter: str
    steps: tuple[Step, ...] = ()
    notes: tuple[Note, ...] = ()
    mistakes: tuple[Mistake, ...] = ()
    collisions: tuple[Collision, ...] = ()
    open: tuple[Mistake, ...] = ()  # what a person has to say first

    @property
    def blocked(self) -> bool:
        """Must a person decide or mend something before anything is enacted?"""
        return (
            bool(self.mistakes or self.open)
            or any(not c.matches for c in self.collisions)
            or bool(self.collisions and self.changes)
        )

    def count(self, code: str) -> int:
        """How many notes of this code there are."""
        return sum(1 for n in self.notes if n.code == code)

    @property
    def left(self) -> bool:
        """Is there something wanted that is not known to be so, and of which nothing can be done, now or ever?"""
        return bool(self.count(HIDDEN) or self.count(NEVER_HERE) or self.count(DARK))

    @property
    def changes(self) -> tuple[Step, ...]:
        """The steps that change something, here or there."""
        return tuple(s for s in self.steps if s.kind not in (StepKind.PROVE, StepKind.WAIT))
