"""The ledger in a file: SQLite with full synchronisation; each commit is on the disk when it returns."""

from __future__ import annotations

import json
import os
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from sigillum.core.records.books import NAME, Row, changes, rows_of
from sigillum.core.records.chain import GENESIS, VERSION, Head, LedgerEntry, hash_of
from sigillum.core.records.history import OUTCOME
from sigillum.core.values.canonical import canonical
from sigillum.core.values.errors import MachineError
from sigillum.core.values.times import format_instant

from .port import Fresh

if TYPE_CHECKING:
    from tempfile import TemporaryDirectory

_SCHEMA = """
CREATE TABLE IF NOT EXISTS entries (
  sequence INTEGER PRIMARY KEY, version INTEGER NOT NULL, stream TEXT NOT NULL, previous TEXT NOT NULL,
  at TEXT NOT NULL, writer TEXT NOT NULL, key_id TEXT NOT NULL, kind TEXT NOT NULL, charter TEXT NOT NULL,
  body TEXT NOT NULL, hash TEXT NOT NULL, signature TEXT NOT NULL) STRICT;
CREATE INDEX IF NOT EXISTS entries_of_charter ON entries (charter, sequence);
CREATE INDEX IF NOT EXISTS entries_of_kind ON entries (kind, sequence);
CREATE TABLE IF NOT EXISTS books (what TEXT NOT NULL, key TEXT NOT NULL, uid TEXT NOT NULL, PRIMARY KEY (what, key)) STRICT;
CREATE INDEX IF NOT EXISTS books_of_uid ON books (uid, what);
"""
_OURS = frozenset({"entries", "books", "entries_of_charter", "entries_of_kind", "books_of_uid"})
_COLUMNS = "stream, sequence, previous, at, writer, key_id, kind, charter, body, hash, signature, version"
PATIENCE_SECONDS = 5.0
POLL_SECONDS = 0.1
LEAST_BYTES = 131_072  # what writers share beside the file takes so much

Sign = Callable[[bytes], str]


def _trouble(problem: sqlite3.Error, path: Path) -> MachineError:
    text = str(problem).lower()
    if "locked" in text or "busy" in text:
        return MachineError(
            "the ledger is locked by another program",
            where=str(path),
            mend="wait until the other one has ended, then run the same command again",
        )
    about = os.statvfs(path.parent)
    if "full" in text or ("i/o" in text and about.f_bavail * about.f_frsize < LEAST_BYTES):
        return MachineError(
            "the disk is full; nothing further was sent",
            where=str(path),
            mend="free some space, then run the same command again: it goes on where it stopped",
        )
    if "readonly" in text or "unable to open" in text:
        whole = about.f_flag & os.ST_RDONLY
        mend = "its file system is read-only: mount it for writing" if whole else "mend the rights of the file and its folder"
        return MachineError("the ledger cannot be written", where=str(path), mend=mend)
    if "i/o" in text:
        return MachineError(
            "the disk reports an error", where=str(path), mend="look at the log of this machine; restore the file from a copy"
        )
    return MachineError(
        f"the ledger cannot be used: {problem}",
        where=str(path),
        mend="run `sigillum ledger verify`; restore the file from a copy if it is damaged",
    )


def _connected(path: Path | str, *, uri: bool = False) -> sqlite3.Connection:
    return sqlite3.connect(path, timeout=PATIENCE_SECONDS, isolation_level=None, check_same_thread=False, uri=uri)


def _unwritten(path: Path) -> tuple[sqlite3.Connection, TemporaryDirectory[str] | None]:
    """For reading where nothing can be written, not even what readers share: on a full disk, or in a folder of somebody else's.

    What a writer has not yet put into the file itself stands beside it; then both are copied first.
    """
    import shutil
    import tempfile

    beside = path.with_name(f"{path.name}-wal")
    if not (beside.exists() and beside.stat().st_size):
        return _connected(f"file:{quote(str(path))}?immutable=1", uri=True), None
    copy = tempfile.TemporaryDirectory(prefix="sigillum-")  # 0700
    for one in (path, beside):
        shutil.copyfile(one, Path(copy.name, one.name))
    return _connected(Path(copy.name, path.name)), copy


@dataclass(slots=True)
class _Waiting:
    """Entries that wait for the next transaction, and what became of them."""

    entries: Sequence[Fresh]
    expected_head: Head | None
    head: Head | None = None
    error: Exception | None = None

    @property
    def open(self) -> bool:
        return self.head is None and self.error is None


