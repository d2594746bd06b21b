"""The demo's chapters: each stands alone, in a workspace of its own with the example's files."""

from __future__ import annotations

from .chapters_keyless import cluster, delegation, keyless, signing
from .scenes import BOTH, Add, Chapter, Edit, Scene

WIND, STATISTICS, ROBOT = "charters/wind-ingest.yaml", "charters/visitor-statistics.yaml", "charters/night-robot.yaml"
MAST = "brindlemoor/sensing-prod/streams/mast-test"
GRANT = "because: stores the readings}\n"
MORE = GRANT + "  - {role: stream-reader, at: brindlemoor/cameras, for: 10m, because: aims the camera at mast 4}\n"
RUNNER = "  - {role: query-runner, at: brindlemoor/visitors}\n"
EXEMPT = (
    "\nsign_in:\n  networks: [127.0.0.0/8]             # this machine\n  exempt: {rule: house-default, accepted_by: "
    "mara.teel@brindlemoor.example, why: nobody is there, review: 2027-06-01}\n"
)


def _short(add: Add) -> list[Scene]:
    return [
        Scene(
            "Reach the cloud platform with an administrator's token; the token itself is never typed.",
            add("summit", "ada.rusk"),
        ),
        Scene(
            "One page says who the identity is, who answers for it, what it may do, and what must stay impossible.",
            f"cat {WIND}",
        ),
        Scene(
            "Mistakes are told all at once, each with its place and its mend.",
            "sigillum charter check wind-ingest",
            3,
            (Edit(WIND, "role: stream-writer", "rol: stream-writer"), Edit(WIND, "lasts: 90d", "lasts: 90 days")),
        ),
        Scene(
            "Mended. What would happen, in order? Nothing is changed yet.",
            "sigillum rehearse wind-ingest",
            0,
            (Edit(WIND, "rol: stream-writer", "role: stream-writer"), Edit(WIND, "lasts: 90 days", "lasts: 90d")),
        ),
        Scene("The network has become slow.", "sigillum sandbox fault latency --seconds 2 --method POST --path Grants"),
        Scene(
            "Stopped in the middle, with Ctrl-C: the step under way is finished, and nothing more is begun.",
            "sigillum enact wind-ingest --yes",
            130,
            stopped=True,
        ),
        Scene(
            "Run again, it goes on: every change is read back, and proved both ways, signed in as the new identity.",
            "sigillum enact wind-ingest --yes",
        ),
        Scene(
            "A right for ten minutes, with a reason; it ends by itself.",
            f"sigillum lend stream-keeper --at {MAST} --to wind-ingest --for 10m --because 'clears the test mast'",
        ),
        Scene(
            "What will be at minute 11? No waiting is needed to know.",
            f"sigillum explain wind-ingest stream.delete {MAST} --at +11m",
            1,
        ),
        Scene("Everything is written down, chained and signed.", "sigillum ledger show"),
    ]


def _again(add: Add) -> list[Scene]:
    return [
        Scene("", add("summit", "ada.rusk")),
        Scene("What can this tenant do, what are its limits, and what may we do there?", "sigillum tenant inspect summit"),
        Scene("", "sigillum enact wind-ingest --yes"),
        Scene("Running it twice is safe.", "sigillum enact wind-ingest --yes"),
        Scene(
            "The network will lose the answer to the next change, after it was made.",
            "sigillum sandbox fault lost-after --method POST --path Grants",
        ),
        Scene(
            "The charter asks for one more role, for ten minutes. Only that is done, and nothing twice.",
            "sigillum enact wind-ingest --yes",
            0,
            (Edit(WIND, GRANT, MORE),),
        ),
        Scene(
            "Eleven minutes later the window has ended, by itself. The workspace follows the sandbox's clock.",
            "sigillum sandbox clock +11m",
        ),
        Scene("", "sigillum rehearse wind-ingest"),
        Scene(
            "An account that was there before gets its page, too: described as it stands, so nothing is to be done.",
            "sigillum charter new camera-archive --from camera-archive --tenant summit",
        ),
        Scene("It is left alone until somebody says --adopt.", "sigillum rehearse camera-archive"),
        Scene("What was done, and as which administrator?", "sigillum ledger show wind-ingest"),
        Scene("Has anybody without the key touched it?", "sigillum ledger verify"),
    ]


