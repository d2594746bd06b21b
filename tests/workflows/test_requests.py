"""Requests between two workspaces at one tenant in memory: states that both sides know, a change of mind, and what is left."""

from __future__ import annotations

import copy
import dataclasses
import io
import json
import random
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from rich.console import Console

from conftest import examples
from core.fake import thing
from sigillum.cli.views import requests as views
from sigillum.core.charter.charter import Charter
from sigillum.core.kinds.registry import KINDS
from sigillum.core.undertakings.requests import RequestState
from sigillum.core.values.errors import SigillumError, SomebodyError
from sigillum.core.values.times import format_instant
from sigillum.keys import signed
from sigillum.tenants import registry
from sigillum.tenants.registry import Driver
from sigillum.workflows.enacting.enact import EnactChoices, Enacted, enact
from sigillum.workflows.enacting.rehearse import rehearse
from sigillum.workflows.handing import answer as answering
from sigillum.workflows.handing import arrived, requests
from sigillum.workflows.stopping.plan import plan
from sigillum.workflows.stopping.retire import Retired, retire
from workflows.memory import CHARTER as GAUGE
from workflows.memory import USUAL, House, Memory, house

CHARTER = """\
charter: mailer
tenant: away
purpose: Sends what the masts warn of
owner: mara.teel@brindlemoor.example
identity: {kind: client, name: mailer}
"""
ONE, BOTH = "root/a/one", "root/b/one"
NARROW = f"{{api: mail, scopes: [mail.send], acts: on-behalf, only: [{ONE}]}}"
OTHER = f"{{api: mail, scopes: [mail.send], acts: on-behalf, only: [{ONE}, {BOTH}]}}"
WIDE = "{api: mail, scopes: [mail.send], acts: on-behalf}"
READ = "{api: mail, scopes: [mail.read], acts: alone}"
WISHES: dict[str, tuple[str, ...]] = {
    "nothing": (),
    "narrow": (NARROW,),
    "wide": (WIDE,),
    "other": (OTHER,),
    "read": (READ,),
    "both": (NARROW, READ),
}
HELD: dict[str, tuple[str, str, tuple[str, ...]]] = {
    NARROW: ("mail.send", "on-behalf", (ONE,)),
    OTHER: ("mail.send", "on-behalf", (ONE, BOTH)),
    WIDE: ("mail.send", "on-behalf", ()),
    READ: ("mail.read", "alone", ()),
}
CONSENTS = EnactChoices(prove=False, end=True)


class Seen:
    """A tenant as one administrator may use it."""

    def __init__(self, away: Memory, **profile: Any) -> None:
        self._away, self.profile = away, dataclasses.replace(USUAL, **profile)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._away, name)


@dataclasses.dataclass
class Office:
    """One side: a workspace, and what its administrator may do."""

    at: House

    def permissions(self, wish: str) -> Charter:
        lines = WISHES[wish]
        return self.at.charter(CHARTER + (f"permissions: [{', '.join(lines)}]\n" if lines else ""))

    def enact(self, charter: Charter) -> Enacted:
        with self.at.office() as office:
            return enact(office, charter, CONSENTS)

    def does(self, what: Callable[..., Any], *given: Any) -> Any:
        with self.at.office() as office:
            return what(office, *given)

    def sent(self) -> list[Any]:
        return list(self.does(requests.listed))

    def states(self) -> list[str]:
        return [str(s.state) for s in self.sent()]

    def key(self) -> str:
        with self.at.office() as office:
            return office.books.signing_key().key_id


