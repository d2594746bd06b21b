"""Tokens: what one says, whether it is genuine, and whether it matches a trust."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import Any, NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.federation.assertions import Finding, NoTokenError, Unverified, in_words, look, read
from sigillum.core.federation.trusts import DISCOVERY, Doubt, Match, Trust, about, match
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.kinds.trusting import TRUST
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import FileError, RefusedError, SomebodyError, UsageError
from sigillum.core.values.outside import json_of
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import did_you_mean, plain
from sigillum.core.values.times import rough_duration
from sigillum.protocols.http import Http
from sigillum.protocols.issuers import IssuerKeys, pinned
from sigillum.protocols.oauth import USUAL_ASSERTION_SECONDS, dated, encoded
from sigillum.protocols.tokens import Keys, TokenRefusedError, verify
from sigillum.reading.given import data_of
from sigillum.tenants.port import Proof, Revoking, SignedIn, Signing, Tenant, now_at

from .office import Office

PRESENTED = re.compile(r"[A-Za-z0-9._~+/-]+=*")  # what stands behind Bearer (RFC 6750 §2.1)
MOST_BYTES = 100_000  # of a file that holds a token or claims


@dataclass(frozen=True, slots=True)
class Look:
    """A token as it was read. `verified`: by whose keys; `unverified`: why that was not shown."""

    token: Unverified
    times: Mapping[str, str]
    findings: tuple[Finding, ...]
    verified: str = ""
    unverified: str = ""

    @property
    def good(self) -> bool:
        return not any(f.refuse for f in self.findings)


def look_at(text: str, audience: str = "") -> Look:
    """Read a token as anybody could; nothing shows that it is genuine. Raises NoTokenError."""
    token, now = read(text), datetime.now(UTC)
    return Look(token, in_words(token.claims, now), tuple(look(token, now, audience=audience)),
                unverified="nobody has shown that it is genuine; `--against TENANT` asks its issuer's keys")


def look_against(office: Office, text: str, tenant_name: str, audience: str = "") -> Look:
    """The same by a tenant's time and limits, and verified with the keys of its issuer where the workspace knows that one.

    Raises NoTokenError, UnreachableError.
    """
    token, tenant = read(text), office.tenants.reach(tenant_name)
    now = now_at(tenant, datetime.now(UTC))
    of_its_own = token.claims.get("iss") == token.claims.get("sub")  # the limit is one of assertions (RFC 7523 §3)
    most = tenant.profile.assertion_seconds if of_its_own else None
    findings = tuple(look(token, now, audience=audience, most_seconds=most))
    times, issuer = in_words(token.claims, now), str(token.claims.get("iss") or "")
    known = {tenant.profile.issuer: DISCOVERY, **{s.address: s.keys for s in office.workspace.issuers.values()}}
    if issuer not in known or not issuer:
        return Look(token, times, findings,
                    unverified="its issuer is neither that tenant nor one under `issuers` of sigillum.yaml")
    try:
        verify(text, keys_of(office, issuer, known[issuer]), issuer=issuer, audience=str(_audience(token.claims)), now=now)
    except TokenRefusedError as problem:
        if problem.reason in ("signature", "form", "typ", "numbers"):
            return Look(token, times, (*findings, Finding(problem.reason, problem.what)))
        if problem.reason not in {f.code for f in findings}:
            findings = (*findings, Finding(problem.reason, problem.what))
        return Look(token, times, findings, unverified="what is wrong with it was found before its signature was looked at"
                    if problem.reason.startswith(("alg", "crit")) else "")
    return Look(token, times, findings, verified=issuer)


def _audience(claims: Mapping[str, Any]) -> Any:
    value = claims.get("aud")
    return value[0] if isinstance(value, list) and len(value) == 1 else value


def keys_of(office: Office, issuer: str, keys: str) -> Keys:
    """Where an issuer's keys are: found by itself, or pinned in a file of the workspace."""
    if keys == DISCOVERY:
        settings = office.settings
        return IssuerKeys(Http(origins=[issuer], timeout_seconds=settings.timeout_seconds, log=settings.log), issuer)
    path = keys.removeprefix("file:")

    def read_(anew: bool) -> list[dict[str, Any]]:
        from sigillum.reading.document import read_text
        return pinned(read_text(office.workspace.folder / path, path), path)
    return read_


# --- trusts -------------------------------------------------------------------------------------------------------------
class Tried(NamedTuple):
    """One trust, held against claims; `doubts`: what is too wide about it."""

    trust: Trust
    match: Match
    doubts: tuple[Doubt, ...]


@dataclass(frozen=True, slots=True)
class TrustTrial:
    """Claims against the trusts of a charter. `unverified`: they came as a token, whose signature nobody looked at."""

    charter: Charter
    tried: tuple[Tried, ...]
    findings: tuple[Finding, ...] = ()
    token: bool = False

    @property
    def matching(self) -> tuple[Tried, ...]:
        return tuple(t for t in self.tried if t.match.holds)


