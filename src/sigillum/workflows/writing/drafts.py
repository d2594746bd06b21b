"""Charters to begin with: from a few answers, and giving one another name."""

from __future__ import annotations

import io
import json
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from sigillum.charters import files
from sigillum.core.records.history import RENAMED
from sigillum.core.values.errors import FileError, Mistake, Position, SomebodyError, UsageError
from sigillum.core.values.text import CHARTER_NAME
from sigillum.core.values.times import format_duration
from sigillum.keeping.private import write_private
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.office import CLAIM, Office

LONGEST_NAME, WIDTH = 63, 128

ACCOUNT, CLIENT, TEAM = "service-account", "client", "team"
PROOFS = """\
# What must work, and what must not, goes below, like this:
#   proofs:
#     - {can: thing.verb, at: PLACE}          # what changes data is tried only at a place marked for trials
#     - {cannot: thing.verb, at: PLACE}"""


@dataclass(frozen=True, slots=True)
class Wanted:
    """The answers to the questions of `charter new`; `scopes` of a client are written API:SCOPE."""

    name: str
    tenant: str
    purpose: str
    owner: str
    role: str = ""
    at: str = ""
    kind: str = ACCOUNT
    member_of: tuple[str, ...] = ()
    members: tuple[str, ...] = ()
    scopes: tuple[str, ...] = ()
    acts: str = "alone"


def scalar(value: str) -> str:
    """A text as YAML, quoted only where it must be."""
    plain = re.match(r"[A-Za-z][\w @./+()'-]*\Z", value) and value.strip() == value
    words = ("true", "false", "null", "yes", "no", "on", "off")
    return value if plain and value.lower() not in words and " #" not in value else json.dumps(value, ensure_ascii=False)


def listed(values: tuple[str, ...] | list[str]) -> str:
    """Texts as a list of YAML on one line."""
    return f"[{', '.join(map(scalar, values))}]"


def new(office: Office, wanted: Wanted) -> Path:
    """Write a charter to begin with. Raises FileError where the name is taken or an answer is wrong."""
    path, usual = free(office, wanted.name), office.workspace.file.defaults
    review = files.review_day(datetime.now(UTC).date(), usual.review_after)
    lines = [f"charter: {wanted.name}", f"tenant: {wanted.tenant}", f"purpose: {scalar(wanted.purpose)}"]
    lines += [f"owner: {wanted.owner}"] if wanted.owner and wanted.owner != usual.owner else []
    lines += [f"review: {review}", "", "identity:", f"  kind: {wanted.kind}", f"  name: {wanted.name}"]
    lines += ["", f"member_of: {listed(wanted.member_of)}"] if wanted.member_of else []
    lines += ["", f"members: {listed(wanted.members)}"] if wanted.members else []
    lines += _permissions(wanted)
    if wanted.role:
        lines += [
            "",
            "grants:",
            f"  - role: {scalar(wanted.role)}",
            f"    at: {wanted.at}",
            f"    because: {scalar(wanted.purpose)}",
        ]
    if wanted.kind != TEAM:
        lines += [
            "",
            "credentials:",
            f"  - name: {wanted.name}-key",
            "    kind: key-pair",
            f"    lasts: {format_duration(usual.credential_lasts)}",
        ]
    write(path, "\n".join([*lines, "", PROOFS, ""]))
    try:
        files.load(office.workspace, path)
    except FileError:
        path.unlink()
        raise
    return path


def _permissions(wanted: Wanted) -> list[str]:
    """Of a client: its scopes, by API."""
    by_api = dict[str, list[str]]()
    for text in wanted.scopes:
        api, colon, scope = text.partition(":")
        if not (api and colon and scope):
            raise UsageError(f"{text!r} is no scope of an API", where="--scope", mend="write it like mail:mail.send")
        by_api.setdefault(api, []).append(scope)
    lines = [f"  - {{api: {scalar(api)}, scopes: {listed(scopes)}, acts: {wanted.acts}}}" for api, scopes in by_api.items()]
    return ["", "permissions:", *lines] if lines else []


def write(path: Path, text: str) -> None:
    """Whole or not at all; readable like any file of the administrator's."""
    path.parent.mkdir(exist_ok=True)
    write_private(path, text)
    path.chmod(0o644)


def free(office: Office, name: str) -> Path:
    """The file for a new charter. Raises FileError (name taken) and UsageError."""
    if not CHARTER_NAME.match(name):
        raise UsageError(
            f"{name!r} cannot be a charter's name", where="charter", mend="use small letters, digits and dashes, 63 at most"
        )
    taken = files.names(office.workspace).get(name)
    path = office.workspace.charters / f"{name}.yaml"
    if taken or path.exists():
        shown = files.shown_path(office.workspace, taken[0] if taken else path)
        mistake = Mistake("name-taken", f"the charter name {name!r} is taken", "choose another name", Position(shown))
        raise FileError(mistake.what, where=shown, mend=mistake.mend, mistakes=(mistake,))
    return path


def split(office: Office, name: str) -> dict[Path, str]:
    """A charter for each consumer of one whose credentials several use: the same rights, an identity and a key of its own.

    Nothing is written. Raises FileError, SomebodyError where there is nothing to split.
    """
    from ruamel.yaml import YAML

    charter = office.charters([name])[0]
    users = list(dict.fromkeys(c for want in charter.credentials for c in want.consumers))
    if len(users) < 2:
        raise SomebodyError(
            f"the credentials of {name} have one consumer at most", where=name, mend="there is nothing to split"
        )
    text, yaml = files.path_of(office.workspace, name).read_text(encoding="utf-8"), YAML()
    yaml.width, out = WIDTH, dict[Path, str]()
    for user in users:
        content, fresh = yaml.load(text), f"{name}-{user}"[:LONGEST_NAME].rstrip("-")
        content["charter"] = fresh
        content["identity"]["name"] = f"{charter.identity.name}-{user}"
        kept = [n for n, want in enumerate(charter.credentials) if user in want.consumers]
        content["credentials"] = [content["credentials"][n] for n in kept]
        for entry in content["credentials"]:
            entry["consumers"] = [user]
        names = {charter.credentials[n].name for n in kept}
        if "proofs" in content:
            content["proofs"] = [p for p in content["proofs"] if p.get("with") in (None, *names)]
        written = io.StringIO()
        yaml.dump(content, written)
        out[free(office, fresh)] = written.getvalue()
    return out


def rename(office: Office, old: str, new_name: str) -> Path:
    """Give a charter another name; what it made stays its own. Raises FileError, UsageError."""
    path = files.path_of(office.workspace, old)
    fresh = free(office, new_name)
    with office.books.writable_ledger().claim(CLAIM, 0.0):
        text = path.read_text(encoding="utf-8")
        changed = re.sub(
            r"(?m)^(charter:[ \t]*)[\"']?" + re.escape(old) + r"[\"']?(?=[ \t]*(#|$))", lambda m: m[1] + new_name, text, count=1
        )
        if changed == text:
            raise FileError(
                "the line `charter:` cannot be rewritten",
                where=str(path),
                mend=f"write `charter: {old}` on a line of its own, then rename again",
            )
        ledger = office.books.writable_ledger()
        uid = ledger.uid_of(old)
        if uid is not None:
            ledger.append([Fresh(RENAMED, uid, {"name": new_name, "before": old})])
        target = fresh if path.stem == old else path
        write(target, changed)
        if target != path:
            path.unlink()
    return target
