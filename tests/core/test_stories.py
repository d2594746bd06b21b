"""Told stories: what each comparison wants and why, what each run writes and sends, word for word.

`stories.txt` is what they tell today; after a change that was meant, `python -m pytest tests/core/test_stories.py --tell` writes it
anew, and the difference is read before it is committed.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from difflib import ndiff
from pathlib import Path
from typing import Any

import pytest

from core.fake import NOW, PROFILE, Fake, thing
from sigillum.core.charter.advice import Wish, advise
from sigillum.core.charter.charter import (
    Charter,
    CredentialWant,
    GrantWant,
    Identity,
    MemberWant,
    PermissionWant,
    ProofWant,
    RoleWant,
    ServiceWant,
)
from sigillum.core.charter.rules import HouseRules
from sigillum.core.charter.sheet import KINDS as SHEET_VALUES
from sigillum.core.charter.sheet import SheetLine, fill
from sigillum.core.charter.wants import ExemptWant, RelaxWant, SignInWant
from sigillum.core.deciding.explanations import explain, right_words
from sigillum.core.deciding.mends import mends
from sigillum.core.deciding.shadows import shadows
from sigillum.core.deciding.values import (
    Asks,
    Consent,
    Held,
    Hidden,
    KnownPlace,
    KnownPrincipal,
    Membership,
    Question,
    Right,
    Team,
)
from sigillum.core.deciding.waiting import outlook
from sigillum.core.deciding.world import World
from sigillum.core.facets.registry import check
from sigillum.core.kinds.profile import Operation
from sigillum.core.kinds.registry import KINDS
from sigillum.core.records.books import changes
from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.steps import Outline
from sigillum.core.values.marks import Ref, mark_of
from sigillum.core.values.secret import Secret

TOLD = Path(__file__).with_name("stories.txt")
DAY = 86_400
KEY = CredentialWant("main", "key-pair", 90 * DAY, 14 * DAY, ("stream.append",))
TOKEN = CredentialWant("tok", "api-token", 90 * DAY, 14 * DAY)
WORD = CredentialWant("word", "password", 90 * DAY, 14 * DAY)
SECRET = CredentialWant("shared", "shared-secret", 90 * DAY, 14 * DAY)
PUBLIC = {"kty": "OKP", "crv": "Ed25519", "x": "theirs"}
HOLDER = KEY._replace(name="theirs", keep_in="holder", public_key=PUBLIC)
CAN, CANNOT = ProofWant(True, "stream.read", "root/a"), ProofWant(False, "stream.delete", "root/a/one")
READ, WRITE = GrantWant("reader", "root/b", "looks"), GrantWant("writer", "root/a", "why")
SEND = PermissionWant("mail", "mail.send", "on-behalf", ("root/a/one",))
ALONE = PermissionWant("mail", "mail.read", "alone")
EXEMPT = ExemptWant("default", "mara", "nobody there", date(2099, 1, 1))
RELAX = RelaxWant("people", "mara", "too narrow", date(2099, 1, 1), "default")


def account(**more: Any) -> Charter:
    identity = more.pop("identity", Identity("service-account", "wind", "Wind"))
    return Charter(
        "wind", "away", "test", "stores", "m@x.example", identity, **{"grants": (WRITE,), "credentials": (KEY,), **more}
    )


def client(**more: Any) -> Charter:
    return Charter(
        "mailer",
        "away",
        "test",
        "mails",
        "m@x.example",
        more.pop("identity", Identity("client", "mailer", "Mailer", audience="any-tenant")),
        **more,
    )


def team(**more: Any) -> Charter:
    return Charter(
        "crew-2", "away", "test", "works", "m@x.example", Identity("team", "crew-2", "Crew", reach=("root/a",)), **more
    )


@dataclass
class Turn:
    """One command: compare, and carry out unless `look`. What the world does meanwhile stands beside it."""

    charter: Charter
    look: bool = False
    fates: str = ""
    most: int = 1000
    later: int = 0  # seconds since the turn before
    profile: Mapping[str, Any] = field(default_factory=dict)
    blind: frozenset[str] = frozenset()
    adopt: bool = False
    switch_on: bool = False
    off: str = ""  # a kind that somebody switches off
    end_extra: bool = False
    refusing: bool = False
    forget: bool = False  # the kept keys are lost
    gone: str = ""  # a kind of which everything was removed there
    made: tuple[Any, ...] = ()  # what stands there beside what we made
    hide: str = ""  # a kind that look-ups do not show any more
    confirmed: str = ""
    charters: str = ""  # other charters in the workspace
    progress: str = ""  # KIND=STATE: how far everything of a kind is
    rules: HouseRules = field(default_factory=lambda: HouseRules(because=frozenset()))


KAI = thing("account", "a-kai", name="kai", active=True)
FULL = account(
    licence="seat",
    member_of=(MemberWant("crew"),),
    services=(ServiceWant("store", "root/a"),),
    roles=(RoleWant("looker", "Looks", ("stream.read",)),),
    grants=(WRITE, GrantWant("looker", "root/b"), GrantWant("reader", "self", to="kai")),
    credentials=(KEY, TOKEN, WORD),
    proofs=(CAN, CANNOT),
    sign_in=SignInWant(("10.0.0.0/8",), EXEMPT, RELAX),
)
MAILER = client(
    permissions=(SEND, ALONE),
    credentials=(KEY, SECRET),
    grants=(READ, READ._replace(tenant="far", at="root/a")),
    services=(ServiceWant("store", "root/b", tenant="far"),),
    proofs=(CAN, dataclasses.replace(CANNOT, tenant="far")),
)
LIFE = account(grants=(WRITE._replace(lasts_seconds=3600),), proofs=(CAN,))
STORIES: dict[str, tuple[Turn, ...]] = {
    "everything an account can ask for, enacted, looked at, and taken back": (
        Turn(FULL, made=(KAI,)),
        Turn(FULL, look=True),
        Turn(account(grants=(), credentials=())),
        Turn(account(grants=(), credentials=()), look=True),
    ),
    "the same where accounts begin as drafts and nothing is sealed": (
        Turn(FULL, profile={"accounts_drafted": True, "secret_delivery": "once", "born_inactive": False}),
        Turn(FULL, look=True),
    ),
    "a client in two tenants, and less of it later": (
        Turn(MAILER),
        Turn(MAILER, look=True),
        Turn(client(permissions=(SEND._replace(only=()),), credentials=(KEY,))),
        Turn(client(), look=True),
    ),
    "a team, its members and who leaves": (
        Turn(
            team(members=(MemberWant("wind"),), grants=(WRITE,)), made=(thing("account", "a-wind", name="wind", active=True),)
        ),
        Turn(team(grants=(WRITE._replace(role="reader"),))),
        Turn(team(), look=True),
    ),
    "answers are lost, busy and late": (
        Turn(account(credentials=(TOKEN,)), fates="lost-after lost-before busy arrives lost-after"),
        Turn(account(credentials=(TOKEN,))),
    ),
    "interrupted after each few steps": (
        Turn(FULL, most=3),
        Turn(FULL, most=3),
        Turn(FULL, most=4),
        Turn(FULL, most=5),
        Turn(FULL, most=6),
        Turn(FULL),
    ),
    "keys are lost, due, over, and replaced": (
        Turn(account(proofs=(CAN,))),
        Turn(account(proofs=(CAN,)), forget=True),
        Turn(account(proofs=(CAN,)), later=80 * DAY, look=True),
        Turn(account(proofs=(CAN,)), later=11 * DAY),
        Turn(account(credentials=(KEY._replace(limits=("stream.read",)),), proofs=(CAN,))),
        Turn(account(credentials=(KEY._replace(limits=("stream.read", "stream.append")),), proofs=(CAN,)), refusing=True),
    ),
    "a holder's key": (
        Turn(account(credentials=(HOLDER._replace(public_key=None),))),
        Turn(account(credentials=(HOLDER,))),
        Turn(account(credentials=(HOLDER._replace(public_key={**PUBLIC, "x": "other"}),))),
    ),
    "a chosen password, and tenants without credentials of that kind": (
        Turn(account(credentials=(WORD._replace(source="env:X"),), grants=())),
        Turn(account(credentials=(TOKEN,)), profile={"keys_per_principal": 0}, look=True),
    ),
    "grants with windows: made, over, changed, and made by somebody else": (
        Turn(LIFE),
        Turn(LIFE, later=1800, look=True),
        Turn(LIFE, later=1801, look=True),
        Turn(account(grants=(WRITE._replace(until=NOW + timedelta(days=9)),), proofs=(CAN,)), look=True),
        Turn(account(grants=(WRITE._replace(role="keeper"),), proofs=(CAN,)), refusing=True),
        Turn(account(grants=(WRITE._replace(role="keeper"),), proofs=(CAN,))),
        Turn(
            account(grants=(), proofs=(CAN,)),
            end_extra=True,
            made=(
                thing("grant", "g-x", principal="a1", role="keeper", place="root/b", role_id="r-keeper", place_id="p-root/b"),
            ),
        ),
    ),
    "names that are taken, and taking them over": (
        Turn(account(), look=True, made=(thing("account", "a-wind", name="wind", display="Other", active=True),)),
        Turn(account(), adopt=True),
        Turn(account(identity=Identity("service-account", "wind", "Other")), adopt=True),
        Turn(account(identity=Identity("service-account", "wind", "Other")), look=True),
    ),
    "what cannot be seen": tuple(
        Turn(FULL, look=True, blind=frozenset([kind]))
        for kind in ("account", "grant", "role", "place", "credential", "team", "rule", "licence")
    ),
    "what a client cannot see": tuple(
        Turn(MAILER, look=True, blind=frozenset([kind])) for kind in ("client", "principal", "consent", "api")
    ),
    "what was removed there": (Turn(FULL), *(Turn(FULL, look=True, gone=kind) for kind in ("grant", "credential", "account"))),
    "removed there while changes take their time": (
        Turn(account(), profile={"arrival_seconds": 60}),
        Turn(account(), look=True, hide="grant"),
        Turn(account(), look=True, later=61),
    ),
    "a plain server": (
        Turn(
            FULL,
            look=True,
            profile={"carries": {"account": frozenset(["name", "display", "active"]), "team": frozenset(["name", "members"])}},
        ),
    ),
    "refused, and asked again": (
        Turn(account(), fates="refused"),
        Turn(account(), profile={"external_id_unique": False, "arrival_seconds": None}),
        Turn(account(grants=(WRITE, READ)), fates="lost-before"),
        Turn(account(grants=(WRITE, READ))),
    ),
    "changed meanwhile, never sent, gone, there already": tuple(
        Turn(FULL, fates=" ".join(["arrives"] * n + [fate]), most=9, made=(KAI,) if not n else ())
        for n, fate in enumerate(("exists", "unsent", "missing", "stale", "stale"))
    ),
    "arrived and not answered where externalIds are not unique": (
        Turn(account(), profile={"external_id_unique": False, "arrival_seconds": 0}, fates="lost-after arrives lost-after"),
        Turn(account()),
    ),
    "reviews that are overdue, and people who left": (
        Turn(
            dataclasses.replace(
                account(
                    sign_in=SignInWant((), EXEMPT._replace(review=date(2027, 2, 28)), RELAX._replace(review=date(2000, 1, 1)))
                ),
                review=NOW.date(),
                owner="kai",
                deputy="ada",
            ),
            look=True,
            made=(thing("account", "a-kai", name="kai", active=False), thing("account", "a-ada", name="ada", active=True)),
        ),
        Turn(dataclasses.replace(account(), review=date(2027, 2, 28), owner="ada", deputy="kai"), look=True),
    ),
    "what the tenant is still making, and what it could not make": (
        Turn(account()),
        Turn(account(), look=True, progress="account=accepted"),
        Turn(account(), look=True, progress="grant=accepted"),
        Turn(account(), progress="grant=failed"),
        Turn(account(), progress="account=failed"),
    ),
    "what others stopped": (
        Turn(account(proofs=(CAN,))),
        Turn(account(proofs=(CAN,)), look=True, off="account"),
        Turn(account(proofs=(CAN,)), off="account", later=120),
        Turn(account(proofs=(CAN,)), look=True, off="credential"),
        Turn(account(proofs=(CAN,)), switch_on=True),
        Turn(MAILER),
        Turn(MAILER, look=True, off="principal", later=120),
        Turn(account(), most=2, profile={"accounts_drafted": True}),
    ),
    "taken meanwhile, and said to be there without being shown": (Turn(account(), fates="taken"), Turn(account(), look=True)),
    "made differently from what was sent": (
        Turn(account(), fates="altered"),
        Turn(account(), fates="arrives altered"),
        Turn(account(), fates="altered altered lost-after"),
    ),
    "said to be there, twice": (Turn(account(), fates="exists exists"), Turn(account())),
    "a mailbox that somebody switched off": (
        Turn(account(identity=Identity("service-account", "wind", "Wind", mailbox=True), licence="seat")),
        Turn(account(identity=Identity("service-account", "wind", "Wind", mailbox=True), licence="seat"), look=True),
        Turn(account(identity=Identity("service-account", "wind", "Wind", mailbox=True), licence="space"), look=True),
    ),
    "another charter comes first": (
        Turn(account(member_of=(MemberWant("krew"),)), charters="krew"),
        Turn(team(members=(MemberWant("kai"),)), charters="kai"),
    ),
    "proofs that did not hold are tried again": (
        Turn(account(proofs=(CAN,)), refusing=True),
        Turn(account(proofs=(CAN,)), look=True),
        Turn(account(proofs=(CAN,))),
        Turn(account(proofs=(CAN,)), look=True),
    ),
    "an account of another organisation": (
        Turn(account(identity=Identity("foreign", "wind", "Wind", organisation="https://x.example"), credentials=())),
        Turn(
            account(identity=Identity("foreign", "wind", "Other", organisation="https://x.example"), credentials=()), look=True
        ),
        Turn(
            account(identity=Identity("foreign", "wind", "Wind", organisation="https://x.example"), credentials=()),
            look=True,
            forget=True,
            gone="account",
        ),
        Turn(
            account(identity=Identity("foreign", "kai", "Kai", organisation="https://x.example"), credentials=()),
            look=True,
            made=(KAI,),
        ),
    ),
    "a secret whose answer is lost, refused, and busy": (
        Turn(account(credentials=(TOKEN,)), profile={"secret_delivery": "once"}, fates="arrives arrives arrives secret-lost"),
        Turn(account(credentials=(TOKEN,)), fates="secret-busy"),
        Turn(account(credentials=(TOKEN._replace(name="t2"),)), fates="arrives secret-refused secret-refused"),
        Turn(account(credentials=(TOKEN._replace(name="t2"),))),
    ),
    "grants of strangers on the same account": (
        Turn(account(grants=())),
        Turn(
            account(),
            look=True,
            made=tuple(
                thing("grant", f"g-{r}-{n}", principal=w, role=r, place=p, role_id=f"r-{r}", place_id=f"p-{p}")
                for n, (w, r, p) in enumerate(
                    (("a1", "reader", "root/a"), ("a1", "writer", "root/b"), ("a9", "writer", "root/a"))
                )
            ),
        ),
        Turn(
            account(),
            look=True,
            made=(
                thing(
                    "grant", "g-same", principal="a1", role="writer", place="root/a", role_id="r-writer", place_id="p-root/a"
                ),
            ),
        ),
    ),
    "changed by two hands": (
        Turn(account()),
        Turn(account(identity=Identity("service-account", "wind", "Other")), fates="stale arrives"),
        Turn(
            account(grants=(READ._replace(to="kai"),)),
            look=True,
            made=(
                KAI,
                thing("grant", "g-x", principal="a1", role="reader", place="root/b", role_id="r-reader", place_id="p-root/b"),
            ),
        ),
    ),
    "members that cannot be seen, and a token that was made and is hidden": (
        Turn(team(members=(MemberWant("kai"),)), look=True, blind=frozenset(["account"])),
        Turn(account(credentials=(TOKEN,)), most=3),
        Turn(account(credentials=(TOKEN,)), look=True, hide="credential"),
        Turn(account(credentials=(TOKEN,)), look=True, later=3600),
    ),
    "a person confirms each thing": (
        Turn(account(member_of=(MemberWant("crew"),)), confirmed="kai"),
        Turn(account(), confirmed="kai"),
    ),
    "an area to live in, and another name for it": (
        Turn(
            account(identity=Identity("service-account", "wind", "Wind", area="root/a/one")),
            profile={"accounts_live_in": "box"},
        ),
        Turn(account(identity=Identity("service-account", "wind", "Wind", wide="for all")), look=True),
    ),
    "a review today, and a password where no rule is shown": (
        Turn(account(sign_in=SignInWant((), EXEMPT._replace(review=NOW.date()), RELAX._replace(review=NOW.date()))), look=True),
        Turn(account(credentials=(WORD,)), look=True),
        Turn(
            account(credentials=(WORD,)),
            look=True,
            profile={"carries": {n: k for n, k in PROFILE.carries.items() if n != "rule"}},
        ),
        Turn(account(roles=(RoleWant("looker", "Looks", ("stream.read",)),)), look=True, profile={"operations": {}}),
    ),
    "what the tenant knows to be wrong": (
        Turn(
            account(
                grants=(
                    WRITE._replace(role="writr"),
                    WRITE._replace(at="root/c"),
                    WRITE._replace(at="tree/a"),
                    WRITE._replace(to="nobody"),
                )
            ),
            look=True,
        ),
        Turn(
            account(
                licence="seats",
                member_of=(MemberWant("krew"),),
                services=(ServiceWant("stor", "root/a"), ServiceWant("store", "root/x")),
            ),
            look=True,
        ),
        Turn(
            account(
                sign_in=SignInWant(
                    (),
                    ExemptWant("fixed", "m", "w", date(2000, 1, 1)),
                    RelaxWant("default", "m", "w", date(2000, 1, 1), "people"),
                )
            ),
            look=True,
            made=(thing("account", "kai", name="kai", active=True),),
        ),
        Turn(account(sign_in=SignInWant((), None, RELAX._replace(replaced_by="none"))), look=True),
        Turn(account(sign_in=SignInWant((), None, RELAX._replace(rule="none"))), look=True),
        Turn(account(sign_in=SignInWant((), ExemptWant("defalt", "m", "w", date(2099, 1, 1)))), look=True),
        Turn(account(roles=(RoleWant("reader", "Mine", ("stream.read", "stream.fly")),)), look=True),
        Turn(
            client(
                permissions=(
                    PermissionWant("mial", "mail.send", "alone"),
                    PermissionWant("mail", "mail.fly", "alone"),
                    PermissionWant("mail", "mail.read", "on-behalf"),
                    SEND._replace(only=("root/a",)),
                )
            ),
            look=True,
        ),
        Turn(account(grants=(WRITE._replace(because=""),)), look=True, rules=HouseRules()),
    ),
    "house rules and limits of the tenant": (
        Turn(account(credentials=(KEY._replace(lasts_seconds=400 * DAY),)), look=True),
        Turn(
            account(
                credentials=(
                    KEY._replace(algorithm="RS256"),
                    TOKEN,
                    KEY._replace(name="b"),
                    KEY._replace(name="c"),
                    KEY._replace(name="d"),
                )
            ),
            look=True,
        ),
        Turn(account(), look=True, profile={"powers": frozenset({"look"})}),
        Turn(account(), look=True, profile={"born_inactive": None}),
    ),
}


def shown(value: Any) -> Any:
    if isinstance(value, Ref):
        return f"({value.step}){value.field}"
    if isinstance(value, tuple) and not hasattr(value, "_fields"):
        return [shown(v) for v in value]
    if isinstance(value, datetime):
        return value.astimezone(UTC).isoformat()
    return {n: shown(v) for n, v in value.items()} if isinstance(value, Mapping) else str(value)


def outline_lines(outline: Outline) -> Iterator[str]:
    for step in outline.steps:
        yield f"  {step.id} | {step.kind} | {step.about} | {step.power} | {step.why}"
        yield f"    does {type(step.action).__name__} " + ", ".join(
            f"{n}={shown(v)}"
            for n, v in zip(step.action._fields, step.action, strict=True)
            if n != "kind" and v not in ((), "", {}, None, False)
        )
        yield from (f"    needs {n}" for n in step.needs)
        yield from (f"    {word} {dict(values)}" for word, values in (("before", step.before), ("after", step.after)) if values)
    yield from (f"  {'warning' if n.warning else 'note'} {n.code}: {n.text}" for n in outline.notes)
    yield from (f"  mistake {m.code}: {m.what}; {m.mend}" for m in outline.mistakes)
    yield from (f"  taken {c.name} {c.matches} {[(n, shown(w), shown(e)) for n, w, e in c.rows]}" for c in outline.collisions)


def prepare(fake: Fake, turn: Turn) -> None:
    """What another hand does before the turn."""
    fake.pass_(turn.later)
    fake.profile = dataclasses.replace(fake.profile, **turn.profile)
    fake.blind, fake.refusing, fake.fates, fake.confirmed = turn.blind, turn.refusing, turn.fates.split(), turn.confirmed
    if turn.forget:
        fake.held.clear()
    if turn.gone:
        fake.things[turn.gone].clear()
    if turn.hide:
        fake.hidden |= {r.id for r in fake.things[turn.hide]}
    fake.charters = frozenset(turn.charters.split())
    if turn.off:
        fake.things[turn.off][:] = [r.with_(active=False) for r in fake.things[turn.off]]
    if turn.progress:
        kind, state = turn.progress.split("=")
        fake.things[kind][:] = [r._replace(progress=state) for r in fake.things[kind]]
    for record in turn.made:
        fake.things[record.kind.name].append(record)


def told(turns: tuple[Turn, ...]) -> Iterator[str]:
    fake, last = Fake(losing=True), list[str]()
    for number, turn in enumerate(turns, 1):
        yield f" turn {number}: {'look' if turn.look else 'enact'}"
        prepare(fake, turn)
        outline = list(
            outline_lines(
                fake.compare(turn.charter, turn.rules, adopt=turn.adopt, end_extra=turn.end_extra, switch_on=turn.switch_on)
            )
        )
        yield from (
            line for line in ndiff(last, outline) if line[0] in "+-"
        )  # what is new since the turn before, and what is gone
        last = outline
        if turn.look:
            continue
        before, fake.requests = len(fake.ledger.kept), []
        fake.enact(turn.charter, adopt=turn.adopt, most=turn.most, switch_on=turn.switch_on)
        done = [str(r.step.id) for r in fake.results if r.state == "done"]
        yield from ([f"  done {', '.join(done)}"] if done else [])
        yield from (
            f"  {r.state} {r.step.id}: {r.error.what if r.error else ''}; {r.error.mend if r.error else ''}"
            for r in fake.results
            if r.state != "done"
        )
        yield from (f"  wrote {_entry(e)}" for e in fake.ledger.kept[before:])
        yield from (f"  kept {line}" for line in fake.kept)
        fake.kept.clear()
        writing = fake.history().find(KINDS["grant"], "away", role="writer")
        assert writing is None or (writing is not None and writing.mark.get("role") == "writer")
        assert (
            fake.history().find(KINDS["grant"], "far", role="writer"),
            fake.history().find(KINDS["role"], "away", role="writer"),
        ) == (None, None)
        yield f"  sent {', '.join(f'{type(d).__name__} {d.kind.name}' for d in fake.requests)}"
        yield from (
            f"  now {g.mark} #{g.number} {g.id} {g.value} {g.state} kept={bool(g.kept)} unanswered={g.unanswered} {dict(g.terms)}"
            for all_ in fake.history().generations.values()
            for g in all_
            if g.state != "made" or g.terms or g.kept
        )


def _entry(entry: LedgerEntry) -> str:
    body = {
        n: str(v)
        for n, v in entry.body.items()
        if n not in ("digest", "tenant_time", "proofs", "external_id", "attempt", "facet", "tenant", "key", "thing", "results")
        and v not in ({}, [], 1)
    }
    mark = mark_of(entry.body) if "facet" in entry.body else ""
    return f"{entry.kind} {mark} {body} {[r.what for r in changes(entry.kind, 'uid', entry.body)] or ''}"


WRONG: tuple[Charter, ...] = (
    dataclasses.replace(account(), owner="", tenant="awya"),
    account(
        credentials=(
            KEY,
            KEY,
            KEY._replace(name="x", lasts_seconds=900 * DAY),
            KEY._replace(name="y", renew_before_seconds=91 * DAY),
            KEY._replace(name="z", kind="shared-secret"),
            TOKEN._replace(limits=("stream.append",)),
            WORD,
            WORD._replace(name="w2"),
        )
    ),
    account(
        grants=(
            WRITE,
            WRITE,
            WRITE._replace(role="forbidden"),
            WRITE._replace(lasts_seconds=5, until=NOW),
            WRITE._replace(start=NOW, until=NOW),
            WRITE._replace(at="self", to="wind"),
            WRITE._replace(to="kai"),
            WRITE._replace(tenant="far"),
        )
    ),
    account(
        proofs=(
            CAN,
            dataclasses.replace(CAN, allowed=False),
            CAN,
            dataclasses.replace(CAN, person="kai"),
            dataclasses.replace(CANNOT, tenant="far"),
        )
    ),
    account(
        identity=Identity(
            "service-account",
            "wind",
            "Wind",
            area="root/a",
            wide="because",
            web_only=True,
            organisation="x",
            redirects=("https://x",),
        )
    ),
    account(identity=Identity("foreign", "wind", "Wind"), credentials=(WORD, KEY)),
    account(identity=Identity("foreign", "wind", "Wind", organisation="https://x.example"), credentials=()),
    account(members=(MemberWant("a"),), permissions=(SEND,), sign_in=SignInWant(("10.0.0.0/8", "nonsense"))),
    team(members=(MemberWant("a"), MemberWant("a")), credentials=(KEY,), member_of=(MemberWant("ring"),), licence="seat"),
    team(grants=(WRITE, WRITE._replace(at="root"))),
    client(
        permissions=(SEND, SEND, ALONE, ALONE._replace(only=("root/a/one",))),
        credentials=(WORD, TOKEN),
        member_of=(MemberWant("ring"),),
        licence="seat",
    ),
    client(
        identity=Identity(
            "client",
            "mailer",
            "Mailer",
            confidential=False,
            redirects=("http://x.example/back", "https://x.example/#f"),
            location="x",
            reach=("root",),
            area="root",
            wide="w",
            mailbox=True,
        ),
        credentials=(SECRET,),
    ),
    *(
        client(identity=Identity("client", "mailer", "Mailer", **{field: value}))  # type: ignore[arg-type]
        for field, value in (
            ("area", "root"),
            ("wide", "all"),
            ("web_only", True),
            ("location", "north"),
            ("reach", ("root",)),
            ("mailbox", True),
            ("organisation", "x"),
        )
    ),
    client(
        identity=Identity("client", "mailer", "Mailer"),
        grants=(READ._replace(tenant="far"), READ._replace(tenant="fra"), WRITE._replace(tenant="away")),
    ),
    account(
        services=(ServiceWant("store", "root/a"), ServiceWant("store", "root/a")),
        roles=(RoleWant("r", "R", ()), RoleWant("r", "R", ("a.b", "a.b"))),
        member_of=(MemberWant("crew"), MemberWant("crew")),
    ),
    account(sign_in=SignInWant((), ExemptWant("a", "", "", date(2000, 1, 1)), RelaxWant("a", "m", "w", date(2099, 1, 1), "a"))),
)


GRANTABLE = [
    thing("role", n, name=n, breadth=b, grantable_at=a, permissions=p)
    for n, b, a, p in (
        ("reader", "curated", (), (("d.read", "looks"),)),
        ("keeper", "curated", ("project", "room"), (("d.read", "looks"), ("d.drop", "changes-data"))),
        ("owner", "broad", ("project",), (("d.read", "looks"), ("d.drop", "changes-data"), ("d.grant", "administers"))),
        ("on", "curated", (), (("d.on", "looks"),)),
    )
]
SOON, AGO, LATER = NOW + timedelta(seconds=40), NOW - timedelta(seconds=30), NOW + timedelta(hours=2)
WORLD = World(
    principals={
        p.id: p
        for p in (
            KnownPrincipal("kai", "Kai", "person"),
            KnownPrincipal("bot", "bot", location="north"),
            KnownPrincipal("off", "off", active=False),
            KnownPrincipal("new", "new", ready=False),
            KnownPrincipal("far", "far", "foreign"),
            KnownPrincipal("app", "app", "client"),
            KnownPrincipal("crew", "crew", "team"),
            KnownPrincipal("ring", "ring", "team"),
            KnownPrincipal("all", "all", "team"),
        )
    },
    teams={t.id: t for t in (Team("crew", "crew", ("top/a",)), Team("ring", "ring"), Team("all", "all", (), True))},
    memberships=[
        Membership("bot", "crew", AGO),
        Membership("crew", "ring"),
        Membership("kai", "ring"),
        Membership("off", "ring"),
    ],
    places={
        p.path: p
        for p in (
            KnownPlace("top", "root"),
            KnownPlace("top/a", "project", (("store", None),), "north", (("stage", "dev"),)),
            KnownPlace("top/a/r", "room", made=AGO),
            KnownPlace("top/b", "project", (("store", AGO),), "south", (("stage", "prod"),)),
            KnownPlace("top/b/r", "room"),
            KnownPlace("top/c", "project"),
        )
    },
    roles={r.body.name: frozenset(p for p, _ in r.body.permissions) for r in GRANTABLE},
    rights=[
        Right("g1", "crew", "keeper", "top/a"),
        Right("g2", "bot", "reader", "top/b", AGO, SOON),
        Right("g3", "ring", "reader", "top", made=AGO),
        Right("g4", "bot", "on", "top", labels=(("stage", frozenset({"dev"})),)),
        Right("g5", "kai", "owner", "top/b", SOON),
        Right("g6", "bot", "keeper", "top/c", ready=False),
        Right("g7", "all", "reader", "top/c"),
        Right("g8", "far", "reader", "top/a", until=AGO),
        Right("g9", "bot", "reader", "@kai"),
        Right("g10", "bot", "reader", "top/b/r", until=LATER, leaving=True),
        Right("g11", "app", "owner", "top/a"),
    ],
    credentials={
        k.id: k
        for k in (
            Held("k1", "bot", "k1", limits=frozenset({"d.read"})),
            Held("k2", "bot", "k2", active=False),
            Held("k3", "bot", "k3", start=SOON),
            Held("k4", "bot", "k4", until=NOW),
            Held("k5", "app", "k5"),
        )
    },
    operations={
        n: Operation(n, c, "GET", "/{place}", s, located, needs, api)
        for n, c, s, located, needs, api in (
            ("d.read", "looks", "", False, (), ""),
            ("d.drop", "changes-data", "store", True, (), ""),
            ("d.grant", "administers", "", False, (), ""),
            ("d.on", "looks", "store", False, ("d.read@project",), ""),
            ("m.send", "changes-data", "", False, (), "mail"),
            ("m.read", "looks", "", False, (), "mail"),
        )
    },
    felt=timedelta(seconds=60),
    asks={"app": Asks("app", frozenset({("mail", "m.send", "on-behalf"), ("mail", "m.read", "alone")}))},
    consents={
        "app": [
            Consent("c1", "app", "m.send", "on-behalf", ("top/a",), None, "mara"),
            Consent("c2", "app", "m.read", "alone", (), AGO, "mara"),
        ]
    },
    hidden={Hidden("rights", "far"): "not for you", Hidden("place", "top/x"): "not for you"},
)
QUESTIONS = [
    Question(who, what, where, NOW, key, person)
    for who, what, where, key, person in (
        *(
            (w, p, at, "", "")
            for w, p, ats in (
                ("kai", "d.read", ("top/a/r", "top/b", "top/c")),
                ("kai", "d.drop", ("top/a", "top/b", "top/c")),
                ("bot", "d.drop", ("top/a", "top/b", "top/c")),
                ("bot", "d.on", ("top/a", "top/b")),
                ("off", "d.read", ("top/b",)),
                ("new", "d.read", ("top/b",)),
                ("far", "d.read", ("top/a", "top/c")),
                ("app", "d.drop", ("top/a",)),
                ("crew", "d.drop", ("top/a", "top/b")),
                ("crew", "d.read", ("top/c",)),
                ("nobody", "d.read", ("top",)),
            )
            for at in ats
        ),
        *(
            ("bot", "d.read", at, k, "")
            for at, k in (
                ("top/a", "k1"),
                ("@kai", "k2"),
                ("top/b/r", ""),
                ("@kai", "k3"),
                ("@kai", "k4"),
                ("@kai", "k9"),
                ("@kai", ""),
            )
        ),
        ("bot", "d.drop", "top/a", "k1", ""),
        *(
            ("app", p, at, k, who)
            for p in ("m.send", "m.read")
            for at, k, who in (
                ("top/a", "", ""),
                ("top/b", "k5", "kai"),
                ("top/a", "", "kai"),
                ("top/b", "", "off"),
                ("top/a", "", "nobody"),
            )
        ),
        *(("bot", "d.read", at, "", "") for at in ("top/x", "top/y", "top")),
        ("bot", "d.fly", "top/a", "", ""),
        ("kai", "d.grant", "top/b/r", "", ""),
        ("bot", "m.send", "top/a", "", "kai"),
    )
] + [
    Question("kai", "d.grant", "top/b", SOON),
    Question("bot", "d.read", "top/b", SOON),
    Question("bot", "d.read", "top", SOON + timedelta(seconds=20)),
]


def lines() -> Iterator[str]:
    for name, turns in STORIES.items():
        yield f"# {name}"
        yield from told(turns)
    yield "# what is wrong with a charter by itself"
    for number, wrong in enumerate(WRONG, 1):
        yield f" charter {number}"
        rules = HouseRules(
            longest_credential_seconds=365 * DAY, forbidden_roles=frozenset(["forbidden"]), named=("owner", "deputy")
        )
        yield from (f"  mistake {m.code}: {m.what}; {m.mend}" for m in check(wrong, rules, ["away", "far"]))
    yield "# what is advised"
    for signs_in, unattended, acts, runs, shared, mailbox in (
        ("tokens", True, "own", "own", False, False),
        ("form", True, "people", "supplier", False, True),
        ("web", False, "own", "cloud", True, False),
        ("tokens", True, "own", "supplier", True, True),
        ("web", True, "own", "own", False, False),
    ):
        advice = advise(
            Wish(
                "feed",
                "summit",
                signs_in,
                unattended,
                acts,
                mailbox,
                ("key-pair", "password"),
                runs,
                ("reader", "mail.send"),
                ("load", "show"),
                ("test", "prod"),
                shared,
            )
        )
        yield f" {signs_in} {unattended} {acts} {runs} {shared} {mailbox} {advice.names}"
        yield from (f"  {part}: {shown(getattr(advice, part))}" for part in advice._fields if part != "draft")
        yield from (f"  draft {line}" for line in advice.draft.splitlines())
    yield "# what stands on a sheet"
    sheet = fill(
        "wind",
        "feed",
        [SheetLine(v) for v in SHEET_VALUES]
        + [SheetLine("secret", "PASS", "[a-z]+", 3, 5), SheetLine("extra", fixed="always"), SheetLine("strange")],
        {"client_id": "c-1", "secret": Secret("verysecret"), "issuer": "https://x", "ends": "2027-03-01T13:00:00Z"},
        {"token_endpoint": "later"},
        {"secret": "file:x"},
        NOW,
    )
    yield from (f"  {v}" for v in sheet)
    yield "# why"
    for question in QUESTIONS:
        found = explain(WORLD, question, GRANTABLE)
        yield f" {question.principal} {question.permission} at {question.place} +{int((question.at - NOW).total_seconds())} {question[4:]}"
        decision = found.decision
        yield f"  {decision.allowed} {decision.cause} changes {found.changes_at} also {[right_words(WORLD, r, question.principal) for r in decision.also]}"
        yield from (f"  {'*' if k is found.deciding else ' '} {k.good} {k.name}: {k.text}" for k in found.links)
        yield from (f"  mend {m.cause}: {m.text} {m.role} {m.place}" for m in mends(WORLD, question, GRANTABLE))
        said = outlook(WORLD, question, decision.allowed is False, timedelta(seconds=90), GRANTABLE)
        yield f"  outlook {said.state} {said.cause}: {said.text}; {said.mend} {said.due} {said.since}"
    yield from (
        f"  shadow of {right.id}: {found}" for right in WORLD.rights for found in shadows(WORLD, right, list(WORLD.places))
    )


def test_what_is_told_today(request: pytest.FixtureRequest) -> None:
    now = "\n".join(" ".join(line.split()) for line in lines() if line.strip()) + "\n"
    if request.config.getoption("--tell"):
        TOLD.write_text(now)
    assert now.splitlines() == TOLD.read_text().splitlines()
