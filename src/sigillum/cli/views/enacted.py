"""What enacting and proving did, as text and JSON."""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sigillum.core.deciding.proofs import Manner, Result
from sigillum.core.values.times import format_instant
from sigillum.workflows.enacting.carrying.make import TakenError
from sigillum.workflows.enacting.enact import Enacted
from sigillum.workflows.proving.prove import ProofReport

from .common import Ident
from .hints import outlook_mend, problem_json, problem_lines
from .rehearsal import collision
from .steps import step_rows
from .words import closing, plural

_HELD = {True: ("holds", "green"), False: ("does not hold", "bold red"), None: ("not known", "yellow")}


def text(done: Enacted, ident: Ident) -> RenderableType:
    """Each step with what became of it, the proofs, and one closing line."""
    parts: list[RenderableType] = [Text.assemble((done.charter.name, "bold"), f"  {done.charter.purpose}")]
    if done.results:
        parts += ["", step_rows(done.results)]
    for result in done.results:
        if isinstance(result.error, TakenError):
            parts += ["", collision(result.error.collision, ident)]
    if done.proofs is not None:
        parts += ["", proofs(done.proofs, ident)]
    for turned in done.rotations:
        from .rotations import rotated

        parts += ["", rotated(turned, ident)]
    for line in problem_lines(done.error):
        parts.append(Text(line, "red"))
    parts += ["", Text(closing(done), style="bold")]
    return Group(*parts)


def proofs(report: ProofReport, ident: Ident) -> RenderableType:
    """The proofs: verdict, how it was put to the test, the expectation, and what was said to it; before and after."""
    made = Table.grid(padding=(0, 2, 0, 0))
    for _ in range(3 if report.before else 2):
        made.add_column(no_wrap=True)
    made.add_column(overflow="fold")
    if report.before:
        made.add_row(*(Text(h, "bold") for h in ("before", "now", "", "")))
    for result in report.results:
        word, style = _verdict(result)
        was = [Text(*_HELD[report.before.get(result.proof.words())])] if report.before else []
        made.add_row(*was, Text(word, style), str(result.manner), Text(result.proof.words()))
        blank = [""] * (3 if report.before else 2)
        made.add_row(*blank, Text(result.said, "dim"))
        if why := report.before_why.get(result.proof.words()):
            made.add_row(*blank, Text(f"before: {why}", "dim"))
        if result.outlook is not None and result.held is not True:
            if result.outlook.text != result.said:
                made.add_row(*blank, Text(result.outlook.text))
            mend = outlook_mend(result.outlook)
            if mend:
                made.add_row(*blank, Text(f"do: {mend}"))
    who = Text.assemble(
        "ran as ",
        (ident(report.principal), "bold"),
        f", with {report.credential}" if report.credential else "",
        "\n",
        (_said(report, ident), "dim"),
    )
    return Group(who, "", made)


def report(found: ProofReport, ident: Ident) -> RenderableType:
    """The proofs of one charter, under its name; or why they could not be tried."""
    head = Text(found.charter, "bold")
    if found.failed is not None:
        return Group(head, *(Text(line, "red") for line in problem_lines(found.failed)), "")
    return Group(head, proofs(found, ident), "", Text(proof_summary(found), "bold"))


def _verdict(result: Result) -> tuple[str, str]:
    if result.held is not True and result.outlook is not None and result.outlook.state == "not-yet":
        return "not yet", "yellow"
    if result.held is None and result.said.startswith("not shown"):
        return "not shown", "bold red"
    return _HELD[result.held]


def _said(report: ProofReport, ident: Ident) -> str:
    return report.ran_as.replace(report.principal, ident(report.principal))


def proof_summary(report: ProofReport) -> str:
    early = sum(1 for r in report.results if _verdict(r)[0] == "not yet")
    worthless = sum(1 for r in report.results if _verdict(r)[0] == "not shown")
    wrong = sum(1 for r in report.results if r.held is False and _verdict(r)[0] != "not yet")
    unknown = sum(1 for r in report.results if r.held is None and _verdict(r)[0] not in ("not yet", "not shown"))
    untried = [(sum(1 for r in report.results if r.manner == manner), manner) for manner in (Manner.ASKED, Manner.DECIDED)]
    told = f"{plural(len(report.results), 'proof')}: {len(report.results) - wrong - unknown - early - worthless} hold"
    told += f", {wrong} do not" if wrong else ""
    told += f", {early} not yet" if early else ""
    told += f", {worthless} not shown" if worthless else ""
    told += f", {unknown} not known" if unknown else ""
    told += "".join(f"; {count} {manner}" for count, manner in untried if count)
    if report.recorded_before:
        return f"{told}. Recorded: the next proofs show before and after."
    return told + (f"; waited {report.waited_seconds:.0f} s." if report.waited_seconds >= 1 else ".")


def proofs_json(report: ProofReport) -> dict[str, Any]:
    return {
        "charter": report.charter,
        "principal": report.principal,
        "ran_as": report.ran_as,
        "credential": report.credential,
        "held": report.held,
        "proofs": [_result(r) for r in report.results],
        "before": dict(report.before),
        "before_why": dict(report.before_why),
        "waited_seconds": round(report.waited_seconds, 1),
        **({"error": problem_json(report.failed)} if report.failed is not None else {}),
    }


def _result(result: Result) -> dict[str, Any]:
    return {
        "expectation": result.proof.words(),
        "held": result.held,
        "how": str(result.manner),
        "said": result.said,
        "capped": result.capped,
        "outlook": {
            "state": o.state,
            "cause": str(o.cause),
            "text": o.text,
            "do": outlook_mend(o),
            "due": format_instant(o.due) if o.due else None,
        }
        if (o := result.outlook) is not None
        else None,
    }


def as_json(done: Enacted) -> dict[str, Any]:
    return {
        "charter": done.charter.name,
        "outcome": int(done.outcome()),
        "summary": closing(done),
        "steps": [
            {
                "id": str(r.step.id),
                "step": str(r.step.kind),
                "about": r.step.about,
                "state": str(r.state),
                **({"error": problem_json(r.error)} if r.error else {}),
            }
            for r in done.results
        ],
        "proofs": proofs_json(done.proofs) if done.proofs is not None else None,
        **({"rotations": _rotations(done)} if done.rotations else {}),
        **({"error": problem_json(done.error)} if done.error else {}),
    }


def _rotations(done: Enacted) -> list[dict[str, Any]]:
    from .rotations import as_json as one_json

    return [one_json(r) for r in done.rotations]
