"""The sandbox's own clock: exact, and it can be moved, set or frozen."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta


class Clock:
    """Time as the simulated tenants see it (aware, UTC)."""

    def __init__(self) -> None:
        self._shift = timedelta(0)
        self._frozen: datetime | None = None

    def now(self) -> datetime:
        return self._frozen if self._frozen is not None else datetime.now(UTC) + self._shift

    def move(self, seconds: float) -> None:
        """Move by `seconds` (negative: back); a frozen clock stays frozen at its new time."""
        step = timedelta(seconds=seconds)
        self._shift += step
        if self._frozen is not None:
            self._frozen += step

    def set(self, moment: datetime) -> None:
        self._shift = moment - datetime.now(UTC)
        if self._frozen is not None:
            self._frozen = moment

    def freeze(self, frozen: bool, at: datetime | None = None) -> None:
        """Stop the clock, at a given moment if one is named; or let it run on from where it stands."""
        if frozen:
            self._frozen = at or self.now()
        elif self._frozen is not None:
            self._shift = self._frozen - datetime.now(UTC)
            self._frozen = None

    def kept(self) -> dict[str, str | float]:
        """How it stands, for a file."""
        return {"shift_seconds": self._shift.total_seconds(), "frozen": stamp(self._frozen) if self._frozen is not None else ""}

    def take(self, kept: dict[str, str | float]) -> None:
        """Stand as it was kept."""
        self._shift = timedelta(seconds=float(kept["shift_seconds"]))
        self._frozen = moment_of(str(kept["frozen"])) if kept["frozen"] else None

    @property
    def frozen(self) -> bool:
        return self._frozen is not None


def stamp(moment: datetime) -> str:
    """RFC 3339 in UTC, to the microsecond only where it has any."""
    return moment.astimezone(UTC).isoformat().replace("+00:00", "Z")


def moment_of(text: str) -> datetime:
    """Read an RFC 3339 instant. Raises ValueError where it has no offset."""
    value = datetime.fromisoformat(text.replace("Z", "+00:00"))
    if value.tzinfo is None:
        raise ValueError("an instant needs an offset")
    return value.astimezone(UTC)
