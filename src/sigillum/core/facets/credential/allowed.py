"""Whether a tenant allows a credential: its kind, life, algorithm, narrowing, and what the house's CA answered."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import timedelta
from typing import Any

from sigillum.core.charter.charter import CredentialWant
from sigillum.core.charter.rules import narrower
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.generation import signer
from sigillum.core.facets.quiet import named, quiet
from sigillum.core.facets.seen import Seen
from sigillum.core.kinds.access import ROLE
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.signing import CREDENTIAL, Credential
from sigillum.core.records.history import Generation
from sigillum.core.values.errors import Mistake
from sigillum.core.values.times import format_duration, format_instant, parse_instant

OURS = ("Ed25519", "ES256", "RS256")  # algorithms of keys that are made here


def allowed(seen: Seen, draft: Draft, want: CredentialWant, *, registered: bool) -> bool:
    """Does the tenant allow this credential? Adds the mistakes where it does not."""
    found = [*_limits(seen, want), *_tenant_limits(seen, want, registered=registered)]
    draft.mistakes += [Mistake(code, what, mend, want.position) for code, what, mend in found]
    return not found


def _limits(seen: Seen, want: CredentialWant) -> Iterator[tuple[str, str, str]]:
    charter = seen.charter
    named = [*(g.role for g in charter.grants), *(r.like for r in charter.roles if r.like)]
    roles = [seen.ask(Query(ROLE, "name", n)) for n in named] if want.limits else []
    granted = [p for f in roles for r in f.records for p, _ in r.body.permissions]
    granted += [p for r in charter.roles for p in r.permissions] + [p.scope for p in charter.permissions]
    wide = narrower(want.limits, granted)
    if wide and granted and all(f.known for f in roles) and not charter.member_of:
        yield (
            "limits-wider",
            f"{want.name} is limited to {', '.join(wide)}, which no grant of this charter gives",
            "name permissions of the granted roles only",
        )
    if want.is_a.typed and want.limits:
        yield "limits-password", f"{want.name}: a password cannot be narrowed", "leave `limits` out"
    if want.is_a.lasting and not want.is_a.typed and seen.profile.limits_compulsory and not want.limits:
        yield (
            "limits-missing",
            f"at {seen.tenant} a token must be narrowed, and {want.name} is not",
            "add `limits:` with the permissions that the program uses",
        )


def _tenant_limits(seen: Seen, want: CredentialWant, *, registered: bool) -> Iterator[tuple[str, str, str]]:
    profile, tenant = seen.profile, seen.tenant
    beside = [c for c in seen.charter.credentials if want.kind not in profile.singles or c.kind == want.kind]
    number = beside.index(want)  # told of the first too many
    longest, most, taken = profile.credential_seconds, profile.most(want.kind), profile.credential_kinds
    if longest and want.endless is not None:
        yield (
            "life-tenant",
            f"{want.name} has no end, {tenant} allows {format_duration(longest)}",
            f"write `lasts: {format_duration(longest)}` or less",
        )
    elif longest and want.lasts_seconds > longest:
        yield (
            "life-tenant",
            f"{want.name} lasts {format_duration(want.lasts_seconds)}, {tenant} allows {format_duration(longest)}",
            f"write `lasts: {format_duration(longest)}` or less",
        )
    if most and number == most:
        yield "keys-too-many", f"{tenant} allows {most} credentials a principal", "ask for fewer"
    algorithms = profile.assertion_algorithms
    if want.is_a.signs and algorithms and not _signs(want.algorithm, algorithms):
        yield (
            "algorithm",
            f"{tenant} takes no assertions signed by {want.algorithm}",
            f"write `algorithm:` {' or '.join(a for a in OURS if _signs(a, algorithms)) or 'that it takes; we know none'}",
        )
    if taken and want.kind not in taken:
        yield "credential-kind", f"{tenant} takes no {want.kind}", f"write `kind:` {' or '.join(taken)}"
    yield from _answered(seen, want)
    if want.kind in profile.placed and not want.at:
        yield (
            "credential-place",
            f"{want.name}: at {tenant} every {want.kind} is for one place alone",
            "add `at: PLACE`, a place of its grants",
        )
    if want.at and want.kind not in profile.placed:
        yield "credential-place", f"{want.name}: at {tenant} no {want.kind} is for one place", "leave `at` out"
    if want.kind in profile.made_by_identity and signer(seen.charter.credentials, profile.made_by_identity, want, {}) is None:
        yield (
            "made-by-itself",
            f"{want.name}: at {tenant} an identity makes its {want.kind} itself, and signs in with a password for that",
            "add a credential of the kind password that is kept here",
        )
    if registered and want.limits:
        yield (
            "limits-registered",
            f"{tenant} only registers clients, and narrows no credential of theirs",
            "leave `limits` out",
        )
    if registered and number == 1:
        yield "keys-too-many", f"a client that {tenant} registered has one credential", "ask for one"


def _signs(algorithm: str, taken: tuple[str, ...]) -> bool:
    """`EdDSA` is the older name of what RFC 9864 calls `Ed25519`."""
    return algorithm in taken or (algorithm == "Ed25519" and "EdDSA" in taken)


def _answered(seen: Seen, want: CredentialWant) -> Iterator[tuple[str, str, str]]:
    """What can be said against what the house's CA answered; whether it is for our key shows where the key is."""
    answer, longest = want.answer, seen.profile.credential_seconds
    if answer is None:
        return
    if answer.authority:
        yield "certificate-authority", f"the certificate of {want.name} may sign others", "ask for one that may not"
    if not answer.chained:
        yield (
            "certificate-stranger",
            f"the certificate of {want.name} is signed by {answer.issuer}, not by the house's CA",
            "ask the house's CA, or mend `house_ca` in sigillum.yaml",
        )
    if answer.until <= seen.now:
        yield (
            "certificate-over",
            f"the certificate of {want.name} is over since {format_instant(answer.until)}",
            "ask for another",
        )
    if longest and answer.until - seen.now > timedelta(seconds=longest):
        yield (
            "life-tenant",
            f"the certificate of {want.name} lasts until {format_instant(answer.until)}, {seen.tenant} "
            f"allows {format_duration(longest)}",
            "ask for one that ends earlier",
        )


