"""The work sheet: what a person does at a tenant by hand, numbered, with exact values; and the answers that come back."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from sigillum.core.charter.charter import Charter, ProofWant
from sigillum.core.kinds.changes import Make, resolved
from sigillum.core.records.steps import DOING, Catch, Kept, Outline, Prove, Step
from sigillum.core.values.errors import MachineError
from sigillum.core.values.marks import Ref, StepId
from sigillum.core.values.times import format_instant, whole_second
from sigillum.tenants.by_hand.lines import KEPT_HERE, Line, keyed, line_of, secret_line
from sigillum.workflows.desk.office import Office

FOLDER = "worksheets"


def lines(name: str, charter: Charter | None, outline: Outline, by_hand: frozenset[str]) -> list[tuple[Step, Line]]:
    """The steps that a person does, as lines; what an earlier line brings is named by its number. `name`: of the charter."""
    steps = [s for s in outline.steps if s.tenant in by_hand and isinstance(s.action, (*DOING, Catch, Prove))]
    numbers = {s.id: n for n, s in enumerate(steps, 1)}
    out = list[tuple[Step, Line]]()
    for step in steps:
        if isinstance(step.action, Prove):
            assert charter is not None
            for proof in _proofs(charter, step.action):
                tenant = proof.tenant or charter.tenant
                line = Line(f"may {proof.permission} at {proof.at}", f"try: {proof.words()}", question=True)
                out += [(step, keyed(line, tenant, name))] if tenant in by_hand else []
        else:
            out.append((step, keyed(_line(step, steps, numbers), step.tenant, f"{name}/{step.id.generation}")))
    return out


def _proofs(charter: Charter, prove: Prove) -> tuple[ProofWant, ...]:
    return charter.proofs if prove.proofs is None else tuple(charter.proofs[n] for n in prove.proofs)


def _line(step: Step, steps: list[Step], numbers: Mapping[StepId, int]) -> Line:
    def value(given: Any) -> Any:
        if isinstance(given, Ref):
            return f"(from line {numbers[given.step]})" if given.step in numbers else "(made here when it comes to that)"
        return KEPT_HERE if isinstance(given, Kept) else given

    if isinstance(step.action, Catch):
        made = next((s.action for s in steps if s.mark == step.mark and isinstance(s.action, Make)), None)
        principal = str(value(made.part["principal"])) if made is not None else "as the page shows"
        return secret_line(step.action.credential, str(value(step.action.id)), principal)
    assert step.doing is not None
    return line_of(resolved(step.doing, value))


def _back(line: Line) -> tuple[str, str]:
    """What comes back from a line, and how that is written into a file of answers."""
    if line.wants_id:
        return "its id", "{id: '...'}"
    if line.wants_secret:
        return "the secret, into Sigillum and nowhere else", f"{{secret: 'file:...', for: '{line.whose}'}}"
    return ("true or false", "{answer: ...}") if line.question else ("a yes, when it is done", "{answer: true}")


def write(office: Office, charter: Charter, outline: Outline) -> Path | None:
    """Write the sheet of a charter, where a person has something to do. Raises MachineError."""
    by_hand = office.tenants.by_person((charter.tenant, *charter.elsewhere))
    found = lines(charter.name, charter, outline, by_hand) if by_hand else []
    return _written(office, charter.name, f"{charter.purpose}. ", f"; owner {charter.owner}", by_hand, found)


def write_steps(office: Office, name: str, steps: tuple[Step, ...]) -> Path | None:
    """The same for steps that are no outline of a charter: of a rotation, a suspension, a retirement. Raises MachineError."""
    by_hand = office.tenants.by_person(dict.fromkeys(s.tenant for s in steps))
    doing = Outline(name, tuple(s for s in steps if not isinstance(s.action, Prove)))
    return _written(office, name, "", "", by_hand, lines(name, None, doing, by_hand) if by_hand else [])


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
        back, wanted = _back(line)
        text += [f"Comes back: {back}.", f"In a file of answers: `{line.key}: {wanted}`"]
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
