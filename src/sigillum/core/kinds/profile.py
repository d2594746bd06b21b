"""What a tenant says of itself: how its permissions are used, its limits, which kinds and fields it carries."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from sigillum.core.values.canonical import fitted

from .access import HERE_AND_BELOW
from .kind import Kind

GRANT_NAME = "grant"
PROGRAM, PERSON = "program", "person"
SEALED, ONCE = "sealed", "once"  # a way in which secrets are delivered


class Operation(NamedTuple):
    """How a permission is used through a tenant's working interface."""

    permission: str
    class_: str
    method: str
    template: str
    service: str = ""  # must be switched on at the place or above
    located: bool = False  # principal and place must have one location
    needs: tuple[str, ...] = ()  # permission@kind, at the nearest enclosing place of that kind
    api: str = ""  # a client needs consent to this scope of that API
    licence: str = ""  # the principal has to hold it
    takes: tuple[str, ...] = ()  # kinds of credential, `trust`, `delegation`, `signing`: how one may have signed in; none: all
    checked: str = ""  # the day on which that was looked at last
    at: tuple[str, ...] = ()  # the kinds of place at which it means something; none: all

    def means(self, kind: str) -> bool:
        """Does it mean something at a place of this kind?"""
        return not self.at or kind in self.at


class Precondition(NamedTuple):
    """What has to be so before a kind of thing can be made at all: a verified organisation, an owner, a native account."""

    what: str
    kinds: tuple[str, ...]  # of ours; none: whatever is made
    met: bool
    about: str = ""


class Price(NamedTuple):
    """What a service or a licence costs, in the tenant's own words; `checked`: the day on which that was looked at last."""

    of: str
    price: str
    size: str = ""
    free_in: tuple[str, ...] = ()  # locations
    checked: str = ""


@dataclass(frozen=True, slots=True)
class Profile:
    """What a tenant says of itself. None: it does not say. `carries`: the fields that it has of each kind, by its name."""

    name: str = ""
    title: str = ""
    stage: str = ""
    issuer: str = ""
    decisions: str = ""
    work: str = ""
    store: str = ""  # of a secret store: where secrets are read, written and destroyed
    external_id_unique: bool | None = None
    mark_form: tuple[str, int] | None = None  # of our mark there: its alphabet and length; none: the usual form
    names_within_area: bool = False  # an account's name is taken within its area alone
    grant_grain: int = 1  # seconds: an end of a grant falls onto whole ones of these
    born_inactive: bool | None = None
    secret_delivery: str = ""  # sealed, once; nothing where it makes no secrets, or a person tells them
    last_used: str = ""  # second, day or none: how exactly it tells when a credential was used last
    assertion_seconds: int | None = None
    token_seconds: int | None = None
    keys_per_principal: int | None = None
    outliving: frozenset[str] = frozenset()  # kinds of credential that it takes until their own end, whatever is ended
    singles: frozenset[str] = frozenset()  # kinds of credential of which a principal has one
    ended_count: bool = False  # credentials that ended by themselves count among these
    replaces: bool = False  # a password takes the place of the one before it in one request
    repeated_keys: bool = False  # a principal's public key can be registered once more
    credential_seconds: int | None = None
    credential_grain: int = 1  # seconds: an end of a credential falls onto whole ones of these
    arrival_seconds: int | None = None
    answer_items: int | None = None
    felt_seconds: int | None = None
    windows_on_broad: bool = True
    windows_on_everyone: bool = True
    prices: tuple[Price, ...] = ()
    locations: tuple[str, ...] = ()  # in a row, neighbours beside each other
    addresses: str = ""  # the domain of the addresses that its accounts have; nothing: they have none
    directory: tuple[str, ...] = ()  # permissions to look after the directory itself, which let nobody act for people
    signer: str = ""  # where it signs for an identity that has no key; nothing: it does not
    signing: tuple[str, ...] = ()  # the permissions that this takes, over the identity itself
    acting: str = ""  # the permission by which one acts as a principal; nothing: nobody can, or it does not say
    accounts_live_in: str = ""  # kind of place in which an account lives, unless it is installation-wide
    accounts_drafted: bool = False  # an account is born inactive, and takes roles after it was switched on
    made_by_identity: frozenset[str] = frozenset()  # kinds of credential that an identity makes itself, signed in by password
    placed: frozenset[str] = frozenset()  # kinds of credential of which each is for one place alone
    limits_compulsory: bool = False  # an API token must be narrowed
    credential_kinds: tuple[str, ...] = ()  # none said: whichever
    assertion_algorithms: tuple[str, ...] = ()  # by which an assertion may be signed; none said: whichever
    organisations: tuple[str, ...] = ()  # issuers whose clients can be foreign principals here
    operations: Mapping[str, Operation] = field(default_factory=dict)
    administrator: str = ""
    powers: frozenset[str] | None = None
    carries: Mapping[str, frozenset[str]] = field(default_factory=dict)
    says_limits: bool = False  # it has a profile of its own
    preconditions: tuple[Precondition, ...] = ()
    warnings: tuple[str, ...] = ()  # worth knowing of its facts: old ones
    tokens_die_with: frozenset[str] = frozenset()  # kinds of credential with whose end their tokens end, too
    grants_reach: str = HERE_AND_BELOW  # where a grant counts, seen from its place: one of REACHES
    reach_chosen: bool = False  # of each grant it can be said where it counts
    all_roles: bool = True  # it shows what each of its roles allows: one that it does not show allows nothing
    unmarked: frozenset[str] = frozenset()  # kinds that have no place for our mark: ours are told by journal and name alone
    unshown: frozenset[str] = frozenset()  # kinds that are ended there, and cannot be looked up: an end is answered, not seen
    late_seconds: Mapping[str, int] = field(default_factory=dict)  # by kind: so late a write can arrive that was given up
    levels: bool = False  # a principal has one role at a place: another one takes its place
    confirmed_by: str = PROGRAM  # who says that a change was made

    def marked(self, mark: str) -> str:
        """A mark of ours in the form that it has there."""
        return fitted(mark, *self.mark_form) if self.mark_form is not None else mark

    @property
    def proves(self) -> bool:
        """Can anything be tried there, or asked?"""
        return bool(self.decisions or self.work)

    def takes(self, issuer: str) -> bool:
        """Can an identity of that issuer be a foreign principal here?"""
        return issuer in self.organisations

    def most(self, kind: str) -> int | None:
        """How many credentials may stand beside each other, one of this kind among them; None: it does not say."""
        return 1 if kind in self.singles else self.keys_per_principal

    @property
    def ends_grants(self) -> bool:
        """Does a grant end there by itself? Where it does not, Sigillum ends it."""
        fields = self.carries.get(GRANT_NAME)
        return fields is None or "until" in fields

    def carried(self, kind: Kind[Any]) -> frozenset[str] | None:
        """The fields that it has of a kind; None: it has no such kind."""
        return self.carries.get(kind.name)
