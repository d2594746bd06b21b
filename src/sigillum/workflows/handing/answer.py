"""Answering requests that arrived: compare them again, carry them out where the power is or refuse them, and write a signed
receipt.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.registry import KINDS
from sigillum.core.records import history, requests
from sigillum.core.records.requests import Beside, Request
from sigillum.core.records.steps import Outline, Step, StepKind
from sigillum.core.values.errors import MachineError, SigillumError, SomebodyError
from sigillum.core.values.text import plain
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk.office import CLAIM, Office, nothing
from sigillum.workflows.desk.tenants import time_of
from sigillum.workflows.enacting.carrying.run import Became, Carrying

from .arrived import Letter, answer_to, meant, note, over, uid_of, write_receipt
from .requests import signer_words
from .sent import shows_marks


@dataclass(frozen=True, slots=True)
class Asked:
    """One request, compared again: `stands` where it is so already, else `step`. `means`: every id that would be sent, as what,
    itself, and what it is there; `beside`: what is like it and there already. `after`: those that have to be carried out
    before; it is compared then.
    """

    request: Request  # as it was sent
    given: Request  # with the results of others that are there already
    stands: Record[Any] | bool
    step: Step | None
    means: tuple[tuple[str, str, str], ...] = ()
    beside: tuple[Beside, ...] = ()
    after: tuple[int, ...] = ()

    @property
    def changes(self) -> Beside | None:
        """What is there already and would be changed, where that was asked to be made."""
        return next((b for b in self.beside if b.itself), None)


@dataclass(frozen=True, slots=True)
class Arrived:
    """A file of requests that arrived. `known`: is its signer known here? `left`: those that are answered no more, and why."""

    letter: Letter
    signer: str
    known: bool
    tenant: str
    hand: str
    by: str  # the same, where it is not the usual administrator
    asked: tuple[Asked, ...]
    left: tuple[tuple[Request, str], ...] = ()

    @property
    def stands(self) -> bool:
        """Is all of it so already?"""
        return all(a.stands for a in self.asked)


def compare(office: Office, letter: Letter, known: Sequence[str] = (), only: Sequence[int] = ()) -> Arrived:
    """Compare the requests of a file with their tenant. `known`: thumbprints beside those in sigillum.yaml; `only`: the
    numbers of those that are meant.

    Raises FileError, UsageError, SomebodyError.
    """
    path, signer = letter.path, letter.signer
    wanted = meant(letter, only)
    name, able, usual = _able(office, wanted, path)
    tenant, by = office.tenants.reach(name), "" if able == usual else able
    asked, left = list[Asked](), list[tuple[Request, str]]()
    for request in wanted:
        why = over(office, request, signer.key_id, time_of(tenant))
        late = {a.request.number for a in asked if not a.stands}.intersection(request.after)
        if not why:  # what is not meant now, or is answered no more, may have been done before
            others = [r for r in letter.requests if r.number in request.after and r.number not in late]
            results, missing = _done_before(tenant, others)
            why = f"has to come after request {missing[0]}, which was not carried out" if missing else ""
            unknown = [of for _, of in request.given(results).needs if of.number not in late]
            why = why or (f"needs {unknown[0]}, which is not shown" if unknown else "")
        if why:
            left.append((request, why))
        elif late:
            given = request.given(results)
            asked.append(Asked(request, given, False, None, _means(tenant, given), after=tuple(sorted(late))))
        else:
            asked.append(_compared(tenant, name, request.given(results), by, request))
    if not asked:
        raise SomebodyError(
            "; ".join(f"request {r.number} {why}" for r, why in left),
            where=str(path),
            mend="ask its sender whether it is still wanted; nothing was done",
        )
    return Arrived(
        letter,
        signer_words(office, signer.key_id, known),
        signer.key_id in office.trusted(known, ours=True),
        name,
        able,
        by,
        tuple(asked),
        tuple(left),
    )


def _done_before(tenant: Tenant, before: Sequence[Request]) -> tuple[dict[int, dict[str, str]], list[int]]:
    """What others of a file gave that were done before now, by number; and those that were not done, as far as can be seen."""
    results, missing = dict[int, dict[str, str]](), list[int]()
    for request in before:  # in the order of the file: each may need those before it
        given = request.given(results)
        record = None if given.needs else _done(tenant, given, request.mark)
        if isinstance(record, Record):
            results[request.number] = requests.results_of(record)
        elif not record:
            missing.append(request.number)
    return results, missing


def _done(tenant: Tenant, request: Request, mark: str) -> Record[Any] | bool:
    """What stands as a request asks for it, or was made for it."""
    asked, kind = requests.queries(request), KINDS[request.thing]
    marked = [Query(kind, "mark", mark)] if request.do == requests.MAKE and shows_marks(tenant, kind) else []
    facts = tenant.facts([*asked, *marked])
    found = requests.fulfilled(request, tuple(r for q in asked for r in facts[q].records), tenant.profile.carried(kind))
    return found or next((r for q in marked for r in facts[q].records if r.mark == mark), False)


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


def _compared(tenant: Tenant, name: str, request: Request, by: str, sent: Request, made: frozenset[str] = frozenset()) -> Asked:
    """`request` with the results that it needs in their places; `sent`: as it stands in the file; `made`: ids of what was made
    just now, by us.
    """
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
    step = replace(requests.step_of(request, sent.digest, name, version, there), by=by)
    return Asked(sent, request, stands, step, _means(tenant, request, made), beside)


CHANGED = frozenset(("account", "team", "client", "principal", "role"))  # what can be changed, and keeps its id


def told(there: Beside) -> str:
    """In what something that is there differs from what is asked for."""

    def words(value: Any) -> str:
        inner = [str(v) for v in value] if isinstance(value, (list, tuple)) else [str(value)] if value is not None else []
        return str(plain(", ".join(inner))) or "nothing"

    return "; ".join(f"{name}: there {words(have)}, asked {words(want)}" for name, (have, want) in there.different.items())


def _means(tenant: Tenant, request: Request, made: frozenset[str] = frozenset()) -> tuple[tuple[str, str, str], ...]:
    """What every id that would be sent stands for here, looked up by us. Raises FileError, SomebodyError."""
    out = []
    for one in requests.references(request):
        if one.id in made:
            continue  # as it was agreed to; look-ups may not show it yet
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


def note_replaced(office: Office, found: Arrived) -> None:
    """Those in whose place these are asked are answered no more, if the same key signed them."""
    for asked in found.asked:
        for digest in asked.request.replaces:
            note(
                office, digest, found.letter.signer.key_id, "replaced", f"request {asked.request.number} is asked in its place"
            )


# --- answering --------------------------------------------------------------------------------------------------------
def answer(office: Office, found: Arrived) -> tuple[Path | None, list[SigillumError]]:
    """Carry out what is asked, and write the receipt of what was done beside the file; what stopped the rest. Raises
    MachineError.
    """
    answers, problems = list[dict[str, Any]](), list[SigillumError]()
    with office.books.writable_ledger().claim(CLAIM, 0.0):
        for asked in found.asked:
            try:
                answers.append(_one(office, found, asked, {a["number"]: _results(a) for a in answers}))
            except MachineError:
                raise
            except SigillumError as problem:
                problems.append(problem)
        if not answers:
            return None, problems
        return write_receipt(
            office, found.letter, answers, by=found.hand, now=time_of(office.tenants.reach(found.tenant))
        ), problems


def _one(office: Office, found: Arrived, asked: Asked, done: Mapping[int, Mapping[str, str]]) -> dict[str, Any]:
    """The answer to one request, which is carried out if it has to be. `done`: what those gave that have an answer by now."""
    if asked.step is None:  # compared only now: what it waited for is there
        given, missing = asked.given.given(done), set(asked.after).difference(done)
        why = f"it has to come after request {min(missing)}, which was not carried out either" if missing else ""
        why = why or (f"{given.needs[0][1]} is not shown" if given.needs else "")
        if why:
            raise SomebodyError(
                f"request {given.number} was not carried out: {why}",
                where=found.tenant,
                mend="answer the file again: what was done has its receipt",
            )
        made = frozenset(results[requests.ID] for results in done.values())
        asked = _compared(office.tenants.reach(found.tenant), found.tenant, given, found.by, asked.request, made)
    if asked.stands or asked.step is None:
        there = requests.results_of(asked.stands) if isinstance(asked.stands, Record) else {requests.ID: asked.given.id}
        return answer_to(asked.request, made=False, **_gives(there))
    return _carried_out(office, found, asked, asked.step)


def _results(answer: Mapping[str, Any]) -> dict[str, str]:
    return {requests.ID: answer[requests.ID], **answer.get("gives", {})}


def _gives(results: Mapping[str, str]) -> dict[str, Any]:
    """The id of what stands, and what others may need of it."""
    more = {n: v for n, v in results.items() if n != requests.ID}
    return {"id": results[requests.ID], **({"gives": more} if more else {})}


def _carried_out(office: Office, found: Arrived, asked: Asked, step: Step) -> dict[str, Any]:
    """Carry one out; what it gave. Raises SigillumError."""
    request, uid = asked.request, uid_of(asked.request.digest)
    about = {"about": request.about, "charter": request.charter, "tenant": found.tenant, "digest": request.digest}
    office.books.writable_ledger().append([Fresh(history.RECEIVED, uid, about)])
    results = list[Any]()
    ports = office.ports(uid, request.charter, nothing, nothing, nothing, external_id=request.mark)
    Carrying(ports, office.books.state(uid)).run(Outline(uid, (step,)), results.append)
    if results[0].state is not Became.DONE:
        raise results[0].error or SomebodyError("it was not carried out", where=found.tenant)
    yields, kind = results[0].yields, KINDS[request.thing]
    there = str(yields.get("id") or (asked.changes.id if asked.changes is not None else asked.given.id))
    gave = {n: v for n in kind.assigned if isinstance(v := yields.get(n), str) and v}
    if kind.assigned and not gave and step.kind is StepKind.CHANGE:  # a change gives nothing: what it has is read
        record = office.tenants.reach(found.tenant).read(kind, there)
        gave = requests.results_of(record) if record is not None else {}
    return answer_to(request, made=asked.changes is None, **_gives({**gave, requests.ID: there}))
