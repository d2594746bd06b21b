"""`sigillum demo`: the real commands, one after the other, as an administrator would type them."""

from __future__ import annotations

import argparse
import json
import os
import shlex
import subprocess
import sys
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sigillum.cli import demo_identities as content
from sigillum.cli.context import Context
from sigillum.cli.demo_charters import CHARTER, PUBLISHER, RELEASE, SECOND, STATISTICS
from sigillum.cli.options import common
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import MachineError, Outcome

EXAMPLE = """example:
  sigillum demo --folder brindlemoor"""
OWNER = "mara.teel@brindlemoor.example"


@dataclass(frozen=True)
class Scene:
    """One command, why it is typed, and the exit code it must have; `before` prepares a file.

    `changes` replaces a text in sigillum.yaml, `files` are written; the last of them may be private.
    """

    why: str
    command: str
    code: int = 0
    before: tuple[str, str] | None = None
    changes: tuple[str, str] | None = None
    files: tuple[tuple[str, str], ...] = ()


def _scenes(port: int) -> list[Scene]:
    address = f"http://127.0.0.1:{port}/summit/scim/v2"
    wrong = CHARTER.replace("role: stream-writer", "rol: stream-writer").replace("lasts: 90d", "lasts: 90 days")
    wider = CHARTER.replace("because: stores the readings}\n", "because: stores the readings}\n" + SECOND)
    path = "charters/wind-ingest.yaml"
    return [
        Scene("Reach the cloud platform with an administrator's token; the token itself is never typed.",
              f"sigillum tenant add summit {address} --admin ada.rusk --token file:.sigillum/sandbox/summit.ada.rusk.token"),
        Scene("What can this tenant do, what are its limits, and what may we do there?", "sigillum tenant inspect summit"),
        Scene("One page says who the identity is, who answers for it, what it may do, and what must stay impossible.",
              f"cat {path}", before=(path, CHARTER)),
        Scene("Mistakes are told all at once, each with its place and its mend.", "sigillum charter check wind-ingest", 3,
              (path, wrong)),
        Scene("Mended.", "sigillum charter check wind-ingest", 0, (path, CHARTER)),
        Scene("What would happen, in order? Nothing is changed yet.", "sigillum rehearse wind-ingest"),
        Scene("Carry it out, read every change back, sign in as the new identity and prove it both ways.",
              "sigillum enact wind-ingest --yes"),
        Scene("Running it twice is safe.", "sigillum enact wind-ingest --yes"),
        *_clients(port),
        *_accounts(port),
        Scene("The network will lose the answer to the next change, after it was made.",
              "sigillum sandbox fault lost-after --method POST --path Grants"),
        Scene("The charter asks for one more role, for ten minutes. Only that is done, and nothing twice.",
              "sigillum enact wind-ingest --yes", 0, (path, wider)),
        Scene("Eleven minutes later the window has ended, by itself.", "sigillum sandbox clock +11m"),
        Scene("The clocks differ now, and Sigillum does not guess which one is right.", "sigillum rehearse wind-ingest", 8),
        Scene("Here the tenant's clock is right, since it is simulated: its entry says so now.",
              "sigillum rehearse wind-ingest", 0, ("sigillum.yaml", "    stage: prod\n    clock: tenant\n")),
        Scene("An account that was there before gets its page, too: described as it stands, so nothing is to be done.",
              "sigillum charter new camera-archive --from camera-archive --tenant summit"),
        Scene("It is left alone until somebody says --adopt.", "sigillum rehearse camera-archive"),
        *_access(),
        Scene("Everything is written down, chained and signed.", "sigillum ledger show wind-ingest --newest 8"),
        Scene("Has anybody without the key touched it?", "sigillum ledger verify"),
    ]


def _add(port: int, tenant: str, admin: str) -> str:
    return (f"sigillum tenant add {tenant} http://127.0.0.1:{port}/{tenant}/scim/v2 --admin {admin} "
            f"--token file:.sigillum/sandbox/{tenant}.{admin}.token")


