"""Hand over: collect what a consumer asks for, show or seal it, and write down who got what."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, NamedTuple

from sigillum.core.charter.charter import HANDOVER, Charter, CredentialWant
from sigillum.core.charter.sheet import USUAL, Sheet, SheetLine, Value, fill
from sigillum.core.charter.wants import HandoverWant
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records import history
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import SomebodyError, UsageError
from sigillum.core.values.marks import Mark
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import did_you_mean
from sigillum.core.values.times import format_instant, parse_instant, whole_second
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office
from sigillum.workflows.desk.several import several

from .existing import OF_CREDENTIAL, existing, not_here, not_serving

REVEALED = "revealed"


@dataclass(frozen=True, slots=True)
class Choice:
    """What was asked for on the command line; empty: as the charter and the workspace say."""

    consumer: str = ""
    credential: str = ""


def collect(office: Office, charter: Charter, choice: Choice) -> Sheet:
    """The sheet as far as its values are there. Raises UsageError, FileError, UnreachableError."""
    consumer = choice.consumer or wish_of(charter).to
    own = _source(office, charter, choice.credential, consumer)
    sources, values = {"": own}, list[Value]()
    for line in asked(office, charter, consumer, own.credential):
        if line.of not in sources:
            sources[line.of] = _source(office, office.charters([line.of])[0], "", consumer)
        of = sources[line.of]
        values += fill(charter.name, consumer, [line], of.known, of.why, of.references, office.tenants.now(of.charter.tenant))
    return Sheet(charter.name, consumer, tuple(values), own.credential.name if own.credential is not None else "", own.number)


def collect_all(office: Office, charters: list[Charter], choice: Choice) -> Iterator[Sheet]:
    """Several at a time, in order as they come. Raises UsageError, FileError, UnreachableError."""
    yield from several(office.settings, lambda charter: collect(office, charter, choice), charters)


class _Source(NamedTuple):
    """What one charter can give: values, why others are not there, and where its secrets are kept."""

    charter: Charter
    credential: CredentialWant | None
    number: int
    known: dict[str, Any]
    why: dict[str, str]
    references: dict[str, str]


def _source(office: Office, charter: Charter, name: str, consumer: str) -> _Source:
    uid, state = office.books.history(charter.name)
    credential = _credential(charter, name, consumer)
    generation = state.find(CREDENTIAL, charter.tenant, name=credential.name) if credential is not None else None
    number = generation.number if generation is not None else 0
    known, why = existing(office, charter, state)
    references = dict[str, str]()
    if credential is not None:
        _secrets(office, uid, credential, number, known, why, references)
        gone = not_serving(office, charter, credential.name, generation) if generation is not None else ""
        if gone:
            known |= dict.fromkeys(OF_CREDENTIAL, None)
            why |= dict.fromkeys(OF_CREDENTIAL, gone)
    return _Source(charter, credential, number, known, why, references)


def wish_of(charter: Charter) -> HandoverWant:
    """What the charter says of handing over; nothing where it has no such section."""
    return charter.handover or HandoverWant()


def _credential(charter: Charter, name: str, consumer: str) -> CredentialWant | None:
    """The one that was named, or the consumer's, or the only one. Raises UsageError where it could be either of several."""
    named = [c for c in charter.credentials if c.name == name]
    if name and not named:
        raise UsageError(
            f"{charter.name} has no credential {name!r}",
            where=charter.name,
            mend=did_you_mean(name, [c.name for c in charter.credentials]) or "look at its `credentials:`",
        )
    theirs = [c for c in charter.credentials if consumer and consumer in c.consumers]
    found = named or theirs or list(charter.credentials)
    if len(found) > 1:
        raise UsageError(
            f"{charter.name} has {len(found)} credentials: {', '.join(c.name for c in found)}",
            where=charter.name,
            mend="say which with `--credential NAME`, or name `consumers:` at each; once for each hands over all of them",
        )
    return found[0] if found else None


