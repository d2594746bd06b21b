"""Which kind of identity does an integration want? Kind, credential and number, each with its reason; and what a thief gets."""

from __future__ import annotations

from typing import NamedTuple

from sigillum.core.charter.credential_kinds import API_TOKEN, CREDENTIAL_KINDS, KEY_PAIR, PASSWORD, SHARED_SECRET

TOKENS, FORM, WEB = "tokens", "form", "web"
SIGNS_IN = {
    TOKENS: "it asks a token endpoint itself",
    FORM: "somebody types a client id and a secret into its form",
    WEB: "it signs in at a web interface with a name and a password",
}
RUNS = {"own": "on a machine of ours", "cloud": "on a platform that has identity tokens", "supplier": "at a supplier"}
NAMES = {"own": "in its own name", "people": "in the names of people"}
CREDENTIALS = tuple(name for name, kind in CREDENTIAL_KINDS.items() if not kind.certified)
TRUST = "trust"  # no credential at all: a token that it has already is trusted


class Wish(NamedTuple):
    """What is known of an integration. `accepts`: credentials that the services take; `shared`: one identity for everything."""

    name: str
    tenant: str = ""
    signs_in: str = TOKENS
    unattended: bool = True
    in_the_name_of: str = "own"
    mailbox: bool = False
    accepts: tuple[str, ...] = CREDENTIALS
    runs: str = "own"
    services: tuple[str, ...] = ()
    uses: tuple[str, ...] = ("main",)
    stages: tuple[str, ...] = ("prod",)
    shared: bool = False
    by: tuple[str, ...] = ()  # where what is accepted was read, in words, each with its day


class Reason(NamedTuple):
    """One answer with what led to it."""

    answer: str
    why: str


class Choice(NamedTuple):
    """Wishes that contradict each other: what each way out brings. Nothing is decided silently."""

    about: str
    ways: tuple[tuple[str, str], ...]  # what to do, and its consequence


class Loss(NamedTuple):
    """What somebody gets who steals the credential."""

    credential: str
    chosen: bool
    travels: str
    acts_as: str
    until: str


class Advice(NamedTuple):
    """Everything that is answered, and a draft charter for each identity."""

    kind: Reason
    credential: Reason
    number: Reason
    choices: tuple[Choice, ...]
    losses: tuple[Loss, ...]
    names: tuple[str, ...]
    draft: str


def advise(wish: Wish) -> Advice:
    """Answer a wish. Deterministic, and without looking at any tenant."""
    kind, credential = _kind(wish), _credential(wish)
    names = _names(wish)
    return Advice(
        kind,
        credential,
        _count(wish, names),
        tuple(_choices(wish, credential.answer)),
        tuple(_losses(wish, credential.answer)),
        names,
        _draft(wish, names[0], kind.answer, credential.answer),
    )


def _kind(wish: Wish) -> Reason:
    if wish.in_the_name_of == "people":
        return Reason("client", "only a client can act on behalf of people, and never do more than they may themselves")
    if wish.mailbox:
        return Reason("service-account", "a mailbox of its own hangs on an account, and takes a licence")
    if wish.signs_in == WEB:
        return Reason("service-account", "a web interface knows accounts with a name and a password; it is made web-only")
    if wish.signs_in == FORM:
        return Reason("client", "a form that asks for a client id and a secret is made for a client registration")
    return Reason("service-account", "it works for itself: it needs nobody's consent, and roles at places narrow it best")


def _allowed(wish: Wish, kind: str) -> tuple[str, ...]:
    """What an identity of this kind can prove itself with, the best first."""
    if wish.signs_in == WEB or (wish.mailbox and kind == "service-account"):
        return (PASSWORD,) if wish.signs_in == WEB else (KEY_PAIR, PASSWORD)
    if kind == "client":
        return (SHARED_SECRET, KEY_PAIR) if wish.signs_in == FORM else (KEY_PAIR, SHARED_SECRET)
    return (TRUST, KEY_PAIR, API_TOKEN) if wish.runs == "cloud" else (KEY_PAIR, API_TOKEN)


def _taken(wish: Wish, credential: str) -> bool:
    """Do the services take it? Where nothing was said, they take whatever there is."""
    return credential in wish.accepts or (credential == TRUST and wish.accepts == CREDENTIALS)


def _credential(wish: Wish) -> Reason:
    able = _allowed(wish, _kind(wish).answer)
    best = next((c for c in able if _taken(wish, c)), next(c for c in able if c != TRUST))
    where = (
        "; the supplier makes it and sends the public half (`keep_in: holder`)"
        if wish.runs == "supplier"
        else ", made where it is kept"
    )
    no_key = "the best key is none: its platform gives it tokens of its own, and those are trusted under conditions"
    return Reason(best, no_key if best == TRUST else CREDENTIAL_KINDS[best].why.format(where=where))


def _names(wish: Wish) -> tuple[str, ...]:
    if wish.shared:
        return (wish.name,)
    uses = wish.uses or ("main",)
    return tuple(
        "-".join(p for p in (wish.name, use if len(uses) > 1 else "", stage if len(wish.stages) > 1 else "") if p)
        for use in uses
        for stage in wish.stages or ("prod",)
    )


def _count(wish: Wish, names: tuple[str, ...]) -> Reason:
    if wish.shared:
        return Reason("1", "as wished: one identity for everything")
    return Reason(str(len(names)), "one for each use and stage: what leaks opens one of them, and each can be ended alone")


