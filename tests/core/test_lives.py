"""Lives of credentials: the stage machines of rotations and suspensions over a tenant in memory, with the real executor."""

from __future__ import annotations

import base64
import dataclasses
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from core.fake import NOW, PROFILE, Fake, thing
from core.test_compare import KEY, charter
from sigillum.core.charter.charter import CredentialWant
from sigillum.core.charter.credential_kinds import CERTIFICATE
from sigillum.core.charter.rules import HouseRules
from sigillum.core.charter.wants import CertificateAnswer
from sigillum.core.comparing.compare import Comparison
from sigillum.core.comparing.retiring import from_ledger, retire
from sigillum.core.facets.quiet import quiet
from sigillum.core.facets.seen import Choices
from sigillum.core.kinds.changes import End
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.records import history
from sigillum.core.records.steps import Ask, Outline, Step, Turning
from sigillum.core.undertakings.bridging import ends, not_bridged
from sigillum.core.undertakings.reached import accepted_from, beside_until, dead, token_counts, token_until
from sigillum.core.undertakings.rotating import ROTATIONS
from sigillum.core.undertakings.rotation import Around, Asked, Rotation, Stage, deadline, tokens_over
from sigillum.core.undertakings.suspension import SUSPENSIONS, Closed, Suspension
from sigillum.core.undertakings.undertaking import Look, Next
from sigillum.core.values.canonical import certificate_mark
from sigillum.core.values.marks import Mark
from sigillum.core.values.times import format_instant
from sigillum.ledger.port import Fresh
from sigillum.workflows.enacting.carrying.run import Carrying

PASSWORD = KEY._replace(kind="password", limits=())
LIVES = dataclasses.replace(PROFILE, last_used="second", token_seconds=600)
MARK = Mark("credential", "away", (("name", "main"),))
ACCOUNT = Mark("account", "away", ())


@dataclass
class Life:
    """A charter with one credential, enacted; one undertaking of it, taken as far as it goes."""

    fake: Fake
    want: CredentialWant = KEY
    waited: Next = field(default_factory=Next)
    tried: int = 0
    late: int = 0  # seconds until a consumer reads what lies beside

    @classmethod
    def begun(cls, want: CredentialWant = KEY, *, stamped: bool = False, **profile: Any) -> Life:
        fake = Fake(profile=dataclasses.replace(LIVES, **profile), stamped=stamped)
        fake.enact(charter(credentials=(want,)))
        return cls(fake, want)

    def write(self, kind: str, body: dict[str, Any], mark: Mark = MARK) -> None:
        self.fake.ledger.append([Fresh(kind, "uid", {**mark.body(), **body})])

    @property
    def now(self) -> str:
        return format_instant(self.fake.now)

    def rotate(self, **body: Any) -> Rotation:
        until = NOW + timedelta(seconds=self.want.lasts_seconds)
        self.write(
            history.ROTATING,
            {
                "undertaking": "rotation",
                "number": "r1",
                "old": 1,
                "generation": 2,
                "at": self.now,
                "because": "x",
                "deadline": format_instant(deadline(NOW, until, self.want.renew_before_seconds)),
                "quiet_seconds": quiet(self.fake.profile, (), 0).seconds,
                **body,
            },
        )
        return self.go_on()

    def stage(self, stage: str, **about: Any) -> None:
        self.write(history.STAGED, {"generation": 2, "of": "r1", "stage": stage, "at": self.now, **about})

    @property
    def one(self) -> Rotation:
        return ROTATIONS.read(self.fake.ledger.kept, "uid")[-1]

    def names(self) -> list[str]:
        return sorted(r.body.name for r in self.fake.things["credential"])

    def use(self, number: int) -> None:
        """Somebody uses a generation."""
        generation = next(g for g in self.fake.history().generations[MARK] if g.number == number)
        there = self.fake.things["credential"]
        there[:] = [r.with_(used_at=self.fake.now, used_from="10.0.0.7") if r.id == generation.id else r for r in there]

    def go_on(self, most: int = 40) -> Rotation:
        fake = self.fake

        def turn(step: Step) -> None:
            assert isinstance(step.action, Turning)
            self.stage(step.action.stage, until=format_instant(self.fake.now + timedelta(seconds=self.late)))

        def prove(step: Step) -> None:
            self.tried += 1

        for _ in range(most):
            one = self.one
            account = fake.history().principal_id("away")
            around = Around(self.want, fake.profile, account, "account", {}, dict(fake.held), frozenset(), (0,))
            self.waited = ROTATIONS.next(
                one, Look(fake.answer, arrival_seconds=fake.profile.arrival_seconds or 0, around=around), fake.now
            )
            if self.waited.closed:
                self.write(history.CLOSED, {"undertaking": "rotation", "number": "r1", "how": self.waited.closed})
                break
            if not self.waited.steps:
                break
            Carrying(fake.ports(prove, turn), fake.history()).run(Outline("uid", self.waited.steps), lambda result: None)
        return self.one


