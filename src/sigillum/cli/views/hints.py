"""Which of our commands and options helps, by the code of what was found. The core knows no commands."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from sigillum.core.values.errors import FileError, Mistake, SigillumError, StoppedError

if TYPE_CHECKING:
    from sigillum.core.deciding.waiting import Outlook

_INSPECT = "look at `sigillum tenant inspect`"
COMMANDS = {
    "tenant-unknown": "add one with `sigillum tenant add`",
    "role-unknown": _INSPECT,
    "place-unknown": "`sigillum tenant places [UNDER]` lists them",
    "place-not-in-tree": "`sigillum tenant places` lists them",
    "grant-extra": "`--end-extra` ends it",
    "breaks-cannot-kept": "say `--end`: it ends in the stage prod what the charter no longer asks for",
    "profile-old": "`sigillum trust profile` writes it again",
    "rotating": "`sigillum rotate --status` says what it waits for",
    "credential-due-gap": "`sigillum rotate --gap` does it when you say",
    "credential-due": "then `sigillum rotate` does the rest",
    "credential-elsewhere": "`sigillum key take` brings a found key here, `sigillum rotate` makes one that is here",
    "credential-shared": "`sigillum charter split` drafts a charter for each",
    "retired": "`sigillum enact --revive` begins it anew under the same name",
    "never-here": "`sigillum tenant inspect` shows what can stand there",
    # causes of refusals
    "facts-unknown": "`sigillum explain --ask-tenant` asks the tenant itself",
    "sign-in-refused": "`sigillum explain --sign-in` names the rule",
    "suspended": "`sigillum reinstate` brings it back",
    "not-felt": "`sigillum prove --wait` waits for it",
    "permission-unknown": "`sigillum tenant inspect` lists them",
    "not-consented": "`sigillum enact` writes the request",
    # outlooks
    "differs": "`sigillum explain --ask-tenant` compares both",
}


def advised(code: str, said: str) -> str:
    """What mends it: what the core says, and the command that helps, where there is one; a near miss says enough."""
    command = COMMANDS.get(code, "")
    if not command or said.startswith("did you mean"):
        return said
    return f"{said}; {command}" if said else command


def outlook_mend(outlook: Outlook) -> str:
    """What mends what a proof met; where facts and tenant differ, both can be compared."""
    if outlook.state == "unclear" and not outlook.mend:
        return advised("differs", "")
    return advised(outlook.cause, outlook.mend) if outlook.mend else ""


def mistake_json(mistake: Mistake) -> dict[str, Any]:
    """A mistake in the form that JSON has of it everywhere."""
    return {
        "code": mistake.code,
        "what": mistake.what,
        "do": advised(mistake.code, mistake.mend),
        "where": str(mistake.position or ""),
    }


def problem_lines(problem: SigillumError | None) -> list[str]:
    """An error in its three parts: what, where, what to do; that a person stopped it is told once, at the end."""
    if problem is None or isinstance(problem, StoppedError):
        return []
    return [
        problem.what,
        *([f"where  {problem.where}"] if problem.where else []),
        *([f"do     {problem.mend}"] if problem.mend else []),
    ]


def problem_json(problem: SigillumError) -> dict[str, Any]:
    """An error in the form that JSON has of it everywhere; of a file, with every mistake in it."""
    mistakes = problem.mistakes if isinstance(problem, FileError) else ()
    return {
        "code": problem.code,
        "exit": int(problem.outcome),
        "what": problem.what,
        "where": problem.where,
        "do": problem.mend,
        **({"mistakes": [mistake_json(m) for m in mistakes]} if mistakes else {}),
    }


REFUSALS_TRIED = """
## To try it

In the example's workspace, with its sandbox and the tenant `summit` as the [guide](guide.md) begins. While the account is off,
everything is refused, so no `cannot` is shown by it: `prove` ends with 4.

```sh
sigillum enact wind-ingest
sigillum explain wind-ingest stream.delete brindlemoor/sensing-prod/streams/mast-4    # 1: role-lacks, which shows a `cannot`
sigillum explain wind-ingest stream.delete brindlemoor/nowhere                        # 2: there is no such place
sigillum suspend wind-ingest --because 'mast 4 is being moved' --for 2h
sigillum explain wind-ingest stream.delete brindlemoor/sensing-prod/streams/mast-4    # 1: suspended
sigillum prove wind-ingest                                                            # 4: nobody can sign in
sigillum reinstate wind-ingest --because 'mast 4 is back'
sigillum prove wind-ingest
```
"""


def refusals_page() -> str:
    """docs/refusals.md, whole."""
    from sigillum.core.deciding.refusals import ABOUT, Cause
    from sigillum.core.deciding.shown import worth

    lines = [
        "# Refusals",
        "",
        "Why something is refused: the causes that `sigillum explain` names, in the order in which it names them when",
        "several hold. The list is closed, and this page is made from the code.",
        "",
        "A refusal that a charter wishes (`cannot`) holds only where it shows that the right is what is missing:",
        "where it would be refused as well if everything else were in order. A wrong name, a sign-in that fails (401)",
        "and an answer 404 show nothing. Where a tenant does not show what decides, a control shows it: a `can` that",
        "held in the same run, at the same place, by the same service.",
        "",
        "| code | meaning | what mends it | what it shows alone |",
        "|---|---|---|---|",
    ]
    lines += [
        f"| `{cause}` | {ABOUT[cause].meaning} | {advised(cause, ABOUT[cause].mend.rstrip('.'))}. | {worth(cause)} |"
        for cause in Cause
        if cause in ABOUT
    ]
    return "\n".join(lines) + "\n" + REFUSALS_TRIED
