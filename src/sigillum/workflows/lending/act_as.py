"""Acting as somebody else for a while: the right to, lent where it is missing, and a token that names who acts."""

from __future__ import annotations

from contextlib import suppress
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from sigillum.core.kinds.access import ROLE, Role
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.undertakings.loans import Loan
from sigillum.core.values.errors import RefusedError, SigillumError, SomebodyError, UsageError
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import format_instant, whole_second
from sigillum.protocols.oauth import OAuthRefusedError
from sigillum.tenants.port import Acting, SignedIn, Tenant
from sigillum.workflows.desk import lookup
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office, nothing
from sigillum.workflows.enacting.carrying.ports import Patience
from sigillum.workflows.tokens.programs import USUAL_LIFE_SECONDS, Given

from .lend import LoanWish, lend, propose, want_back

NEVER_KNOWN_SECONDS = 60.0  # so long a right may take to be felt where the tenant does not say
DENIED = "access_denied"


class ActingWish(NamedTuple):
    """As whom, each by the one before; and whether the right is lent where it is missing, for how long, and why."""

    chain: tuple[str, ...]
    tenant: str = ""
    lend_seconds: int = 0
    because: str = ""


class Acted(NamedTuple):
    """A token of the last of a chain of names, of which the first is who acts."""

    tenant: Tenant
    chain: tuple[str, ...]
    signed_in: SignedIn
    until: datetime
    loan: Loan | None = None

    @property
    def words(self) -> str:
        """The first line of what is printed."""
        lent = f", by {self.loan.uid}" if self.loan is not None else ""
        through = f", through {', '.join(self.chain[1:-1])}" if len(self.chain) > 2 else ""
        return (
            f"acting as {self.chain[-1]} of {self.tenant.address.name} until {format_instant(self.until)}, "
            f"as {self.chain[0]}{through}{lent}"
        )

    def given(self) -> Given:
        """What a program needs for it."""
        token = self.signed_in.token
        life = self.signed_in.lives_seconds or USUAL_LIFE_SECONDS
        return Given(
            self.chain[-1],
            {"TOKEN": token, "HEADER": Secret(f"Authorization: {self.signed_in.header()}")},
            {"TENANT": self.tenant.address.address},
            max(life * 2 / 3, 1.0),
        )


def act(office: Office, wish: ActingWish) -> Acted:
    """Raises UsageError, SomebodyError, RefusedError where the right is missing and not lent."""
    subjects = [lookup.subject(office, who, wish.tenant) for who in wish.chain]
    tenant = subjects[0].tenant
    if any(s.tenant is not tenant or s.record.kind is not ACCOUNT for s in subjects):
        raise UsageError("only accounts of one tenant are acted as", where="--as", mend="name accounts, and --tenant")
    if not isinstance(tenant, Acting) or not tenant.profile.acting:
        raise UsageError(
            f"at {tenant.address.name} nobody acts as somebody else",
            where="--as",
            mend="sign in with a credential of it, or with a trust",
        )
    actor = tenant.profile.administrator or tenant.address.admin
    signed_in, loan, names = None, None, [str(s.record.value("name")) for s in subjects]
    try:
        for number, subject in enumerate(subjects):
            try:
                signed_in = tenant.act_as(subject.record.id, signed_in)
            except OAuthRefusedError as problem:
                if problem.error != DENIED:
                    raise
                before = names[number - 1] if number else actor
                if number or not wish.lend_seconds:
                    raise _missing(tenant, before, names[number], lendable=not number) from problem
                loan = _lent(office, tenant, actor, names[0], wish)
                signed_in = _felt(office, tenant, subject.record.id)
    except BaseException:
        _returned(office, loan)  # nobody acts, so nothing stays lent for it
        raise
    assert signed_in is not None
    life = signed_in.lives_seconds or tenant.profile.token_seconds or USUAL_LIFE_SECONDS
    until = whole_second(office.tenants.now(tenant.address.name)) + timedelta(seconds=life)
    return Acted(tenant, (actor, *names), signed_in, until, loan)


def _missing(tenant: Tenant, actor: str, name: str, *, lendable: bool) -> RefusedError:
    where = tenant.address.name
    more = "; --lend 10m --because WHY lends it that right" if lendable else ""
    return RefusedError(
        f"{actor} may not act as {name}",
        where=where,
        mend=f"`sigillum explain {actor} {tenant.profile.acting} @{name} --tenant {where}` says why{more}",
    )


def _lent(office: Office, tenant: Tenant, actor: str, name: str, wish: ActingWish) -> Loan:
    """The right to act, for a while: with an end that lies in the tenant, or not at all. Raises UsageError, ..."""
    where = tenant.address.name
    if not tenant.profile.ends_grants:
        raise UsageError(
            f"{where} ends no right by itself, so nobody could promise that this one ends",
            where="--lend",
            mend="have the right granted by a charter, and ended by it",
        )
    try:
        lookup.principal(tenant, actor)
    except lookup.NobodyError as problem:
        raise SomebodyError(
            f"{actor} is an administrator of {where}, and nobody in its directory: no role can be lent to it",
            where=where,
            mend="act with an administrator who has an account there",
        ) from problem
    proposal = propose(office, LoanWish(_role(tenant), f"@{name}", actor, wish.because, wish.lend_seconds, None, where))
    refused = next((o for o in proposal.objections if o.refuse), None)
    if refused is not None:
        raise UsageError(refused.what, where="--lend", mend=refused.mend)
    loan, results = lend(office, proposal)
    failed = next((r.error for r in results if r.error is not None), None)
    if failed is not None:
        raise failed
    return loan


def _role(tenant: Tenant) -> str:
    """The narrowest role by which one acts as a principal. Raises SomebodyError."""
    query = Query[Role](ROLE, "all")
    found: list[Record[Any]] = [
        r for r in tenant.facts([query])[query].records if any(p == tenant.profile.acting for p, _ in r.body.permissions)
    ]
    if not found:
        raise SomebodyError(
            f"no role of {tenant.address.name} lets anybody act as somebody else",
            where=tenant.address.name,
            mend=f"ask its owner for one with {tenant.profile.acting}",
        )
    return str(min(found, key=lambda r: (len(r.body.permissions), r.body.name)).body.name)


def _felt(office: Office, tenant: Tenant, principal: str) -> SignedIn:
    """As soon as the tenant feels the right that was lent. Raises RefusedError."""
    assert isinstance(tenant, Acting)
    settings, last = office.settings, list[RefusedError]()
    most = tenant.profile.felt_seconds if tenant.profile.felt_seconds is not None else NEVER_KNOWN_SECONDS

    def look() -> SignedIn | None:
        try:
            return tenant.act_as(principal)
        except RefusedError as problem:
            last.append(problem)
            return None

    patience = Patience(settings.timeout_seconds, settings.wait_seconds, settings.pause, nothing, settings.go_on)
    found, _ = patience.until(look, most + settings.timeout_seconds, lambda waited: "")
    if found is None:
        raise last[-1]
    return found  # type: ignore[no-any-return]


def give_back(office: Office, acted: Acted) -> None:
    """End the loan early; where that fails, its end lies in the tenant."""
    _returned(office, acted.loan)


def _returned(office: Office, loan: Loan | None) -> None:
    if loan is not None:
        with suppress(SigillumError), office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
            want_back(office, loan, [])
