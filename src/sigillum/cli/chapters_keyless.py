"""The demo's chapters without keys: trusts, both halves of a link, signing services, and acting for people."""

from __future__ import annotations

from .scenes import BOTH, Add, Edit, Scene

MACHINE = "charters/mast-reader.yaml"
TOWER = "charters/tower-report.yaml"


def keyless(add: Add) -> list[Scene]:
    issuer = add("valley", "nils.brack").split()[4].removesuffix("/scim/v2")
    swap = "sigillum token swap mast-reader"
    return [
        Scene("", add("summit", "ada.rusk")),
        Scene(
            "A machine in the neighbour's cloud is to read the wind. No key: its own identity is trusted.",
            "cat charters/mast-reader.yaml",
            0,
            (Edit("sigillum.yaml", "http://127.0.0.1:8470/valley", issuer),),
        ),
        Scene(
            "Every condition is checked before anything is made.",
            "sigillum charter check mast-reader",
            3,
            (Edit(MACHINE, 'account: "4712", machine', 'account: "471Z", machine'),),
        ),
        Scene(
            "", "sigillum enact mast-reader --yes", 0, (Edit(MACHINE, 'account: "471Z", machine', 'account: "4712", machine'),)
        ),
        Scene(
            "What the right machine gets from where it runs, and what two others get.",
            "sigillum sandbox machine valley reader-1 --audience summit --out reader.jwt",
        ),
        Scene("", "sigillum sandbox machine valley clerk-1 --audience summit --out clerk.jwt"),
        Scene("What does it say, and is it genuine?", "sigillum token read reader.jwt --against summit --audience summit"),
        Scene(
            "The wrong machine: which condition does not hold, and where does the text differ?",
            "sigillum trust try clerk.jwt mast-reader",
            1,
        ),
        Scene("The right one is let in, for ten minutes at most.", f"{swap} reader.jwt --out access.token"),
        Scene("", f"{swap} clerk.jwt --out other.token", 6),
        Scene(
            "Which outside identities may get in, and which must not? Tried with the tokens at hand, decided for the others.",
            "sigillum prove mast-reader --outside reader.jwt --outside clerk.jwt",
        ),
        Scene(
            "The machine gets a profile. No secret is in it.",
            "sigillum trust profile mast-reader --file reader.jwt --out profile.json",
        ),
        Scene("", "sigillum key read profile.json"),
        Scene(
            "On the right machine it serves; on another one the same file is refused.",
            "sigillum with --profile profile.json -- sh -c 'test -s $MAST_READER_TOKEN_FILE && echo it has a token'",
        ),
        Scene("", "sigillum with --profile profile.json -- true", 6, (Edit("profile.json", "reader.jwt", "clerk.jwt"),)),
        Scene("A reviewer asks whether there is a key of it anywhere.", "sigillum key attest mast-reader"),
        Scene(
            "An administrator looks at it as that account, for ten minutes and for a reason; nobody has a key of it.",
            "sigillum with --as mast-reader --lend 10m --because 'the page stands still' -- sh -c 'test -s "
            "$MAST_READER_TOKEN_FILE && echo it has a token'",
        ),
        Scene("", "sigillum loans"),
        Scene(
            "The token is ended before its time, and a call with it shows that.", "sigillum token end access.token --at summit"
        ),
    ]


def cluster(add: Add) -> list[Scene]:
    issuer = add("stationyard", "nils.brack").split()[4].removesuffix("/scim/v2")
    look = "sigillum explain station-heartbeat stream.append brindlemoor/sensing-prod --workload heartbeat"
    return [
        Scene("", add("summit", "ada.rusk")),
        Scene("", add("stationyard", "nils.brack"), 0, (Edit("sigillum.yaml", "http://127.0.0.1:8470/stationyard", issuer),)),
        Scene(
            "As whom do the programs of this cluster run, and who of them acts as somebody elsewhere?",
            "sigillum trust links stationyard",
            1,
        ),
        Scene(
            "One of them is to write the heartbeat, without a key. Two tenants have to say so, each its half.",
            "cat charters/station-heartbeat.yaml",
        ),
        Scene("As whom does it run before?", "sigillum prove station-heartbeat --before"),
        Scene(
            "Machines that stand are made anew for it, one group after the other; that takes a while.",
            "sigillum enact station-heartbeat --yes",
            7,
        ),
        Scene(
            "The group that is made anew is waited for. The program on the other one notices nothing until it starts anew.",
            "sigillum enact station-heartbeat --yes --wait 4s",
            7,
        ),
        Scene("Both halves stand, and still it is refused. Why?", look, 1),
        Scene("Whoever runs it starts it anew.", "sigillum sandbox anew stationyard heartbeat"),
        Scene("", "sigillum enact station-heartbeat --yes"),
        Scene("", look),
    ]


def signing(add: Add) -> list[Scene]:
    return [
        Scene("", add("summit", "ada.rusk")),
        Scene(
            "A program on a machine needs no key either: the tenant signs for it. This charter names the wrong machine.",
            "sigillum enact tower-report --yes --no-prove",
            6,
            (Edit(TOWER, "machine: tower-1 ", "machine: tower-2 "),),
        ),
        Scene(
            "The right one. What it needs on itself, so that it is signed for, is asked of the tenant and added.",
            "sigillum enact tower-report --yes",
            0,
            (Edit(TOWER, "machine: tower-2 ", "machine: tower-1 "),),
        ),
        Scene(
            "What a program on that machine gets, and an assertion that the tenant signs for it. It is shown before.",
            "sigillum sandbox machine summit tower-1 --audience summit --out tower.token",
        ),
        Scene("", "sigillum token mint tower-report --with-token tower.token --lives 60s --out assertion.jwt"),
        Scene(
            "With such a one it gets a token. An administrator has none of these rights, and is refused.",
            "sigillum token fetch tower-report --with-token tower.token --out access.token",
        ),
        Scene("", "sigillum token fetch tower-report --out other.token", 4),
        Scene("A page for the reviewer: there is no key, and how that was established.", "sigillum key attest tower-report"),
    ]


def delegation(add: Add) -> list[Scene]:
    return [
        Scene("", add("roster", "lena.frost")),
        Scene(
            "An office integration is to act for people: for those of one team, and with one scope.",
            "cat charters/rota-calendar-sync.yaml",
        ),
        Scene(
            "Registering it takes a power that is somebody else's: all else is done, and a request is written for that.",
            "sigillum enact rota-calendar-sync --yes --no-prove",
            6,
        ),
        Scene("What holds before? Nobody is acted for, and that is recorded.", "sigillum prove rota-calendar-sync --before"),
        Scene(
            "The other administrator comes along. One person, one scope a token: who is refused, and why?",
            "sigillum enact rota-calendar-sync --yes",
            0,
            (
                Edit(
                    "sigillum.yaml",
                    "name: lena.frost\n      token: file:.sigillum/sandbox/roster.lena.frost.token\n",
                    "name: lena.frost\n      token: file:.sigillum/sandbox/roster.lena.frost.token\n" + BOTH,
                ),
            ),
        ),
        Scene(
            "Looking after the directory is another thing. This account lives elsewhere, and gets all but the top power.",
            "cat charters/roster-helper.yaml",
        ),
        Scene("", add("summit", "ada.rusk")),
        Scene("", "sigillum enact roster-helper --yes"),
        Scene("Who else may act for people here?", "sigillum delegations roster", 1),
        Scene(
            "An old one that nobody answers for, for everybody. It ends.",
            "sigillum delegations roster --end lift-telephone --because 'the telephone is gone' --yes",
        ),
    ]
