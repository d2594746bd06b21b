"""Whose a use of a credential was: another's, ours, or perhaps ours. A tenant tells the last use, and never who.

Read by the stages of a rotation, each in its own way (`perhaps` is neither yes nor no):

- of the old one, perhaps is a use, by nobody's name: it has to be unused for as long again;
- of the new one, perhaps holds nothing back and names nobody: somebody uses it, once it was given.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import NamedTuple

from sigillum.core.kinds.kind import Record
from sigillum.core.kinds.profile import Profile
from sigillum.core.kinds.signing import Credential

DAY = "day"  # how exactly a tenant tells: no more than on which day


class OwnUse(NamedTuple):
    """A use of ours as the ledger has it. Not `closed`: it was interrupted, so it may have ended at any time until then."""

    start: datetime
    until: datetime
    closed: bool = True


class Doubt(NamedTuple):
    """When somebody else used it last. `ours_perhaps`: it may have been an interrupted use of our own.

    `at` None: no use by others is shown.
    """

    at: datetime | None = None
    ours_perhaps: bool = False


def tells(profile: Profile) -> bool:
    """Does the tenant tell when a credential was used?"""
    return profile.last_used in ("second", "day")


def used_by_others(own: Iterable[OwnUse], record: Record[Credential] | None, last_used: str) -> Doubt:
    """Whose the last use was. Within the tenant's grain a use of ours and another's cannot be distinguished, and is ours."""
    used = record.body.used_at if record is not None else None
    if used is None:
        return Doubt()
    grain = timedelta(days=1 if last_used == DAY else 0, seconds=1)
    found = [o for o in own if o.start - grain <= used <= o.until + grain]
    if any(o.closed for o in found):
        return Doubt()
    return Doubt(used, bool(found))
