"""What one request of a file needs of another: a value that the tenant will choose once that one is carried out."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple


class Result(NamedTuple):
    """The value `field` of what the request of this number makes; `id` is its id."""

    number: int
    field: str

    def __str__(self) -> str:
        return f"the {self.field.replace('_', ' ')} of what request {self.number} makes"

    def written(self) -> dict[str, Any]:
        """As it stands in a file, in the place of the value."""
        return {"request": self.number, "field": self.field}


def result(value: Any) -> Result | None:
    """The result that a value of a file stands for; None where it stands for itself."""
    if not isinstance(value, Mapping) or value.keys() != {"request", "field"}:
        return None
    number, field = value["request"], value["field"]
    return Result(number, field) if type(number) is int and isinstance(field, str) else None


def results_in(value: Any) -> Iterator[tuple[str, Result]]:
    """Every result that these values need, and under which name."""
    for name, held in value.items():
        for one in held if isinstance(held, (list, tuple)) else [held]:
            if (found := result(one)) is not None:
                yield name, found


def filled(value: Any, known: Mapping[int, Mapping[str, Any]]) -> Any:
    """With every result that is known in the place where it is needed."""
    if (found := result(value)) is not None:
        return known.get(found.number, {}).get(found.field) or value
    if isinstance(value, Mapping):
        return {n: filled(v, known) for n, v in value.items()}
    return [filled(v, known) for v in value] if isinstance(value, (list, tuple)) else value
