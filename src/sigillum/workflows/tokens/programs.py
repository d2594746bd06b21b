"""Giving a program what it signs in with, for as long as it runs: fresh tokens of charters, and resolved references."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from sigillum.core.charter.charter import Charter, CredentialWant
from sigillum.core.charter.snippets import Call, call_of
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import SomebodyError, UsageError
from sigillum.core.values.secret import Secret
from sigillum.tenants.port import SignedIn
from sigillum.workflows.desk.keepings import STORE
from sigillum.workflows.desk.office import Office
from sigillum.workflows.proving.trials import Trying, choose, principal_of, sign_in

USUAL_LIFE_SECONDS = 600
LOOK_AGAIN_SECONDS = 30.0  # at what has no end: another generation may have taken its place
_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*\Z")
_FROM_ENVIRONMENT = re.compile(r"env:([A-Za-z_][A-Za-z0-9_]*)\Z")


class Given(NamedTuple):
    """What one charter's program needs: secrets, and what anybody may read, by the end of the variable's name.

    `again_seconds`: after so long another one is to be fetched.
    """

    charter: str
    secrets: Mapping[str, Secret]
    public: Mapping[str, str]
    again_seconds: float

    def variable(self, end: str) -> str:
        """The name of a variable of this charter."""
        return variable(self.charter, end)


def variable(charter: str, end: str) -> str:
    """The name of a variable of a charter."""
    return f"{re.sub(r'[^A-Z0-9]', '_', charter.upper())}_{end}"


def _instead(charter: Charter) -> str:
    """How an identity of which no credential is here gets in."""
    if charter.signing is not None:
        return f"{charter.tenant} signs for it: `sigillum token fetch {charter.name} --with-token FILE`"
    if charter.trusts:
        return f"it is trusted: `sigillum trust profile {charter.name}`, and `with --profile` where the workload runs"
    return "its holder runs the program"


def _enter(office: Office, charter: Charter, credential: str = "") -> tuple[Trying, CredentialWant, SignedIn]:
    """Sign in as the charter's identity. Raises SomebodyError, RefusedError, UnreachableError."""
    uid, state = office.books.history(charter.name)
    keys, tenant = office.keepings.of(uid), office.tenants.reach(charter.tenant)
    want = choose(charter, credential)
    if want is None:
        raise SomebodyError(f"no credential of {charter.name} is kept here", where=charter.name, mend=_instead(charter))
    trying = Trying(office, charter, tenant, state, keys, principal_of(office, charter, state), want, {}, {})
    return trying, want, sign_in(trying)[0]


def give(office: Office, charter: Charter, credential: str = "") -> Given:
    """Sign in as the charter's identity, with what serves now. Raises SomebodyError, RefusedError, UnreachableError."""
    trying, want, signed_in = _enter(office, charter, credential)
    keys, tenant = trying.keys, trying.tenant
    header = Secret(f"Authorization: {signed_in.header()}")
    public = {"TENANT": tenant.address.address}
    if signed_in.scheme == "Basic":
        made = trying.state.find(CREDENTIAL, charter.tenant, name=want.name)
        assert made is not None  # it signed in with it
        public["USER"] = str(keys.about(want.name, made.number).get("account") or "")
        found = {"PASSWORD": keys.secret(want.name, made.number), "HEADER": header}
    else:
        found = {"TOKEN": signed_in.token, "HEADER": header}
    life = signed_in.lives_seconds or tenant.profile.token_seconds or USUAL_LIFE_SECONDS
    return Given(charter.name, found, public, LOOK_AGAIN_SECONDS if want.is_a.lasting else max(life * 2 / 3, 1.0))


def first_call(office: Office, charter: Charter) -> Call:
    """The first thing that must work, as a request. Raises SomebodyError where nothing can be called."""
    profile = office.tenants.reach(charter.tenant).profile
    for proof in charter.proofs:
        operation = profile.operations.get(proof.permission)
        if proof.allowed and operation is not None and not proof.person and proof.tenant in ("", charter.tenant):
            header = variable(charter.name, "HEADER_FILE")
            return call_of(charter.name, header, profile.work, operation, proof.at)
    raise SomebodyError(
        f"{charter.name} says nothing that can be called at {charter.tenant}",
        where=charter.name,
        mend="add a proof: `can` with a permission that the tenant's working interface has",
    )


def references(office: Office, wanted: Iterable[str], charters: Sequence[Charter], credential: str = "") -> dict[str, Secret]:
    """What `NAME=REFERENCE` pairs mean. A store is read as the identity of one of `charters`, never as the administrator.

    Raises UsageError, FileError, MachineError, and as `give` does.
    """
    out = dict[str, Secret]()
    for pair in wanted:
        name, found, reference = pair.partition("=")
        if not found or not _VARIABLE.match(name):
            raise UsageError(
                f"{name!r} names no variable",
                where="--env",
                mend="write NAME=REFERENCE: a variable, and where its value is kept",
            )
        if reference.startswith(STORE):
            out[name] = _from_store(office, reference, charters, credential)
        else:
            out[name] = office.keepings.resolve(reference, "--env")
    return out


def _from_store(office: Office, reference: str, charters: Sequence[Charter], credential: str) -> Secret:
    """What a store gives to the first of the charters whose home it is: the program gets what its identity may read."""
    tenant, _, path = reference.removeprefix(STORE).partition("/")
    charter = next((c for c in charters if c.tenant == tenant), None)
    if charter is None:
        raise UsageError(
            f"no charter is named whose identity signs in at {tenant}",
            where=reference,
            mend=f"name the charter of an account of {tenant} that may read it: `sigillum with CHARTER --env ...`",
        )
    signed_in = _enter(office, charter, credential)[2]
    return office.keepings.read(office.tenants.store(tenant, path, signed_in), reference)


def stripped(office: Office, charters: Iterable[Charter], environment: Mapping[str, str]) -> dict[str, str]:
    """The environment without what is ours: our own options, and every variable that this workspace reads a secret from."""
    ours = set(_variables(office.workspace.file.model_dump()))
    ours |= {found[1] for c in charters for want in c.credentials if (found := _FROM_ENVIRONMENT.match(want.source))}
    return {n: v for n, v in environment.items() if n not in ours and not n.startswith("SIGILLUM_")}


def _variables(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        if found := _FROM_ENVIRONMENT.match(value):
            yield found[1]
    elif isinstance(value, Mapping):
        for inner in value.values():
            yield from _variables(inner)
    elif isinstance(value, (list, tuple)):
        for inner in value:
            yield from _variables(inner)
