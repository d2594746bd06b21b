"""Trying: signing in as the identity with a fresh token, and putting one expectation to the test without harm."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from sigillum.core.charter.charter import Charter, CredentialWant, ProofWant
from sigillum.core.deciding.proofs import Manner, Result, Trial, judge, links_of, manner_of, target_of, unjudged
from sigillum.core.kinds.access import PLACE, Place
from sigillum.core.kinds.identities import CLIENT, PRINCIPAL
from sigillum.core.kinds.kind import Fact, Query, Record
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import History
from sigillum.core.values.errors import (
    SomebodyError,
    UsageError,
)
from sigillum.core.values.text import did_you_mean, lines, plain
from sigillum.keeping.files import FileKeeping
from sigillum.tenants.port import Proof, SignedIn, Tenant
from sigillum.workflows.desk import lookup
from sigillum.workflows.desk.asked import asking_about
from sigillum.workflows.desk.office import Office

from .causes import explained

MOST_LINKS = 20  # of what was read, so many are followed


@dataclass(frozen=True, slots=True)
class Trying:
    """Everything that one round of trying needs."""

    office: Office
    charter: Charter
    tenant: Tenant
    state: History
    keys: FileKeeping
    principal: str
    credential: CredentialWant | None
    places: Mapping[str, Record[Place] | None]
    people: Mapping[str, str]  # their ids, by the names in the charter
    without: tuple[str, ...] = ()  # grants as if they had ended
    home: Tenant | None = None  # away from home: where the identity signs in first
    home_principal: str = ""
    seen: dict[Query[Any], Fact[Any]] = field(default_factory=dict)  # a moment ago: the first look at the world knows it


def principal_of(office: Office, charter: Charter, state: History) -> str:
    """The identity's principal id; where a tenant has no service principals, the client acts as itself."""
    registered = state.find(CLIENT, charter.tenant)
    if charter.is_client and registered is not None and office.tenants.reach(charter.tenant).profile.carried(PRINCIPAL) is None:
        return registered.id
    known = state.principal_id(charter.tenant)
    if known or not charter.is_client:
        return known
    # the tenant made it by itself, so the ledger knows only the registration
    tenant = office.tenants.reach(charter.tenant)
    client = tenant.read(CLIENT, registered.id) if registered is not None and registered.id else None
    query = Query(PRINCIPAL, "client_id", client.body.client_id) if client is not None else None
    found = tenant.facts([query])[query].first if query is not None else None
    return found.id if found is not None else ""


def present(charter: Charter, state: History, keys: FileKeeping) -> CredentialWant | None:
    """The first credential that is here already."""
    return next((want for want in charter.credentials if held(charter, state, keys, want)), None)


def held(charter: Charter, state: History, keys: FileKeeping, want: CredentialWant) -> bool:
    """Is this credential here, so that one can sign in with it?"""
    generation = state.find(CREDENTIAL, charter.tenant, name=want.name)
    return want.held_here and generation is not None and keys.path(want.name, generation.number).exists()


def tryings(
    office: Office,
    charter: Charter,
    state: History,
    keys: FileKeeping,
    principal: str,
    credential: CredentialWant | None,
    without: tuple[str, ...] = (),
    *,
    signing: bool = False,
) -> Iterator[Trying]:
    """One for each tenant where something is expected, home first; with `signing` at home in any case."""
    for name in (charter.tenant, *charter.elsewhere):
        part, home = charter.part(name), name == charter.tenant
        if not part.proofs and not (home and signing):
            continue
        tenant = office.tenants.reach(name)
        if not tenant.profile.proves and not signing:
            raise SomebodyError(
                f"nothing is ever proved at {name}: it answers no questions, and nothing can be tried there",
                where=charter.name,
                mend=f"take the proofs at {name} out of the charter",
            )
        queries = {at: Query(PLACE, "path", at) for at in (*(p.at for p in part.proofs), *lines(p.at for p in part.proofs))}
        found = tenant.facts(queries.values())
        people = {p.person: lookup.person(tenant, p.person) for p in part.proofs if p.person}
        yield Trying(
            office,
            part,
            tenant,
            state,
            keys,
            principal if home else state.principal_id(name),
            credential,
            {at: found[q].first for at, q in queries.items()},
            people,
            without,
            None if home else office.tenants.reach(charter.tenant),
            principal,
            found,
        )