def _clients(port: int) -> list[Scene]:
    """A client: advice, a request to another administrator, consent, rights in two tenants, and a sealed sheet."""
    request, receipt = "requests/0001-avalanche-mailer.json", "requests/0001-avalanche-mailer.receipt.json"
    nils = _add(port, "roster", "nils.brack").replace("sigillum", "sigillum -w nils", 1).replace("file:.", "file:../.")
    return [
        Scene("The directory and office of the house; its administrator may register clients, and consent to nothing.",
              _add(port, "roster", "lena.frost")),
        Scene("A supplier's mailer writes in the names of people, and its form asks for a client id and a secret. Which kind?",
              "sigillum advise avalanche-mailer --signs-in form --in-the-name-of people --attended --runs supplier --services "
              "mail.send --tenant roster"),
        Scene("Its charter: a client, one scope of one API, only one mailbox; and a right in a second tenant.",
              "cat charters/avalanche-mailer.yaml", before=("charters/avalanche-mailer.yaml", content.MAILER),
              changes=("tenants:\n", content.CONSUMER)),
        Scene("Consent belongs to somebody else, who is asked by a request.", "sigillum rehearse avalanche-mailer",
              changes=("  roster:\n", "  roster:\n" + content.ASKED)),
        Scene("Everything else goes on.", "sigillum enact avalanche-mailer --yes", 6),
        Scene("What is open, and with whom?", "sigillum requests"),
        Scene("The other administrator has a workspace of his own.", "sigillum init nils"),
        Scene("", nils),
        Scene("There the request is checked (the thumbprint of the key was told), compared anew, enacted, and answered.",
              f"sigillum -w nils requests answer {request} --yes --from THUMBPRINT"),
        Scene("The receipt comes back.", f"sigillum requests done 1 --receipt {receipt} --from THUMBPRINT"),
        Scene("Consented, so it can be proved: in both tenants, both ways.", "sigillum enact avalanche-mailer --yes"),
        Scene("The five values that the supplier's form asks for, checked and complete.", "sigillum handover avalanche-mailer"),
        Scene("The supplier makes a key pair for receiving, and sends the public half.", "sigillum handover key supplier.jwk"),
        Scene("The sheet is signed, and sealed to that key.",
              "sigillum handover avalanche-mailer --seal-to supplier.public.jwk --lasts 2d --out mailer.sealed"),
        Scene("Opened on the other side (secrets stay masked on a screen).",
              "sigillum handover open mailer.sealed --key file:supplier.jwk --as env"),
        Scene("What is it that somebody pasted, and where may it be used?", "sigillum tenant identify avalanche-mailer"),
    ]


def _accounts(port: int) -> list[Scene]:
    """A password, a token, a robot that the tenant-wide rule stops, and a tenant by hand."""
    robot = "charters/night-robot.yaml"
    return [
        Scene("The pass desk knows only accounts with a name and a password, born as drafts.",
              _add(port, "ticketry", "vera.moss")),
        Scene("", "sigillum enact pass-desk-feed --yes", before=("charters/pass-desk-feed.yaml", content.FEED)),
        Scene("Delivery: accounts live in areas, and a token gives what its account has, narrowed, until its end.",
              _add(port, "winch", "otto.reyl")),
        Scene("", "sigillum enact timetable-token --yes", before=("charters/timetable-token.yaml", content.PIPELINE)),
        Scene("A robot with a mailbox and a licence. A tenant-wide rule stops it at night, and that is said beforehand.",
              "sigillum rehearse night-robot", before=(robot, content.ROBOT), changes=(content.ASKED, content.ACTS)),
        Scene("Which rule decides? The account's own switch does not.",
              "sigillum explain old-robot --sign-in --tenant roster --ask-tenant", 1),
        Scene("Narrowed to this machine, and exempt: who accepts the risk, why, and until when.",
              "sigillum enact night-robot --yes", before=(robot, content.ROBOT + content.EXEMPT)),
        Scene("", "sigillum explain night-robot --sign-in --from 127.0.0.1 --ask-tenant"),
        Scene("The depot has no interface at all. Facts come from files that people export.",
              "sigillum tenant add depot https://depot.example --driver by-hand --admin ines.vole --stage prod",
              files=(*content.facts(datetime.now(UTC).date().isoformat()), ("charters/rope-stock.yaml", content.ROPES),
                     (".sigillum/stock.secret", content.STOCK_SECRET))),
        Scene("Steps become a work sheet, and wait for somebody.", "sigillum enact rope-stock --yes", 6),
        Scene("", "cat worksheets/rope-stock.md"),
        Scene("Done as it says; what came back is checked and kept like any other.",
              "sigillum enact rope-stock --yes --answers done.yaml", before=("done.yaml", content.ANSWERS)),
    ]