class Pair:
    """An office that lacks the power to consent, two that have it, and the post between them."""

    def __init__(self, folder: Path, lacks: frozenset[str] = frozenset({"consents"})) -> None:
        self.away = Memory()
        self.away.things["place"].append(thing("place", f"p-{BOTH}", path=BOTH, type="box"))
        powers = (USUAL.powers or frozenset({"accounts", "clients"})) | {"clients", "requests"}
        asking, able = Seen(self.away, powers=powers - lacks), Seen(self.away)
        folder.mkdir(exist_ok=True)
        self.asking, *self.able = (Office(house(folder / n, self.away)) for n in ("asking", "first", "second"))
        registry.DRIVERS["memory"] = Driver(
            lambda address, link: asking if link.folder.name == "asking" else able, token=False, origin=False
        )
        for one, others in ((self.asking, self.able), *((o, [self.asking]) for o in self.able)):
            path = one.at.folder / "sigillum.yaml"
            known = ", ".join(f"o{n}: {o.key()}" for n, o in enumerate(others))
            text = path.read_text()
            if one is self.asking and len(lacks) > 1:  # one person has all of it
                ines = f"admins: [{{name: ines.lund, powers: [{', '.join(sorted(lacks))}]}}]"
                text = text.replace("admin: {name: ada.rusk}", "admin: {name: ada.rusk}, " + ines)
            path.write_text(f"{text}signers: {{{known}}}\n")

    def files(self, part: str = "") -> list[Path]:
        found = sorted((self.asking.at.folder / "requests").glob("*.json"))
        return [f for f in found if (".receipt." in f.name or ".withdrawn." in f.name) == bool(part) and part in f.name]

    def answer(self, by: Office, file: Path) -> Path | None:
        found = by.does(answering.compare, letter(file))
        by.does(answering.note_replaced, found)
        receipt, problems = by.does(answering.answer, found)
        assert not problems, problems
        return receipt  # type: ignore[no-any-return]

    def consents(self) -> set[tuple[str, str, tuple[str, ...]]]:
        return {(c.body.scope, c.body.acts, tuple(c.body.only)) for c in self.away.things["consent"]}


def letter(file: Path) -> arrived.Letter:
    return arrived.letter_of(file, *arrived.opened(file))


@pytest.fixture
def pair(tmp_path: Path) -> Pair:
    return Pair(tmp_path)


def wished(wish: str) -> set[tuple[str, str, tuple[str, ...]]]:
    return {HELD[line] for line in WISHES[wish]}


# --- states that both sides know ----------------------------------------------------------------------------------------
def test_what_one_person_is_asked_is_one_file_and_one_round(pair: Pair) -> None:
    charter = pair.asking.permissions("both")
    pair.asking.enact(charter)
    (file,) = pair.files()
    assert [a["values"]["scope"] for a in json.loads(file.read_text())["asks"]] == ["mail.send", "mail.read"]
    receipt = pair.answer(pair.able[0], file)
    assert pair.consents() == wished("both")
    found, _ = pair.asking.does(requests.done, None, receipt)
    assert [(c.sent.number, c.state) for c in found] == [(1, RequestState.ANSWERED), (2, RequestState.ANSWERED)]
    assert not list(pair.asking.enact(charter).outline.changes)  # type: ignore[union-attr]


def test_what_was_refused_is_not_asked_again_until_a_person_says_so_or_the_charter_changes(pair: Pair) -> None:
    charter = pair.asking.permissions("narrow")
    pair.asking.enact(charter)
    _, refusal = pair.able[0].does(arrived.refuse, letter(pair.files()[0]), "the team reads it itself")
    pair.asking.does(requests.done, None, refusal)
    (sent,) = pair.asking.sent()
    assert (sent.state, "the team reads it itself" in sent.ended) == (RequestState.REFUSED, True)
    for _ in range(2):
        done = pair.asking.enact(charter)
        assert any("which has ended: refused by" in str(r.error) for r in done.results)
    assert len(pair.files()) == 1
    with pytest.raises(SomebodyError, match="refused"):  # here, too
        pair.answer(pair.able[0], pair.files()[0])
    pair.asking.does(requests.ask_again, 1)
    pair.asking.enact(charter)
    assert pair.asking.states() == ["refused", "open"]
    pair.asking.enact(pair.asking.permissions("wide"))
    assert pair.asking.states() == ["refused", "replaced", "open"]
    pair.asking.enact(charter := pair.asking.permissions("narrow"))  # something else was wanted since
    assert pair.asking.states() == ["refused", "replaced", "replaced", "open"]
    pair.answer(pair.able[0], pair.files()[-1])
    assert (pair.consents(), pair.asking.enact(charter).outline.changes) == (wished("narrow"), ())  # type: ignore[union-attr]


