"""What a rotation that cannot go on says: before its deadline, after it, and when the old one came to its own end."""

from __future__ import annotations

from datetime import datetime

from sigillum.core.kinds.kind import Record
from sigillum.core.kinds.signing import Credential
from sigillum.core.values.times import format_instant, parse_instant, rough_duration

from .consuming import known, missing
from .rotation import Around, Asked, Rotation
from .undertaking import Next

BY_ITSELF = "the old one came to its own end"


def closed_how(rotation: Rotation, around: Around) -> str:
    """How it is over: where the old one came to its own end, who was not known to have the new one."""
    until, unknown = str(rotation.old.terms.get("until") or ""), missing(known(around.consumers, rotation.told))
    by_itself = until and rotation.ended_at is not None and rotation.ended_at >= parse_instant(until) and not rotation.exposed
    return f"{BY_ITSELF}, {unknown}" if by_itself and unknown else "done"


def late(
    rotation: Rotation, around: Around, record: Record[Credential] | None, now: datetime, what: str, code: str = ""
) -> Next:
    """What is waited for, and who is not known to have it. From the deadline on somebody has to act: it is said who uses the
    old one, since when, and what the tenant will do.
    """
    unknown = "" if Asked.WORD in rotation.staged else missing(known(around.consumers, rotation.told))
    what = f"{what}; {unknown}" if unknown else what
    used, until = (record.body.used_at, record.body.until) if record is not None else (None, None)
    if now < rotation.deadline:
        return Next(waits=what, early=code not in ("owed", "back"), code=code)
    last = (
        f"it was used last at {format_instant(used)}"
        + (f" from {record.body.used_from}" if record and record.body.used_from else "")
        if used is not None
        else "no use of it is shown"
    )
    then = (
        f"; {rotation.tenant} refuses it from {format_instant(until)}, in {rough_duration((until - now).total_seconds())}"
        if until is not None
        else ""
    )
    over = f"The deadline was {format_instant(rotation.deadline)}, and the old one is not ended: {last}{then}"
    return Next(waits=f"{what}. {over}", code="late")
