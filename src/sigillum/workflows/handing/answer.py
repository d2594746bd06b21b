"""Answering requests that arrived: compare them again, carry them out where the power is or refuse them, and write a signed
receipt.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.registry import KINDS
from sigillum.core.records import history, requests
from sigillum.core.records.requests import RECEIPT, WITHDRAWAL, Beside, Request
from sigillum.core.records.steps import Outline, Step
from sigillum.core.values.asked import fits
from sigillum.core.values.errors import FileError, SigillumError, SomebodyError, UsageError
from sigillum.core.values.text import plain
from sigillum.core.values.times import format_instant, whole_second
from sigillum.keys import signed
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk.books import writer_name
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office, nothing
from sigillum.workflows.desk.tenants import time_of
from sigillum.workflows.enacting.carrying.run import Became, Carrying

from .asking import put
from .requests import read_json, signer_words


@dataclass(frozen=True, slots=True)
class Asked:
    """One request, compared again: `stands` where it is so already, else `step`. `means`: every id that would be sent, as what,
    itself, and what it is there; `beside`: what is like it and there already.
    """

    request: Request
    stands: Record[Any] | bool
    step: Step
    means: tuple[tuple[str, str, str], ...] = ()
    beside: tuple[Beside, ...] = ()

    @property
    def changes(self) -> Beside | None:
        """What is there already and would be changed, where that was asked to be made."""
        return next((b for b in self.beside if b.itself), None)


@dataclass(frozen=True, slots=True)
class Arrived:
    """A file of requests that arrived. `known`: is its signer known here? `left`: those that are answered no more, and why."""

    path: Path
    signer: str
    key_id: str
    known: bool
    tenant: str
    hand: str
    asked: tuple[Asked, ...]
    left: tuple[tuple[Request, str], ...] = ()
    file: tuple[Request, ...] = ()  # all that it holds, also what is not meant

    @property
    def stands(self) -> bool:
        """Is all of it so already?"""
        return all(a.stands for a in self.asked)


def opened(office: Office, path: Path) -> tuple[Mapping[str, Any], signed.Signer]:
    """What somebody sent, and whose key signed it. Raises FileError."""
    body = read_json(path)
    return body, signed.check(body, str(path))


def compare(office: Office, path: Path, known: Sequence[str] = (), only: Sequence[int] = ()) -> Arrived:
    """Check a file's signature and compare its requests with their tenant. `known`: thumbprints beside those in sigillum.yaml;
    `only`: the numbers of those that are meant.

    Raises FileError, UsageError, SomebodyError.
    """
    body, signer = opened(office, path)
    file = requests.read(body, str(path))
    wanted = _meant(file, only, path)
    name, able, usual = _able(office, wanted, path)
    tenant = office.tenants.reach(name)
    asked, left = list[Asked](), list[tuple[Request, str]]()
    for request in wanted:
        why = _over(office, request, signer.key_id, time_of(tenant))
        if why:
            left.append((request, why))
        else:
            asked.append(_compared(tenant, name, request, "" if able == usual else able))
    if not asked:
        raise SomebodyError(
            "; ".join(f"request {r.number} {why}" for r, why in left),
            where=str(path),
            mend="ask its sender whether it is still wanted; nothing was done",
        )
    return Arrived(
        path,
        signer_words(office, signer.key_id, known),
        signer.key_id,
        signer.key_id in office.trusted(known, ours=True),
        name,
        able,
        tuple(asked),
        tuple(left),
        file,
    )


def _meant(found: Sequence[Request], only: Sequence[int], path: Path) -> list[Request]:
    strange = [n for n in only if n not in {r.number for r in found}]
    if strange:
        raise UsageError(
            f"request {strange[0]} is not in this file",
            where="--only",
            mend=f"it has {', '.join(str(r.number) for r in found)}",
        )
    return [r for r in found if not only or r.number in only]


def _able(office: Office, wanted: Sequence[Request], path: Path) -> tuple[str, str, str]:
    """The tenant, who has the power for all of it here, and the usual administrator. Raises SomebodyError."""
    tenants, address = office.workspace.file.tenants, wanted[0].tenant.rstrip("/")
    name = next((n for n, t in tenants.items() if t.address.rstrip("/") == address), None)
    if name is None:
        raise SomebodyError(
            f"this workspace does not know the tenant {wanted[0].tenant}",
            where=str(path),
            mend="add it with `sigillum tenant add`",
        )
    hands = [h for h in office.tenants.hands(name) if h.here]
    powers = list(dict.fromkeys(KINDS[r.thing].power for r in wanted))  # what it takes, and not what the request says of that
    able = next((h for h in hands if all(map(h.can, powers))), None)
    if able is None:
        lacking = [p for p in powers if not any(h.can(p) for h in hands)] or powers
        raise SomebodyError(
            f"nobody here has the power `{', '.join(lacking)}` at {name} either",
            where=str(path),
            mend="hand the file on to somebody who does"
            + ("; or answer some of it: `--only NUMBER`" if len(wanted) > 1 else ""),
        )
    return name, able.name, hands[0].name


def _over(office: Office, request: Request, key: str, now: datetime) -> str:
    """Why a request is answered no more; empty where it is."""
    if request.over(now):
        return f"expired at {request.expires}"
    notes = office.books.ledger().entries(uid_of(request.digest), kind=history.NOTED) if office.books.there else ()
    noted = next((e.body for e in notes if e.body["key"] == key or e.body["state"] == "refused"), None)
    return f"is {noted['state']}: {noted['why']}" if noted is not None else ""


def _compared(tenant: Tenant, name: str, request: Request, by: str) -> Asked:
    facts = tenant.facts(requests.queries(request)).values()
    records = tuple(r for f in facts for r in f.records)
    unknown = next((f.unknown for f in facts if not f.known), "")
    if unknown:
        raise SomebodyError(
            f"it cannot be compared again: {unknown}", where=name, mend="ask with an administrator who may look"
        )
    carried = tenant.profile.carried(KINDS[request.thing])
    stands = requests.fulfilled(request, records, carried)
    beside = tuple(requests.beside(request, records, carried)) if not stands else ()
    there = next((b for b in beside if b.itself), None)
    if there is not None and request.thing not in CHANGED:
        raise SomebodyError(
            f"request {request.number}: {request.about} is there already, and not as it is asked for: {told(there)}",
            where=name,
            mend="refuse it with that reason (`--refuse`), or end what is there first",
        )
    version = next((r.version for r in records if r.id == request.id), "")
    step = replace(requests.step_of(request, name, version, there), by=by)
    return Asked(request, stands, step, _means(tenant, request), beside)


CHANGED = frozenset(("account", "team", "client", "principal", "role"))  # what can be changed, and keeps its id


def told(there: Beside) -> str:
    """In what something that is there differs from what is asked for."""

    def words(value: Any) -> str:
        inner = [str(v) for v in value] if isinstance(value, (list, tuple)) else [str(value)] if value is not None else []
        return str(plain(", ".join(inner))) or "nothing"

    return "; ".join(f"{name}: there {words(have)}, asked {words(want)}" for name, (have, want) in there.different.items())


def _means(tenant: Tenant, request: Request) -> tuple[tuple[str, str, str], ...]:
    """What every id that would be sent stands for here, looked up by us. Raises FileError, SomebodyError."""
    out = []
    for one in requests.references(request):
        queries = [Query(k, "id", one.id) for k in one.kinds if tenant.profile.carried(k) is not None]
        facts = tenant.facts(queries)
        records = [r for q in queries for r in facts[q].records]
        hidden = next((facts[q].unknown for q in queries if not facts[q].known), "")
        if hidden and not records:
            raise SomebodyError(
                f"the {one.label} it names by {one.id} cannot be looked up: {hidden}",
                where=request.tenant,
                mend="ask with an administrator who may look",
            )
        if not records and one.label == "about" and request.do in (requests.END, requests.TAKE):
            continue  # it has ended already
        out.append((one.label, one.id, requests.standing_for(one, records)))
    return tuple(out)


def uid_of(digest: str) -> str:
    """The stream in the ledger of what is done for a request."""
    return f"request-{digest[:12]}"


# --- what is known of it from now on ----------------------------------------------------------------------------------
def note_replaced(office: Office, found: Arrived) -> None:
    """Those in whose place these are asked are answered no more, if the same key signed them."""
    for asked in found.asked:
        for digest in asked.request.replaces:
            _note(office, digest, found.key_id, "replaced", f"request {asked.request.number} is asked in its place")


def take_withdrawal(office: Office, body: Mapping[str, Any], signer: signed.Signer, where: str) -> list[tuple[str, str]]:
    """Write down that requests are withdrawn: each, and when it was carried out here, if it was. Raises FileError."""
    digests, numbers = body.get("requests"), body.get("numbers")
    if (
        body.get("kind") != WITHDRAWAL
        or not isinstance(digests, list)
        or not isinstance(numbers, list)
        or len(digests) != len(numbers)
        or not all(isinstance(d, str) for d in digests)
    ):
        raise FileError(
            "this is not a withdrawal that this version understands", where=where, mend="ask its sender for it anew"
        )
    out = list[tuple[str, str]]()
    for digest, number in zip(digests, numbers, strict=True):
        _note(office, digest, signer.key_id, "withdrawn", str(plain(body.get("because"))) or "no reason is given")
        done = next((e.at for e in office.books.ledger().entries(uid_of(digest), kind=history.RECEIVED)), "")
        out.append((str(plain(number)), done))
    return out


def _note(office: Office, digest: str, key: str, state: str, why: str) -> None:
    ledger, uid = office.books.writable_ledger(), uid_of(digest)
    with ledger.claim(CLAIM, BRIEFLY_SECONDS):
        if not any((e.body["key"], e.body["state"]) == (key, state) for e in ledger.entries(uid, kind=history.NOTED)):
            ledger.append([Fresh(history.NOTED, uid, {"digest": digest, "key": key, "state": state, "why": why})])


# --- answering --------------------------------------------------------------------------------------------------------
def answer(office: Office, found: Arrived) -> tuple[Path | None, list[SigillumError]]:
    """Carry out what is asked, and write the receipt of what was done beside the file; what stopped the rest. Raises
    MachineError.
    """
    answers, problems = list[dict[str, Any]](), list[SigillumError]()
    with office.books.writable_ledger().claim(CLAIM, 0.0):
        for asked in found.asked:
            problem = None if asked.stands else _carried_out(office, found, asked, answers)
            if problem is not None:
                problems.append(problem)
            elif asked.stands:
                identity = asked.stands.id if isinstance(asked.stands, Record) else asked.request.id
                answers.append(_answer(asked.request, made=False, id=identity))
        if not answers:
            return None, problems
        return _receipt(
            office, found.path, found.file, answers, by=found.hand, now=time_of(office.tenants.reach(found.tenant))
        ), problems


def _carried_out(office: Office, found: Arrived, asked: Asked, answers: list[dict[str, Any]]) -> SigillumError | None:
    """Carry one out; why it was not."""
    request, uid = asked.request, uid_of(asked.request.digest)
    about = {"about": request.about, "charter": request.charter, "tenant": found.tenant, "digest": request.digest}
    office.books.writable_ledger().append([Fresh(history.RECEIVED, uid, about)])
    results = list[Any]()
    ports = office.ports(uid, request.charter, nothing, nothing, nothing, external_id=request.mark)
    Carrying(ports, office.books.state(uid)).run(Outline(uid, (asked.step,)), results.append)
    if results[0].state is not Became.DONE:
        return results[0].error or SomebodyError("it was not carried out", where=found.tenant)
    there = asked.changes.id if asked.changes is not None else request.id
    answers.append(_answer(request, made=asked.changes is None, id=str(results[0].yields.get("id") or there)))
    return None


def refuse(office: Office, path: Path, why: str, only: Sequence[int] = ()) -> tuple[list[Request], Path]:
    """Say, signed, that something is not done, and why; it is not answered here any more. Raises FileError, UsageError."""
    body, signer = opened(office, path)
    file = requests.read(body, str(path))
    wanted = _meant(file, only, path)
    for request in wanted:
        _note(office, request.digest, signer.key_id, "refused", f"{why} ({writer_name()})")
    answers = [_answer(r, made=False, refused=why) for r in wanted]
    return wanted, _receipt(office, path, file, answers, by=writer_name(), now=whole_second(datetime.now(UTC)))


def tell(office: Office, path: Path, value: str, known: Sequence[str] = ()) -> tuple[Request, Path]:
    """Answer a request for a value: check it against its form, and write the receipt.

    Raises FileError, UsageError, SomebodyError.
    """
    body, signer = opened(office, path)
    (request, *_) = requests.read(body, str(path))
    if request.do != requests.TELL:
        raise UsageError("it asks for something to be done, not told", where=str(path), mend="leave --value out")
    if signer.key_id not in office.trusted(known, ours=True):
        raise SomebodyError(
            f"the request is {signer_words(office, signer.key_id)}",
            where=str(path),
            mend="compare the thumbprint with its sender on another way, and say `--from THUMBPRINT`",
        )
    now = whole_second(datetime.now(UTC))
    if why := _over(office, request, signer.key_id, now):
        raise SomebodyError(
            f"request {request.number} {why}", where=str(path), mend="ask its sender whether it is still wanted"
        )
    form = str(request.values.get("form", ""))
    if not fits(value, form):
        raise UsageError(
            f"{value!r} does not look as it has to{f': {form}' if form else ''}",
            where="--value",
            mend="it is one line of text, and fits the form whole",
        )
    return request, _receipt(office, path, (request,), [_answer(request, made=False, value=value)], by=writer_name(), now=now)


def _answer(request: Request, *, made: bool, **more: str) -> dict[str, Any]:
    return {"request": request.digest, "number": request.number, "do": request.do, "about": request.about, "made": made, **more}


def _receipt(
    office: Office, path: Path, of: Sequence[Request], answers: list[dict[str, Any]], *, by: str, now: datetime
) -> Path:
    """Beside the request; one that answers a part of a file names the numbers. `of`: all that the file holds."""
    part = "" if len(answers) == len(of) else "." + "-".join(str(a["number"]) for a in answers)
    receipt = path.with_name(f"{path.stem}{part}.receipt.json")
    body = {"kind": RECEIPT, "tenant": of[0].tenant, "charter": of[0].charter, "by": by, "at": format_instant(now)}
    put(receipt, signed.sign({**body, "answers": answers}, office.books.signing_key()))
    return receipt