def test_what_is_withdrawn_or_replaced_is_refused_where_that_is_known(pair: Pair) -> None:
    charter = pair.asking.permissions("narrow")
    pair.asking.enact(charter)
    sent, path = pair.asking.does(requests.withdraw, 1, "not yet")
    assert (sent.state, path.name) == (RequestState.WITHDRAWN, "0001-mailer.withdrawn.json")
    assert any("which has ended: withdrawn by" in str(r.error) for r in pair.asking.enact(charter).results)
    path = pair.asking.at.folder / path
    body, signer = arrived.opened(path)
    assert pair.able[0].does(arrived.take_withdrawal, body, signer, str(path)) == [("1", "")]
    with pytest.raises(SomebodyError, match="is withdrawn: not yet"):
        pair.answer(pair.able[0], pair.files()[0])
    forged = {**{n: v for n, v in body.items() if n != "signature"}, "requests": ["x"]}
    with pair.able[1].at.office() as office:  # a stranger withdraws nothing
        other = signed.sign({**forged, "requests": body["requests"]}, office.books.signing_key())
    pair.able[1].does(arrived.take_withdrawal, other, signed.check(other, "x"), "x")
    pair.asking.does(requests.ask_again, 1)
    pair.asking.enact(charter)
    pair.asking.enact(pair.asking.permissions("wide"))
    second, third = pair.files()[1:]
    found = pair.able[1].does(answering.compare, letter(third))
    pair.able[1].does(answering.note_replaced, found)
    with pytest.raises(SomebodyError, match="is replaced: request 3"):
        pair.answer(pair.able[1], second)
    pair.answer(pair.able[1], pair.files()[0])  # of whose end this one was never told


def test_every_request_ends(pair: Pair) -> None:
    charter = pair.asking.permissions("narrow")
    pair.asking.enact(charter)
    pair.away.ahead = timedelta(days=14)
    with pytest.raises(SomebodyError, match="expired"):
        pair.answer(pair.able[0], pair.files()[0])
    pair.asking.enact(charter)
    assert pair.asking.states() == ["expired", "open"]
    pair.asking.enact(pair.asking.permissions("nothing"))
    assert pair.asking.states() == ["expired", "withdrawn"]
    assert [f.name for f in pair.files("withdrawn")] == ["0002-mailer.withdrawn.json"]


# --- one after the other -------------------------------------------------------------------------------------------------
ALL = frozenset({"clients", "consents"})


def test_what_needs_what_is_asked_for_is_asked_with_it_and_carried_out_after_it(tmp_path: Path) -> None:
    """A client, what it is here, and its consent: one file, one round; each gets the ids that the one before it made."""
    pair = Pair(tmp_path / "p", ALL)
    charter = pair.asking.permissions("narrow")
    pair.asking.enact(charter)
    (file,) = pair.files()
    asks = json.loads(file.read_text())["asks"]
    assert [(a["thing"], a["after"]) for a in asks] == [("client", []), ("principal", [1]), ("consent", [1, 2])]
    assert asks[1]["values"]["client_id"] == {"request": 1, "field": "client_id"}
    assert asks[2]["values"]["principal"] == {"request": 2, "field": "id"}
    console = Console(file=io.StringIO(), width=200)
    console.print(views.texts(letter(file).requests, str))
    assert "(the client id of what request 1 makes)" in console.file.getvalue()  # type: ignore[attr-defined]
    pair.asking.enact(charter)
    assert pair.files() == [file]  # it is asked once
    receipt = pair.answer(pair.able[0], file)
    (client,), (who,), (consent,) = (pair.away.things[n] for n in ("client", "principal", "consent"))
    assert (who.body.client_id, consent.body.principal) == (client.body.client_id, who.id) != ("", "")
    pair.asking.does(requests.done, None, receipt)
    assert pair.asking.enact(charter).outline.changes == ()  # type: ignore[union-attr]
    assert pair.asking.states() == ["answered"] * 3
    assert pair.answer(pair.able[0], file) == receipt  # once more: it is so already
    settled(pair, "nothing")
    assert pair.consents() == set()


def test_what_was_changed_since_gives_what_it_has(tmp_path: Path) -> None:
    """The client is there, and not as it was asked for: it is changed, and what it is here is found by its client id."""
    pair = Pair(tmp_path / "p", ALL)
    pair.asking.enact(pair.asking.permissions("narrow"))
    (file,) = pair.files()
    pair.answer(pair.able[0], file)
    (client,), consents = pair.away.things["client"], pair.consents()
    pair.away.put(client, requests=())
    receipt = pair.answer(pair.able[1], file)  # another office, later
    assert receipt is not None
    assert [len(pair.away.things[n]) for n in ("client", "principal", "consent")] == [1, 1, 1]
    assert pair.away.things["client"][0].body.requests == client.body.requests
    assert json.loads(receipt.read_text())["answers"][0]["gives"] == {"client_id": client.body.client_id}
    assert pair.consents() == consents