def _choices(wish: Wish, credential: str) -> list[Choice]:
    found = []
    if wish.in_the_name_of == "people" and wish.unattended:
        found.append(
            Choice(
                "it acts in people's names, and nobody is there",
                (
                    (
                        "on behalf of people: `acts: on-behalf`",
                        "somebody signs in from time to time; it can do what they may, no more",
                    ),
                    (
                        "alone, narrowed: `acts: alone` with `only:`",
                        "nobody is needed; it can use what is named, whoever owns it",
                    ),
                ),
            )
        )
    if wish.in_the_name_of == "people" and wish.mailbox:
        found.append(
            Choice(
                "it acts in people's names, and has a mailbox of its own",
                (
                    (
                        "a client for sending, an account for the mailbox",
                        "two identities, each narrow; answers reach the mailbox",
                    ),
                    ("only the client", "answers reach the people in whose names it wrote; no licence is taken"),
                ),
            )
        )
    if credential == PASSWORD and wish.unattended:
        found.append(
            Choice(
                "a password, and nobody there for a second factor",
                (
                    (
                        "exempt the account: `sign_in: exempt:`, with `networks:`",
                        "somebody accepts the risk, until a day of review",
                    ),
                    (
                        "a client or key instead, where the service learns to take it",
                        "no exemption; the service has to change first",
                    ),
                ),
            )
        )
    return found + _of_services(wish, credential)


def _of_services(wish: Wish, credential: str) -> list[Choice]:
    """What services take, how many identities there are, and who holds their secrets."""
    found = list[Choice]()
    if not _taken(wish, credential):
        able = ", ".join(_allowed(wish, _kind(wish).answer))
        found.append(
            Choice(
                f"the services take {', '.join(wish.accepts) or 'nothing'}, and this kind of identity has {able}",
                (
                    (f"ask the services to take a {credential}", "the identity stays as narrow as advised"),
                    ("change how it signs in", "another kind of identity follows: ask again"),
                ),
            )
        )
    if wish.shared and (len(wish.uses) > 1 or len(wish.stages) > 1):
        found.append(
            Choice(
                "one identity for several uses or stages",
                (
                    ("one each", f"{len(wish.uses) * len(wish.stages)} charters; a leak opens one of them"),
                    ("one for all", "less to look after; a leak opens everything at once, and ending it stops everything"),
                ),
            )
        )
    if wish.runs == "supplier" and credential in (SHARED_SECRET, PASSWORD):
        found.append(
            Choice(
                f"a {credential} that a supplier holds",
                (
                    (
                        "hand it over sealed: `handover --seal-to`",
                        "it lies in two places; it ends, and the ledger says who got it",
                    ),
                    (
                        "let the supplier make a key: `keep_in: holder`",
                        "nothing secret travels; the supplier's program has to sign",
                    ),
                ),
            )
        )
    return found


NO_KEY = ("never; there is nothing but tokens of minutes", "the identity, as long as such a token lives", "minutes later")


def _loss(credential: str) -> tuple[str, str, str]:
    if credential == TRUST:
        return NO_KEY
    kind = CREDENTIAL_KINDS[credential]
    return kind.travels, kind.opens, kind.until


def _losses(wish: Wish, credential: str) -> list[Loss]:
    """The chosen one first, then the alternatives that the services take."""
    others = [c for c in CREDENTIALS if c != credential and (c in wish.accepts or c in _allowed(wish, _kind(wish).answer))]
    return [Loss(c, c == credential, *_loss(c)) for c in (credential, *others)]


def _draft(wish: Wish, name: str, kind: str, credential: str) -> str:
    """A charter to begin with; what is not known stands in capitals."""
    tenant = wish.tenant or "TENANT"
    lines = [f"charter: {name}", f"tenant: {tenant}", f"purpose: WHAT {name} IS FOR", "", "identity:", f"  kind: {kind}"]
    lines += ["  web_only: true"] if wish.signs_in == WEB and kind == "service-account" else []
    if wish.mailbox and kind == "service-account":
        lines += ["  mailbox: true", "licence: LICENCE"]
    if kind == "client":
        acts = "on-behalf" if wish.in_the_name_of == "people" else "alone"
        scopes = wish.services or ("SCOPE",)
        lines += ["", "permissions:"] + [f"  - {{api: API, scopes: [{s}], acts: {acts}, only: [PLACE]}}" for s in scopes]
    else:
        lines += ["", "grants:"] + [f"  - {{role: {s}, at: PLACE, because: WHY}}" for s in wish.services or ("ROLE",)]
    keep = ", keep_in: holder" if wish.runs == "supplier" and credential == KEY_PAIR else ""
    if credential == TRUST:
        trust = f"  - {{name: {name}-trust, issuer: ISSUER, audience: {tenant}, subject: SUBJECT}}"
        return "\n".join([*lines, "", "trusts:", trust, "", "proofs: []", ""])
    word = "key" if credential == KEY_PAIR else "secret"
    lines += ["", "credentials:", f"  - {{name: {name}-{word}, kind: {credential}, lasts: 90d{keep}}}"]
    if credential == PASSWORD and wish.unattended:
        lines += ["", "sign_in:", "  networks: [NETWORK]"]
    return "\n".join([*lines, "", "proofs: []", ""])