def _clients(add: Add) -> list[Scene]:
    request = "requests/0001-avalanche-mailer"
    nils = add("roster", "nils.brack").replace("sigillum", "sigillum -w nils", 1).replace("file:.", "file:../.")
    return [
        Scene("", add("summit", "ada.rusk")),
        Scene(
            "The directory and office of the house; its administrator may register clients, and consent to nothing.",
            add("roster", "lena.frost"),
        ),
        Scene(
            "A supplier's mailer writes in the names of people, and its form asks for a client id and a secret. Which kind?",
            "sigillum advise avalanche-mailer --signs-in form --in-the-name-of people --attended --runs supplier --services "
            "mail.send --tenant roster",
        ),
        Scene(
            "Its charter: a client, one scope of one API, only one mailbox; and a right in a second tenant.",
            "cat charters/avalanche-mailer.yaml",
        ),
        Scene("Consent belongs to somebody else, who is asked by a request.", "sigillum rehearse avalanche-mailer"),
        Scene("Everything else goes on.", "sigillum enact avalanche-mailer --yes", 6),
        Scene("What is open, and with whom?", "sigillum requests"),
        Scene("The other administrator has a workspace of his own.", "sigillum init nils"),
        Scene("", nils),
        Scene(
            "There the request is checked (the thumbprint of our key was told), compared anew, enacted, and answered.",
            f"sigillum -w nils requests answer {request}.json --yes --from {OURS}",
        ),
        Scene("The receipt comes back.", f"sigillum requests done 1 --receipt {request}.receipt.json --from {THEIRS}"),
        Scene("Consented, so it can be proved: in both tenants, both ways.", "sigillum enact avalanche-mailer --yes"),
        Scene("The five values that the supplier's form asks for, checked and complete.", "sigillum handover avalanche-mailer"),
        Scene("The supplier makes a key pair for receiving, and sends the public half.", "sigillum handover key supplier.jwk"),
        Scene(
            "The sheet is signed, and sealed to that key.",
            "sigillum handover avalanche-mailer --seal-to supplier.public.jwk --lasts 2d --out mailer.sealed",
        ),
        Scene(
            "Opened on the other side (secrets stay masked on a screen).",
            "sigillum handover open mailer.sealed --key file:supplier.jwk --as env",
        ),
        Scene("What is it that somebody pasted, and where may it be used?", "sigillum tenant identify avalanche-mailer"),
    ]


OURS, THEIRS = '"$(sigillum ledger key)"', '"$(sigillum -w nils ledger key)"'


def _accounts(add: Add) -> list[Scene]:
    return [
        Scene("The pass desk knows only accounts with a name and a password, born as drafts.", add("ticketry", "vera.moss")),
        Scene("", "sigillum enact pass-desk-feed --yes"),
        Scene(
            "Delivery: accounts live in areas, and a token gives what its account has, narrowed, until its end.",
            add("winch", "otto.reyl"),
        ),
        Scene("", "sigillum enact timetable-token --yes"),
        Scene("The directory, where two administrators share the powers.", add("roster", "lena.frost")),
        Scene(
            "A robot with a mailbox and a licence. A tenant-wide rule stops it at night, and that is said beforehand.",
            "sigillum rehearse night-robot",
            0,
            (Edit("sigillum.yaml", "  roster:\n", "  roster:\n" + BOTH), Edit(ROBOT, EXEMPT, "")),
        ),
        Scene(
            "Which rule decides? The account's own switch does not.",
            "sigillum explain old-robot --sign-in --tenant roster --ask-tenant",
            1,
        ),
        Scene(
            "Narrowed to this machine, and exempt: who accepts the risk, why, and until when.",
            "sigillum enact night-robot --yes",
            0,
            (Edit(ROBOT, "", EXEMPT),),
        ),
        Scene("", "sigillum explain night-robot --sign-in --from 127.0.0.1 --ask-tenant"),
    ]