@pytest.mark.parametrize("kind", ["key-pair", "api-token"])
def test_the_old_one_ends_when_it_is_out_of_use(kind: str) -> None:
    life = Life.begun(KEY._replace(kind=kind))
    one = life.rotate()
    assert (one.stage, life.waited.waits, life.waited.early, life.names()) == (
        Stage.GIVEN,
        "nobody has used the new main yet",
        True,
        ["main", "main-2"],
    )
    assert life.fake.history().serving(MARK).number == 2  # type: ignore[union-attr]
    life.fake.pass_(30)
    life.use(2)
    one = life.go_on()
    assert (one.stage, "has to be unused until" in life.waited.waits) == (Stage.TAKEN, True)
    life.fake.pass_(500)
    life.use(1)
    life.fake.pass_(300)
    assert "was used last at" in (life.go_on(), life.waited.waits)[1]
    life.fake.pass_(601)
    one = life.go_on()
    assert (one.closed, life.names(), life.tried) == ("done", ["main-2"], 1)
    assert not life.fake.history().turns
    assert life.fake.compare(charter(credentials=(life.want,))).steps == ()


@pytest.mark.parametrize(("used", "most", "numbers"), [(False, 0, [1, 3]), (True, 0, [1, 2, 3]), (True, 2, [1, 2])])
def test_one_that_nears_its_own_end_while_the_old_one_serves(used: bool, most: int, numbers: list[int]) -> None:
    """Nobody used it: it is replaced. Somebody does: the next one is made beside it, where there is room."""
    life = Life.begun(KEY, keys_per_principal=most or None)
    life.rotate(deadline=format_instant(NOW + timedelta(days=20)))
    old = life.one.old
    there = life.fake.things["credential"]
    there[:] = [r.with_(until=None) if r.id == old.id else r for r in there]  # it never ends by itself
    life.fake.now = NOW + timedelta(days=88)
    if used:
        life.use(2)
    life.use(1)
    for _ in range(2):
        one = life.go_on()
    state = life.fake.history()
    assert [g.number for g in state.generations[MARK] if g.live] == numbers
    serving = state.serving(MARK)
    assert (life.waited.code, serving is not None and serving.number, one.serves) == ("late", numbers[-1], 1 if most else 2)
    if not most:
        life.stage(Asked.END)
        life.go_on()
        life.fake.pass_(700)
        assert (life.go_on().closed, life.names()) == ("done", ["main-3"])


# how a tenant or a charter is, what is said, and the code of what is waited for
@pytest.mark.parametrize(
    ("profile", "want", "body", "code", "text"),
    [
        ({"keys_per_principal": 1}, KEY, {}, "gap", "takes one credential at a time"),
        ({"keys_per_principal": 1, "replaces": True}, PASSWORD, {}, "in-place", "takes its place in one request"),
        ({"last_used": "none"}, KEY, {}, "word", "does not tell whether the new main is used"),
        (
            {},
            KEY._replace(keep_in="holder", public_key={"kty": "OKP", "crv": "Ed25519", "x": "t"}),
            {},
            "holder",
            "has to send the public half",
        ),
    ],
)
def test_what_is_waited_for(profile: dict[str, Any], want: CredentialWant, body: dict[str, Any], code: str, text: str) -> None:
    life = Life.begun(want, **profile)
    life.rotate(**body)
    assert (life.waited.code, text in life.waited.waits) == (code, True), life.waited


