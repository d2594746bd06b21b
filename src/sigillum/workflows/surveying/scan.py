"""Looking through folders for keys and secrets that lie about: which are ours, whether they live, and what they could do."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import State
from sigillum.core.values.errors import FileError, SigillumError
from sigillum.core.values.times import parse_instant
from sigillum.core.values.worlds import Logged
from sigillum.keys.scan import FoundKey, examined, mark_of
from sigillum.workflows.desk.office import Office
from sigillum.workflows.desk.settings import Progress

from .versions import MOST_BYTES, OBJECTS, versions

ALIVE, ENDED = "alive", "ended"  # by the ledger: nobody asks its tenant for that
IN_USE = "in use here"


class Ours(NamedTuple):
    """What of ours it is, how it stands by the ledger, and what whoever has it could do."""

    what: str
    state: Logged[str] | str
    could: str = ""

    @property
    def alive(self) -> bool:
        """May whoever has it still use it, as far as this workspace knows?"""
        return self.state == IN_USE or (isinstance(self.state, Logged) and self.state.value == ALIVE)


class Lying(NamedTuple):
    """Something that was found, in which file, and whose."""

    path: str
    finding: FoundKey
    ours: Ours | None = None


def known(office: Office) -> dict[str, Ours]:
    """The marks of all keys, secrets and tokens of this workspace."""
    out = dict[str, Ours]()
    names, now = office.books.names() if office.books.there else {}, datetime.now(UTC)
    for uid, name in names.items():
        keeping, held = office.keepings.of(uid), dict[tuple[str, int], str]()
        history = office.books.state(uid)
        for (credential, number), kept in keeping.held().items():
            held[credential, number] = kept if kept != "secret" else mark_of(keeping.secret(credential, number).reveal())
        for mark, all_ in history.generations.items():
            for generation in all_ if all_[-1].kind == CREDENTIAL.name else ():
                key = held.get((mark.get("name"), generation.number)) or (
                    generation.kept if generation.kept not in ("", "secret") else ""
                )
                until = str(generation.terms.get("until") or "")
                alive = generation.state is State.MADE and not (until and parse_instant(until) <= now)
                if key:
                    out[key] = Ours(
                        f"generation {generation.number} of {mark.get('name')} of {name}",
                        Logged(ALIVE if alive else ENDED),
                        _could(office, name),
                    )
    for key, was in office.keepings.remembered().items():
        out.setdefault(key, _was(was, names.get(was["uid"], was["uid"])))
    for tenant, section in office.workspace.file.tenants.items():
        for admin in (section.admin, *section.admins):
            try:
                token = office.keepings.resolve(admin.token).reveal() if admin.token else ""
            except SigillumError:  # it is not at hand now
                continue
            if token:
                out[mark_of(token)] = Ours(f"the token of {admin.name} at {tenant}", IN_USE, "all that this administrator may")
    return out


def _was(was: Mapping[str, str], charter: str) -> Ours:
    """A secret that was kept here once."""
    return Ours(f"generation {was['generation']} of {was['credential']} of {charter}", Logged(ENDED))


def _could(office: Office, name: str) -> str:
    try:
        charter = office.charters([name])[0]
    except FileError:
        return ""
    rights = [f"{g.role} at {g.at}" for g in charter.grants] + [f"{p.scope} of {p.api}" for p in charter.permissions]
    return ", ".join([*rights, *(f"what {m.name} may" for m in charter.member_of)])


class Looked(NamedTuple):
    """How many files were read; what was left out, with why, or cannot be told; and the private folder of this workspace, where
    its own secrets belong, if it stands there.
    """

    files: int
    left_out: list[tuple[str, str]]
    kept: str = ""


def look(office: Office | None, folders: Iterable[Path], told: list[Lying]) -> Looked:
    """Read every file below these folders, and put what is found into `told`; links are not followed. Of a repository every
    version of every file is read. Raises FileError for a folder that is not there, StoppedError.
    """
    ours, private = (known(office), office.workspace.private.resolve()) if office is not None else ({}, None)
    count, left, kept, known_in = 0, list[tuple[str, str]](), "", set[tuple[str, str]]()
    for folder in folders:
        if not folder.exists():
            raise FileError("there is no such folder", where=str(folder), mend="name a folder or a file")
        for path, content in _contents(folder, private):
            if office is not None and count % 500 == 0:
                office.settings.progress(Progress("scan", f"{count} files"))
                office.settings.go_on()
            if content is KEPT:
                kept = path
                continue
            if isinstance(content, str):
                left.append((path, content))
                continue
            count += 1
            found = examined(content)
            for key in found.found:  # the same in many versions of a file is told once
                repository, in_history, _ = path.rpartition(f"/{OBJECTS}:")
                if not in_history or (repository, key.mark) not in known_in:
                    told.append(Lying(path, key, ours.get(key.mark)))
                    known_in.add((repository, key.mark))
            if found.untold:
                left.append((path, found.untold))
    return Looked(count, left, kept)


KEPT = "kept"  # in place of a content: it is this workspace's own private folder


def _contents(folder: Path, private: Path | None) -> Iterator[tuple[str, bytes | str]]:
    """Every file, and what it holds; or why it is not read."""
    if not folder.is_dir():
        yield str(folder), _content(str(folder))
        return
    for here, folders, names in os.walk(folder):
        below = []
        for name in sorted(folders):
            path = f"{here}/{name}"
            if Path(path).is_symlink():
                yield path, LINK
            elif private is not None and Path(path).resolve() == private:
                yield path, KEPT
            elif name == OBJECTS and "HEAD" in names:
                yield from versions(Path(here), path)
            else:
                below.append(name)
        folders[:] = below
        for name in sorted(names):
            yield f"{here}/{name}", _content(f"{here}/{name}")


LINK = "a link, which is not followed"
TOO_LARGE = f"it is larger than {MOST_BYTES // 1_000_000} MB"


def _content(path: str) -> bytes | str:
    """What a regular file holds; nothing of a pipe, a socket or a device; or why it is not read."""
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    except OSError as problem:
        return LINK if problem.errno == errno.ELOOP else problem.strerror or "it cannot be read"
    try:
        about = os.fstat(handle)
        if not stat.S_ISREG(about.st_mode):
            return b""
        if about.st_size > MOST_BYTES:
            return TOO_LARGE
        data = os.read(handle, about.st_size)
        while len(data) < about.st_size and (more := os.read(handle, about.st_size - len(data))):
            data += more
        return data
    except OSError as problem:
        return problem.strerror or "it cannot be read"
    finally:
        os.close(handle)
