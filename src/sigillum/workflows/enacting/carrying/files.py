"""What stands beside a key or secret: everything that its consumer needs, written before the credential proves anything."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.steps import Step
from sigillum.core.values.times import format_instant

from .work import Work

ABOUT = ("principal_id", "client_id", "account")  # what comes from the charter


def complete(work: Work, step: Step, about: Mapping[str, Any], identity: str) -> None:
    """Complete the file of a credential, where there is one."""
    name = step.mark.get("name")
    if not work.keeping.path(name, step.generation).exists():
        return
    until = about.get("until") or next((work.yields[n]["until"] for n in step.needs if "until" in work.yields.get(n, {})), None)
    if until is None:  # made by an earlier run, or without an end
        record = work.tenant.read(CREDENTIAL, identity)
        until = record.body.until if record is not None else None
    work.keeping.complete(
        name,
        step.generation,
        {
            "tenant": step.tenant,
            "credential_id": identity,
            **{n: work.value(about[n]) for n in ABOUT if about.get(n)},
            "ends": format_instant(until) if isinstance(until, datetime) else None,
            "token_endpoint": work.tenant.token_endpoint,
        },
    )
