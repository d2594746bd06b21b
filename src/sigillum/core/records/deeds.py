"""What a ledger tells, in sentences: a line a change, with who acted in the tenant and who sat at the machine."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from sigillum.core.records import history
from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.history import AttemptOutcome, Verb
from sigillum.core.values.marks import Mark, mark_of

Body = Mapping[str, Any]
BY = "by"  # in an intent's body: the acting administrator
ODD = (LookupError, TypeError, ValueError, AttributeError)  # what a body that is not ours makes

_DONE = {
    Verb.MAKE: "made",
    Verb.CHANGE: "changed",
    Verb.ADD: "added",
    Verb.TAKE: "took away",
    Verb.END: "ended",
    Verb.FETCH: "fetched the secret of",
}
_TRIED = {
    Verb.MAKE: "make",
    Verb.CHANGE: "change",
    Verb.ADD: "add",
    Verb.TAKE: "take away",
    Verb.END: "end",
    Verb.FETCH: "fetch the secret of",
}
_BAD = (AttemptOutcome.REFUSED, AttemptOutcome.LOST, AttemptOutcome.SPENT)


class Deed(NamedTuple):
    """One sentence: when (this machine's time), of which stream, where, the administrator, the person, and what was done.

    `done` False: it was refused, lost, or its outcome is not known.
    """

    sequence: int
    at: str
    stream: str
    tenant: str
    administrator: str
    person: str
    what: str
    done: bool = True


def deeds(entries: Iterable[LedgerEntry], words: Callable[[Mark], str]) -> Iterator[Deed]:
    """Told as they come, each change when its outcome is written; those without one at the end. `words`: what a mark names."""
    begun = dict[int, LedgerEntry]()
    for entry in entries:
        try:
            if entry.kind == history.INTENT:
                begun[entry.sequence] = entry
            elif entry.kind == history.STAGED and entry.body["stage"] == "signed-in":
                continue  # that we used it ourselves matters to its rotation only
            elif entry.kind in (history.SEEN, history.HOLDS):
                continue  # that it was read back is a part of its making, and who uses it stands in the charter
            elif entry.kind != history.OUTCOME:
                yield _alone(entry, _sentence(entry, words))
            elif (intent := begun.pop(int(entry.body["attempt"]), None)) is not None:
                yield _settled(intent, entry, words)  # else its intent stands before the first that was asked for
        except ODD:
            yield _alone(entry, f"an entry that cannot be read ({entry.kind}); `ledger verify` tells more")._replace(done=False)
    for intent in begun.values():
        try:
            yield _settled(intent, None, words)
        except ODD:
            yield _alone(intent, "an intent that cannot be read; `ledger verify` tells more")._replace(done=False)


def _alone(entry: LedgerEntry, what: str) -> Deed:
    """An entry that stands for itself."""
    return Deed(
        entry.sequence,
        entry.at,
        entry.charter,
        str(entry.body.get("tenant", "")),
        str(entry.body.get(BY, "")),
        entry.writer,
        what,
    )


def _settled(intent: LedgerEntry, outcome: LedgerEntry | None, words: Callable[[Mark], str]) -> Deed:
    body, last = intent.body, outcome if outcome is not None else intent
    verb, thing = Verb(str(body["verb"])), words(mark_of(body))
    result, why = str(last.body.get("result", "")), str(last.body.get("why", ""))
    done = outcome is not None and result not in _BAD
    if done:
        what = f"{_switched(verb, body) or _DONE[verb]} {thing}"
    else:
        what = f"tried to {_TRIED[verb]} {thing}: {result if outcome is not None else 'its outcome is not known yet'}"
    if body.get("generation", 1) != 1 and verb is Verb.MAKE:
        what += f" (generation {body['generation']})"
    until = body.get("terms", {}).get("until") if verb is Verb.MAKE and isinstance(body.get("terms"), Mapping) else None
    what += f", until {until}" if until else ""
    what += f" ({why})" if why else ""
    what += " (answered, not seen: such things cannot be looked up there)" if last.body.get("seen") is False else ""
    return Deed(
        last.sequence,
        last.at,
        intent.charter,
        str(body["tenant"]),
        str(body.get(BY, "")),
        intent.writer,
        what + _accepted(body),
        done,
    )


def _switched(verb: Verb, body: Body) -> str:
    return f"switched {body[history.SWITCHES]}" if verb is Verb.CHANGE and body.get(history.SWITCHES) in ("on", "off") else ""


def _accepted(body: Body) -> str:
    """Who accepted a risk, why, and until when it is to be looked at again."""
    about = body.get("about") or {}
    return (
        f"; accepted by {about['accepted_by']} until {about['review']}: {about['why']}"
        if isinstance(about, Mapping) and "accepted_by" in about
        else ""
    )


def _proofs(count: int, held: int) -> str:
    result = "all hold" if held == count else f"{held} of them held"
    return f"proved {count} expectation{'s' if count != 1 else ''}: {result}"


def _lent(body: Body) -> str:
    grant = body["grant"]
    at = body.get("at") or grant["place"]
    return f"lent {grant['role']} at {at} to {body['principal_name']}, until {grant['until']}: {grant['reason']}"


def _requested(body: Body) -> str:
    return f"asked {body['request']['to'] or 'whoever has it'} by request {body['number']}: {body['request']['about']}"


def _until(body: Body) -> str:
    return f", until {body['until']}" if body.get("until") else ""


def _rotating(body: Body) -> str:
    return f"began to rotate {mark_of(body).get('name')}, from generation {body['old']} on: {body['because']}"


_STAGES = {
    "let-in": "was let in with the new {}",
    "accepted": "saw that the new {} is taken for sure",
    "given": "put the new {} where its consumers read it",
    "taken": "saw that the new {} is used",
    "token": "kept a token of the old {}, to be refused later",
    "dead": "saw that the old {} is refused",
    "cleared": "removed what was left of the old {} here",
    "gap-agreed": "was told to end the old {} first",
    "pause-agreed": "was told to switch the old {} off for a while first",
    "wanted-back": "was told that the old {} is missed",
    "bridge-agreed": "was told to register the key of the old {} again",
    "end-agreed": "was told to end the old {} at any rate",
    "word": "was told that the new {} is used",
    "signed-in": "signed in with {}",
    "last-used": "was told on which day the old {} was used last",
}


def _staged(body: Body) -> str:
    said = [str(body[n]) for n in ("how", "day", "until", "who", "accepted_by") if body.get(n)]
    how = f" ({', '.join(said)})" if said else ""
    return _STAGES[body["stage"]].format(mark_of(body).get("name")) + how


def _closed(body: Body) -> str:
    if body["undertaking"] in (history.ROTATION, history.SUSPENSION):
        return f"closed the {str(body['number']).replace('-', ' ')}: {body['how']}"
    of = f"the {str(body['number']).replace('-', ' ')}" if body["undertaking"] == "loan" else f"request {body['number']}"
    return f"closed {of}: {body['how']}"


_SENTENCES: dict[str, Callable[[Body], str]] = {
    "begun": lambda b: f"began the workspace {b['workspace']}",
    history.KNOWN: lambda b: f"wrote down the charter {b['name']}",
    history.MET: lambda b: f"met {b['tenant']} at {b['address']}{': ' if b.get('because') else ''}{b.get('because', '')}",
    history.RENAMED: lambda b: f"renamed the charter {b['before']} to {b['name']}",
    history.PROVED: lambda b: _proofs(len(b["results"]), sum(": holds" in str(r) for r in b["results"])),
    history.BEFORE: lambda b: f"recorded what held before: {sum(1 for h in b['held'].values() if h)} of {len(b['held'])}",
    history.FELT: lambda b: f"a change was felt after {b['seconds']} s",
    history.LENT: _lent,
    history.CLOSED: _closed,
    history.RECALLED: lambda b: "recalled the loan",
    history.ROTATING: _rotating,
    history.STAGED: _staged,
    history.SUSPENDED: lambda b: f"suspended {b['thing']} {b['name']}{_until(b)}: {b['because']}",
    history.PROLONGED: lambda b: f"suspended {b['thing']} {b['name']} once more{_until(b)}: {b['because']}",
    history.RETIRING: lambda b: f"began to retire it: {b['because']}",
    history.RETIRED: lambda b: f"retired {b['name']}: {len(b['ended'])} ended, {len(b['left'])} left",
    history.REVIVED: lambda b: f"began {b['name']} anew, which had been retired",
    history.REINSTATED: lambda b: f"wanted {b['name']} back: {b['because']}",
    history.REQUESTED: _requested,
    history.RECEIVED: lambda b: f"took on somebody else's request: {b['about']}",
    history.TOLD: lambda b: f"was told {b['name']}: {b['value']}",
    history.CONFIRMED: lambda b: f"confirmed by hand: {b['about']}",
    history.HANDED: lambda b: f"handed over {', '.join(b['values'])}: {b['how']} to {b['to']} (generation {b['generation']})",
    history.PROFILED: lambda b: f"wrote the profile {b['to'] or '(printed)'} for the trust {b['trust']}",
    history.USED: lambda b: f"saw that what {b['to']} got of {b['credential']} is used",
    history.OPENED: lambda b: f"has a receipt of {b['by']}: what {b['to']} got of {b['credential']} was opened",
    history.CONNECTED: lambda b: f"{b['consumer']} is connected as {b['connection']}",
}
_OF_THINGS = {
    history.KEPT: "kept {} here",
    history.ADOPTED: "took over {}",
    history.FOUND: "found again {}",
    history.UNSURE: "cannot tell whether {} is ours or another hand's, and leaves it alone",
    history.GIVEN_BACK: "gave back {}",
    history.ENDED_AS_ASKED: "saw that {} was ended, as it was asked for",
    history.OURS: "was told that it was Sigillum itself that stopped {}",
    history.GIVEN_AWAY: "keeps {} here no more, since it was handed over",
}


def _sentence(entry: LedgerEntry, words: Callable[[Mark], str]) -> str:
    """An entry that stands for itself."""
    body = entry.body
    if entry.kind in _SENTENCES:
        return _SENTENCES[entry.kind](body)
    thing = words(mark_of(body)) if "facet" in body else ""
    return _OF_THINGS.get(entry.kind, f"{entry.kind} {{}}").format(thing).strip()


def about(entry: LedgerEntry, words: Callable[[Mark], str]) -> str:
    """An entry by itself in one phrase."""
    try:
        return _about(entry, words)
    except ODD:
        return "(it cannot be read)"


def _about(entry: LedgerEntry, words: Callable[[Mark], str]) -> str:
    body = entry.body
    if entry.kind == history.INTENT:
        return f"{body['verb']} {words(mark_of(body))} at {body['tenant']}, generation {body['generation']}{_accepted(body)}"
    if entry.kind == history.OUTCOME:
        return f"of {body['attempt']}: {body['result']}" + (f" ({body['why']})" if body.get("why") else "")
    return _sentence(entry, words)