@pytest.mark.parametrize(
    ("untried", "token_refused", "after", "how", "waits"),
    [
        ("", True, 0, "refused at sign-in, and with a token that it got before", False),
        ("", False, 0, "refused at sign-in; its tokens have come to their end", True),  # a refused sign-in says nothing of them
        ("", False, 601, "refused at sign-in; its tokens have come to their end", False),
        ("its holder has it", True, 0, "not tried: its holder has it", True),
        ("its holder has it", False, 601, "not tried: its holder has it", False),
    ],
)
def test_what_shows_that_the_old_one_is_dead(untried: str, token_refused: bool, after: int, how: str, waits: bool) -> None:
    began = Life.begun().rotate()
    one = dataclasses.replace(began, old=dataclasses.replace(began.old, ended_at=format_instant(NOW)))
    found = dead(one, LIVES, NOW + timedelta(seconds=after), untried=untried, token_refused=token_refused)
    assert (found.how, found.wait) == (how, tokens_over(LIVES, NOW) if waits else None)


def test_when_a_sign_in_and_a_refusal_show_something() -> None:
    """The first sign-in is one machine's word; a token that has come to its own end is refused by everybody."""
    first, profile = NOW - timedelta(seconds=20), dataclasses.replace(LIVES, arrival_seconds=60)
    assert accepted_from(None, NOW, profile) == NOW + timedelta(seconds=60)
    assert accepted_from(first, NOW, profile) == NOW + timedelta(seconds=40)
    assert accepted_from(first, NOW, dataclasses.replace(LIVES, arrival_seconds=None)) > NOW
    assert beside_until(NOW, [30, "restart", 90, None]) == NOW + timedelta(seconds=90)
    until = token_until(NOW, LIVES)
    one = dataclasses.replace(Life.begun().rotate(), staged={Asked.TOKEN: {"until": format_instant(until)}})
    assert [token_counts(one, until + timedelta(seconds=s)) for s in (-1, 0)] == [True, False]


def test_one_whose_own_end_is_over_is_not_waited_for() -> None:
    """Its tenant refuses it by now: who has not fetched the new one has nothing that could be kept for it."""
    life = Life.begun()
    life.rotate()
    assert (life.names(), life.one.stage) == (["main", "main-2"], Stage.GIVEN)
    life.fake.pass_(life.want.lasts_seconds)
    life.go_on()
    assert (life.one.old.live, life.names()) == (False, ["main-2"])


def test_a_use_of_ours_never_ends_before_it_began_however_the_clock_was_read() -> None:
    life = Life.begun()
    life.rotate()
    for until in (life.now, format_instant(life.fake.now - timedelta(seconds=1))):
        life.write(history.STAGED, {"generation": 1, "of": "r1", "stage": "signed-in", "at": life.now, "until": until})
    [window] = life.one.own[1]
    assert window.until == life.fake.now + timedelta(seconds=1)


@pytest.mark.parametrize("over", [True, False])
def test_a_use_that_may_be_ours_is_one_of_the_old_key_and_holds_back_no_new_one(over: bool) -> None:
    """Killed within a use of ours, whose a use was cannot be known for a while: neither nobody's, nor somebody's."""
    life = Life.begun()
    life.rotate()
    life.go_on()
    given, quiet = life.one.at(Stage.GIVEN), timedelta(seconds=life.one.quiet_seconds)
    assert given is not None
    life.fake.pass_(60)
    until = format_instant(life.fake.now + timedelta(minutes=10))
    for number in (1, 2):  # one each: what was interrupted, or came to its end just then
        about = {"generation": number, "of": "r1", "stage": "signed-in", "at": life.now, "until": until}
        life.write(history.STAGED, about)
        life.write(history.STAGED, {**about, "until": life.now, "over": True}) if over else None
        life.use(number)
    assert life.go_on().stage is (Stage.GIVEN if over else Stage.TAKEN)
    life.stage(Asked.WORD, who="mira.sol")
    life.fake.now = given + quiet + timedelta(seconds=30)  # unused for as long since it was given, and not since that use
    ended = life.go_on().stage not in (Stage.GIVEN, Stage.TAKEN)
    assert ended is over
    assert over or "a use of ours was interrupted then" in life.waited.waits
    life.fake.pass_(60)
    assert life.go_on().stage not in (Stage.GIVEN, Stage.TAKEN)