def try_one(trying: Trying, signed_in: SignedIn, shown: str, proof: ProofWant) -> Result:
    """One expectation, tried where it cannot harm, asked otherwise."""
    tenant = trying.tenant
    operation = tenant.profile.operations.get(proof.permission)
    manner = manner_of(proof, operation, trying.places[proof.at], tenant.profile)
    if manner is Manner.TRIED and (not shown or proof.person):  # people sign in themselves: nobody is imitated
        manner = Manner.ASKED if tenant.profile.decisions else Manner.NEITHER
    if manner is Manner.NEITHER or (manner is Manner.TRIED and operation is None):
        return unjudged(proof, "the tenant offers neither a call nor a decision for it", manner)
    with asking_about(trying.charter.name):
        if manner is Manner.TRIED and operation is not None:
            trial = tenant.attempt(signed_in, operation, proof.at)
        else:
            trial = tenant.ask(signed_in, proof.permission, proof.at, trying.people.get(proof.person, ""))
    result = judge(proof, manner, trial)
    return _followed(trying, signed_in, result, trial) if proof.follow and result.held is True and proof.allowed else result


def _followed(trying: Trying, signed_in: SignedIn, result: Result, trial: Trial) -> Result:
    """What is linked must be readable, too: each place that the field names is read, and the permission missing is named."""
    tenant, field = trying.tenant, result.proof.follow
    links = links_of(trial.items or (), field)
    if result.manner is not Manner.TRIED or not links:
        return result.unshown(f"nothing that was read names something in {field}")
    for link in links[:MOST_LINKS]:
        target = target_of(tenant.profile, result.proof.permission, link)
        if target is None:
            return result.unshown(f"{plain(link)} is no place that can be read here")
        operation, place = target
        read = tenant.attempt(signed_in, operation, place)
        if read.allowed is not True:
            what = f"{field} names {plain(place)}, and {operation.permission} is missing there"
            said = f"{what} ({read.reason})"
            return result.spoilt(said) if read.allowed is False else result.unshown(said)
    more = f", of which {MOST_LINKS} were read" if len(links) > MOST_LINKS else ""
    return result._replace(said=f"{result.said}; all {len(links)} places in {field} can be read{more}")


def choose(charter: Charter, name: str) -> CredentialWant | None:
    held = [c for c in charter.credentials if c.held_here]
    if not name:
        return held[0] if held else None
    found = next((c for c in held if c.name == name), None)
    if found is None:
        raise UsageError(
            f"{charter.name} keeps no credential {name!r} here",
            where=charter.name,
            mend=did_you_mean(name, [c.name for c in held]) or "its credentials are kept elsewhere",
        )
    return found


def sign_in(trying: Trying) -> tuple[SignedIn, str]:
    """Sign in with the credential; without one, questions are asked by the administrator. And what was used."""
    tenant, credential, keys = trying.tenant, trying.credential, trying.keys
    if credential is None:
        return tenant.as_administrator(trying.principal), ""
    home = trying.home.address.name if trying.home is not None else trying.charter.tenant
    generation = trying.state.find(CREDENTIAL, home, name=credential.name)
    if generation is None or not keys.path(credential.name, generation.number).exists():
        raise SomebodyError(
            f"{credential.name} of {trying.charter.name} is not here"
            + (
                f": the copy {generation.kept_by} of this workspace keeps it"
                if generation is not None and generation.kept_by
                else ""
            ),
            where=trying.charter.tenant,
            mend=f"prove it there, or run `sigillum enact {trying.charter.name}` first",
        )
    shown = f"{credential.name}, generation {generation.number}"
    proof = proof_of(keys, credential, generation.number, trying.principal if trying.home is None else trying.home_principal)
    if trying.home is not None:
        issuer = trying.tenant.profile.issuer
        return trying.tenant.sign_in(Proof(trying.principal, assertion=trying.home.token_for(proof, issuer))), shown
    with explained(tenant, proof, trying.charter.name):
        return tenant.sign_in(proof), shown


def proof_of(keys: FileKeeping, credential: CredentialWant, number: int, principal: str) -> Proof:
    """What the identity signs in with at home, with one generation of a credential."""
    about = keys.about(credential.name, number)
    client, identity = str(about.get("client_id") or ""), str(about.get("credential_id") or "")
    if credential.is_a.signs:
        key, algorithm = keys.key(credential.name, number)
        return Proof(
            principal,
            key,
            algorithm,
            client_id=client,
            certificate=str(about.get("x5t#S256") or ""),
            der=str(about.get("certificate") or ""),
            credential=identity,
        )
    secret = keys.secret(credential.name, number)
    if credential.is_a.typed:
        return Proof(principal, secret=secret, account=str(about.get("account") or ""), credential=identity)
    if client:
        return Proof(principal, client_id=client, secret=secret)
    return Proof(principal, token=secret, credential=identity, place=credential.at)
