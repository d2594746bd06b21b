"""Access tokens of an identity: by a credential, its tenant's signature, a delegation, or for a token from outside."""

from __future__ import annotations

from typing import NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.federation.assertions import NoTokenError, read
from sigillum.core.kinds.trusting import TRUST
from sigillum.core.values.errors import RefusedError, SomebodyError, UsageError
from sigillum.core.values.secret import Secret
from sigillum.tenants.port import Proof, SignedIn
from sigillum.workflows.desk.office import Office

from .assertions import mint, own_key
from .claims import try_trusts


class Got(NamedTuple):
    """An access token of a charter's identity, and how it was got."""

    charter: Charter
    signed_in: SignedIn
    how: str


def fetch(office: Office, charter_name: str, credential: str = "", token: str = "", person: str = "", scope: str = "") -> Got:
    """With a credential that is kept here, or with what its tenant signs; by a delegation for one `person` and `scope`.

    Raises UsageError, SomebodyError, RefusedError, UnreachableError.
    """
    from sigillum.workflows.proving.trials import Trying, choose, principal_of, sign_in

    charter = office.charters([charter_name])[0]
    if person:
        return _for_person(office, charter, credential, person, scope)
    if charter.signing is not None and not credential:
        made = mint(office, charter_name, token=token)
        proof = Proof(str(made.claims["sub"]), assertion=made.signed())
        return Got(charter, office.tenants.reach(charter.tenant).sign_in(proof), made.how)
    uid, state = office.books.history(charter.name)
    want, tenant = choose(charter, credential), office.tenants.reach(charter.tenant)
    if want is None:
        raise SomebodyError(
            f"no credential of {charter.name} is kept here",
            where=charter.name,
            mend="exchange a token from outside for one, if a trust lets it in: `token swap`",
        )
    trying = Trying(office, charter, tenant, state, office.keepings.of(uid), principal_of(office, charter, state), want, {}, {})
    return Got(charter, *sign_in(trying))


def _for_person(office: Office, charter: Charter, credential: str, person: str, scope: str) -> Got:
    """A token for one person and one scope, as a delegation allows it."""
    if charter.delegation is None:
        raise UsageError(f"{charter.name} acts for nobody", where=charter.name, mend="a charter's `delegation:` lets it")
    proof, _ = own_key(office, charter, credential)
    try:
        signed_in = office.tenants.reach(charter.tenant).sign_in(proof._replace(person=person, scope=scope))
    except RefusedError as problem:
        raise RefusedError(
            problem.what,
            where=charter.tenant,
            mend=f"`sigillum prove {charter.name}` tells no-delegation, "
            "scope-not-delegated, person-unknown and person-outside apart",
        ) from problem
    return Got(charter, signed_in, f"its delegation, for {person} and {scope}")


def swap(office: Office, charter_name: str, text: str, only: str = "", actor: str = "") -> Got:
    """For a token from outside that one of the charter's trusts lets in. `actor`: the access token of who acts with it.

    Raises UsageError, SomebodyError, RefusedError.
    """
    tried = try_trusts(office, text, charter_name, only)
    if not tried.token:
        raise NoTokenError("these are claims, and no token", where="token swap", mend="give the token itself")
    charter, (_, state) = tried.charter, office.books.history(charter_name)
    if not tried.matching or len(tried.matching) > 1:
        names = ", ".join(t.trust.name for t in tried.matching)
        raise SomebodyError(
            f"it matches {names}" if names else f"it matches no trust of {charter.name}",
            where=charter.name,
            mend="name one with --trust" if names else "`trust try` shows which condition does not hold",
        )
    trust, principal = tried.matching[0].trust, state.principal_id(charter.tenant)
    made = state.find(TRUST, charter.tenant, name=trust.name)
    if not principal or made is None or not made.id:
        raise SomebodyError(
            f"the trust {trust.name} of {charter.name} was not made yet",
            where=charter.tenant,
            mend=f"run `sigillum enact {charter.name}` first",
        )
    tenant = office.tenants.reach(charter.tenant)
    by = Secret(actor.strip()) if actor else None
    signed_in = tenant.sign_in(Proof(principal, assertion=Secret(text.strip()), trust=made.id, actor=by))
    who = _actor(signed_in.token.reveal()) if actor else ""
    if actor and not who:
        raise RefusedError(
            "what the tenant gave names nobody who acts, and was dropped",
            where=charter.tenant,
            mend="ask the tenant's operator whether it takes actor tokens (RFC 8693 §4.1)",
        )
    return Got(charter, signed_in, f"the trust {trust.name}{f', with {who} acting' if who else ''}")


def _actor(token: str) -> str:
    """Whom an access token names as acting; empty where it names nobody, or is not to be read."""
    try:
        act = read(token).claims.get("act")
    except NoTokenError:
        return ""
    return str(act.get("sub", "")) if isinstance(act, dict) else ""