def test_a_word_stands_for_what_is_not_told_and_the_deadline_is_nobodys_end() -> None:
    life = Life.begun(last_used="none")
    life.rotate(deadline=format_instant(NOW + timedelta(days=20)))
    life.stage(Asked.WORD, who="mira.sol")
    assert life.go_on().stage is Stage.TAKEN
    life.fake.now = life.one.deadline + timedelta(seconds=1)
    life.fake.profile = dataclasses.replace(life.fake.profile, last_used="second")
    life.use(1)
    life.go_on()
    assert (life.waited.code, life.waited.early, "10.0.0.7" in life.waited.waits, len(life.names())) == ("late", False, True, 2)
    life.stage(Asked.END)
    one = life.go_on()
    assert (one.stage, life.names(), life.waited.early, "may live until" in life.waited.waits) == (
        Stage.ENDED,
        ["main-2"],
        True,
        True,
    )
    life.fake.pass_(602)
    assert life.go_on().closed == "done"


def test_off_for_a_while_and_on_again_where_somebody_misses_it() -> None:
    life = Life.begun(stamped=True, last_used="none")
    life.rotate()

    def old() -> list[bool]:
        return [r.body.active for r in life.fake.things["credential"] if r.body.name == "main"]

    for _ in range(2):
        life.stage(Asked.PAUSE)
        one = life.go_on()
        assert (one.stage, life.waited.code, life.waited.early, old()) == (Stage.PAUSED, "paused", True, [False])
        life.stage(Asked.BACK)
        assert (life.go_on().stage, life.waited.code, old()) == (Stage.GIVEN, "back", [True])
        life.fake.pass_(10_000)
        assert (life.go_on().stage, life.waited.code, old()) == (Stage.GIVEN, "back", [True])
    life.stage(Asked.PAUSE)
    life.go_on()
    there = life.fake.things["credential"]
    touched = [r._replace(version="x", modified="x") if r.body.name == "main" else r for r in there]
    mine, there[:] = list(there), touched
    life.stage(Asked.BACK)
    life.go_on()
    assert (life.waited.code, old()) == ("touched", [False])
    there[:] = [r.with_(active=True) if r.body.name == "main" else r for r in mine]
    life.stage(Asked.PAUSE)
    assert (life.go_on().stage, life.waited.code) == (Stage.PAUSED, "back")  # somebody else switched it on
    there[:] = mine
    life.fake.pass_(599)
    assert life.go_on().stage is Stage.PAUSED
    life.fake.pass_(2)
    assert (life.go_on().closed, life.names()) == ("done", ["main-2"])