def try_trusts(office: Office, text: str, charter_name: str, only: str = "") -> TrustTrial:
    """Hold a token, or claims as JSON, against the trusts of a charter. Raises FileError, UsageError."""
    charter = office.charters([charter_name])[0]
    wants = [w for w in charter.trusts if not only or w.name == only]
    if not wants:
        known = [w.name for w in charter.trusts]
        lacking = f"trust {only!r}" if only else "trusts"
        raise UsageError(f"{charter.name} has no {lacking}", where="trust try",
                         mend=did_you_mean(only, known) or "write some under `trusts`")
    claims, findings, token = _claims(text)
    name = charter.identity.name
    tried = tuple(Tried(w.trust, match(w.trust, claims, name), tuple(about(w.trust, w.issuer))) for w in wants)
    return TrustTrial(charter, tried, findings, token)


def _claims(text: str) -> tuple[Mapping[str, Any], tuple[Finding, ...], bool]:
    """The claims of a token or of a JSON object. Raises FileError."""
    if text.lstrip().startswith("{"):
        try:
            found = json_of(text, once=True)
        except ValueError as problem:
            raise FileError(f"the claims cannot be read: {problem}", where="the claims",
                            mend="write one JSON object") from problem
        return found, (), False
    token = read(text)
    return token.claims, tuple(f for f in look(token, datetime.now(UTC)) if f.refuse), True


# --- tokens of an identity ----------------------------------------------------------------------------------------------
class Got(NamedTuple):
    """An access token of a charter's identity, and how it was got."""

    charter: Charter
    signed_in: SignedIn
    how: str


def fetch(office: Office, charter_name: str, credential: str = "", token: str = "") -> Got:
    """With a credential that is kept here, or with what its tenant signs. Raises SomebodyError, RefusedError, UnreachableError.
    """
    from .trying import Trying, choose, principal_of, sign_in
    charter = office.charters([charter_name])[0]
    if charter.signing is not None and not credential:
        made = mint(office, charter_name, token=token)
        proof = Proof(str(made.claims["sub"]), assertion=made.signed())
        return Got(charter, office.tenants.reach(charter.tenant).sign_in(proof), made.how)
    uid, state = office.books.history(charter.name)
    want, tenant = choose(charter, credential), office.tenants.reach(charter.tenant)
    if want is None:
        raise SomebodyError(f"no credential of {charter.name} is kept here", where=charter.name,
                            mend="exchange a token from outside for one, if a trust lets it in: `token swap`")
    trying = Trying(office, charter, tenant, state, office.keepings.of(uid), principal_of(office, charter, state), want, {}, {})
    return Got(charter, *sign_in(trying))


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


def mint(office: Office, charter_name: str, credential: str = "", audience: str = "",
         lives_seconds: int | None = None, token: str = "") -> Minted:
    """An assertion that a charter's identity signs for itself (RFC 7523 §3), or that its tenant signs for it.

    `token`: one that the identity got where it is attached. Raises UsageError, SomebodyError.
    """
    from .trying import choose, principal_of, proof_of
    charter = office.charters([charter_name])[0]
    uid, state = office.books.history(charter.name)
    want, tenant, keys = choose(charter, credential), office.tenants.reach(charter.tenant), office.keepings.of(uid)
    if charter.signing is not None and not credential:
        return _by_tenant(tenant, charter, principal_of(office, charter, state), audience, lives_seconds, token)
    made = state.find(CREDENTIAL, charter.tenant, name=want.name) if want is not None else None
    if want is None or not want.keyed or made is None or not keys.path(want.name, made.number).exists():
        raise SomebodyError(f"no key of {charter.name} is kept here that could sign", where=charter.name,
                            mend="a key pair or a certificate's key signs; enact it first, or name another credential")
    life = _life(tenant, lives_seconds)
    proof = proof_of(keys, want, made.number, principal_of(office, charter, state))
    assert proof.key is not None
    named = {"x5t#S256": proof.certificate} if proof.certificate else {"kid": thumbprint(proof.key)}
    claims = _asserting(tenant, proof.client_id or proof.principal, audience, life)
    return Minted(charter, {"alg": proof.algorithm, "typ": "JWT", **named}, claims, partial(encoded, proof.key),
                  f"{want.name}, generation {made.number}")


def _life(tenant: Tenant, seconds: int | None) -> int:
    """How long it lives. Raises UsageError where the tenant takes none that lives so long."""
    most = tenant.profile.assertion_seconds
    life = seconds or min(USUAL_ASSERTION_SECONDS, most or USUAL_ASSERTION_SECONDS)
    if most is not None and life > most:
        raise UsageError(
            f"it would live {rough_duration(life)}, and {tenant.address.name} takes {rough_duration(most)} at most, as its "
            "profile says", where="--lives", mend=f"say {most}s or less")
    return life