def as_it_stands(body: Credential) -> dict[str, Any]:
    """The terms of one that was taken over."""
    return {"limits": list(body.limits), "kind": body.type, **({"until": format_instant(body.until)} if body.until else {})}


def changed(want: CredentialWant, record: Record[Credential], terms: Mapping[str, Any]) -> Iterator[str]:
    """What another hand changed of it since it was made: that is told, and no key goes for it."""
    limits, until = tuple(terms.get("limits", ())), terms.get("until")
    if record.denies(limits=limits):
        shown = ", ".join(record.body.limits) or "none"
        yield f"limits of {want.name}: {shown} there, and it was made with {', '.join(limits) or 'none'}"
    if terms.get("at") and record.denies(place=terms["at"]):
        yield f"place of {want.name}: {record.body.place or 'none'} there, and it was made for {terms['at']}"
    if until and want.endless is None and record.denies(until=parse_instant(str(until))):
        shown = format_instant(record.body.until) if record.body.until is not None else "none"
        yield f"end of {want.name}: {shown} there, and it was made to end at {until}"


def kept_here(seen: Seen, draft: Draft, want: CredentialWant, terms: Mapping[str, Any], *, registered: bool) -> None:
    """An end that the tenant does not keep is kept by nobody but us."""
    carried = seen.profile.carried(CREDENTIAL)
    if terms.get("until") and carried is not None and "until" not in carried and not registered:
        draft.note(
            "credential-end-here", f"{seen.tenant} keeps no end of {want.name}: it is swept at {terms['until']}, or stays"
        )


def note_holders(seen: Seen, draft: Draft, want: CredentialWant, made: Generation) -> None:
    """Who has it beside those whom the charter names: consumers that left it, and this workspace."""
    gone = sorted(made.holders - set(want.consumers))
    if gone:
        draft.note(
            "consumer-left",
            f"{' and '.join(gone)} used {want.name} and left the charter: whoever has it can sign in until it is rotated",
        )
    if not want.held_here and seen.held.get((want.name, made.number)):
        draft.note(
            "kept-here", f"{want.name} is kept here, and by the charter its holder keeps it: `keep_in: file` lets it be rotated"
        )


def turning(seen: Seen, want: CredentialWant) -> dict[str, str]:
    """What a rotation comes to, and how long the old one has to be unused before it ends."""
    still = quiet(seen.profile, named(want.consumers, seen.rules), seen.rules.quiet_seconds)
    return {
        "then": "made, tried and given while the old one serves; that ends when it is out of use",
        "quiet": f"{format_duration(still.seconds)} unused: {still.why}",
    }
