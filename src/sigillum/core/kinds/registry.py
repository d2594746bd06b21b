"""All kinds, by their names."""

from __future__ import annotations

from typing import Any

from .access import API, CONSENT, GRANT, PLACE, ROLE
from .delegating import DELEGATION
from .identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM
from .kind import Kind
from .machines import MACHINE
from .signing import CREDENTIAL, LICENCE, RULE
from .trusting import TRUST
from .workloads import GROUP, LOCAL, WORKLOAD

KINDS: dict[str, Kind[Any]] = {
    k.name: k
    for k in (
        ACCOUNT,
        TEAM,
        CLIENT,
        PRINCIPAL,
        PLACE,
        ROLE,
        GRANT,
        CREDENTIAL,
        API,
        CONSENT,
        RULE,
        LICENCE,
        TRUST,
        DELEGATION,
        LOCAL,
        WORKLOAD,
        GROUP,
        MACHINE,
    )
}