def test_a_bridge_lets_the_old_key_serve_longer() -> None:
    life = Life.begun(repeated_keys=True)
    life.rotate()
    first, fake = life.one.deadline, life.fake

    def against(**about: Any) -> str:
        around = Around(life.want, dataclasses.replace(fake.profile, **about), fake.history().principal_id("away"), "account")
        look = Look(fake.answer, around=around)
        return "; ".join(not_bridged(life.one, around, look, fake.now, ends(life.one, fake.now, 86_400), 200 * 86_400))

    for about, told in (
        ({"repeated_keys": False}, "one public key twice"),
        ({"keys_per_principal": 2}, "so many stand"),
        ({"credential_seconds": 86_400}, "longer than away allows"),
    ):
        assert told in against(**about)
    until = ends(life.one, fake.now, 86_400)
    assert (against(), until) == ("", NOW + timedelta(days=91))
    life.stage(
        Asked.BRIDGE,
        bridge=1,
        public_key={"kty": "OKP", "crv": "Ed25519", "x": "t"},
        until=format_instant(until),
        deadline=format_instant(deadline(fake.now, until, 86_400)),
        accepted_by="mira",
    )
    fake.fates, fake.losing = ["lost-after"], True
    for _ in range(3):
        life.go_on()
        assert (life.names(), life.one.deadline > first) == (["main", "main-2", "main-bridge"], True)
        assert fake.compare(charter(credentials=(life.want,))).steps == ()  # its rotation ends it
        fake.pass_(5)
    life.use(2)
    fake.pass_(300)
    there = fake.things["credential"]
    there[:] = [r.with_(used_at=fake.now, used_from="10.0.0.9") if r.body.name == "main-bridge" else r for r in there]
    fake.pass_(599)
    assert (life.go_on().stage, "10.0.0.9" in life.waited.waits) == (Stage.TAKEN, True)
    fake.pass_(10)
    assert (life.go_on().closed, life.names()) == ("done", ["main-2"])
    assert "is being ended" in against()


def test_where_people_are_the_interface_they_say_when_it_was_used_last() -> None:
    life = Life.begun(last_used="none", confirmed_by="person")
    life.rotate()
    life.stage(Asked.WORD, who="mira.sol")
    life.fake.pass_(10_000)
    assert (life.go_on().stage, life.waited.code) == (Stage.TAKEN, "again")
    life.stage(Asked.LAST, who="mira.sol", day=(life.fake.now - timedelta(days=2)).date().isoformat())
    assert life.go_on().closed == "done" or life.one.stage in (Stage.ENDED, Stage.DEAD)


def test_an_exposed_one_ends_at_once_and_a_gap_is_agreed() -> None:
    life = Life.begun()
    one = life.rotate(exposed=True)
    assert (one.stage, life.names(), life.tried) == (Stage.ENDED, ["main-2"], 0)
    life = Life.begun(keys_per_principal=1)
    assert (life.rotate(gap=True).stage, life.names()) == (Stage.GIVEN, ["main-2"]) or life.one.stage is Stage.ENDED


@pytest.mark.parametrize("exposed", [False, True])
def test_where_one_takes_the_place_of_the_other_there_is_no_moment_without(exposed: bool) -> None:
    life = Life.begun(PASSWORD, keys_per_principal=1, replaces=True)
    life.late = 60
    one = life.rotate(gap=True, exposed=exposed)
    if not exposed:
        assert (
            one.stage,
            life.names(),
            life.waited.early,
            "has it by" in life.waited.waits or "have it by" in life.waited.waits,
        ) == (Stage.BESIDE, ["main"], True, True)
        life.fake.pass_(60)
        one = life.go_on()
    ended = life.fake.history().generations[MARK][0]
    assert (life.names(), ended.state, ended.ended_at) == (["main-2"], history.State.ENDED, format_instant(life.fake.now))
    assert not any(isinstance(sent, End) for sent in life.fake.requests)


