"""What the house and the kind of identity say to credentials."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules, unknown_tenant
from sigillum.core.facets.quiet import Quiet, named, silence
from sigillum.core.values.errors import Mistake
from sigillum.core.values.times import format_duration


def check(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    """What the house and the kind of identity say to its credentials."""
    longest = rules.longest_credential_seconds
    for want in charter.credentials:
        store = want.keep_in.removeprefix("store:").partition("/")[0] if want.keep_in.startswith("store:") else ""
        if store:
            yield from unknown_tenant(store, tenants, want.position)
        if store and any(c.keep_in == want.keep_in for c in charter.credentials if c is not want):
            yield Mistake(
                "keep-in-twice",
                f"{want.keep_in} is the place of two credentials",
                "give each a place of its own",
                want.position,
            )
        if want.endless is None and want.lasts_seconds > longest:
            yield Mistake(
                "life-house",
                f"{want.name} lasts {format_duration(want.lasts_seconds)}, the house allows {format_duration(longest)}",
                f"write `lasts: {format_duration(longest)}` or less",
                want.position,
            )
        longest_silence = max((silence(c, rules.quiet_seconds) for c in named(want.consumers, rules)), default=Quiet(0, ""))
        if want.endless is None and longest_silence.seconds >= want.renew_before_seconds * 3 / 4:
            yield Mistake(
                "quiet-long",
                f"{want.name} is renewed {format_duration(want.renew_before_seconds)} before its end, and the old one has to "
                f"be unused for {format_duration(longest_silence.seconds)} in three quarters of that: {longest_silence.why}",
                f"write `renew_before: {-(-longest_silence.seconds * 4 // 3 // 3600) + 1}h` or more, or describe the consumer",
                want.position,
            )
        if not (want.is_a.clients if charter.is_client else want.is_a.accounts):
            why, mend = want.is_a.not_theirs
            code = "not-client" if charter.is_client else "client-only"
            yield Mistake(code, f"{want.name}: {why}", mend, want.position)
        if charter.is_client and not charter.identity.confidential:
            yield Mistake(
                "public-client",
                f"{want.name}: a client that can keep no secret has no credential",
                "leave `credentials` out, or `confidential: false`",
                want.position,
            )
