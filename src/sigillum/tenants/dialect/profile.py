"""What a dialect says of its tenant, as a profile."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from sigillum.core.kinds.access import GRANT, PLACE, ROLE
from sigillum.core.kinds.profile import ONCE, Operation, Profile
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.tenants.port import Address

from .call_model import MakeSection
from .fields import carried, shown_by
from .model import DialectFile
from .values import needs

SAID = "as its dialect says"  # where its decisions are asked for, and its permissions tried


def _kinds(given: list[MakeSection], all_: Sequence[str], which: Callable[[MakeSection], bool]) -> frozenset[str]:
    """The kinds of credential that calls like these make."""
    return frozenset(k for m in given if which(m) for k in ([str(m.when["type"])] if "type" in m.when else all_))


def _for_one_place(make: MakeSection) -> bool:
    """Does a call make a credential that is for one place alone, where credentials show one?"""
    return bool(needs(make) & {"place", "place_id"}) or make.by == "identity"


def profile_of(dialect: DialectFile, address: Address) -> Profile:
    """What a dialect says of its tenant, as a profile."""
    says, tried = dialect.says, any(p.try_ is not None for p in dialect.permissions.values())
    things = {KINDS[n]: s for n, s in dialect.things.items()}
    carries = {k.name: carried(s, k) for k, s in things.items()}
    if dialect.roles:
        carries[ROLE.name] = carries.get(ROLE.name, frozenset()) | {"name", "display", "permissions", "grantable_at"}
    if dialect.places:
        carries[PLACE.name] = carries.get(PLACE.name, frozenset()) | {"path", "type", "test"}
    given = things[CREDENTIAL].make if CREDENTIAL in things else []
    unmarked = frozenset(k.name for k, s in things.items() if "mark" not in shown_by(s) and (s.make or s.document))
    looked_up = [
        k.name for k, s in things.items() if s.all is not None or s.one is not None or s.document is not None or "id" in s.find
    ]
    return Profile(
        name=address.name,
        title=says.title or dialect.about,
        stage=says.stage,
        decisions=SAID if dialect.decides is not None else "",
        work=SAID if tried else "",
        external_id_unique=says.marks_unique or None,
        mark_form=(says.mark.alphabet, says.mark.length) if says.mark is not None else None,
        names_within_area=says.names_unique == "area",
        grant_grain=says.grant_grain,
        born_inactive=says.born_inactive,
        made_by_identity=_kinds(given, says.kinds, lambda m: m.by == "identity"),
        placed=_kinds(given, says.kinds, _for_one_place) if "place" in carries.get(CREDENTIAL.name, ()) else frozenset(),
        limits_compulsory=says.limits == "roles",
        secret_delivery=ONCE,
        last_used=says.last_used or "",
        accounts_live_in=says.accounts_live_in or "",
        token_seconds=says.tokens_live,
        keys_per_principal=says.credentials,
        ended_count=says.ended_count,
        replaces=any(m.replaces for m in given),
        repeated_keys=says.repeated_keys,
        credential_grain=says.credential_grain,
        credential_seconds=says.credentials_live,
        arrival_seconds=says.arrival if isinstance(says.arrival, int) else 0 if says.arrival == "at-once" else None,
        credential_kinds=tuple(says.kinds),
        administrator=address.admin,
        carries=carries,
        tokens_die_with=frozenset(says.tokens_die_with),
        grants_reach=says.grants_reach,
        reach_chosen="reach" in carries.get(GRANT.name, ()),
        all_roles=ROLE in things and "permissions" in things[ROLE].shows,
        unmarked=unmarked,
        unshown=frozenset(k.name for k, s in things.items() if s.end) - frozenset(looked_up),
        late_seconds={k.name: s.document.late for k, s in things.items() if s.document is not None and s.document.late},
        levels=GRANT.name in dialect.things and dialect.things[GRANT.name].level,
        assertion_algorithms=tuple(says.assertion_algorithms),
        store=SAID if dialect.store is not None else "",
        operations={
            n: Operation(n, p.class_, p.try_.method.upper() if p.try_ else "", p.try_.address if p.try_ else "", at=tuple(p.at))
            for n, p in dialect.permissions.items()
        },
    )