def test_what_others_do_to_the_new_one_is_said() -> None:
    life = Life.begun()
    life.rotate()
    fresh = life.one.new
    assert fresh is not None
    there = life.fake.things["credential"]
    there[:] = [r.with_(active=False) if r.id == fresh.id else r for r in there]
    life.go_on()
    assert "somebody else switched the new main off" in life.waited.waits
    there[:] = [r for r in there if r.id != fresh.id]
    life.go_on()
    assert life.waited.code == "ended-elsewhere"
    life.write(history.INTENT, {"verb": "end", "generation": 2, "digest": "", "tenant_time": life.now, "thing": "credential"})
    life.go_on(1)  # it was our own end, whose answer was lost: nobody else is named, and the next one is made
    assert (life.fake.history().generations[MARK][1].state, life.waited.code) == (history.State.ENDED, "")
    life = Life.begun()
    life.rotate()
    there = life.fake.things["credential"]
    life.fake.blind = frozenset({"credential"})
    life.go_on()
    assert "cannot be looked up" in life.waited.waits
    life.fake.blind = frozenset()
    life.want = life.want._replace(name="main")
    gone = ROTATIONS.next(life.one, Look(life.fake.answer, around=Around(None, life.fake.profile)), life.fake.now)
    assert gone.code == "not-asked"
    life.write(history.HANDED, {"to": "desk", "credential": "main", "generation": 1, "values": [], "how": "sealed"})
    assert life.one.owed == ("desk",)
    assert tokens_over(life.fake.profile, NOW) == NOW + timedelta(seconds=601)
    assert tokens_over(dataclasses.replace(PROFILE, token_seconds=None), NOW) == NOW + timedelta(seconds=3601)
    dies = dataclasses.replace(life.fake.profile, tokens_die_with=frozenset({"password"}))
    for kinds, seconds in ((("password",), 1), (("password", "key-pair"), 601), (("",), 601), ((), 601)):
        assert tokens_over(dies, NOW, *kinds) == NOW + timedelta(seconds=seconds)


@settings(max_examples=examples(60), deadline=None)
@given(
    st.lists(st.sampled_from(["use-old", "use-new", "pass-1", "pass-300", "pass-700", "go-on"]), max_size=25),
    st.lists(st.sampled_from(["arrives", "lost-before", "lost-after", "busy"]), max_size=6),
)
def test_nobody_who_uses_the_old_one_loses_it(events: list[str], fates: list[str]) -> None:
    life = Life.begun()
    life.fake.fates, life.fake.losing = list(fates), True
    life.rotate()
    used: Any = None
    for event in [*events, "go-on"]:
        if event == "go-on":
            life.fake.pass_(5)
            life.go_on()
        elif event.startswith("pass"):
            life.fake.pass_(int(event[5:]))
        elif event == "use-old" and "main" in life.names():
            used = life.fake.now
            life.use(1)
        elif event == "use-new" and len(life.fake.history().generations[MARK]) > 1 and life.one.stage >= Stage.GIVEN:
            life.use(2)
        if "main" not in life.names():
            assert used is None or life.fake.now >= used + timedelta(seconds=600)
        else:
            assert life.one.closed == ""
    assert [r.body.active for r in life.fake.things["credential"] if r.body.name == "main"] in ([], [True])


# --- certificates ----------------------------------------------------------------------------------------------------------
CERT = KEY._replace(kind=CERTIFICATE)


def test_a_certificate_is_made_over_a_kept_key_and_renewed_like_one() -> None:
    life = Life.begun(CERT)
    [there] = life.fake.things["credential"]
    assert (there.body.type, there.body.thumbprint) == (
        "certificate",
        certificate_mark(base64.b64encode(b"certificate of main 1").decode()),
    )
    assert life.fake.compare(charter(credentials=(CERT,))).steps == ()
    one = life.rotate()
    assert (one.stage, life.names()) == (Stage.GIVEN, ["main", "main-2"])
    limited = Fake(profile=dataclasses.replace(LIVES, assertion_algorithms=("EdDSA", "ES256")))
    assert not limited.compare(charter(credentials=(CERT,))).mistakes  # the older name of the same
    told = limited.compare(charter(credentials=(CERT._replace(algorithm="RS256"),)))
    assert ([m.code for m in told.mistakes], told.mistakes[0].mend) == (["algorithm"], "write `algorithm:` Ed25519 or ES256")


