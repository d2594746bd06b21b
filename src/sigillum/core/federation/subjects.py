"""Outside subjects: one exact text made of named parts, and what may hide in a text that somebody wrote."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from sigillum.core.values.text import unseen

FORMS = {
    "number": (re.compile(r"[0-9]{1,40}\Z"), "a number, of digits alone"),
    "name": (re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9._@-]{0,126}[A-Za-z0-9])?\Z"), "a name of letters, digits, dots and dashes"),
    "uuid": (
        re.compile(r"[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}\Z"),
        "a UUID in small letters (RFC 9562)",
    ),
}
TOGETHER = frozenset(("CJK", "HIRAGANA", "KATAKANA", "HANGUL"))  # scripts that one language writes together


class SubjectPart(NamedTuple):
    """One part of the subjects of an issuer. `text`: a part that is always the same."""

    name: str
    form: str
    text: str = ""


class Wrong(NamedTuple):
    """What is wrong with a part or a text, and what to write."""

    part: str
    what: str
    mend: str


def subject_of(parts: tuple[SubjectPart, ...], separator: str, values: Mapping[str, str]) -> tuple[str, list[Wrong]]:
    """The exact text of a subject, and every mistake in its parts."""
    wrong = list[Wrong]()
    known = [p.name for p in parts if not p.text]
    for name in values:
        if name not in known:
            wrong.append(Wrong(name, f"subjects of this issuer have no part {name!r}", f"known: {', '.join(known)}"))
    out = list[str]()
    for part in parts:
        value = part.text or str(values.get(part.name, ""))
        pattern, words = FORMS[part.form]
        if not part.text and not value:
            wrong.append(Wrong(part.name, f"the part {part.name} is not given", f"write `{part.name}: ...`, {words}"))
        elif separator in value and separator:
            wrong.append(
                Wrong(
                    part.name,
                    f"{part.name} holds {separator!r}, which parts the subjects of this issuer",
                    "write that part alone",
                )
            )
        elif not part.text and not pattern.match(value):
            hidden = next(doubts(value), None)
            wrong.append(
                Wrong(
                    part.name,
                    hidden.what if hidden else f"{part.name} is {value!r}, and has to be {words}",
                    hidden.mend if hidden else f"write {words}",
                )
            )
        out.append(value)
    return separator.join(out), wrong


def doubts(text: str) -> Iterator[Wrong]:
    """What a reader of a text cannot see: hidden characters, two ways to write one letter, look-alikes from other scripts."""
    if unseen(text):
        yield Wrong("", "it holds a character that cannot be seen", "write it anew")
    if text != text.strip():
        yield Wrong("", "it begins or ends with a blank", "write it without")
    if unicodedata.normalize("NFC", text) != text:
        yield Wrong("", "a letter in it is put together from several characters (it is not in NFC)", "write it anew")
    scripts = dict[str, str]()
    for letter in text:
        if letter.isalpha():
            script = unicodedata.name(letter, "UNKNOWN").split()[0]
            scripts.setdefault("EAST ASIAN" if script in TOGETHER else script, letter)
    if len(scripts) > 1:
        told = " and ".join(f"{letter!r} is {script.title()}" for script, letter in scripts.items())
        yield Wrong("", f"it mixes scripts: {told}", "write all of it in one")


def name_of(letter: str) -> str:
    """A letter by its number and its name (Unicode §4.8)."""
    return f"U+{ord(letter):04X} {unicodedata.name(letter, 'without a name')}"


def difference(one: str, other: str, place: int) -> str:
    """What stands at the first place in which two texts differ, with its name where it could be taken for the other."""

    def named(text: str) -> str:
        if place >= len(text):
            return "its end"
        letter = text[place]
        return repr(letter) if letter.isascii() and letter.isprintable() else name_of(letter)

    return f"after {place} characters: {named(one)}, wanted {named(other)}"
