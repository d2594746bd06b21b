"""What the models of files share: strict types with our own words, and pydantic's findings as mistakes with positions."""

from __future__ import annotations

import os
import types
import typing
from collections.abc import Callable, Iterator, Mapping
from datetime import date
from typing import Annotated, Any, NamedTuple, TypeVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, ValidationError, WithJsonSchema
from pydantic_core import ErrorDetails, PydanticCustomError

from sigillum.core.values import times
from sigillum.core.values.errors import FileError, Mistake
from sigillum.core.values.text import near

from .document import Document, Spot

# No plugin of the validation library runs beside secrets; looking for some would cost a twentieth of a short command.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
Model = TypeVar("Model", bound=BaseModel)


class Section(BaseModel):
    """A part of a file: unknown keys are mistakes, and nothing is guessed."""

    # defer_build: each file's model is built once, with all its sections in it, and only when it is used
    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, populate_by_name=True, defer_build=True)


def wrong(code: str, what: str, mend: str) -> PydanticCustomError:
    """What a check of a value raises: a code, what is wrong, what to write instead."""
    # The texts travel as context: pydantic would take braces in a message template for its own.
    return PydanticCustomError(code, "{what}", {"what": what, "mend": mend})


def by_pattern(pattern: typing.Pattern[str], code: str, what: str, mend: str) -> BeforeValidator:
    """A check that a value is a text of this form."""

    def check(value: Any) -> Any:
        if not isinstance(value, str) or not pattern.match(value):
            raise wrong(code, f"{_shown(value)} is not {what}", mend)
        return value

    return BeforeValidator(check)


def _shown(value: Any) -> str:
    return repr(value) if isinstance(value, (str, int, float)) and len(str(value)) <= 60 else "this"


def duration(value: Any) -> int:
    """Seconds. Raises what pydantic tells as a mistake."""
    try:
        return times.parse_duration(value if isinstance(value, str) else "")
    except ValueError as problem:
        raise wrong(
            "duration",
            f"{_shown(value)} is not a duration",
            "write 10m, 8h, 90d, 2w or ISO 8601 like P90D (months and years have no fixed length)",
        ) from problem


def _instant(value: Any) -> Any:
    try:
        return times.parse_instant(value if isinstance(value, str) else "")
    except ValueError as problem:
        raise wrong(
            "instant",
            f"{_shown(value)} is not an instant with an offset",
            "write it like 2027-03-01T08:00:00Z or 2027-03-01T09:00:00+01:00",
        ) from problem


def _date(value: Any) -> Any:
    try:
        return date.fromisoformat(value if isinstance(value, str) else "")
    except ValueError as problem:
        raise wrong("date", f"{_shown(value)} is not a date", "write it like 2027-03-01") from problem


def text_schema(**more: Any) -> WithJsonSchema:
    """The JSON Schema of a text with a form."""
    return WithJsonSchema({"type": "string", **more})


def form_schema(pattern: str, **more: Any) -> WithJsonSchema:
    """The JSON Schema of a text that matches a pattern as a whole; there a pattern may match anywhere (JSON Schema 6.3.3)."""
    return text_schema(pattern=f"^(?:{pattern.replace(WHOLE, '')})$", **more)


class OrText:
    """In a JSON Schema: a section for which a text stands, too."""

    def __init__(self, **more: Any) -> None:
        self.more = more

    def __get_pydantic_json_schema__(self, schema: Any, handler: Callable[[Any], dict[str, Any]]) -> dict[str, Any]:
        return {"anyOf": [{"type": "string", **self.more}, handler(schema)]}


class OrOne:
    """In a JSON Schema: a list for which one entry stands, too."""

    def __get_pydantic_json_schema__(self, schema: Any, handler: Callable[[Any], dict[str, Any]]) -> dict[str, Any]:
        listed = handler(schema)
        return {"anyOf": [listed["items"], listed]}


def several(value: Any) -> Any:
    """A mapping stands for a list of it alone."""
    return [value] if isinstance(value, Mapping) else value


