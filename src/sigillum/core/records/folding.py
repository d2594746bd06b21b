"""Reading a charter's entries, in order, into what they amount to."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from sigillum.core.values.marks import mark_of

from .chain import LedgerEntry
from .history import (
    ADOPTED,
    ASKED_AGAIN,
    BEFORE,
    CLOSED,
    COPY,
    DOCUMENT,
    ENDED_AS_ASKED,
    EXPIRED,
    FOUND,
    GIVEN_AWAY,
    GIVEN_BACK,
    HOLDS,
    IN_PLACE_OF,
    INTENT,
    KEPT,
    NUMBER,
    OURS,
    OUTCOME,
    PROFILED,
    PROLONGED,
    PROVED,
    REQUESTED,
    RETIRED,
    RETIRING,
    REVIVED,
    ROTATING,
    ROTATION,
    SEEN,
    STAGED,
    SUSPENDED,
    SUSPENSION,
    SWITCHES,
    UNDERTAKING,
    UNREAD,
    UNSURE,
    WAS,
    AttemptOutcome,
    Generation,
    History,
    Hold,
    State,
    Turn,
    Verb,
)


def fold(entries: Iterable[LedgerEntry], charter: str = "") -> History:
    """Read a charter's entries, in order, into what they amount to."""
    history = History(charter)
    by_attempt: dict[int, tuple[Generation, Mapping[str, Any]]] = {}
    for entry in entries:
        body = entry.body
        if entry.kind == INTENT:
            generation = _generation(history, body)
            by_attempt[entry.sequence] = (generation, body)
            if body["verb"] == Verb.MAKE:
                if not generation.external_id:
                    generation.external_id = str(body["external_id"])
                    generation.terms, generation.begun_at = dict(body.get("terms", {})), str(body["tenant_time"])
                generation.lost_at = generation.sent_at if generation.unanswered else generation.lost_at
                generation.sent_at, generation.unanswered = str(body["tenant_time"]), True
                generation.foreseen += (str(body[DOCUMENT]),) if DOCUMENT in body else ()
            generation.ending = generation.ending or body["verb"] == Verb.END
            if body.get(SWITCHES) == "off":
                generation.off_asked_in = entry.sequence
            history.changed_at = entry.sequence
        elif entry.kind == OUTCOME:
            _outcome(history, by_attempt.get(int(body["attempt"])), body, int(body["attempt"]))
        elif entry.kind == KEPT:
            kept = _generation(history, body)
            kept.kept, kept.kept_by = str(body["what"]), str(body.get(COPY, ""))
        elif entry.kind in (ADOPTED, FOUND):
            taken = _generation(history, body)
            taken.id, taken.value = str(body["id"]), str(body.get("value", ""))
            taken.state, taken.unanswered, taken.seen = State.MADE, False, True
            taken.made_by, taken.bears = str(body.get("made_by", "")), str(body.get("bears", ""))
            taken.adopted = taken.adopted or entry.kind == ADOPTED
            taken.terms = dict(body.get("terms") or taken.terms)
        elif entry.kind == UNSURE:
            doubtful = _generation(history, body)
            doubtful.state, doubtful.unanswered = State.SPENT, False
        elif entry.kind in (HOLDS, SEEN, GIVEN_AWAY, OURS):
            _noted(_generation(history, body), entry)
        elif entry.kind in (BEFORE, PROFILED):
            _kept_in_mind(history, entry.kind, body)
        elif entry.kind in (ROTATING, STAGED, CLOSED):
            _turned(history, entry.kind, body)
        elif entry.kind == SUSPENDED:
            history.holds[mark_of(body)] = Hold(
                str(body[NUMBER]), entry.sequence, str(body["because"]), str(body.get("until") or ""), body["found_off"] is True
            )
        elif entry.kind == PROLONGED:
            _prolonged(history, entry)
        elif entry.kind in (REQUESTED, ASKED_AGAIN):
            _asked(history, body)
        elif entry.kind in (GIVEN_BACK, ENDED_AS_ASKED):
            _generation(history, body).state = State.ENDED
        elif entry.kind in (RETIRING, RETIRED, REVIVED):
            history.retiring, history.retired_at = str(body["because"]), str(body.get("at") or "")
        elif entry.kind == PROVED:
            history.before = {} if body["held"] else history.before
            history.proved_at, history.proofs_held = entry.sequence, bool(body["held"])
            history.proofs_digest = str(body["proofs"])
            for made in (g for all_ in history.generations.values() for g in all_ if body["held"] and g.state is State.MADE):
                made.seen = True  # nothing of it is missing where all holds
    return history


def _asked(history: History, body: Mapping[str, Any]) -> None:
    """Somebody is asked to make something, with the terms that it has from then on; or what was asked is to be asked anew."""
    if NUMBER not in body:
        _asked_anew(history, str(body["request"]))
    elif body["request"]["do"] == Verb.MAKE:
        history.asked[mark_of(body)] = (int(body["generation"]), str(body[NUMBER]), dict(body.get("terms", {})))


