"""Values in a dialect: templates that keep types, pointers into answers, and the forms of times, keys and words.

A value never changes the shape of a request: it stands for a whole scalar, or is joined into a text; bodies are serialised
afterwards, and addresses encode whatever is put into them.
"""

from __future__ import annotations

import base64
import hashlib
import json
import re
from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime, parsedate_to_datetime
from functools import lru_cache
from typing import Any, NamedTuple, TypeVar

from jsonpointer import JsonPointer
from uritemplate import URITemplate

from sigillum.core.values.errors import FileError, RefusedError
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import format_instant

from .call_model import EXPANSION, CallSection, FittingSection, ShownSection

Values = Mapping[str, Any]
Words = Mapping[str, Mapping[str, Any]]
VALUE = re.compile(r"\{([a-z][a-z0-9_.]*)(?:\|([a-z_][a-z0-9_-]*))?\}")
NOTHING = object()
Fitting = TypeVar("Fitting", bound=FittingSection)
MOST_TEXT = 10_000  # characters of one value from an answer


class MisfitError(RefusedError):
    """An answer does not fit the dialect: which field, and why in a few words."""

    code = "misfit"


class ValueRefusedError(FileError):
    """A value that cannot be put where the dialect wants it: nothing is sent."""

    code = "value"


# --- forms ------------------------------------------------------------------------------------------------------------
def _epoch(value: Any) -> datetime | None:
    return None if not value else datetime.fromtimestamp(_number(value), UTC)


def _number(value: Any) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        raise MisfitError("it is no number")
    return float(value)


def _instant(value: Any) -> datetime | None:
    """RFC 3339; a time without an offset is UTC."""
    if value in (None, ""):
        return None
    found = datetime.fromisoformat(_text(value))
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)


def _http_date(value: Any) -> datetime | None:
    return parsedate_to_datetime(_text(value)) if value not in (None, "") else None


def _after(value: Any) -> datetime | None:
    """What ends with a day, whole."""
    day = _instant(f"{_text(value)}T00:00:00Z")
    return day + timedelta(days=1) if day is not None else None


def _text(value: Any) -> str:
    if isinstance(value, bool) or not isinstance(value, (str, int)):
        raise MisfitError("it is no text")
    if len(text := str(value)) > MOST_TEXT:
        raise MisfitError(f"it is longer than {MOST_TEXT} characters")
    return text


def _flag(value: Any) -> bool:
    if not isinstance(value, bool):
        raise MisfitError("it is neither true nor false")
    return value


def _pem(key: Any) -> str:
    from joserfc.jwk import JWKRegistry

    made: Any = JWKRegistry.import_key(dict(key))
    return str(made.as_pem(private=False).decode())


DER_PRINT = "der-sha256:"  # how a print of that form is written as long as nobody knows whose key it is of


def der_print(key: Any) -> bytes:
    """SHA-256 over the DER form of a public key (RFC 5280 §4.1.2.7, SubjectPublicKeyInfo)."""
    inner = "".join(line for line in _pem(key).splitlines() if not line.startswith("-----"))
    return hashlib.sha256(base64.b64decode(inner)).digest()


def _print(digest: bytes) -> str:
    return f"{DER_PRINT}{digest.hex()}" if digest else ""


def _padded(text: str) -> str:
    return text + "=" * (-len(text) % 4)


def _jwk_of_pem(text: Any) -> dict[str, Any]:
    from joserfc.jwk import JWKRegistry

    for kind in ("OKP", "EC", "RSA"):
        try:
            return dict(JWKRegistry.import_key(_text(text), kind).as_dict(private=False))
        except Exception:  # noqa: S112 - the library raises whatever it finds; another kind may fit
            continue
    raise MisfitError("it is no public key")


