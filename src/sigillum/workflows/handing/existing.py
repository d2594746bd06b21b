"""What of an identity exists at its tenant, for a sheet: read there, and not off the charter; and why the rest is not there."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sigillum.core.charter.charter import SELF, Charter
from sigillum.core.kinds.access import CONSENT, GRANT, PLACE
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Fact, Kind, NotShown, Query, Record
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import HANDED, Generation, History
from sigillum.core.values.text import plain
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk.office import Office
from sigillum.workflows.proving.trials import principal_of

OF_CREDENTIAL = ("key", "secret", "key_id", "certificate", "credential_id", "ends")


def existing(office: Office, charter: Charter, state: History) -> tuple[dict[str, Any], dict[str, str]]:
    """The values of an identity as its tenant shows them, and why others are not there. Raises UnreachableError."""
    tenant = office.tenants.reach(charter.tenant)
    known: dict[str, Any] = {
        "tenant": tenant.address.address,
        "issuer": tenant.profile.issuer,
        "work": tenant.profile.work,
        "token_endpoint": tenant.token_endpoint,
    }
    missing = {"client_id": "it is not a client: write `kind: client`"} if not charter.is_client else {}
    if not tenant.token_endpoint:
        missing["token_endpoint"] = f"{charter.tenant} names none"
    if tenant.profile.carried(CREDENTIAL) is None and not charter.is_client:
        missing |= dict.fromkeys(OF_CREDENTIAL, f"{charter.tenant} knows no credentials: it can never be there")
    who = principal_of(office, charter, state)
    _itself(tenant, charter, state, who, known, missing)
    _rights(office, charter, state, known, missing)
    person = next((p.person for p in charter.proofs if p.person), "")
    test = charter.handover.test if charter.handover is not None else ""
    for value, kind, field, wanted, unsaid in (
        ("person", ACCOUNT, "name", person, "no proof names a person"),
        ("test_object", PLACE, "path", test, "add `test: PLACE` to `handover:` in the charter"),
    ):
        fact = _ask(tenant, Query(kind, field, wanted)) if wanted else Fact[Any]()
        if not wanted:
            missing[value] = unsaid
        elif fact.known and fact.first is None:
            missing[value] = f"{charter.tenant} has no {kind.name} {wanted}"
        else:  # a tenant that shows none of them cannot be asked
            known[value] = wanted
    return known, missing


def _ask(tenant: Tenant, query: Query[Any]) -> Fact[Any]:
    """What a tenant shows; of a kind that it never shows nothing is known."""
    if tenant.profile.carried(query.kind) is None:
        return Fact(unknown=f"it shows no {query.kind.name}", never=True)
    return tenant.facts([query])[query]


def _itself(tenant: Tenant, charter: Charter, state: History, who: str, known: dict[str, Any], missing: dict[str, str]) -> None:
    """Its name and its ids."""
    name = tenant.address.name
    if who:
        facts = [_ask(tenant, Query(k, "id", who)) for k in (ACCOUNT, PRINCIPAL, TEAM, CLIENT)]
        record = next((f.first for f in facts if f.first is not None), None)
        hidden = next((f.unknown for f in facts if not f.known and not f.never), "")
        shown = any(f.known for f in facts)
        if record is not None or not shown:
            known["principal_id"] = who
        else:
            missing["principal_id"] = (
                f"{name} does not show it now: {hidden}"
                if hidden
                else f"{name} does not have it any more ({who}): enact the charter first"
            )
        if not charter.is_client and "principal_id" in known:
            known["account"] = plain(record.value("name")) if record is not None else charter.identity.name
        elif not charter.is_client:
            missing["account"] = missing["principal_id"]
    registered = state.find(CLIENT, charter.tenant)
    if registered is not None and registered.id:
        record = tenant.read(CLIENT, registered.id)
        known["client_id"] = record.body.client_id if record is not None else ""


def _rights(office: Office, charter: Charter, state: History, known: dict[str, Any], missing: dict[str, str]) -> None:
    """The scopes that are consented and the places at which something is granted, of those that the charter wants. What has a
    window is there only while it is.
    """
    scopes = [(charter.tenant, p.scope, False) for p in charter.permissions]
    places = [(g.tenant or charter.tenant, g.at, g.windowed) for g in charter.grants if not g.to and g.at != SELF]
    for value, kind, wanted, unsaid, not_yet in (
        ("scopes", CONSENT, scopes, "the charter asks for no `permissions`", "consented"),
        ("places", GRANT, places, "the charter grants nothing at a place", "granted"),
    ):
        if not wanted:
            missing[value] = unsaid
            continue
        facts = {t: _hanging(office, charter, state, kind, t) for t in dict.fromkeys(t for t, _, _ in wanted)}
        hidden = next((f"{t} does not show it now: {f.unknown}" for t, f in facts.items() if not f.known and not f.never), "")
        there = {(t, n) for t, f in facts.items() for r in f.records for n in _named(r)}
        absent = [n for t, n, windowed in wanted if not facts[t].never and (t, n) not in there and not windowed]
        if hidden or absent:
            absent = list(dict.fromkeys(absent))
            missing[value] = hidden or f"not {not_yet} there yet: {', '.join(absent)}; enact the charter first"
            continue
        found = dict.fromkeys(n for t, n, _ in wanted if facts[t].never or (t, n) in there)
        known[value] = (" " if value == "scopes" else ", ").join(found)


def _hanging(office: Office, charter: Charter, state: History, kind: Kind[Any], tenant: str) -> Fact[Any]:
    """What hangs on the identity in a tenant."""
    who = principal_of(office, charter, state) if tenant == charter.tenant else state.principal_id(tenant)
    return _ask(office.tenants.reach(tenant), Query(kind, "principal", who)) if who else Fact()


def _named(record: Record[Any]) -> Iterator[str]:
    value = record.get("scope" if record.kind is CONSENT else "place")
    if not isinstance(value, NotShown):
        yield str(value)


# --- its credential ---------------------------------------------------------------------------------------------------
def not_serving(office: Office, charter: Charter, name: str, made: Generation) -> str:
    """Why what is kept of a credential is of no use to anybody; empty where it serves, or nobody can see that."""
    tenant = office.tenants.reach(charter.tenant)
    if not made.id:
        return ""
    fact = _ask(tenant, Query(CREDENTIAL, "id", made.id))
    if not fact.known:
        return "" if fact.never else f"whether {charter.tenant} still accepts it is not shown now: {fact.unknown}"
    renew = f"`sigillum rotate {charter.name} {name}` makes the next one"
    if fact.first is None:
        return f"{charter.tenant} does not have it any more; {renew}"
    if fact.first.says(active=False):
        return f"{charter.tenant} has it disabled; enable it first (`sigillum reinstate`, `enact --switch-on`), or {renew}"
    return ""


def not_here(office: Office, uid: str, name: str, number: int) -> str:
    """Why a credential that was made is not kept here; empty where nothing says why."""
    state = office.books.state(uid)
    made = next(
        (g for m, all_ in state.generations.items() for g in all_ if m.get("name") == name and g.number == number), None
    )
    charter = office.books.names().get(uid, "")
    renew = f"`sigillum rotate {charter} {name}` makes a new one"
    if made is not None and made.given_away:
        given = [e.body for e in office.books.ledger().entries(uid, kind=HANDED) if e.body["generation"] == number]
        to = f" to {given[-1]['to']} at {given[-1]['at']}" if given else ""
        return f"it was sealed{to}, and is not kept here since: {renew}"
    if made is not None and made.kept_by not in ("", office.copy):
        return f"the copy {made.kept_by} of this workspace keeps it, and not this one"
    return ""