def _by_hand(add: Add) -> list[Scene]:
    return [
        Scene(
            "The depot has no interface at all. Facts come from files that people export.",
            "sigillum tenant add depot https://depot.example --driver by-hand --admin ines.vole --stage prod",
        ),
        Scene("Steps become a work sheet, and wait for somebody.", "sigillum enact rope-stock --yes", 6),
        Scene("", "cat worksheets/rope-stock.md"),
        Scene(
            "Done as it says; what came back is checked and kept like any other.",
            "sigillum enact rope-stock --yes --answers done.yaml",
        ),
    ]


def _access(add: Add) -> list[Scene]:
    explain = f"sigillum explain wind-ingest stream.delete {MAST}"
    return [
        Scene("", add("summit", "ada.rusk")),
        Scene(
            "A team that changes dev and test, and only looks at prod: one role narrowed by labels, one not.",
            "cat charters/timetable-release.yaml",
        ),
        Scene(
            "And the account that publishes timetables. The team is made first, whatever the names.",
            "sigillum enact timetable-publisher timetable-release wind-ingest --yes",
        ),
        Scene("What may it do, and where?", "sigillum explain timetable-publisher --matrix"),
        Scene(
            "Ten minutes to clear the test mast: a loan always ends, and always has a reason.",
            f"sigillum lend stream-keeper --at {MAST} --to wind-ingest --for 10m --because 'clears the test mast'",
        ),
        Scene("What will be at minute 5?", f"{explain} --at +5m"),
        Scene("Eleven minutes later.", "sigillum sandbox clock +11m"),
        Scene("The tenant says the same as Sigillum.", f"{explain} --ask-tenant", 1),
        Scene("What has ended is shown as ended until it is cleared.", "sigillum loans"),
        Scene("Cleared: ours only.", "sigillum sweep --yes"),
    ]


def _waiting(add: Add) -> list[Scene]:
    return [
        Scene("", add("summit", "ada.rusk")),
        Scene(
            "Statistics for a supplier. Two things will not work, and the rehearsal says so beforehand.",
            "sigillum rehearse visitor-statistics",
            0,
            (Edit(STATISTICS, RUNNER, ""), Edit(STATISTICS, "location: alps-west", "location: alps-east")),
        ),
        Scene(
            "Enacted all the same, the proof says *never*, at once, and names every step that mends it.",
            "sigillum enact visitor-statistics --yes",
            1,
        ),
        Scene(
            "What works now is recorded, to be held against what will work.",
            "sigillum prove visitor-statistics --before",
            0,
            (
                Edit(STATISTICS, "brindlemoor/visitors/counts}\n\n", "brindlemoor/visitors/counts}\n" + RUNNER + "\n"),
                Edit(STATISTICS, "location: alps-east", "location: alps-west"),
            ),
        ),
        Scene(
            "From now on the tenant takes some seconds until a change is felt.", "sigillum sandbox limit summit felt_seconds 4"
        ),
        Scene("Mended, and waited for: *not yet* is told from *never*.", "sigillum enact visitor-statistics --yes --wait 1m"),
    ]


SIGNS_IN = "sigillum with wind-ingest -- sh -c 'test -s \"$WIND_INGEST_TOKEN_FILE\" && echo the gateway is let in'"


