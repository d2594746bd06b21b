"""Durations, instants and windows. One edge rule everywhere: a window is half-open, [from, until)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

_SHORT = re.compile(r"([0-9]{1,6})([smhdw])\Z")
_ISO = re.compile(r"P(?:(\d{1,6})W|(?:(\d{1,6})D)?(?:T(?=\d)(?:(\d{1,6})H)?(?:(\d{1,6})M)?(?:(\d{1,7})S)?)?)\Z", re.ASCII)
INSTANT = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.\d{1,6})?)?(Z|[+-]\d\d:\d\d)\Z", re.I | re.ASCII)
DURATION = rf"(?:{_SHORT.pattern}|(?=P.){_ISO.pattern})"  # one or the other, to be matched as a whole
UNIT_SECONDS = {"s": 1, "m": 60, "h": 3600, "d": 86_400, "w": 604_800}
LONGEST_SECONDS = 100 * 365 * 86_400
LONGEST_BUSY_SECONDS, SHORTEST_PAUSE_SECONDS = 300.0, 0.05  # of one that is busy


def parse_duration(text: str) -> int:
    """Seconds of `10m`, `8h`, `90d`, `2w` or ISO 8601 `P90D`, `PT10M`.

    Months and years have no fixed length and are not taken. Raises ValueError.
    """
    short = _SHORT.match(text)
    if short:
        seconds = int(short[1]) * UNIT_SECONDS[short[2]]
    else:
        iso = _ISO.match(text)
        if not iso or not any(iso.groups()):
            raise ValueError(f"{text!r} is not a duration")
        weeks, days, hours, minutes, rest = (int(part or 0) for part in iso.groups())
        seconds = weeks * 604_800 + days * 86_400 + hours * 3600 + minutes * 60 + rest
    if not 0 < seconds <= LONGEST_SECONDS:
        raise ValueError(f"{text!r} is not between one second and a hundred years")
    return seconds


def format_duration(seconds: int) -> str:
    """The shortest way to write whole seconds that `parse_duration` reads back: 5400 is `90m`."""
    for unit in ("d", "h", "m"):
        if seconds and seconds % UNIT_SECONDS[unit] == 0:
            return f"{seconds // UNIT_SECONDS[unit]}{unit}"
    return f"{seconds}s"


def rough_duration(seconds: float) -> str:
    """For reading: the two largest units, `89d 23h`, `4m 10s`."""
    left, parts = int(abs(seconds)), list[str]()
    for unit in ("d", "h", "m", "s"):
        count, left = divmod(left, UNIT_SECONDS[unit])
        if count or (unit == "s" and not parts):
            parts.append(f"{count}{unit}")
    return " ".join(parts[:2])


def parse_instant(text: str) -> datetime:
    """An RFC 3339 instant with an offset, as aware UTC. Raises ValueError."""
    if not INSTANT.match(text):
        raise ValueError(f"{text!r} is not an instant with an offset")
    return datetime.fromisoformat(text.upper().replace("Z", "+00:00")).astimezone(UTC)


def format_instant(moment: datetime) -> str:
    """RFC 3339 in UTC; a fraction only where there is one."""
    return moment.astimezone(UTC).isoformat().replace("+00:00", "Z")


def format_edge(moment: datetime) -> str:
    """For reading: the first whole second at which something that begins at `moment` holds."""
    return format_instant(moment if not moment.microsecond else moment.replace(microsecond=0) + timedelta(seconds=1))


def within_grain(until: datetime, grain_seconds: int) -> datetime:
    """The last end that a tenant can have and that is not later, where ends fall onto whole ones of so many seconds."""
    return until - timedelta(seconds=int(until.timestamp()) % grain_seconds)


def whole_second(moment: datetime) -> datetime:
    """`moment` without its fraction of a second."""
    return moment.replace(microsecond=0)


@dataclass(frozen=True, slots=True)
class Window:
    """A half-open time interval [start, until) in UTC; None means without beginning or end.

    Raises ValueError where an end is naive or does not lie after the start.
    """

    start: datetime | None = None
    until: datetime | None = None

    def __post_init__(self) -> None:
        for edge in (self.start, self.until):
            if edge is not None and edge.tzinfo is None:
                raise ValueError("a window needs aware instants")
        if self.start is not None and self.until is not None and self.start >= self.until:
            raise ValueError("a window must end after it begins")

    def state(self, now: datetime) -> str:
        """`waiting`, `in-force` or `ended` at `now`; at the second of `until` it has ended."""
        if self.start is not None and now < self.start:
            return "waiting"
        return "ended" if self.until is not None and now >= self.until else "in-force"


class ClockReading(NamedTuple):
    """How far a tenant's clock is from this machine's: it lies between `low` and `high` (seconds)."""

    low: float
    high: float

    @classmethod
    def of(cls, date: datetime, sent_at: datetime, received_at: datetime) -> ClockReading:
        """From an answer's `Date` (whole seconds, RFC 9110 §6.6.1) and the round trip around it."""
        return cls((date - received_at).total_seconds(), (date - sent_at).total_seconds() + 1.0)

    def narrowed(self, other: ClockReading) -> ClockReading:
        """Both readings together; a clock that was moved in between makes the newer one count."""
        low, high = max(self.low, other.low), min(self.high, other.high)
        return ClockReading(low, high) if low <= high else other

    @property
    def shift(self) -> timedelta:
        """What to add to this machine's time; none where the clocks may well agree."""
        if self.low <= 0.0 <= self.high:
            return timedelta(0)
        return timedelta(seconds=(self.low + self.high) / 2)

    @property
    def skew_seconds(self) -> float:
        """The least difference that the reading proves, with its sign."""
        return max(0.0, self.low) or min(0.0, self.high)


@dataclass(slots=True)
class Waits:
    """How long one that is busy is waited for: so many seconds in all, or once for as long as it says itself."""

    left_seconds: float
    waited_seconds: float = 0.0

    def next(self, said: float | None, usual: float) -> float | None:
        """The next pause in seconds: what it `said`, else the usual one; None where it was waited for long enough."""
        most = self.left_seconds
        if not self.waited_seconds:
            most = max(most, min(said or 0.0, LONGEST_BUSY_SECONDS))
        if most <= 0:
            return None
        pause = min(usual if said is None else said, most)
        counted = max(pause, SHORTEST_PAUSE_SECONDS)
        self.left_seconds, self.waited_seconds = self.left_seconds - counted, self.waited_seconds + counted
        return pause