def test_what_is_made_once_more_after_its_end_is_seen(tmp_path: Path) -> None:
    """An old file is answered again, by another office, when what it asked for was made and ended long ago."""
    pair = Pair(tmp_path / "p", ALL)
    settled(pair, "narrow")
    (file,) = pair.files()
    settled(pair, "nothing")
    charter = pair.asking.permissions("nothing")
    assert pair.consents() == set()
    pair.answer(pair.able[1], file)
    assert pair.consents() == wished("narrow")
    with pair.asking.at.office() as office:
        assert rehearse(office, charter).differs
    settled(pair, "nothing")
    assert pair.consents() == set()


def test_what_waits_for_another_request_is_not_answered_without_it(tmp_path: Path) -> None:
    pair = Pair(tmp_path / "p", ALL)
    charter, able = pair.asking.permissions("narrow"), pair.able[0]
    pair.asking.enact(charter)
    (file,) = pair.files()
    with pytest.raises(SomebodyError, match="request 3 has to come after request 1, which was not carried out"):
        able.does(answering.compare, letter(file), (), [3])
    pair.away.refusing = lambda doing: doing.kind.name == "principal"
    found = able.does(answering.compare, letter(file))
    receipt, problems = able.does(answering.answer, found)
    assert [type(p).__name__ for p in problems] == ["RefusedError", "SomebodyError"]
    assert "request 3 was not carried out: it has to come after request 2" in problems[1].what
    assert not pair.away.things["consent"]
    pair.away.refusing = lambda doing: False
    pair.asking.does(requests.done, None, receipt)
    pair.asking.enact(charter)  # what was made is known now, and the rest is still asked, in the same file
    assert (pair.files(), pair.asking.states()) == ([file], ["answered", "open", "open"])
    found = able.does(answering.compare, letter(file), (), [2, 3])
    pair.asking.does(requests.done, None, able.does(answering.answer, found)[0])
    assert (pair.consents(), pair.asking.enact(charter).outline.changes) == (wished("narrow"), ())  # type: ignore[union-attr]
    assert pair.asking.states() == ["answered"] * 3


WHOLE = GAUGE.replace("because: writes", "for: 30d, because: writes")


def test_a_whole_identity_is_asked_for_in_one_round_and_its_windows_do_not_move(tmp_path: Path) -> None:
    """Account, grant and key: made, switched on, and proved after one receipt, however long that took; and ended alike."""
    pair = Pair(tmp_path / "p", frozenset({"accounts", "grants", "credentials"}))
    charter, prove = pair.asking.at.charter(WHOLE), EnactChoices()
    for _ in range(3):
        with pair.asking.at.office() as office:
            enact(office, charter, prove)
        pair.away.ahead += timedelta(days=2)
    (file,) = pair.files()
    asks = json.loads(file.read_text())["asks"]
    assert [(a["do"], a["thing"], a["after"]) for a in asks] == [
        ("make", "account", []),
        ("make", "grant", [1]),
        ("make", "credential", [1]),
        ("change", "credential", [1, 3]),
    ]
    assert asks[3]["values"] == {"active": True, "id": {"request": 3, "field": "id"}}
    pair.asking.does(requests.done, None, pair.answer(pair.able[0], file))
    with pair.asking.at.office() as office:
        done = enact(office, charter, prove)
        assert done.proofs is not None
        assert done.proofs.held
        assert not rehearse(office, charter).differs
    assert pair.asking.states() == ["answered"] * 4
    asked = {a["thing"]: a["values"].get("until") for a in asks[1:3]}
    held = {n: format_instant(next(r.body.until for r in pair.away.things[n] if r.mark)) for n in asked}
    assert held == asked
    with pair.asking.at.office() as office:
        retire(office, plan(office, "gauge"), "it is over")
    pair.asking.does(requests.done, None, pair.answer(pair.able[0], pair.files()[-1]))
    with pair.asking.at.office() as office:
        assert retire(office, plan(office, "gauge"), "it is over").done


