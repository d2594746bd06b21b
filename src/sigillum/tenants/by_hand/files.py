"""Facts that people export or type: one file a resource type, CSV or JSON, checked like a charter, with source and date."""

from __future__ import annotations

import csv
import fcntl
import io
import json
import threading
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any, NamedTuple

from sigillum.core.kinds.access import GRANT, PLACE, ROLE
from sigillum.core.kinds.changes import part_of
from sigillum.core.kinds.changes import plain as as_json
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Kind, Record
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import FileError, Mistake, Position
from sigillum.core.values.outside import json_of
from sigillum.core.values.text import CLASSES, did_you_mean, plain
from sigillum.core.values.times import parse_instant

MOST_BYTES = 20_000_000
ABOUT = "what was confirmed by hand since the files beside it were written"


def _words(text: str) -> tuple[str, ...]:
    return tuple(text.replace(";", " ").split())


def _yes(text: str) -> bool:
    low = text.strip().lower()
    if low not in ("yes", "no", "true", "false", ""):
        raise ValueError("write yes or no")
    return low in ("yes", "true")


def _instant(text: str) -> datetime | None:
    return parse_instant(text) if text.strip() else None


def _permissions(text: str) -> tuple[tuple[str, str], ...]:
    out = []
    for word in _words(text):
        name, _, kind = word.partition("=")
        if kind not in CLASSES:
            raise ValueError(f"write thing.verb=CLASS; classes: {', '.join(CLASSES)}")
        out.append((name, kind))
    return tuple(out)


TEXT: Callable[[str], Any] = str
# file name -> our kind, its columns, and how many of the first are needed
COLUMNS: dict[str, tuple[Kind[Any], dict[str, Callable[[str], Any]], int]] = {
    "accounts": (
        ACCOUNT,
        {
            "id": TEXT,
            "name": TEXT,
            "display": TEXT,
            "active": _yes,
            "kind": TEXT,
            "purpose": TEXT,
            "owner": TEXT,
            "deputy": TEXT,
            "stage": TEXT,
        },
        2,
    ),
    "clients": (
        CLIENT,
        {
            "id": TEXT,
            "name": TEXT,
            "client_id": TEXT,
            "redirects": _words,
            "purpose": TEXT,
            "owner": TEXT,
            "deputy": TEXT,
            "stage": TEXT,
        },
        3,
    ),
    "principals": (PRINCIPAL, {"id": TEXT, "client_id": TEXT, "display": TEXT, "active": _yes}, 2),
    "teams": (TEAM, {"id": TEXT, "name": TEXT, "members": _words}, 2),
    "roles": (ROLE, {"id": TEXT, "name": TEXT, "permissions": _permissions, "display": TEXT, "breadth": TEXT}, 3),
    "places": (PLACE, {"id": TEXT, "path": TEXT, "kind": TEXT, "display": TEXT, "test": _yes}, 2),
    "grants": (
        GRANT,
        {"id": TEXT, "principal": TEXT, "role": TEXT, "place": TEXT, "from": _instant, "until": _instant, "reason": TEXT},
        4,
    ),
    "credentials": (
        CREDENTIAL,
        {
            "id": TEXT,
            "principal": TEXT,
            "name": TEXT,
            "kind": TEXT,
            "until": _instant,
            "active": _yes,
            "limits": _words,
            "thumbprint": TEXT,
        },
        4,
    ),
}
FIELDS = {"kind": "type", "from": "start"}  # columns whose field has another name


class FactsFile(NamedTuple):
    """One file: the things of one kind, where they come from, and of which day, or when. `shown`: what it has columns for."""

    kind: Kind[Any]
    path: str
    source: str
    day: date
    records: tuple[Record[Any], ...]
    shown: frozenset[str]
    at: datetime | None = None  # where a time stands beside the day
    put: datetime | None = None  # when it was put here


