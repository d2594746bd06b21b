"""Texts of a charter that could be taken for other ones: words of another script that look like our letters (UTS 39 §4)."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.federation.subjects import name_of
from sigillum.core.federation.trusts import Doubt, Trust, about

_WORD = re.compile(r"[^\x00-\x2f\x3a-\x40\x5b-\x60\x7b-\x7f]+")  # between what ASCII has beside letters and digits
MEND = "copy it from a token of that issuer, and compare (`sigillum token read`)"


def cautions(charter: Charter) -> Iterator[str]:
    """What is not wrong about its trusts, and is worth knowing before they are made."""
    for want in charter.trusts:
        for doubt in (*about(want.trust, want.issuer), *alike(want.trust)):
            if not doubt.wrong:
                yield f"the trust {want.name}: {doubt.what}; {doubt.mend}"


def alike(trust: Trust) -> Iterator[Doubt]:
    """What of its texts looks like another one."""
    values = [v for t in trust.when for v in (t.value if isinstance(t.value, tuple) else (t.value,))]
    for text in dict.fromkeys(t for t in (trust.subject, trust.audience, *values) if isinstance(t, str) and not t.isascii()):
        for what in _doubts(text):
            yield Doubt("look-alike", f"{text!r}: {what}", MEND)


def _doubts(text: str) -> Iterator[str]:
    for word in _WORD.findall(text):
        odd = [c for c in word if not c.isascii() and not unicodedata.category(c).startswith("L")]
        for letter in odd:
            yield f"{name_of(letter)} is easily taken for another character"
        other = "".join(map(_twin, word)) if not word.isascii() and not odd else ""
        if other and "\0" not in other:
            yield f"{word} is not {other}, and looks like it"


def _twin(letter: str) -> str:
    """The ASCII letter or digit that looks like it; where there is none, a mark that none looks like."""
    from confusable_homoglyphs import confusables  # type: ignore[import-untyped]  # a large table: only such texts need it

    if letter.isascii():
        return letter
    plain = unicodedata.normalize("NFKC", letter)
    if plain.isascii():
        return plain
    found = confusables.is_confusable(letter, greedy=True, preferred_aliases=[]) or []
    return next((h["c"] for one in found for h in one["homoglyphs"] if len(h["c"]) == 1 and h["c"].isascii()), "\0")