def _keys(add: Add) -> list[Scene]:
    return [
        Scene("", add("summit", "ada.rusk")),
        Scene("", "sigillum enact wind-ingest --yes"),
        Scene("What ends within a year, and what stops then?", "sigillum due wind-ingest --within 365d"),
        Scene("From the other side: the gateway runs with a token that is in no argument and on no disk.", SIGNS_IN),
        Scene(
            "The next key is made where nobody looks, tried, and put where consumers read. The old one goes on serving.",
            "sigillum rotate wind-ingest",
            7,
        ),
        Scene("", "sigillum sandbox clock +1m"),
        Scene("The gateway picks the new one up. Nobody was refused.", SIGNS_IN),
        Scene("Where does it stand, and what does it wait for?", "sigillum rotate --status"),
        Scene("", "sigillum sandbox clock +15m"),
        Scene("Unused for long enough, the old one ends, and is shown to be dead.", "sigillum rotate wind-ingest"),
        Scene("The key lay in a ticket: off first, then a new one.", "sigillum rotate wind-ingest --exposed --yes", 7),
        Scene(
            "Tokens that were stolen with it live for ten minutes more; then nothing of it is left.",
            "sigillum sandbox clock +11m",
        ),
        Scene("", "sigillum rotate wind-ingest"),
        Scene(
            "The mast is being moved: off for two hours, and every way in is tried.",
            "sigillum suspend wind-ingest --because 'mast 4 is being moved' --for 2h --yes",
        ),
        Scene("", SIGNS_IN, 4),
        Scene("", "sigillum sandbox clock +3h"),
        Scene("Three hours later it comes back by itself.", "sigillum sweep --yes"),
        Scene("", SIGNS_IN),
        Scene(
            "The mast is gone. What would end, who used it last, what would be left?", "sigillum retire wind-ingest --rehearse"
        ),
        Scene(
            "Everything ends, is shown to be refused, and the close-out list goes into the ledger.",
            "sigillum retire wind-ingest --because 'mast 4 is gone' --yes",
        ),
    ]


LAMPS = "dialects/lanterns.yaml"


def _dialect(add: Add) -> list[Scene]:
    return [
        Scene(
            "The lights of the night runs have an interface of their own. One file says how it speaks; its mistakes are "
            "told at once.",
            "sigillum dialect check",
            3,
            (Edit(LAMPS, "as: negated}", "as: negate}"),),
        ),
        Scene("Mended, and attached.", add("lanterns", "ines.vole"), 0, (Edit(LAMPS, "as: negate}", "as: negated}"),)),
        Scene(
            "Is the reference right? All of it is done once with an identity that is thrown away, and read back.",
            "sigillum dialect try lanterns --at lanterns/trial --yes",
        ),
        Scene("From here on it is a tenant like any other.", "sigillum rehearse lamp-watch"),
        Scene(
            "A making is finished later, and rights are entries of one document that others write, too.",
            "sigillum enact lamp-watch --yes",
        ),
        Scene("", "sigillum explain lamp-watch lamp.switch lanterns/night-run --ask-tenant", 1),
        Scene(
            "A switch for ten minutes: the end stands in the entry.",
            "sigillum lend lamp-keeper --at lanterns/night-run --to lamp-watch --for 10m --because 'lamp 2 is stuck' --yes",
        ),
        Scene("", "sigillum retire lamp-watch --because 'the night run is closed' --yes"),
    ]


CHAPTERS = {
    c.name: c
    for c in (
        Chapter("short", "one identity from charter to proof, with a mistake, a stop and a loan", _short),
        Chapter("again", "running it twice, a lost answer, a window's end, an account that was there before", _again),
        Chapter("clients", "a client, a request to somebody else, consent, rights in two tenants, a sealed sheet", _clients),
        Chapter("accounts", "passwords, narrowed tokens, a robot that a tenant-wide sign-in rule stops", _accounts),
        Chapter("by-hand", "a tenant without an interface: facts from files, a work sheet", _by_hand),
        Chapter("access", "teams, labels, loans, and why something is allowed or refused", _access),
        Chapter("keys", "a key renewed without an outage, one exposed, a suspension that comes back, a retirement", _keys),
        Chapter("dialect", "a platform with an interface of its own: described, proved, served like any other", _dialect),
        Chapter("keyless", "a workload without any key, on the right machine and the wrong; ten minutes as it", keyless),
        Chapter("cluster", "a program of a cluster and an account elsewhere: both halves of a link, before and after", cluster),
        Chapter("signing", "no key at all: the tenant signs for a machine's identity, and the wrong one is seen", signing),
        Chapter("delegation", "an office integration that acts for people, scope by scope", delegation),
        Chapter("waiting", "what will not work, said beforehand; *not yet* told from *never*", _waiting),
    )
}