def read_all(folder: Path, shown: str) -> list[FactsFile]:
    """Every facts file of a tenant. Raises FileError with all mistakes of all files at once."""
    mistakes, found = list[Mistake](), list[FactsFile]()
    for name in COLUMNS:
        for suffix in ("csv", "json"):
            path = folder / f"{name}.{suffix}"
            if path.is_file():
                made = _read(path, f"{shown}/{path.name}", name, mistakes)
                if made is not None:
                    found.append(made)
    for path in sorted(folder.glob("*.*")) if folder.is_dir() else ():
        if path.stem not in (*COLUMNS, "profile", "confirmed") and path.suffix in (".csv", ".json"):
            mistakes.append(
                Mistake(
                    "facts-file",
                    f"{path.name} is no facts file",
                    did_you_mean(path.stem, COLUMNS) or f"known: {', '.join(COLUMNS)}",
                    Position(f"{shown}/{path.name}", 1, 1),
                )
            )
    if mistakes:
        raise FileError("", where=shown, mistakes=tuple(mistakes))
    return found


def _read(path: Path, shown: str, name: str, mistakes: list[Mistake]) -> FactsFile | None:
    try:
        if path.stat().st_size > MOST_BYTES:
            raise ValueError("it is larger than 20 MB")
        put = datetime.fromtimestamp(int(path.stat().st_mtime), UTC)
        text = path.read_text(encoding="utf-8-sig")
        head, rows = _json(text) if path.suffix == ".json" else _csv(text)
    except (OSError, ValueError, KeyError, TypeError, RecursionError, csv.Error) as problem:
        mistakes.append(
            Mistake("facts-file", f"it cannot be read: {problem}", "write it as docs/by-hand.md shows", Position(shown, 1, 1))
        )
        return None
    day, at, said = None, None, head.get("date", "")
    try:
        at = parse_instant(said) if "T" in said else None
        day = at.date() if at is not None else date.fromisoformat(said)
    except ValueError:
        mistakes.append(
            Mistake(
                "facts-date",
                "it is not said of which day these facts are",
                "begin with `# date: 2027-03-01`, or with its time, `2027-03-01T15:00:00Z`",
                Position(shown, 1, 1),
            )
        )
    if not head.get("source"):
        mistakes.append(
            Mistake(
                "facts-source",
                "it is not said where these facts come from",
                "begin with `# source: export of the accounts page`",
                Position(shown, 1, 1),
            )
        )
    kind, columns, needed = COLUMNS[name]
    records = tuple(_things(kind, columns, needed, rows, shown, mistakes))
    there = {c for _, row in rows for c in row} or set(columns)
    fields = frozenset(FIELDS.get(c, c) for c in columns if c in there)
    return FactsFile(kind, shown, head.get("source", ""), day, records, fields, at, put) if day is not None else None


Row = tuple[int, dict[str, str]]


def _csv(text: str) -> tuple[dict[str, str], list[Row]]:
    """`# key: value` lines, a line of column names, rows; each row with its line number."""
    head, body, first = dict[str, str](), list[str](), 0
    for number, line in enumerate(text.splitlines(), 1):
        if line.startswith("#") and not body:
            key, _, value = line.lstrip("# ").partition(":")
            head[key.strip().lower()] = plain(value.strip())
        elif line.strip() or body:
            first = first or number
            body.append(line)
    reader = csv.DictReader(io.StringIO("\n".join(body)))
    return head, [
        (first + reader.line_num - 1, {str(k).strip(): str(v or "") for k, v in row.items() if k is not None}) for row in reader
    ]


def _json(text: str) -> tuple[dict[str, str], list[Row]]:
    body = json_of(text)
    head = {n: plain(str(body[n])) for n in ("source", "date") if n in body}

    def cell(value: Any) -> str:
        if isinstance(value, bool):
            return "yes" if value else "no"
        return " ".join(map(str, value)) if isinstance(value, list) else str(value)

    if not isinstance(body["things"], list) or not all(isinstance(row, dict) for row in body["things"]):
        raise ValueError("`things` is a list of objects")
    return head, [(0, {str(k): cell(v) for k, v in row.items() if v is not None}) for row in body["things"]]