def _access() -> list[Scene]:
    """Teams, loans, explanations, and waiting for a change to be felt."""
    mast, statistics = "brindlemoor/sensing-prod/streams/mast-test", "charters/visitor-statistics.yaml"
    explain = f"sigillum explain wind-ingest stream.delete {mast}"
    narrow = STATISTICS.replace("  - {role: query-runner, at: brindlemoor/visitors}\n", "").replace("alps-west", "alps-east")
    return [
        Scene("A team that changes dev and test, and only looks at prod: one role narrowed by labels, one not.",
              "cat charters/timetable-release.yaml", before=("charters/timetable-release.yaml", RELEASE)),
        Scene("And the account that publishes timetables. The team is made first, whatever the names.",
              "sigillum enact timetable-publisher timetable-release --yes",
              before=("charters/timetable-publisher.yaml", PUBLISHER)),
        Scene("What may it do, and where?", "sigillum explain timetable-publisher --matrix"),
        Scene("Ten minutes to clear the test mast: a loan always ends, and always has a reason.",
              f"sigillum lend stream-keeper --at {mast} --to wind-ingest --for 10m --because 'clears the test mast'"),
        Scene("What will be at minute 5?", f"{explain} --at +5m"),
        Scene("And at minute 11? No waiting is needed to know.", f"{explain} --at +11m", 1),
        Scene("Eleven minutes later.", "sigillum sandbox clock +11m"),
        Scene("The tenant says the same.", f"{explain} --ask-tenant", 1),
        Scene("What has ended is shown as ended until it is cleared.", "sigillum loans"),
        Scene("Cleared: ours only.", "sigillum sweep --yes"),
        Scene("Statistics for a supplier. Two things will not work, and the rehearsal says so beforehand.",
              "sigillum rehearse visitor-statistics", 0, (statistics, narrow)),
        Scene("Enacted all the same, the proof says *never*, at once, and names every step that mends it.",
              "sigillum enact visitor-statistics --yes", 1),
        Scene("What works now is recorded, to be held against what will work.",
              "sigillum prove visitor-statistics --before", 0, (statistics, STATISTICS)),
        Scene("From now on the tenant takes some seconds until a change is felt.",
              "sigillum sandbox limit summit felt_seconds 4"),
        Scene("Mended, and waited for: *not yet* is told from *never*.", "sigillum enact visitor-statistics --yes --wait 1m"),
    ]


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "demo", parents=[common()], epilog=EXAMPLE,
        description="Play the demo: every command is the real one, run against simulated tenants on this machine. "
                    "It takes some seconds, leaves one folder behind, and nothing running.")
    parser.add_argument("--folder", type=Path, help="the folder to make (default: demo, or the next free demo-N)")


def _free_folder(wanted: Path | None) -> Path:
    if wanted is not None:
        if wanted.exists():
            raise MachineError("the folder is there already", where=str(wanted), mend="name a new one with --folder")
        return wanted
    return next(p for n in range(1, 1000) if not (p := Path("demo" if n == 1 else f"demo-{n}")).exists())