# --- what an answer made ------------------------------------------------------------------------------------------------
def settled(pair: Pair, wish: str) -> Enacted:
    """Until nothing is open: what is asked is done by the first who can, and every receipt comes back."""
    charter = pair.asking.permissions(wish)
    for _ in range(8):
        done = pair.asking.enact(charter)
        all_ = pair.asking.sent()
        held = [
            s
            for s in all_
            if s.held and not s.again and any(f"as request {s.number}, which" in str(r.error) for r in done.results)
        ]
        for sent in held:
            pair.asking.does(requests.ask_again, sent.number)
        files = dict.fromkeys(s.file for s in all_ if s.open)
        if not files and not held and done.outline is not None and not done.outline.changes:
            return done
        for file in files:
            try:
                receipt = pair.answer(pair.able[0], pair.asking.at.folder / file)
            except SomebodyError as problem:  # it knows of its end, by whatever came before
                assert any(w in str(problem) for w in ("refused", "withdrawn", "replaced", "expired")), problem
                for sent in [s for s in all_ if s.open and s.file == file]:
                    pair.asking.does(requests.withdraw, sent.number, "told to somebody who will not")
                    pair.asking.does(requests.ask_again, sent.number)
                continue
            pair.asking.does(requests.done, None, receipt)
    raise AssertionError(f"it is asked for ever: {[(s.number, s.state, s.ended) for s in pair.asking.sent()]}")


def test_a_change_of_mind_leaves_no_right_behind(pair: Pair) -> None:
    """A narrow request refused, a wide one answered, and the narrow one answered after all, by somebody else."""
    pair.asking.enact(pair.asking.permissions("narrow"))
    _, refusal = pair.able[0].does(arrived.refuse, letter(pair.files()[0]), "no")
    pair.asking.does(requests.done, None, refusal)
    pair.asking.enact(pair.asking.permissions("wide"))
    pair.asking.does(requests.done, None, pair.answer(pair.able[0], pair.files()[1]))
    late = pair.answer(pair.able[1], pair.files()[0])
    assert pair.consents() == wished("narrow") | wished("wide")
    (found,), _ = pair.asking.does(requests.done, 1, late)
    assert "refused by" in found.late
    charter = pair.asking.permissions("wide")
    with pair.asking.at.office() as office:
        assert rehearse(office, charter).differs
    settled(pair, "wide")
    assert pair.consents() == wished("wide")
    settled(pair, "narrow")
    assert pair.consents() == wished("narrow")


def test_what_was_made_is_known_by_the_mark_of_its_request_where_the_receipt_is_lost(pair: Pair) -> None:
    pair.asking.enact(charter := pair.asking.permissions("wide"))
    pair.answer(pair.able[0], pair.files()[0])
    assert pair.asking.enact(charter).outline.changes == ()  # type: ignore[union-attr]
    assert pair.asking.states() == ["answered"]
    (consent,) = pair.away.things["consent"]
    with pair.asking.at.office() as office:
        made = [g for all_ in office.books.history("mailer")[1].generations.values() for g in all_ if g.kind == "consent"]
    assert [(g.id, g.bears == consent.mark, g.made_by) for g in made] == [(consent.id, True, "whoever holds consents")]
    settled(pair, "nothing")
    assert pair.consents() == set()


def test_what_a_receipt_names_and_has_no_mark_of_ours_is_asked_about_and_never_ended_by_us(pair: Pair) -> None:
    pair.asking.enact(pair.asking.permissions("narrow"))
    (sent,), (who,) = pair.asking.sent(), pair.away.things["principal"]
    theirs = {"principal": who.id, "api": "mail", "scope": "mail.send", "acts": "on-behalf"}
    pair.away.things["consent"].append(thing("consent", "c-x", **theirs)._replace(mark="theirs"))
    with pair.able[0].at.office() as office:
        answers = [{"request": sent.digest, "number": 1, "made": True, "id": "c-x"}]
        body = {
            "kind": "sigillum-receipt",
            "tenant": "memory:away",
            "charter": "mailer",
            "by": "ines",
            "at": "",
            "answers": answers,
        }
        path = pair.asking.at.folder / "lie.json"
        path.write_text(json.dumps(signed.sign(body, office.books.signing_key())))
    pair.asking.does(requests.done, None, path)
    path = pair.asking.at.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("name: ada.rusk", "name: ada.rusk, powers: [consents]"))
    for wish in ("narrow", "nothing"):
        done = pair.asking.enact(pair.asking.permissions(wish))
        assert done.outline is not None
        asked = [s.about for s in done.outline.steps if str(s.kind) == "ask"]
        assert any("whoever holds consents to end consent to mail:mail.send" in a for a in asked), (wish, asked)
        assert pair.consents() == {("mail.send", "on-behalf", ())}


