"""Assertions of an identity: what one will say is shown before it is signed, here or by its tenant."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from functools import partial
from typing import Any, NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.federation.assertions import read
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import RefusedError, SomebodyError, UsageError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.core.values.times import rough_duration
from sigillum.protocols.oauth import USUAL_ASSERTION_SECONDS, dated, encoded
from sigillum.tenants.port import Proof, RightMissingError, SignedIn, Signing, Tenant, now_at
from sigillum.workflows.desk.office import Office


class Minted(NamedTuple):
    """An assertion before it is signed: what it will say, just so, and what it is signed with. `by_tenant`: the header is made
    where it is signed.
    """

    charter: Charter
    header: Mapping[str, Any]
    claims: Mapping[str, Any]
    sign: Callable[[Mapping[str, Any], Mapping[str, Any]], Secret]
    how: str
    by_tenant: bool = False

    def signed(self) -> Secret:
        """Raises MachineError, RefusedError."""
        return self.sign(self.header, self.claims)


def mint(
    office: Office,
    charter_name: str,
    credential: str = "",
    audience: str = "",
    lives_seconds: int | None = None,
    token: str = "",
) -> Minted:
    """An assertion that a charter's identity signs for itself (RFC 7523 §3), or that its tenant signs for it.

    `token`: one that the identity got where it is attached. Raises UsageError, SomebodyError.
    """
    from sigillum.workflows.proving.trials import principal_of

    charter = office.charters([charter_name])[0]
    tenant = office.tenants.reach(charter.tenant)
    if charter.signing is not None and not credential:
        principal = principal_of(office, charter, office.books.history(charter.name)[1])
        return _by_tenant(tenant, charter, principal, audience, lives_seconds, token)
    proof, how = own_key(office, charter, credential)
    life = _life(tenant, lives_seconds)
    assert proof.key is not None
    named = {"x5t#S256": proof.certificate} if proof.certificate else {"kid": thumbprint(proof.key)}
    claims = _asserting(tenant, proof.client_id or proof.principal, audience, life)
    return Minted(charter, {"alg": proof.algorithm, "typ": "JWT", **named}, claims, partial(encoded, proof.key), how)


def own_key(office: Office, charter: Charter, credential: str) -> tuple[Proof, str]:
    """A key of a charter that is kept here, and which it is. Raises UsageError, SomebodyError where there is none."""
    from sigillum.workflows.proving.trials import choose, principal_of, proof_of

    uid, state = office.books.history(charter.name)
    want, keys = choose(charter, credential), office.keepings.of(uid)
    made = state.find(CREDENTIAL, charter.tenant, name=want.name) if want is not None else None
    if want is None or not want.is_a.signs or made is None or not keys.path(want.name, made.number).exists():
        raise SomebodyError(
            f"no key of {charter.name} is kept here that could sign",
            where=charter.name,
            mend="a key pair or a certificate's key signs; enact it first, or name another credential",
        )
    return proof_of(keys, want, made.number, principal_of(office, charter, state)), f"{want.name}, generation {made.number}"


def _life(tenant: Tenant, seconds: int | None) -> int:
    """How long it lives. Raises UsageError where the tenant takes none that lives so long."""
    most = tenant.profile.assertion_seconds
    life = seconds or min(USUAL_ASSERTION_SECONDS, most or USUAL_ASSERTION_SECONDS)
    if most is not None and life > most:
        raise UsageError(
            f"it would live {rough_duration(life)}, and {tenant.address.name} takes {rough_duration(most)} at most, as its "
            "profile says",
            where="--lives",
            mend=f"say {most}s or less",
        )
    return life


def _asserting(tenant: Tenant, subject: str, audience: str, life: int) -> dict[str, Any]:
    now = now_at(tenant, datetime.now(UTC))
    return dated({"iss": subject, "sub": subject, "aud": audience or tenant.profile.issuer}, now, life)


def _by_tenant(tenant: Tenant, charter: Charter, principal: str, audience: str, seconds: int | None, token: str) -> Minted:
    """Its tenant signs: asked with the identity's own token, or by the administrator. Raises UsageError, SomebodyError."""
    if not isinstance(tenant, Signing) or not tenant.profile.signer or not principal:
        raise SomebodyError(
            f"{charter.tenant} signs for nobody called {charter.identity.name} yet",
            where=charter.tenant,
            mend=f"run `sigillum enact {charter.name}` first",
        )
    whose = str(read(token).claims.get("sub") or "") if token.count(".") == 2 else principal
    if whose != principal:
        raise UsageError(
            f"that token is of {plain(whose)}, not of {charter.identity.name}",
            where="--with-token",
            mend=f"give the one that {charter.identity.name} got where it is attached",
        )
    by = SignedIn(Secret(token.strip()), principal, "with its own token") if token else None
    who = charter.identity.name if token else tenant.profile.administrator or tenant.address.admin

    def sign(header: Mapping[str, Any], claims: Mapping[str, Any]) -> Secret:
        try:
            made = tenant.sign_for(principal, claims, by)
        except RightMissingError as problem:
            needs = ", ".join(tenant.profile.signing) or "rights over it"
            raise RefusedError(
                problem.what,
                where=charter.tenant,
                mend=f"{who} needs {needs} over {charter.identity.name}; "
                f"`sigillum explain {who} {next(iter(tenant.profile.signing), 'PERMISSION')} "
                f"@{charter.identity.name} --tenant {charter.tenant}` says which is missing",
            ) from problem
        if dict(read(made.reveal()).claims) != dict(claims):
            raise RefusedError(
                "what it signed is not what was shown, and was dropped", where=charter.tenant, mend="ask the tenant's operator"
            )
        return made

    return Minted(
        charter,
        {},
        _asserting(tenant, principal, audience, _life(tenant, seconds)),
        sign,
        f"the signing service of {charter.tenant}, asked by {who}",
        by_tenant=True,
    )