class Stage:
    """Runs commands in the demo's folder and shows them."""

    def __init__(self, folder: Path, context: Context) -> None:
        self.folder, self.context = folder, context
        self.styled = sys.stdout.isatty() and context.options.colour
        self.environment = {**os.environ, "PYTHONIOENCODING": "utf-8"}
        for name in ("SIGILLUM_WORKSPACE", "SIGILLUM_TIMEOUT"):
            self.environment.pop(name, None)
        if self.styled:
            columns, _ = os.get_terminal_size()
            self.environment |= {"FORCE_COLOR": "1", "COLUMNS": str(columns)}

    def _style(self, code: str, text: str) -> str:
        return f"\033[{code}m{text}\033[0m" if self.styled else text

    def play(self, scene: Scene) -> None:
        """Raises MachineError where the command does not end as it must."""
        if scene.before is not None:
            path, text = self.folder / scene.before[0], scene.before[1]
            if path.name == "sigillum.yaml":  # one line more in a file that is there
                text = path.read_text(encoding="utf-8").replace("    stage: prod\n", text)
            path.write_text(text, encoding="utf-8")
        if scene.changes is not None:
            path = self.folder / "sigillum.yaml"
            path.write_text(path.read_text(encoding="utf-8").replace(*scene.changes, 1), encoding="utf-8")
        for name, text in scene.files:
            path = self.folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, encoding="utf-8")
            path.chmod(0o600 if name.startswith(".") else 0o644)
        why = self._style("2", f"# {scene.why}") + "\n" if scene.why else ""
        sys.stdout.write(f"\n{why}{self._style('1', '$ ' + scene.command)}\n")
        sys.stdout.flush()
        command = scene.command
        if "THUMBPRINT" in command:  # of the other side's key: told on another way
            house = self.folder if " -w " in command else self.folder / "nils"
            key = json.loads((house / ".sigillum" / "ledger-key.json").read_text(encoding="utf-8"))
            command = command.replace("THUMBPRINT", thumbprint(key))
        words = shlex.split(command)
        if words[0] == "sigillum":
            words[:1] = [sys.executable, "-m", "sigillum"]
        done = subprocess.run(words, cwd=self.folder, env=self.environment, stdin=subprocess.DEVNULL,
                              stdout=subprocess.PIPE, stderr=subprocess.STDOUT, check=False)
        sys.stdout.write(done.stdout.decode("utf-8", "replace"))
        sys.stdout.flush()
        if done.returncode != scene.code:
            raise MachineError(f"the demo expected exit code {scene.code} and got {done.returncode}",
                               where=scene.command, mend="report this: the demo is run by the tests, too")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli import sandboxes
    folder = _free_folder(args.folder)
    stage = Stage(folder.parent, context)
    stage.play(Scene("A workspace: one folder with charters, house rules and a private ledger.",
                     f"sigillum init {shlex.quote(folder.name)} --owner {OWNER}"))
    stage.folder = folder
    try:
        stage.play(Scene("Simulated tenants, in a process of their own.", "sigillum sandbox start --background"))
        port = int(sandboxes.control_port(folder / ".sigillum" / "sandbox"))
        for scene in _scenes(port):
            stage.play(scene)
    finally:
        stage.play(Scene("Nothing stays running.", "sigillum sandbox stop"))
    context.show_text(
        f"\nThe demo's workspace stays in {folder}. To go on there:\n"
        f"  cd {shlex.quote(str(folder))}\n"
        f"  {f'sigillum sandbox start --background --port {port}':<52}# the same address, and a fresh world\n"
        f"  {'sigillum rehearse wind-ingest':<52}# what is missing now?\n"
        "  sigillum enact wind-ingest\n"
        "  sigillum sandbox stop")
    return Outcome.DONE