def private_key(text: str) -> dict[str, Any]:
    """The private JWK of a key that is written as PEM or as JWK. Raises FileError."""
    from joserfc.jwk import JWKRegistry

    for given, kind in ((text, "OKP"), (text, "EC"), (text, "RSA")):
        try:
            made = (
                JWKRegistry.import_key(json.loads(given))
                if given.lstrip().startswith("{")
                else JWKRegistry.import_key(given, kind)
            )
            if made.is_private:
                return dict(made.as_dict(private=True))
        except Exception:  # noqa: S112 - the library raises whatever it finds; another kind may fit
            continue
    raise FileError(
        "nothing can be signed with the administrator's secret",
        where="admin: token: in sigillum.yaml",
        mend="its dialect wants a private key there, as PEM or as JWK",
    )


def _label(text: str) -> str:
    """A text as a label can hold it: small letters and digits alone, and the text again (RFC 4648 §6)."""
    return base64.b32encode(text.encode()).decode().rstrip("=").lower()


def _of_label(value: Any) -> str:
    text = _text(value or "")
    try:
        return base64.b32decode(text.upper() + "=" * (-len(text) % 8)).decode()
    except ValueError:
        return ""  # a label of somebody else's


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


FORMS: Mapping[str, tuple[Callable[[Any, datetime], Any], Callable[[Any], Any]]] = {  # to them, and from them
    "text": (lambda v, now: str(v), _text),
    "lower": (lambda v, now: str(v).lower(), lambda v: _text(v).lower()),
    "iso": (lambda v, now: format_instant(v), _instant),
    "epoch": (lambda v, now: int(v.timestamp()), _epoch),
    "epoch_ms": (lambda v, now: int(v.timestamp() * 1000), lambda v: _epoch(_number(v) / 1000) if v else None),
    "seconds": (lambda v, now: max(1, int((v - now).total_seconds())), lambda v: None),
    "days": (lambda v, now: max(1, -(-int((v - now).total_seconds()) // 86_400)), lambda v: None),
    "day": (lambda v, now: v.date().isoformat(), lambda v: _instant(f"{_text(v)}T00:00:00Z") if v else None),
    "last_day": (lambda v, now: (v - timedelta(microseconds=1)).date().isoformat(), lambda v: _after(v) if v else None),
    "minutes": (lambda v, now: max(1, int((v - now).total_seconds()) // 60), lambda v: None),
    "hours": (lambda v, now: max(1, int((v - now).total_seconds()) // 3600), lambda v: None),
    "spaced": (lambda v, now: v.astimezone(UTC).strftime("%Y-%m-%d %H:%M:%S"), _instant),
    "http_date": (lambda v, now: format_datetime(v.astimezone(UTC), usegmt=True), _http_date),
    "comma": (lambda v, now: ",".join(map(str, v)), lambda v: tuple(p for p in _text(v or "").split(",") if p)),
    "pem": (lambda v, now: _pem(v), _jwk_of_pem),
    "jwk": (lambda v, now: dict(v), lambda v: v),
    "der_hex": (lambda v, now: der_print(v).hex(), lambda v: _print(bytes.fromhex(_text(v or "").replace(":", "")))),
    "der_base64": (
        lambda v, now: base64.b64encode(der_print(v)).decode(),
        lambda v: _print(base64.b64decode(_padded(_text(v or "").removeprefix("SHA256:")))),
    ),
    "label": (lambda v, now: _label(str(v)), _of_label),
    "quoted": (lambda v, now: _quoted(str(v)), _text),
    "doubled": (lambda v, now: "'" + str(v).replace("'", "''") + "'", _text),
    "flag": (lambda v, now: bool(v), _flag),
    "negated": (lambda v, now: not v, lambda v: not _flag(v)),
    "there": (lambda v, now: bool(v), bool),  # whether anything stands there
}


def _word(value: Any) -> str:
    """A word of theirs as a table has it: numbers and flags, too, are texts there."""
    return str(value).lower() if isinstance(value, bool) else _text(value)


def _plain_word(word: str) -> Any:
    """A word of theirs as it is sent: what is written as a number or a flag is one."""
    return int(word) if word.isascii() and word.isdigit() else {"true": True, "false": False}.get(word, word)


def to_them(value: Any, form: str, words: Words, now: datetime) -> Any:
    """A value of ours as they write it. Raises ValueRefusedError for a word that has none of theirs."""
    if form in words:
        for theirs, ours in words[form].items():
            if ours == value and isinstance(ours, bool) == isinstance(value, bool):
                return _plain_word(theirs)
        raise ValueRefusedError(f"{value!r} has no word of theirs in the table {form}", where=form, mend="add it to the table")
    return FORMS[form][0](value, now) if value is not None and value != "" else None


def from_them(value: Any, form: str, words: Words) -> Any:
    """A value of theirs as we have it. Raises MisfitError."""
    try:
        if form in words:
            return None if value is None else words[form].get(word := _word(value), word)
        return FORMS[form][1](value)
    except (ValueError, TypeError, OverflowError, OSError) as problem:
        raise MisfitError("it has another form") from problem


# --- templates --------------------------------------------------------------------------------------------------------
def names_in(template: Any) -> set[tuple[str, str]]:
    """The values that a body, header or address names, each with its form."""
    if isinstance(template, str):
        return {(n, f) for n, f in VALUE.findall(template)}
    if isinstance(template, Mapping):
        return {n for v in template.values() for n in names_in(v)}
    return {n for v in template for n in names_in(v)} if isinstance(template, list) else set()


def filled(template: Any, values: Values, words: Words, now: datetime) -> Any:
    """A body with its values. One that stands alone keeps its type, and goes where there is none. Secrets are revealed."""

    def one(name: str, form: str) -> Any:
        value = values.get(name)
        value = value.reveal() if isinstance(value, Secret) else value
        if form and (value is not None or form in words):
            return to_them(value, form, words, now)
        return format_instant(value) if isinstance(value, datetime) else list(value) if isinstance(value, tuple) else value

    if isinstance(template, str):
        alone = VALUE.fullmatch(template)
        if alone:
            found = one(alone[1], alone[2] or "")
            return NOTHING if found is None else found
        return VALUE.sub(lambda m: "" if (v := one(m[1], m[2] or "")) is None else str(v), template)
    if isinstance(template, Mapping):
        return {n: f for n, v in template.items() if (f := filled(v, values, words, now)) is not NOTHING}
    if isinstance(template, list):
        return [f for v in template if (f := filled(v, values, words, now)) is not NOTHING]
    return template


class Variable(NamedTuple):
    """A value in an address. `key`: how the template (RFC 6570) calls it."""

    key: str
    name: str
    form: str
    in_path: bool


@lru_cache(maxsize=1000)
def _template(address: str) -> tuple[URITemplate, tuple[Variable, ...]]:
    """An address whose values have forms, which RFC 6570 does not have, as a template that names them by numbers."""
    found = list[Variable]()

    def expansion(match: re.Match[str]) -> str:
        query, first = match[0].startswith("{?"), len(found)
        for text in match[0][1 + query : -1].split(","):
            name, _, form = text.partition("|")
            found.append(Variable(name if query else f"v{first}", name, form, not query))
        return "{" + "?" * query + ",".join(v.key for v in found[first:]) + "}"

    return URITemplate(EXPANSION.sub(expansion, address)), tuple(found)


def names_of(address: str) -> set[tuple[str, str]]:
    """The values that an address names, each with its form."""
    return {(v.name, v.form) for v in _template(address)[1]}


def needs(call: CallSection) -> set[str]:
    """The values that a call names anywhere."""
    parts = (call.query, call.headers, call.body, call.form)
    return {n for n, _ in names_of(call.address)} | {n for part in parts for n, _ in names_in(part)}


def fitting(calls: Iterable[Fitting], values: Values) -> Fitting | None:
    """Of several calls, the first whose condition these values meet."""
    return next((c for c in calls if all(values.get(n, "") == v for n, v in c.when.items())), None)


def needed_by(calls: Iterable[FittingSection]) -> set[str]:
    """The values that one of several calls names, or is chosen by."""
    return {n for call in calls for n in {*needs(call), *call.when}}


def address_of(address: str, values: Values, words: Words, now: datetime) -> str:
    """An address with its values (RFC 6570). Raises ValueRefusedError for one that would name something else."""
    template, variables = _template(address)
    given = dict[str, Any]()
    for variable in variables:
        if isinstance(values.get(variable.name), Secret):
            raise ValueRefusedError(
                f"the address {address} would hold a secret",
                where=address,
                mend="nothing was sent: addresses stand in logs; put it into a header or a body",
            )
        value = filled("{" + variable.name + ("|" + variable.form if variable.form else "") + "}", values, words, now)
        text = "" if value is NOTHING else str(value).lower() if isinstance(value, bool) else str(value)
        if variable.in_path and text in ("", ".", ".."):
            raise ValueRefusedError(
                f"the address {address} needs {variable.name}, and it is {text or 'empty'!r}",
                where=address,
                mend="nothing was sent: an empty name would mean something else",
            )
        if text or variable.in_path:
            given[variable.key] = text
    return str(template.expand(given))


def header_of(template: str, values: Values, words: Words, now: datetime) -> str:
    """A header's value. Raises ValueRefusedError where it would hold a line's end."""
    text = str(filled(f" {template}", values, words, now))[1:]
    if not text.isprintable() or not text.isascii():
        raise ValueRefusedError("a header cannot hold that value", where=template, mend="nothing was sent")
    return text


# --- answers ----------------------------------------------------------------------------------------------------------
@lru_cache(maxsize=1000)
def _pointer(text: str) -> JsonPointer:
    return JsonPointer(text)


def at(document: Any, pointer: str, nothing: Any = None) -> Any:
    """What stands at a pointer (RFC 6901); None, or what else is given, where nothing does."""
    if isinstance(document, dict) and pointer[:1] == "/" and "/" not in pointer[1:] and "~" not in pointer:
        return document.get(pointer[1:], nothing)  # one step, which most are: a tenth of the time
    return _pointer(pointer).resolve(document, nothing)


def shown(section: ShownSection, document: Any, values: Values, words: Words, usual: str) -> Any:
    """One field of an answer, in our form. None: it is empty. NOTHING: it is left out, or says what nobody described.

    `usual`: of which form it is where none is named. Raises MisfitError.
    """
    if section.is_ is not None:
        return filled(section.is_, values, words, datetime.now(UTC))
    form = section.as_ or usual
    value = next((v for p in section.spots if (v := at(document, p, NOTHING)) is not NOTHING), NOTHING)
    if value is NOTHING and form not in ("there", "comma") and section.starts is None:
        return NOTHING  # what that means is not for here to say
    value = None if value is NOTHING else value
    for mark, which in ((section.before, 0), (section.after, 2)):
        if mark is not None and value is not None:
            value = _text(value).partition(mark)[which]
    if section.each is not None or form == "list":
        if value is None:
            return ()
        if not isinstance(value, list):
            raise MisfitError("it is no list")
        value = [at(v, section.each or "") for v in value]
        if section.starts is None:
            return tuple(from_them(v, section.as_ or "text", words) for v in value)
    if section.starts is not None:
        texts = value if isinstance(value, list) else [value]
        return next(
            (
                t.removeprefix(section.starts).split()[0]
                for t in texts
                if isinstance(t, str) and t.startswith(section.starts) and t != section.starts
            ),
            "",
        )
    found = from_them(value, form, words) if value is not None or form in ("there", "comma") else None
    return NOTHING if usual == "flag" and not isinstance(found, bool) else found


def text_of(section: ShownSection, document: Any, values: Values, words: Words) -> str:
    """The same as a text, empty where nothing is said. Raises MisfitError."""
    found = shown(section, document, values, words, "text")
    return "" if found in (None, NOTHING) else str(found)