def test_the_ca_is_asked_for_our_key_and_its_answer_looked_at() -> None:
    fake, asked = Fake(profile=LIVES), CERT._replace(signed_by="ca")
    fake.enact(charter(credentials=(asked,)))
    mark = fake.held["main", 1]
    [ask] = [r.step.action for r in fake.results if isinstance(r.step.action, Ask)]
    assert (ask.request.subject if ask.request else "", fake.things["credential"]) == ("wind", [])
    right = CertificateAnswer(base64.b64encode(b"answer").decode(), mark, NOW + timedelta(days=40), "CN=wind", "CN=House")
    for answer, code in (
        (right._replace(authority=True), "certificate-authority"),
        (right._replace(chained=False), "certificate-stranger"),
        (right._replace(until=NOW), "certificate-over"),
        (right._replace(until=NOW + timedelta(days=400)), "life-tenant"),
    ):
        assert [m.code for m in fake.compare(charter(credentials=(asked._replace(answer=answer),))).mistakes] == [code]
    other = fake.compare(charter(credentials=(asked._replace(answer=right._replace(key="x")),)))
    assert [s.action.advice.partition(";")[0] for s in other.steps if isinstance(s.action, Ask)] == [
        "what was named is for another key"
    ]
    done = charter(credentials=(asked._replace(answer=right),))
    fake.enact(done)
    [made] = fake.things["credential"]
    assert (made.body.until, made.body.thumbprint, fake.compare(done).steps) == (right.until, certificate_mark(right.der), ())


# --- suspensions ----------------------------------------------------------------------------------------------------------
def begun(fake: Fake, **body: Any) -> None:
    made = fake.history().latest(ACCOUNT)
    assert made is not None
    fake.ledger.append(
        [
            Fresh(
                history.SUSPENDED,
                "uid",
                {
                    **ACCOUNT.body(),
                    "undertaking": "suspension",
                    "number": "s1",
                    "generation": 1,
                    "thing": "account",
                    "id": made.id,
                    "name": "wind",
                    "because": "x",
                    "by": "ada",
                    "at": format_instant(fake.now),
                    "until": "",
                    "found_off": False,
                    **body,
                },
            )
        ]
    )


def suspended(fake: Fake, **body: Any) -> Suspension:
    begun(fake, **body)
    return go_on(fake)


def go_on(fake: Fake) -> Suspension:
    for _ in range(5):
        one = SUSPENSIONS.read(fake.ledger.kept, "uid")[-1]
        follows = SUSPENSIONS.next(one, Look(fake.answer), fake.now)
        if follows.closed:
            fake.ledger.append(
                [Fresh(history.CLOSED, "uid", {"undertaking": "suspension", "number": "s1", "how": follows.closed})]
            )
        elif follows.steps:
            Carrying(fake.ports(lambda step: None, lambda step: None), fake.history()).run(
                Outline("uid", follows.steps), lambda result: None
            )
        else:
            break
    return SUSPENSIONS.read(fake.ledger.kept, "uid")[-1]


def touch(fake: Fake, version: str, **fields: Any) -> None:
    there = fake.things["account"]
    there[:] = [r.with_(**fields)._replace(version=version, modified=version) for r in there]


# what stands when it is to come back, and what becomes of it
@pytest.mark.parametrize(
    ("found_off", "meanwhile", "how", "active"),
    [
        (False, "", Closed.ON_AGAIN, True),
        (True, "", Closed.STAYS_OFF, False),
        (False, "touched", Closed.STAYS_OFF, False),
        (False, "on", Closed.WAS_ON, True),
        (False, "gone", Closed.GONE, None),
    ],
)
def test_what_others_stopped_stays_stopped(found_off: bool, meanwhile: str, how: Closed, active: bool | None) -> None:
    fake = Fake(profile=LIVES, stamped=True)
    fake.enact(charter())
    if found_off:
        touch(fake, "9", active=False)
    one = suspended(fake, found_off=found_off, until=format_instant(fake.now + timedelta(hours=1)))
    assert [r.body.active for r in fake.things["account"]] == [False]
    assert (one.closed, one.sent, not fake.compare(charter()).changes) == ("", not found_off, True)
    fake.pass_(3600)
    if meanwhile == "gone":
        fake.things["account"].clear()
    elif meanwhile:
        touch(fake, "x", active=meanwhile == "on")
    one = go_on(fake)
    assert (one.closed, [r.body.active for r in fake.things["account"]]) == (how, [] if active is None else [active])
    assert not fake.history().holds