class SqliteLedger:
    """One file, one connection, safe for several threads. `sign` is called inside the entry's transaction."""

    def __init__(self, path: Path, stream: str, writer: str, key_id: str = "", sign: Sign | None = None) -> None:
        self.path, self.stream, self.writer = path, stream, writer
        self._key_id, self._sign = key_id, sign
        self.writable = sign is not None
        self._lock, self._queue_lock = threading.RLock(), threading.Lock()
        self._queue = list[_Waiting]()
        self._copy: TemporaryDirectory[str] | None = None
        try:
            fresh = not path.exists()
            if fresh:
                os.close(os.open(path, os.O_WRONLY | os.O_CREAT, 0o600))
            self._db = _connected(path)
            try:
                self._db.execute("PRAGMA synchronous=FULL")
                first = self._db.execute("SELECT version FROM entries LIMIT 1").fetchone() if not fresh else None
            except sqlite3.OperationalError as problem:
                if self.writable or any(word in str(problem) for word in ("locked", "busy")):
                    raise
                self._db.close()
                self._db, self._copy = _unwritten(path)
                first = self._db.execute("SELECT version FROM entries LIMIT 1").fetchone()
            if first is not None and first[0] != VERSION:
                raise MachineError(
                    f"the ledger is of format {first[0]}, this version writes {VERSION}",
                    where=str(path),
                    mend="use the version of Sigillum that wrote it, or begin a new workspace beside it",
                )
            if fresh:
                self._db.execute("PRAGMA journal_mode=WAL")
                self._db.executescript(_SCHEMA)
        except sqlite3.Error as problem:
            raise _trouble(problem, path) from problem
        except OSError as problem:
            raise MachineError(
                f"the ledger cannot be opened: {problem.strerror}",
                where=str(path),
                mend="run `sigillum init` in this folder, or go to the workspace's folder",
            ) from problem

    def close(self) -> None:
        with self._lock:
            self._db.close()
            if self._copy is not None:
                self._copy.cleanup()

    def _rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        try:
            with self._lock:
                return self._db.execute(sql, values).fetchall()
        except sqlite3.Error as problem:
            raise _trouble(problem, self.path) from problem

    def head(self) -> Head:
        rows = self._rows("SELECT sequence, hash FROM entries ORDER BY sequence DESC LIMIT 1")
        return Head(self.stream, rows[0][0], rows[0][1]) if rows else Head(self.stream, 0, GENESIS)

    def append(self, entries: Sequence[Fresh], expected_head: Head | None = None) -> Head:
        if self._sign is None:
            raise MachineError("the ledger was opened for reading only", where=str(self.path), mend="this is a fault")
        mine, all_ = _Waiting(entries, expected_head), list[_Waiting]()
        with self._queue_lock:
            self._queue.append(mine)
        try:
            with self._lock:  # whoever gets here first commits for all who wait: one transaction, one synchronisation
                with self._queue_lock:
                    all_, self._queue = self._queue, []
                self._commit(all_)
        except BaseException:  # interrupted: nobody writes this any more, and the others' entries wait again
            with self._queue_lock:
                self._queue = [w for w in (*all_, *self._queue) if w is not mine and w.open]
            raise
        if mine.error is not None:
            raise mine.error
        assert mine.head is not None
        return mine.head

    def _commit(self, waiting: list[_Waiting]) -> None:
        """Each gets its head once everything is on the disk; what cannot be written spoils nobody else's."""
        try:
            heads = self._write(waiting)
        except Exception as problem:
            if len(waiting) != 1:
                for writer in waiting:
                    self._commit([writer])
                return
            waiting[0].error = _trouble(problem, self.path) if isinstance(problem, sqlite3.Error) else problem
            return
        for writer, head in zip(waiting, heads, strict=True):
            writer.head = head

    def _write(self, waiting: list[_Waiting]) -> list[Head]:
        if not waiting:
            return []
        at, heads = format_instant(datetime.now(UTC)), list[Head]()
        self._db.execute("BEGIN IMMEDIATE")
        try:
            head = self.head()
            for writer in waiting:
                if writer.expected_head is not None and head != writer.expected_head:
                    raise MachineError(
                        "somebody else wrote to the ledger meanwhile", where=str(self.path), mend="run the same command again"
                    )
                for fresh in writer.entries:
                    head = self._insert(fresh, head, at)
                heads.append(head)
            self._db.execute("COMMIT")
        except BaseException:
            with suppress(sqlite3.Error):
                self._db.execute("ROLLBACK")
            raise
        return heads

    def _insert(self, fresh: Fresh, head: Head, at: str) -> Head:
        assert self._sign is not None
        entry = LedgerEntry(
            self.stream, head.sequence + 1, head.hash, at, self.writer, self._key_id, fresh.kind, fresh.charter, fresh.body
        )
        body = canonical(entry.body)
        digest = hash_of(entry, body)
        self._db.execute(
            f"INSERT INTO entries ({_COLUMNS}) VALUES (?,?,?,?,?,?,?,?,?,?,?,?)",  # noqa: S608  (a constant)
            (
                entry.stream,
                entry.sequence,
                entry.previous,
                at,
                entry.writer,
                entry.key_id,
                entry.kind,
                entry.charter,
                body.decode(),
                digest,
                self._sign(digest.encode()),
                entry.version,
            ),
        )
        for row in changes(fresh.kind, fresh.charter, fresh.body, self._intent(fresh)):
            self._book(row)
        return Head(self.stream, entry.sequence, digest)

    def _intent(self, fresh: Fresh) -> dict[str, Any] | None:
        """Of an outcome: the body of its intent."""
        if fresh.kind != OUTCOME:
            return None
        found = self._db.execute("SELECT body FROM entries WHERE sequence = ?", [fresh.body["attempt"]]).fetchone()
        return dict(json.loads(found[0])) if found is not None else None

    def entries(self, charter: str = "", newest: int = 0, kind: str = "", after: int = 0) -> Iterator[LedgerEntry]:
        conditions: list[tuple[str, Any]] = [
            (test, value) for test, value in (("charter = ?", charter), ("kind = ?", kind), ("sequence > ?", after)) if value
        ]
        where = "WHERE " + " AND ".join(test for test, _ in conditions) if conditions else ""
        values = [value for _, value in conditions]
        sql = f"SELECT {_COLUMNS} FROM entries {where} ORDER BY sequence"  # noqa: S608  (constants)
        rows = self._rows(f"{sql} DESC LIMIT {int(newest)}", values)[::-1] if newest else self._rows(sql, values)
        for row in rows:
            try:
                body = json.loads(row[8])
            except (ValueError, RecursionError):
                body = None
            if not isinstance(body, dict):
                raise MachineError(
                    f"entry {row[1]} of the ledger cannot be read",
                    where=str(self.path),
                    mend="run `sigillum ledger verify`; restore the file from a copy",
                )
            text = row[8] if isinstance(row[8], bytes) else row[8].encode()
            yield LedgerEntry(
                row[0], row[1], row[2], row[3], row[4], row[5], row[6], row[7], body, row[9], row[10], row[11], text
            )

    def strange(self) -> list[str]:
        """What stands in the file beside our tables: tables, views, triggers, and indexes of other hands."""
        return [
            f"{kind} {name}"
            for kind, name in self._rows("SELECT type, name FROM sqlite_master ORDER BY name")
            if name not in _OURS and not str(name).startswith("sqlite_autoindex_")
        ]

    def hash_at(self, sequence: int) -> str | None:
        rows = self._rows("SELECT hash FROM entries WHERE sequence = ?", [sequence])
        return str(rows[0][0]) if rows else None

    def _book(self, row: Row) -> None:
        if not row.uid:
            self._db.execute("DELETE FROM books WHERE what = ? AND key = ?", (row.what, row.key))
            return
        if row.what == NAME:
            self._db.execute("DELETE FROM books WHERE uid = ? AND what = ?", (row.uid, NAME))
        self._db.execute("INSERT OR REPLACE INTO books (what, key, uid) VALUES (?, ?, ?)", row)

    def book(self, what: str, key: str) -> str | None:
        rows = self._rows("SELECT uid FROM books WHERE what = ? AND key = ?", [what, key])
        return str(rows[0][0]) if rows else None

    def rows(self, what: str, below: str = "") -> dict[str, str]:
        sql, values = "SELECT key, uid FROM books WHERE what = ?", [what]
        return dict(self._rows(f"{sql} AND uid < ?", [*values, below]) if below else self._rows(sql, values))

    def books(self) -> dict[tuple[str, str], str]:
        return {(str(w), str(k)): str(u) for w, k, u in self._rows("SELECT what, key, uid FROM books")}

    def rebuild(self) -> None:
        books = rows_of(self.entries())
        with self._lock:
            try:
                self._db.execute("BEGIN IMMEDIATE")
                self._db.execute("DELETE FROM books")
                self._db.executemany("INSERT INTO books (what, key, uid) VALUES (?, ?, ?)", [(*k, u) for k, u in books.items()])
                self._db.execute("COMMIT")
            except sqlite3.Error as problem:
                with suppress(sqlite3.Error):
                    self._db.execute("ROLLBACK")
                raise _trouble(problem, self.path) from problem

    def uid_of(self, charter_name: str) -> str | None:
        return self.book(NAME, charter_name)

    def name_of(self, uid: str) -> str | None:
        rows = self._rows("SELECT key FROM books WHERE uid = ? AND what = ?", [uid, NAME])
        return str(rows[0][0]) if rows else None

    @contextmanager
    def claim(self, key: str, lease_seconds: float) -> Iterator[None]:
        """A lock on a file: the system gives it back when the holder ends, however it ends."""
        import fcntl

        path = self.path.with_name(f"{key}.lock")
        handle = os.open(path, os.O_RDWR | os.O_CREAT, 0o600)
        try:
            left = lease_seconds
            while True:
                try:
                    fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    break
                except BlockingIOError as problem:
                    if left <= 0:
                        holder = os.pread(handle, 20, 0).decode(errors="replace").strip()
                        raise MachineError(
                            f"another sigillum works in this workspace (process {holder or 'unknown'})",
                            where=str(path),
                            mend="wait until it has ended, then run the same command again",
                        ) from problem
                    time.sleep(POLL_SECONDS)
                    left -= POLL_SECONDS
            os.ftruncate(handle, 0)
            os.pwrite(handle, f"{os.getpid()}\n".encode(), 0)
            yield
        finally:
            os.close(handle)
