"""A file of answers: what people wrote down of the lines of work sheets. An answer is what somebody wrote, never a default."""

from __future__ import annotations

from collections.abc import Callable
from difflib import get_close_matches
from pathlib import Path
from typing import Annotated, Any

from pydantic import BeforeValidator, ConfigDict, Field, RootModel, model_validator

from sigillum.core.values.secret import Secret
from sigillum.reading.document import parse, read_text
from sigillum.reading.models import Section, validate, wrong

from .lines import Answer, Line

ALIKE = 0.9  # so alike are two keys of which one may be misspelt
WORDS = {"yes": True, "true": True, "on": True, "no": False, "false": False, "off": False}


def _yes(value: Any) -> bool:
    """YAML 1.2 reads `no` and `off` as texts; whoever writes them means what they say."""
    found = value if isinstance(value, bool) else WORDS.get(value.strip().lower()) if isinstance(value, str) else None
    if found is None:
        said = repr(value) if value is not None else "nothing"
        raise wrong(
            "answer", f"{said} is neither true nor false", "write true or false, or leave the line out until it is known"
        )
    return found


def _id(value: Any) -> Any:
    return str(value) if isinstance(value, int) and not isinstance(value, bool) else value


def _reference(value: Any) -> Any:
    from sigillum.keeping.references import is_reference

    if not isinstance(value, str) or not is_reference(value):
        raise wrong(
            "secret",
            "a secret is written here itself, instead of a reference to it",
            "write env:NAME or file:PATH, and replace the secret, since it may have been seen",
        )
    return value


Id = Annotated[str, BeforeValidator(_id)]


class AnswerSection(Section):
    """What came back from one line."""

    id: Annotated[Id, Field(description="the id that it has there now")] = ""
    secret: Annotated[str, BeforeValidator(_reference), Field(description="where the secret is kept: env:NAME, file:PATH")] = ""
    whose: Annotated[Id, Field(alias="for", description="beside a secret: the principal id that it is for")] = ""
    answer: Annotated[bool | None, BeforeValidator(_yes), Field(description="true or false: done, or allowed")] = None
    by: Annotated[str, Field(description="who did it, or looked")] = ""

    @model_validator(mode="after")
    def _says_something(self) -> AnswerSection:
        if self.answer is None and not self.id and not self.secret:
            raise wrong(
                "answer-empty", "this answer says nothing", "write `answer: true`, an `id` or a `secret`, or leave it out"
            )
        if self.answer is False and (self.id or self.secret):
            raise wrong("answer-two", "it says no, and what came back", "keep one of them")
        if self.secret and not self.whose:
            raise wrong("answer-whose", "it is not specified whose secret it is", "add `for:` with the principal id")
        return self


class AnswersFile(RootModel[dict[str, AnswerSection]]):
    """The lines of work sheets, each by its key."""

    model_config = ConfigDict(defer_build=True)


class Answers:
    """The answers of one file: they confirm the lines whose keys they name."""

    def __init__(self, path: Path, resolve: Callable[[str], Secret], writer: str) -> None:
        """Raises FileError with every mistake."""
        self._sections = validate(AnswersFile, parse(read_text(path, str(path)), str(path))).root
        self._resolve, self._writer, self._asked = resolve, writer, set[str]()

    def __call__(self, line: Line) -> Answer | None:
        """What was written down of a line. Raises what resolving a reference does."""
        self._asked.add(line.key)
        given = self._sections.get(line.key)
        if given is None:
            return None
        secret = self._resolve(given.secret) if given.secret and line.wants_secret else None
        return Answer(given.by or self._writer, given.id, secret, given.answer, given.whose)

    def unmatched(self) -> list[tuple[str, str]]:
        """The keys about which nothing was asked, and the one that was probably meant."""
        left = [key for key in self._sections if key not in self._asked]
        return [(key, next(iter(get_close_matches(key, self._asked, n=1, cutoff=ALIKE)), "")) for key in left]