def _things(
    kind: Kind[Any], columns: dict[str, Callable[[str], Any]], needed: int, rows: list[Row], shown: str, mistakes: list[Mistake]
) -> Iterator[Record[Any]]:
    seen: set[str] = set()
    for column in rows[0][1] if rows else ():
        if column not in columns:
            mistakes.append(
                Mistake(
                    "facts-column",
                    f"there is no column {column!r}",
                    did_you_mean(column, columns) or f"known: {', '.join(columns)}",
                    Position(shown, max(1, rows[0][0] - 1), 1),
                )
            )
    for number, (line, row) in enumerate(rows, 1):
        where, fields = Position(shown, line or number, 1), dict[str, Any]()
        for name, read in columns.items():
            if name not in row and name not in list(columns)[:needed]:
                continue
            try:
                fields[name] = read(row.get(name, ""))
                if name in list(columns)[:needed] and not fields[name]:
                    raise ValueError("it has to be there")
            except ValueError as problem:
                mistakes.append(Mistake("facts-cell", f"{name}: {row.get(name, '')!r} cannot be taken", str(problem), where))
        identity = str(fields.get("id", ""))
        if identity in seen:
            mistakes.append(Mistake("facts-twice", f"the id {identity} stands there twice", "keep one", where))
        seen.add(identity)
        body = {FIELDS.get(n, n): v for n, v in fields.items() if n != "id" and v is not None}
        yield Record(kind, identity, kind.type(**body))


# --- what was confirmed since the files were written ----------------------------------------------------------------
class Confirmed(NamedTuple):
    """One thing as it was confirmed on a day, at a time; `record` None: it was ended."""

    kind: Kind[Any]
    id: str
    day: str
    record: Record[Any] | None
    at: str = ""

    def since(self, file: FactsFile) -> bool:
        """Was it confirmed after what a file says? Of one day, where no time is said, it was."""
        if self.at and file.at is not None:
            return parse_instant(self.at) >= file.at
        return self.day >= file.day.isoformat()

    def disputed(self, file: FactsFile) -> bool:
        """Is it of the day of a file without a time, which was put here later, and says otherwise?"""
        there = next((r for r in file.records if r.id == self.id), None)
        later = bool(self.at) and file.put is not None and file.put > parse_instant(self.at)
        if file.at is not None or self.day != file.day.isoformat() or not later:
            return False
        if there is None or self.record is None:
            return there is not self.record
        return any(there.denies(**{n: self.record.value(n)}) for n in file.shown & frozenset(self.kind.fields))


def read_confirmed(path: Path) -> list[Confirmed]:
    """What was confirmed, in order. Raises FileError."""
    if not path.is_file():
        return []

    def one(row: Any) -> Confirmed:
        kind, fields = KINDS[row["kind"]], row["fields"]
        record = (
            Record(kind, str(row["id"]), kind.type(**part_of(kind, fields)), "", str(row.get("external_id", "")))
            if fields is not None
            else None
        )
        return Confirmed(kind, str(row["id"]), str(row["day"]), record, str(row.get("at", "")))

    try:
        return [one(row) for row in json_of(path.read_text(encoding="utf-8"))["confirmed"]]
    except (OSError, ValueError, KeyError, TypeError, RecursionError) as problem:
        raise FileError("it cannot be read", where=str(path), mend="restore it from a copy") from problem


_ONE_AT_A_TIME = threading.Lock()


def add_confirmed(path: Path, row: Confirmed) -> list[Confirmed]:
    """Add a row to those that are there by now, whoever wrote them, and give them all. Raises FileError, MachineError."""
    from sigillum.core.values.errors import MachineError

    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with _ONE_AT_A_TIME, path.with_name(f".{path.name}.lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)  # and one program, until it is closed
            rows, fresh = [*read_confirmed(path), row], path.with_name(f".{path.name}.new")
            body = {"about": ABOUT, "confirmed": [_row(r) for r in rows]}
            fresh.write_text(json.dumps(body, indent=1) + "\n", encoding="utf-8")
            fresh.replace(path)
            return rows
    except OSError as problem:
        raise MachineError(
            f"the file cannot be written: {problem.strerror}",
            where=str(path),
            mend="correct that, then run the same command again",
        ) from problem


def _row(row: Confirmed) -> dict[str, Any]:
    return {
        "kind": row.kind.name,
        "id": row.id,
        "day": row.day,
        "at": row.at,
        "fields": as_json(row.record.body._asdict()) if row.record is not None else None,
        "external_id": row.record.mark if row.record is not None else "",
    }


def today() -> date:
    """The day here."""
    return now().date()


def now() -> datetime:
    """The time here."""
    return datetime.now(UTC)
