"""The work sheet: what a person does at a tenant by hand, numbered, with exact values; and the answers that come back."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from sigillum.core.charter.charter import Charter, ProofWant
from sigillum.core.kinds.changes import resolved
from sigillum.core.records.steps import DOING, Catch, Kept, Outline, Prove, Step
from sigillum.core.values.errors import FileError, MachineError
from sigillum.core.values.marks import Ref, StepId
from sigillum.core.values.times import format_instant, whole_second
from sigillum.tenants.by_hand.lines import KEPT_HERE, Answer, Confirm, Line, line_of, secret_line
from sigillum.workflows.desk.books import writer_name
from sigillum.workflows.desk.office import Office

FOLDER = "worksheets"


def lines(charter: Charter | None, outline: Outline, by_hand: frozenset[str]) -> list[tuple[Step, Line]]:
    """The steps that a person does, as lines; what an earlier line brings is named by its number."""
    steps = [s for s in outline.steps if s.tenant in by_hand and isinstance(s.action, (*DOING, Catch, Prove))]
    numbers = {s.id: n for n, s in enumerate(steps, 1)}
    out = list[tuple[Step, Line]]()
    for step in steps:
        if isinstance(step.action, Prove):
            assert charter is not None
            out += [
                (step, Line(f"may {p.permission} at {p.at}", f"try: {p.words()}", question=True))
                for p in _proofs(charter, step.action)
                if (p.tenant or charter.tenant) in by_hand
            ]
        else:
            out.append((step, _line(step, numbers)))
    return out


def _proofs(charter: Charter, prove: Prove) -> tuple[ProofWant, ...]:
    return charter.proofs if prove.proofs is None else tuple(charter.proofs[n] for n in prove.proofs)


def _line(step: Step, numbers: Mapping[StepId, int]) -> Line:
    def value(given: Any) -> Any:
        if isinstance(given, Ref):
            return f"(from line {numbers[given.step]})" if given.step in numbers else "(made here when it comes to that)"
        return KEPT_HERE if isinstance(given, Kept) else given

    if isinstance(step.action, Catch):
        return secret_line(step.action.credential, str(value(step.action.id)))
    assert step.doing is not None
    return line_of(resolved(step.doing, value))


def write(office: Office, charter: Charter, outline: Outline) -> Path | None:
    """Write the sheet of a charter, where a person has something to do. Raises MachineError."""
    by_hand = office.tenants.by_person((charter.tenant, *charter.elsewhere))
    found = lines(charter, outline, by_hand) if by_hand else []
    return _written(office, charter.name, f"{charter.purpose}. ", f"; owner {charter.owner}", by_hand, found)


def write_steps(office: Office, name: str, steps: tuple[Step, ...]) -> Path | None:
    """The same for steps that are no outline of a charter: of a rotation, a suspension, a retirement. Raises MachineError."""
    by_hand = office.tenants.by_person(dict.fromkeys(s.tenant for s in steps))
    doing = Outline(name, tuple(s for s in steps if not isinstance(s.action, Prove)))
    return _written(office, name, "", "", by_hand, lines(None, doing, by_hand) if by_hand else [])


def _written(
    office: Office, name: str, before: str, after: str, by_hand: frozenset[str], found: list[tuple[Step, Line]]
) -> Path | None:
    if not found:
        return None
    path, tenants = office.workspace.folder / FOLDER / f"{name}.md", office.workspace.file.tenants
    now = format_instant(whole_second(office.tenants.now(min(by_hand))))
    text = [
        f"# Work sheet for {name}",
        "",
        f"{before}Written at {now}{after}.",
        *(f"Tenant {t}: {tenants[t].address}" for t in sorted(by_hand)),
        "",
    ]
    for number, (step, line) in enumerate(found, 1):
        text += [f"## {number}. {line.what[0].upper()}{line.what[1:]}", "", *(f"- {n}: `{v}`" for n, v in line.values)]
        text += [f"- why: {step.why}"] if step.why and not line.question else []
        text += ["", f"Look afterwards: {line.look}."] if line.look else []
        back = {(True, False): "its id", (False, True): "the secret, into Sigillum and nowhere else"}.get(
            (line.wants_id, line.wants_secret), "yes or no" if line.question else ""
        )
        text += [f"Comes back: {back}."] if back else []
        text += [f"In a file of answers: `{line.key}`"]
        text += ["Done by: ____________  at: ____________", ""]
    try:
        path.parent.mkdir(exist_ok=True)
        path.write_text("\n".join(text), encoding="utf-8")
    except OSError as problem:
        raise MachineError(
            f"the work sheet cannot be written: {problem.strerror}",
            where=str(path),
            mend="mend that, then run the same command again",
        ) from problem
    return path


def from_file(path: Path, folder: Path) -> Confirm:
    """Answers that were written down: line -> {id, secret: REFERENCE, yes, by}. Raises FileError."""
    from sigillum.keeping.references import is_reference, resolve
    from sigillum.reading.document import parse, read_text

    found = parse(read_text(path, str(path)), str(path)).data
    if not isinstance(found, dict) or not all(isinstance(v, dict) for v in found.values()):
        raise FileError(
            "it holds no answers", where=str(path), mend="write `LINE: {id: ..., by: ...}`, as docs/by-hand.md shows"
        )
    for name, given in found.items():
        if "secret" in given and not is_reference(str(given["secret"])):
            raise FileError(
                f"{name}: a secret stands here itself instead of a reference to it",
                where=str(path),
                mend="write env:NAME or file:PATH, and replace the secret, since it may have been seen",
            )

    def confirm(line: Line) -> Answer | None:
        given = found.get(line.key)
        if given is None:
            return None
        secret = resolve(str(given["secret"]), folder) if "secret" in given else None
        return Answer(str(given.get("by") or writer_name()), str(given.get("id", "")), secret, given.get("yes") is not False)

    return confirm