def test_a_retirement_asks_for_the_end_of_what_others_made(pair: Pair) -> None:
    settled(pair, "narrow")
    pair.away.things["consent"] = [c._replace(mark="") for c in pair.away.things["consent"]]  # it shows no marks any more
    with pair.asking.at.office() as office:
        found = plan(office, "mailer")
        assert next((str(s.kind), s.about) for s in found.found.outline.steps) == (
            "ask",
            "whoever holds consents to end consent to mail:mail.send on-behalf",
        )
        done: Retired = retire(office, found, "it is over")
        assert not done.done
    pair.asking.does(requests.done, None, pair.answer(pair.able[0], pair.files()[-1]))
    assert pair.consents() == set()
    with pair.asking.at.office() as office:
        assert retire(office, plan(office, "mailer"), "it is over").done


# --- whatever comes in whatever order -----------------------------------------------------------------------------------
EVENTS = (
    "wish",
    "wish",
    "enact",
    "enact",
    "answer",
    "answer",
    "refuse",
    "receipt",
    "receipt",
    "lose",
    "withdraw",
    "tell",
    "late",
)
events = st.lists(st.tuples(st.sampled_from(EVENTS), st.integers(0, 99)), min_size=12, max_size=12)


def happens(pair: Pair, event: str, number: int, charter: Charter) -> Charter:
    """One event, with whatever there is for it; what the tool refuses is an answer, too."""
    by, files, receipts = pair.able[number % 2], pair.files(), pair.files("receipt")
    match event:
        case "wish":
            return pair.asking.permissions(sorted(WISHES)[number % len(WISHES)])
        case "enact":
            pair.asking.enact(charter)
        case "answer" if files:
            pair.answer(by, files[number % len(files)])
        case "refuse" if files:
            by.does(arrived.refuse, letter(files[number % len(files)]), "no")
        case "receipt" if receipts:  # come back, once or again, in any order
            pair.asking.does(requests.done, None, receipts[number % len(receipts)])
        case "lose" if receipts:
            receipts[number % len(receipts)].unlink()
        case "withdraw" if pair.asking.sent():
            pair.asking.does(requests.withdraw, 1 + number % len(pair.asking.sent()), "no more")
        case "tell" if told := pair.files("withdrawn"):
            file = told[number % len(told)]
            body, signer = arrived.opened(file)
            by.does(arrived.take_withdrawal, body, signer, str(file))
        case "late":
            pair.away.ahead += timedelta(days=5)
    return charter


@settings(max_examples=examples(12), deadline=None)
@given(events, st.booleans())
def test_whatever_was_asked_answered_refused_and_lost_the_tenant_ends_as_the_charter_says(
    story: list[tuple[str, int]], all_: bool
) -> None:
    with tempfile.TemporaryDirectory() as folder:
        pair = Pair(Path(folder), ALL) if all_ else Pair(Path(folder))
        charter, wish = pair.asking.permissions("narrow"), "narrow"
        pair.asking.enact(charter)
        for event, number in story:
            with suppress(SigillumError):
                charter = happens(pair, event, number, charter)
            wish = sorted(WISHES)[number % len(WISHES)] if event == "wish" else wish
            if pair.consents() != wished(wish):
                with pair.asking.at.office() as office:
                    assert rehearse(office, charter).differs, (event, wish, pair.consents())
        settled(pair, wish)
        assert pair.consents() == wished(wish)
        with pair.asking.at.office() as office:
            assert not rehearse(office, charter).differs


# --- lies with valid signatures -----------------------------------------------------------------------------------------
JUNK: tuple[Any, ...] = (
    None,
    True,
    False,
    0,
    -1,
    1,
    2**40,
    "",
    "yes",
    "..",
    "make",
    "end",
    "tell",
    "a\u202eb",
    [],
    {},
    ["x"],
)