def test_an_off_whose_answer_was_lost_is_not_taken_for_ours() -> None:
    fake = Fake(profile=LIVES, stamped=True)
    fake.enact(charter())
    intent = {
        **ACCOUNT.body(),
        "verb": "change",
        "generation": 1,
        "digest": "",
        "tenant_time": format_instant(fake.now),
        "switches": "off",
    }
    begun(fake)
    fake.pass_(3600)
    assert (fake.compare(charter()).changes, plan(fake).stopped) == ((), ())  # on, because our "off" is still to come
    fake.ledger.append([Fresh(history.INTENT, "uid", intent)])
    touch(fake, "2", active=False)
    one = go_on(fake)
    assert (one.unsure, one.closed) == (True, "")
    fake.ledger.append([Fresh(history.REINSTATED, "uid", {"of": "s1"})])
    assert (go_on(fake).closed, [r.body.active for r in fake.things["account"]]) == (Closed.UNSURE, [False])
    fake.blind = frozenset({"account"})
    fake.ledger.kept.pop()
    assert "cannot be looked up" in SUSPENSIONS.next(go_on(fake), Look(fake.answer), fake.now).waits


# --- retirements --------------------------------------------------------------------------------------------------------------
def plan(fake: Fake, adopted: bool = False, gone: bool = False) -> Any:
    known = fake.history()
    whole = from_ledger("wind", known, "wind") if gone else charter()
    snapshot = Snapshot("away", fake.now, fake.profile)
    comparison = Comparison(whole, known, {"away": snapshot}, HouseRules(), fake.held, fake.silent(), Choices())
    for _ in range(9):
        found = retire(comparison, adopted=adopted)
        missed = snapshot.asked()
        if not missed:
            return found
        snapshot.facts.update({q: fake.answer(q) for q in missed})
    raise AssertionError("it never stops asking")


@pytest.mark.parametrize("gone", [False, True])
def test_all_of_it_ends_the_identity_last(gone: bool) -> None:
    fake = Fake(profile=LIVES)
    fake.enact(charter())
    found = plan(fake, gone=gone)
    assert [s.action.kind.name for s in found.outline.steps][-1] == "account"
    assert sorted(s.action.kind.name for s in found.outline.steps) == ["account", "credential", "grant"]
    Carrying(fake.ports(lambda s: None, lambda s: None), fake.history()).run(found.outline, lambda result: None)
    assert [fake.things[k] for k in ("account", "grant", "credential")] == [[], [], []]
    assert plan(fake).outline.steps == ()
    assert (found.given_back, found.stays, found.stopped) == ((), (), ())


def test_what_was_taken_over_is_given_back_and_what_was_stopped_is_asked_about() -> None:
    fake = Fake(profile=LIVES)
    fake.things["account"].append(thing("account", "a-9", name="wind", display="Wind", active=True))
    fake.enact(charter(), adopt=True)
    found = plan(fake)
    assert ([g.kind for g in found.given_back], [s.action.kind.name for s in found.outline.steps]) == (
        ["account"],
        ["grant", "credential"],
    )
    assert plan(fake, adopted=True).outline.steps[-1].action.kind.name == "account"
    fake.things["credential"][:] = [r.with_(active=False) for r in fake.things["credential"]]
    assert "somebody else switched off" in plan(fake).stopped[0]
    fake.ledger.append([Fresh(history.RETIRING, "uid", {"because": "over"})])
    blocked = fake.compare(charter())
    assert ([m.code for m in blocked.mistakes], fake.history().retiring, blocked.blocked) == (["retired"], "over", True)
    fake.ledger.append(
        [
            Fresh(history.GIVEN_BACK, "uid", {**ACCOUNT.body(), "generation": 1}),
            Fresh(history.RETIRED, "uid", {"because": "over", "at": "2027-03-01T12:00:00Z"}),
        ]
    )
    assert (fake.history().retired_at, fake.history().latest(ACCOUNT).live) == ("2027-03-01T12:00:00Z", False)  # type: ignore[union-attr]
    fake.ledger.append([Fresh(history.REVIVED, "uid", {"because": ""})])
    assert not fake.compare(charter(), adopt=True).blocked