def _asked_anew(history: History, number: str) -> None:
    """What was asked for and is to be asked once more begins with terms of its own."""
    history.asked = {mark: asked for mark, asked in history.asked.items() if asked[1] != number}


def _kept_in_mind(history: History, kind: str, body: Mapping[str, Any]) -> None:
    """What held before a change; or a profile that was written of a trust."""
    if kind == BEFORE:
        history.before, history.before_why = dict(body["held"]), dict(body.get("why") or {})
    else:
        history.profiles[str(body["trust"]), str(body["to"])] = str(body["id"]), str(body["at"])


def _noted(of: Generation, entry: LedgerEntry) -> None:
    """What is known of a generation beside what was done to it."""
    kind, body = entry.kind, entry.body
    if kind == OURS and body[WAS] == "ended":
        of.state, of.ending, of.ended_at = State.ENDED, False, str(body["at"])
    elif kind == OURS:
        of.off_in, of.said_in, of.left = entry.sequence, entry.sequence, {}
    elif kind == HOLDS:
        of.holders |= frozenset(map(str, body["consumers"]))
    elif kind == SEEN:
        of.seen = True
    else:
        of.given_away = True


def _prolonged(history: History, entry: LedgerEntry) -> None:
    """A suspension that is open is asked for once more; one that was on again begins anew."""
    body, mark = entry.body, mark_of(entry.body)
    if mark in history.holds:
        hold = history.holds[mark]
        began, found_off = (entry.sequence, False) if body["on"] else (hold.began, hold.found_off)
        history.holds[mark] = Hold(hold.key, began, str(body["because"]), str(body["until"]), found_off)


def _turned(history: History, kind: str, body: Mapping[str, Any]) -> None:
    """A rotation begins, makes its new generation current, or is over; or a suspension is."""
    if kind == ROTATING:
        history.turns[mark_of(body)] = Turn(str(body[NUMBER]), int(body["old"]), int(body["generation"]))
    elif kind == STAGED:
        turn = history.turns.get(mark_of(body))
        if turn is not None and body["stage"] == "given":
            turn.given = True
    elif body.get("state") == EXPIRED:
        _asked_anew(history, str(body[NUMBER]))
    elif body[UNDERTAKING] == ROTATION:
        history.turns = {m: t for m, t in history.turns.items() if t.key != body[NUMBER]}
    elif body[UNDERTAKING] == SUSPENSION:
        history.holds = {m: h for m, h in history.holds.items() if h.key != body[NUMBER]}


def _generation(history: History, body: Mapping[str, Any]) -> Generation:
    mark, number = mark_of(body), int(body["generation"])
    all_ = history.generations.setdefault(mark, [])
    found = next((g for g in all_ if g.number == number), None)
    if found is None:
        found = Generation(mark, number)
        all_.append(found)
        all_.sort(key=lambda g: g.number)
    found.kind = found.kind or str(body.get("thing", ""))
    turn = history.turns.get(mark)
    if turn is not None and number > turn.new:  # the one that came first was replaced before it was through
        turn.new, turn.given = number, False
    return found


def _outcome(
    history: History, attempt: tuple[Generation, Mapping[str, Any]] | None, body: Mapping[str, Any], sequence: int
) -> None:
    if attempt is None:
        return
    generation, intent = attempt
    verb, switched = intent["verb"], intent.get(SWITCHES, "")
    result = body["result"]
    if result in (AttemptOutcome.MADE, AttemptOutcome.CHANGED):
        generation.left, generation.left_at = dict(body.get("left", {})), str(body["tenant_time"])
        generation.unread = {**generation.unread, **intent.get(UNREAD, {})}
    if switched == "on" and result in (AttemptOutcome.MADE, AttemptOutcome.CHANGED):
        generation.on_at, generation.on_in = str(body["tenant_time"]), sequence
    elif switched == "off" and result == AttemptOutcome.CHANGED:
        generation.off_in = sequence
    elif switched == "off" and result == AttemptOutcome.REFUSED and generation.off_asked_in == sequence:
        generation.off_asked_in = 0  # it was not done
    if verb == Verb.END and result != AttemptOutcome.LOST:
        generation.ending = False
    if verb == Verb.MAKE and result != AttemptOutcome.LOST:
        generation.unanswered = False
    elif verb == Verb.MAKE:
        generation.lost_at = generation.sent_at
    if result == AttemptOutcome.MADE:
        generation.id, generation.value = str(body["id"]), str(body.get("value", ""))
        generation.state, generation.made_at = State.MADE, str(body["tenant_time"])
        for other in history.generations[generation.mark]:
            if other.number == generation.terms.get(IN_PLACE_OF) and other.live:
                other.state, other.ended_at = State.ENDED, generation.made_at
    elif result == AttemptOutcome.ENDED:
        generation.state, generation.ended_at = State.ENDED, str(body["tenant_time"])
    elif result == AttemptOutcome.SPENT:
        generation.state = State.SPENT