def spots(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Every place in a document."""
    inner = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, of in inner:
        yield (*path, key)
        yield from spots(of, (*path, key))


def mutated(document: dict[str, Any], chance: random.Random) -> dict[str, Any]:
    """One to three places of it say something else: junk, what another place says, twice the same, or nothing."""
    out = copy.deepcopy(document)
    for _ in range(chance.randint(1, 3)):
        *above, last = chance.choice(list(spots(out)) or [("kind",)])
        of = out
        for key in above:
            of = of[key]
        others = list(spots(out))
        way = chance.choice(["junk", "junk", "other", "gone", "twice"])
        if way == "gone":
            del of[last]
        elif way == "twice" and isinstance(of, list):
            of.append(copy.deepcopy(of[last]))
        elif way == "other" and others:
            found: Any = out
            for key in chance.choice(others):
                found = found[key]
            of[last] = copy.deepcopy(found)
        else:
            of[last] = copy.deepcopy(chance.choice(JUNK))
    return out


def leaves(value: Any) -> Iterator[str]:
    """Every value in it that says something, as people are shown it."""
    if isinstance(value, (list, tuple)):
        for inner in value:
            yield from leaves(inner)
    elif value not in (None, ""):
        yield {True: "yes", False: "no"}.get(value, str(value))


def bare(file: Path) -> dict[str, Any]:
    return {n: v for n, v in json.loads(file.read_text()).items() if n != "signature"}


@pytest.mark.parametrize("most", [120, pytest.param(2000, marks=pytest.mark.soak)])
@pytest.mark.parametrize("lacks", [frozenset({"consents"}), ALL])
def test_no_lie_that_is_signed_sends_what_was_not_shown(tmp_path: Path, most: int, lacks: frozenset[str]) -> None:
    pair = Pair(tmp_path / "p", lacks)
    pair.asking.enact(pair.asking.permissions("both"))
    (file,), chance, taken = pair.files(), random.Random(24), 0
    whole, lie, able = bare(file), file.with_name("lie.json"), pair.able[0]
    before = {n: list(all_) for n, all_ in pair.away.things.items()}
    with pair.asking.at.office() as office:
        key = office.books.signing_key()
    for _ in range(most):
        lie.write_text(json.dumps(signed.sign(mutated(whole, chance), key)))
        pair.away.requests.clear()
        try:
            found = able.does(answering.compare, letter(lie))
            able.does(answering.answer, found)
        except (SigillumError, ValueError) as problem:
            assert isinstance(problem, SigillumError), problem
            assert not pair.away.requests
            continue
        taken += 1
        console = Console(file=io.StringIO(), width=400)
        console.print(views.answering(found, str))
        text = console.file.getvalue()  # type: ignore[attr-defined]
        made = {str(v) for n in KINDS for r in pair.away.things[n] if r not in before[n] for v in (r.id, r.value("client_id"))}
        for doing in pair.away.requests:  # all that was sent was shown, whatever it was; or was made for what was shown
            for each in leaves((*getattr(doing, "part", {}).values(), getattr(doing, "id", ""))):
                assert each in text or each in made, (each, text)
        pair.away.things = {n: list(all_) for n, all_ in before.items()}
    assert taken  # some of it changes nothing that counts


@pytest.mark.parametrize("most", [120, pytest.param(2000, marks=pytest.mark.soak)])
def test_no_lie_that_is_signed_is_taken_for_an_answer_that_nobody_gave(pair: Pair, tmp_path: Path, most: int) -> None:
    pair.asking.enact(pair.asking.permissions("both"))
    (file,), chance = pair.files(), random.Random(42)
    receipt = pair.answer(pair.able[0], file)
    assert receipt is not None
    whole, lie, folder = bare(receipt), receipt.with_name("lie.json"), pair.asking.at.folder
    digests = {s.digest: s.number for s in pair.asking.sent()}
    with pair.able[0].at.office() as office:
        key = office.books.signing_key()
    shutil.copytree(folder, tmp_path / "kept")
    for _ in range(most):
        said = mutated(whole, chance)
        lie.write_text(json.dumps(signed.sign(said, key)))
        with suppress(SigillumError):
            pair.asking.does(requests.done, None, lie)
        given = said.get("answers")
        named = {
            digests[a["request"]]
            for a in (given if isinstance(given, list) else [])
            if isinstance(a, dict) and isinstance(a.get("request"), str) and a["request"] in digests
        }
        changed = {s.number: s.state for s in pair.asking.sent() if not s.open}
        assert set(changed) <= named, (said, changed)
        for number, state in changed.items():
            refusals = [
                a.get("refused") for a in given or () if isinstance(a, dict) and digests.get(str(a.get("request"))) == number
            ]
            assert (state is RequestState.REFUSED) == any(isinstance(r, str) and r for r in refusals[:1]), said
        if changed:
            shutil.rmtree(folder)
            shutil.copytree(tmp_path / "kept", folder)
