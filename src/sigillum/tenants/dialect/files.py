"""Reading a dialect file: its form, and what its parts say of each other, all mistakes at once."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from sigillum.core.values.errors import FileError
from sigillum.reading.document import parse, read_text
from sigillum.reading.models import json_schema, validate

from .check import check
from .model import DialectFile


def read(folder: Path, name: str) -> DialectFile:
    """The dialect in a file. Raises FileError with every mistake."""
    return read_from(read_text(folder / name, name), name)


def read_from(text: str, name: str) -> DialectFile:
    """The dialect in a text. Raises FileError with every mistake."""
    document = parse(text, name)
    dialect = validate(DialectFile, document)
    mistakes = check(dialect, document.position)
    if mistakes:
        raise FileError("", where=document.file, mistakes=tuple(mistakes))
    return dialect


def schema() -> dict[str, Any]:
    """The JSON Schema of a dialect file."""
    return json_schema(DialectFile, {}, "A dialect of Sigillum")