def asked(office: Office, charter: Charter, consumer: str, credential: CredentialWant | None) -> list[SheetLine]:
    """What is asked for: by the consumer's description, else by the charter, else what is usual."""
    described = office.workspace.consumers.get(consumer)
    if described is not None and described.asks:
        return [
            SheetLine(a.value, a.name or "", a.form or "", a.shortest, a.longest, a.fixed or "", a.of or "")
            for a in described.asks
        ]
    if wish_of(charter).gives:
        return [SheetLine(v) for v in wish_of(charter).gives]
    key = credential is not None and credential.is_a.signs
    left_out = {"client_id" if not charter.is_client else "account", "secret" if key else "key"}
    if credential is None or not credential.held_here:
        left_out |= {"key", "secret"}
    return [SheetLine(v) for v in USUAL if v not in left_out]


def _secrets(
    office: Office,
    uid: str,
    credential: CredentialWant,
    number: int,
    known: dict[str, Any],
    why: dict[str, str],
    references: dict[str, str],
) -> None:
    """The credential's values, and where its secret is kept."""
    if not credential.held_here:
        why |= dict.fromkeys(("key", "secret"), "its holder made the key and keeps it: nothing secret travels")
        if credential.public_key is not None:
            known["key_id"] = thumbprint(credential.public_key)
        return
    keys = office.keepings.of(uid)
    path = keys.path(credential.name, number)
    if not number or not path.exists():
        if number and (words := not_here(office, uid, credential.name, number)):
            why |= dict.fromkeys(OF_CREDENTIAL, words)
        return
    about = keys.about(credential.name, number)
    known |= {"credential_id": about.get("credential_id"), "ends": about.get("ends")}
    if about.get("credential_id") and not about.get("ends"):
        why["ends"] = "it has no end there"
    shown = keys.reference(credential.name, number, office.workspace.folder)
    if credential.is_a.signs:
        known["certificate"] = about.get("certificate")
        key, _ = keys.key(credential.name, number)
        known |= {"key": Secret(json.dumps(key)), "key_id": thumbprint(key)}
        why |= {"secret": "its credential is a key pair: ask for `key`"}
        references["key"] = shown
    else:
        known["secret"] = keys.secret(credential.name, number)
        why |= dict.fromkeys(("key", "key_id"), "its credential is no key pair: ask for `secret`")
        references["secret"] = shown


def record(office: Office, sheet: Sheet, how: str, to: str, **more: Any) -> None:
    """Write down who got what, at each charter whose values they are: names of values, never the values."""
    at = format_instant(whole_second(datetime.now(UTC)))
    for of in dict.fromkeys(v.of for v in sheet.values):
        name = of or sheet.charter
        uid, _ = office.books.history(name)
        credential, generation = (sheet.credential, sheet.generation) if not of else ("", 0)
        office.books.writable_ledger().append(
            [
                Fresh(
                    history.HANDED,
                    uid or office.books.make_known(name),
                    {
                        "to": to,
                        "how": how,
                        "values": [v.value for v in sheet.values if v.of == of],
                        "credential": credential,
                        "generation": generation,
                        "at": at,
                        **more,
                    },
                )
            ]
        )


def reveal(office: Office, sheet: Sheet, form: str) -> bool:
    """Write down that a sheet's secrets are revealed, before they are; is that done only once? Raises SomebodyError where the
    charter says so and it was done.
    """
    once = wish_of(office.charters([sheet.charter])[0]).once and any(v.secret for v in sheet.values)
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        of = (sheet.credential, sheet.generation)
        before = [b for b in handed(office, sheet.charter) if b["how"] == REVEALED and (b["credential"], b["generation"]) == of]
        if once and before:
            raise SomebodyError(
                f"{sheet.credential}, generation {sheet.generation}, was revealed once, as its charter says: {before[0]['at']}",
                where=sheet.charter,
                mend=f"`sigillum rotate {sheet.charter} {sheet.credential}` makes the next one",
            )
        record(office, sheet, REVEALED, sheet.consumer or "whoever saw it", form=form)
    return once


def leaves(office: Office, sheet: Sheet) -> bool:
    """Is its credential kept no longer than until it is handed over?"""
    want = next((c for c in office.charters([sheet.charter])[0].credentials if c.name == sheet.credential), None)
    return want is not None and want.keep_in == HANDOVER


