"""Names as they stand in the files, unchecked: for finding the file of a charter, and for completing a command line."""

from __future__ import annotations

import os
import re
from pathlib import Path

FILE, CHARTERS = "sigillum.yaml", "charters"
HEAD_BYTES, MOST_BYTES = 4_096, 200_000
_CHARTER = re.compile(rb"^charter:[ \t]*[\"']?([^\s\"'#]+)", re.M)
_TENANTS = re.compile(rb"^tenants:[ \t]*(?:#.*)?\n((?:[ \t]+.*\n|[ \t]*#.*\n|\n)*)", re.M)
_KEY = re.compile(rb"^( +)([a-z0-9][a-z0-9-]*):", re.M)
_SECTION = re.compile(rb"\n[a-z]")  # where the next section begins
_NAME = re.compile(rb"(?:^|[\s{,-])name:[ \t]*[\"']?([A-Za-z0-9][\w.-]*)", re.M)


def charters(folder: Path) -> dict[str, list[Path]]:
    """Charter names with the files that use them, by the files' first lines; one that says none has its file's name."""
    out: dict[str, list[Path]] = {}
    for path in sorted(folder.glob("*.y*ml")):
        found = _CHARTER.search(_read(path, HEAD_BYTES))
        out.setdefault(found[1].decode(errors="replace") if found else path.stem, []).append(path)
    return out


def names(kind: str) -> list[str]:
    """Of `charters`, `tenants` or `credentials` of the workspace in which one stands; none where there is no workspace."""
    given, here = os.environ.get("SIGILLUM_WORKSPACE"), Path.cwd()
    folder = Path(given) if given else next((f for f in (here, *here.parents) if (f / FILE).is_file()), here)
    if kind == "tenants":
        body = _TENANTS.search(_read(folder / FILE, MOST_BYTES) + b"\n")
        keys = _KEY.findall(body[1]) if body is not None else []
        least = min((len(indent) for indent, _ in keys), default=0)
        return sorted(name.decode() for indent, name in keys if len(indent) == least)
    if kind == "charters":
        return sorted(charters(folder / CHARTERS))
    found = set[bytes]()
    for path in (folder / CHARTERS).glob("*.y*ml"):
        _, begins, text = _read(path, MOST_BYTES).partition(b"\ncredentials:")
        over = _SECTION.search(text) if begins else None
        found.update(_NAME.findall(text[: over.start()] if over is not None else text))
    return sorted(n.decode() for n in found)


def _read(path: Path, most: int) -> bytes:
    try:
        with path.open("rb") as file:
            return file.read(most)
    except OSError:
        return b""