WHOLE = r"\Z"
Duration = Annotated[int, BeforeValidator(duration), form_schema(times.DURATION, examples=["10m", "8h", "90d", "P90D"])]
Instant = Annotated[Any, BeforeValidator(_instant), form_schema(times.INSTANT.pattern, examples=["2027-03-01T08:00:00Z"])]
Day = Annotated[date, BeforeValidator(_date), text_schema(pattern=r"^\d{4}-\d\d-\d\d$", format="date")]


def says(*rules: Mapping[str, Any], **more: Any) -> ConfigDict:
    """What a section's JSON Schema says beside its keys: which of them go together."""
    return ConfigDict(json_schema_extra={**({"allOf": [dict(r) for r in rules]} if rules else {}), **more})


def not_both(*keys: str) -> dict[str, Any]:
    """At most one of these keys."""
    return {"not": {"anyOf": [{"required": [a, b]} for n, a in enumerate(keys) for b in keys[n + 1 :]]}}


def one_of(*keys: str) -> dict[str, Any]:
    """Just one of these keys."""
    return {"oneOf": [{"required": [k]} for k in keys]}


def only_with(keys: tuple[str, ...], key: str, *values: Any) -> dict[str, Any]:
    """Any of these keys stands only beside another one that has one of these values."""
    given = {"anyOf": [{"required": [k]} for k in keys]}
    return {"if": given, "then": {"required": [key], "properties": {key: {"enum": list(values)}}}}


_EXPECTED = {
    "string_type": "text",
    "int_type": "a whole number",
    "bool_type": "true or false",
    "list_type": "a list",
    "tuple_type": "a list",
    "dict_type": "a mapping",
    "model_type": "a mapping",
    "model_attributes_type": "a mapping",
    "int_from_float": "a whole number",
}
_FOUND: tuple[tuple[type, str], ...] = (
    (bool, "true or false"),
    (int, "a number"),
    (float, "a number"),
    (str, "text"),
    (list, "a list"),
    (dict, "a mapping"),
    (type(None), "nothing"),
)


def fields_at(model: type[BaseModel], spot: Spot) -> list[str]:
    """The keys that the model knows at a spot: what a near miss is looked for among."""
    current: type[BaseModel] | None = model
    for part in spot:
        if current is None or not isinstance(part, str):
            continue
        field = next((f for n, f in current.model_fields.items() if part in (f.alias, n) or n == "root"), None)
        current = _model_in(field.annotation) if field is not None else current
    return [f.alias or n for n, f in current.model_fields.items()] if current is not None else []


def _model_in(annotation: Any) -> type[BaseModel] | None:
    if isinstance(annotation, type) and not isinstance(annotation, types.GenericAlias):
        return annotation if issubclass(annotation, BaseModel) else None
    return next((m for a in typing.get_args(annotation) if (m := _model_in(a)) is not None), None)


class _Found(NamedTuple):
    """A finding of pydantic's: where in the document, and at what place and in which branch where there were several ways."""

    error: ErrorDetails
    spot: Spot
    union: Spot = ()
    branch: str = ""

    @property
    def at_union(self) -> bool:
        """Does not even the form of the value fit this branch?"""
        return bool(self.branch) and self.spot == self.union and self.error["type"] in _EXPECTED


def _found(error: ErrorDetails, data: Any) -> _Found:
    """Where a finding stands: of the parts of its place, those that are no keys of the document name a branch."""
    spot, branch, current = list[str | int](), "", data
    union: Spot = ()
    parts = error["loc"]
    for number, part in enumerate(parts):
        if (isinstance(current, dict) and part in current) or (isinstance(current, list) and isinstance(part, int)):
            current = current[part]  # type: ignore[index]
            spot.append(part)
        elif number == len(parts) - 1 and error["type"] == "missing":
            spot.append(part)
        elif not branch:
            union, branch = tuple(spot), str(part)
    return _Found(error, tuple(spot), union, branch)


def _best(all_: list[_Found]) -> Iterator[tuple[_Found, str]]:
    """Of several ways in which a value could be read, what is wrong in the one whose form it has; with what would do, where
    it has the form of none.
    """
    told = set[Spot]()
    for found in all_:
        rest = [o for o in all_ if o.branch and o.union == found.union]
        fitting = [b for b in dict.fromkeys(o.branch for o in rest) if not any(o.at_union for o in rest if o.branch == b)]
        if not found.branch or (fitting and found.branch == fitting[0]):
            yield found, ""
        elif not fitting and found.union not in told:
            told.add(found.union)
            yield found, " or ".join(dict.fromkeys(_EXPECTED[o.error["type"]] for o in rest if o.at_union))