def give_away(office: Office, sheet: Sheet) -> None:
    """What was sealed and stands in its file is kept here no more. The ledger says so first: else it would seem lost."""
    uid, state = office.books.history(sheet.charter)
    made = next(
        g
        for all_ in state.generations.values()
        for g in all_
        if g.kind == CREDENTIAL.name and g.mark.get("name") == sheet.credential and g.number == sheet.generation
    )
    if not made.given_away:
        office.books.writable_ledger().append(
            [Fresh(history.GIVEN_AWAY, uid, {**made.mark.body(), "generation": made.number, "thing": CREDENTIAL.name})]
        )
        office.settings.boundary("given away")
    office.keepings.of(uid).forget(sheet.credential, sheet.generation)


def handed(office: Office, charter: str) -> list[Mapping[str, Any]]:
    """What was handed over of a charter before."""
    uid, _ = office.books.history(charter)
    return [e.body for e in office.books.ledger().entries(uid, kind=history.HANDED)] if uid else []


class Since(NamedTuple):
    """Whether what was handed over was used since: by what its tenant tells; None: it does not tell."""

    used: bool | None
    words: str


def used_since(office: Office, charter: Charter, body: Mapping[str, Any]) -> Since:
    """Has anybody proved itself with it since it was handed over? By the tenant's clock, and as exactly as it tells."""
    _, state = office.books.history(charter.name)
    from sigillum.tenants.port import now_at

    tenant, name = office.tenants.reach(charter.tenant), str(body.get("credential") or "")
    mark = Mark("credential", charter.tenant, (("name", name),))
    made = next((g for g in state.generations.get(mark, ()) if g.number == body.get("generation")), None)
    if made is None or tenant.profile.last_used not in ("second", "day"):
        return Since(None, f"{charter.tenant} does not tell whether it was used since")
    query = Query(CREDENTIAL, "id", made.id)
    record = tenant.facts([query])[query].first
    if record is None:
        return Since(None, "it has ended since")
    at, used = now_at(tenant, parse_instant(str(body["at"]))), record.body.used_at
    if used is None or used <= at.replace(microsecond=0):
        if tenant.profile.last_used == "day" and used is not None and used.date() == at.date():
            return Since(None, "whether it was used since cannot be told before tomorrow")
        return Since(False, "never used since")
    _seen_used(office, charter, body)
    return Since(True, f"used since, last at {format_instant(used)} from {record.body.used_from or 'somewhere'}")


def _seen_used(office: Office, charter: Charter, body: Mapping[str, Any]) -> None:
    """Write it down once: from then on nobody has to ask any more."""
    uid, about = office.books.history(charter.name)[0], {n: body[n] for n in ("to", "credential", "generation")}
    if not any(e.body == about for e in office.books.ledger().entries(uid, kind=history.USED)):
        office.books.writable_ledger().append([Fresh(history.USED, uid, about)])


def connected(office: Office, charter: Charter, consumer: str, connection: str) -> None:
    """Record that a consumer connects with this identity; the tenant is believed before the person. Raises SomebodyError for a
    connection that is known already, and where nobody used since what was handed over.
    """
    if not any(g.live for all_ in office.books.history(charter.name)[1].generations.values() for g in all_):
        raise SomebodyError(
            f"nothing of {charter.name} was made yet, so nobody can be connected with it",
            where=charter.name,
            mend=f"run `sigillum enact {charter.name}` first",
        )
    given = [b for b in handed(office, charter.name) if b.get("credential")][-1:]
    if given and used_since(office, charter, given[0]).used is False:
        raise SomebodyError(
            f"{consumer} is not connected yet: what was handed over at {given[0]['at']} was never used since, "
            f"as {charter.tenant} tells",
            where=charter.name,
            mend="have it used there, then say this again",
        )
    ledger = office.books.writable_ledger()
    with ledger.claim(CLAIM, BRIEFLY_SECONDS):
        names = office.books.names()
        for entry in ledger.entries(kind=history.CONNECTED):
            if (entry.body["consumer"], entry.body["connection"]) == (consumer, connection):
                first = names.get(entry.charter, entry.charter)
                raise SomebodyError(
                    f"the connection {connection} of {consumer} is taken: {first} has it since {entry.body['at']}",
                    where=charter.name,
                    mend="one identity per use: make a second connection there, or keep the first",
                )
        uid = office.books.make_known(charter.name)
        ledger.append(
            [
                Fresh(
                    history.CONNECTED,
                    uid,
                    {"consumer": consumer, "connection": connection, "at": format_instant(whole_second(datetime.now(UTC)))},
                )
            ]
        )