def _asserting(tenant: Tenant, subject: str, audience: str, life: int) -> dict[str, Any]:
    now = now_at(tenant, datetime.now(UTC))
    return dated({"iss": subject, "sub": subject, "aud": audience or tenant.profile.issuer}, now, life)


def _by_tenant(tenant: Tenant, charter: Charter, principal: str, audience: str, seconds: int | None, token: str) -> Minted:
    """Its tenant signs: asked with the identity's own token, or by the administrator. Raises UsageError, SomebodyError."""
    if not isinstance(tenant, Signing) or not tenant.profile.signer or not principal:
        raise SomebodyError(f"{charter.tenant} signs for nobody called {charter.identity.name} yet", where=charter.tenant,
                            mend=f"run `sigillum enact {charter.name}` first")
    by = SignedIn(Secret(token.strip()), principal, "with its own token") if token else None
    who = charter.identity.name if token else tenant.profile.administrator or tenant.address.admin

    def sign(header: Mapping[str, Any], claims: Mapping[str, Any]) -> Secret:
        try:
            made = tenant.sign_for(principal, claims, by)
        except RefusedError as problem:
            needs = ", ".join(tenant.profile.signing) or "rights over it"
            raise RefusedError(problem.what, where=charter.tenant, mend=f"{who} needs {needs} over {charter.identity.name}; "
                               f"`sigillum explain {who} {next(iter(tenant.profile.signing), 'PERMISSION')} "
                               f"@{charter.identity.name} --tenant {charter.tenant}` says which is missing") from problem
        if dict(read(made.reveal()).claims) != dict(claims):
            raise RefusedError("what it signed is not what was shown, and was dropped", where=charter.tenant,
                               mend="ask the tenant's operator")
        return made
    return Minted(charter, {}, _asserting(tenant, principal, audience, _life(tenant, seconds)), sign,
                  f"the signing service of {charter.tenant}, asked by {who}", by_tenant=True)


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
        raise SomebodyError(f"it matches {names}" if names else f"it matches no trust of {charter.name}", where=charter.name,
                            mend="name one with --trust" if names else "`trust try` shows which condition does not hold")
    one, principal = tried.matching[0].trust, state.principal_id(charter.tenant)
    made = state.find(TRUST, charter.tenant, name=one.name)
    if not principal or made is None or not made.id:
        raise SomebodyError(f"the trust {one.name} of {charter.name} was not made yet", where=charter.tenant,
                            mend=f"run `sigillum enact {charter.name}` first")
    tenant = office.tenants.reach(charter.tenant)
    by = Secret(actor.strip()) if actor else None
    signed_in = tenant.sign_in(Proof(principal, assertion=Secret(text.strip()), trust=made.id, actor=by))
    who = _actor(signed_in.token.reveal()) if actor else ""
    if actor and not who:
        raise RefusedError("what the tenant gave names nobody who acts, and was dropped", where=charter.tenant,
                           mend="ask the tenant's operator whether it takes actor tokens (RFC 8693 §4.1)")
    return Got(charter, signed_in, f"the trust {one.name}{f', with {who} acting' if who else ''}")


def _actor(token: str) -> str:
    """Whom an access token names as acting; empty where it names nobody, or is not to be read."""
    try:
        act = read(token).claims.get("act")
    except NoTokenError:
        return ""
    return plain(act.get("sub", "")) if isinstance(act, dict) else ""


class Ended(NamedTuple):
    """What became of a token: was it taken before, and is it now? None: there is nothing to ask."""

    before: bool | None
    after: bool | None


def end(office: Office, text: str, tenant_name: str) -> Ended:
    """Have a token ended, and see by a call that it is refused (RFC 7009 §2.2). Raises UsageError, RefusedError."""
    tenant, token = office.tenants.reach(tenant_name), text.strip()
    if not PRESENTED.fullmatch(token):
        raise NoTokenError("this is no token that could be presented", where="token end",
                           mend="give the token, whole and alone")
    if not isinstance(tenant, Revoking):
        raise UsageError(f"no token is ended at {tenant_name}: its driver knows no way", where="token end",
                         mend="end or suspend what it was got with")
    subject = str(read(token).claims.get("sub") or "") if token.count(".") == 2 else ""
    signed_in = SignedIn(Secret(token), subject, "a token that was given")
    before = tenant.taken(signed_in)
    tenant.revoke(Secret(token))
    return Ended(before, tenant.taken(signed_in))


def text_of(file: str) -> str:
    """The text of a file, or of standard input. Raises FileError."""
    data = data_of(file, MOST_BYTES)
    if len(data) > MOST_BYTES:
        raise NoTokenError("it is too big for a token", where=file, mend="give a JWT in compact form, or claims as JSON")
    try:
        return data.decode()
    except UnicodeDecodeError as problem:
        raise NoTokenError("it is no text", where=file, mend="give a JWT in compact form, or claims as JSON") from problem