def _mistake(found_: _Found, either: str, model: type[BaseModel], document: Document) -> Mistake:
    error, spot = found_.error, found_.spot
    name = next((str(p) for p in reversed(spot) if isinstance(p, str)), "this file")
    kind, context = error["type"], error.get("ctx", {})
    if kind == "extra_forbidden":
        known = fields_at(model, spot[:-1])
        close = near(name, known)
        mend = f"did you mean `{close}`?" if close else f"known here: {', '.join(known)}"
        return Mistake("key-unknown", f"the key `{name}` is not known here", mend, document.position(spot, key=True))
    if kind == "missing":
        return Mistake("key-missing", f"`{name}` is missing", f"add `{name}: ...`", document.position(spot[:-1]))
    if kind == "literal_error":
        expected = str(context.get("expected", "")).replace("'", "").replace(" or ", ", ")
        close = near(str(error["input"]), expected.split(", "))
        mend = f"did you mean {close}? (known: {expected})" if close else f"known: {expected}"
        return Mistake("value-unknown", f"`{name}` cannot be {_shown(error['input'])}", mend, document.position(spot))
    if kind in _EXPECTED:
        found = next((w for t, w in _FOUND if isinstance(error["input"], t)), "something else")
        quoted = kind == "string_type" and isinstance(error["input"], (int, float)) and not isinstance(error["input"], bool)
        return Mistake(
            "type",
            f"`{name}` must be {either or _EXPECTED[kind]}, and this is {found}",
            "write it in quotes" if quoted else f"write {either or _EXPECTED[kind]} here",
            document.position(spot),
        )
    what = str(context.get("what", error["msg"]))
    return Mistake(
        kind,
        f"`{name}`: {what}" if name not in what else what,
        str(context.get("mend", "look at docs/charter.md")),
        document.position(spot),
    )


def validate(model: type[Model], document: Document) -> Model:
    """The model of a document. Raises FileError with every mistake at once."""
    try:
        return model.model_validate(document.data)
    except ValidationError as problem:
        all_ = [_found(e, document.data) for e in problem.errors(include_url=False)]
        found = [_mistake(one, either, model, document) for one, either in _best(all_)]
        meant = {m.mend for m in found if m.code == "key-unknown"}
        found = [m for m in found if m.code != "key-missing" or f"did you mean {m.what.split()[0]}?" not in meant]
        raise FileError("", where=document.file, mistakes=tuple(dict.fromkeys(found))) from None


def validate_with(
    model: type[Model], rare: Mapping[str, Callable[[], type[BaseModel]]], document: Document
) -> tuple[Model, dict[str, Any]]:
    """The model of a document, and its rare keys, whose models are made only where a file has them.

    Making a model takes longer than reading a file. Raises FileError with every mistake of all of them at once.
    """
    mistakes, parts, main = list[Mistake](), dict[str, Any](), None
    data = document.data if isinstance(document.data, dict) else {}
    usual = document._replace(data={n: v for n, v in data.items() if n not in rare}) if data else document
    try:
        main = validate(model, usual)
    except FileError as problem:
        mistakes += problem.mistakes
    for key, load in rare.items():
        if data.get(key) is not None:
            try:
                parts[key] = getattr(validate(load(), document._replace(data={key: data[key]})), key)
            except FileError as problem:
                mistakes += problem.mistakes
    if mistakes or main is None:
        raise FileError("", where=document.file, mistakes=tuple(mistakes))
    return main, parts


def json_schema(model: type[BaseModel], rare: Mapping[str, Callable[[], type[BaseModel]]], title: str) -> dict[str, Any]:
    """The JSON Schema of a file with all its keys, for editors."""
    from pydantic import create_model

    parts: dict[str, Any] = {n: (f.annotation, f) for n, load in rare.items() for f in [load().model_fields[n]]}
    schema = create_model(model.__name__, __base__=model, **parts).model_json_schema(by_alias=True)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "title": title}
