"""The ways in of an identity that was stopped, tried once more: by what its tenant says to each."""

from __future__ import annotations

from typing import Any, NamedTuple

from sigillum.core.deciding.proofs import Trial, Verdict
from sigillum.core.values.errors import RefusedError
from sigillum.tenants.port import SignedIn, Tenant


class Way(NamedTuple):
    """One way in, after it was switched off: is it refused? None: that could not be shown."""

    what: str
    verdict: Verdict
    said: str

    @classmethod
    def tried(cls, what: str, tenant_takes: bool | None, said: str) -> Way:
        """By what its tenant said to it in this run; None: nobody can be asked, or it was not tried."""
        return cls(what, Verdict.by(Trial(tenant_takes, said), wanted=False), said)

    @property
    def refused(self) -> bool | None:
        return self.verdict.known

    def body(self) -> dict[str, Any]:
        return {"way": self.what, "refused": self.refused, "said": self.said}


def again(tenant: Tenant, what: str, proof: Any) -> Way:
    """Sign in once more with what was let in a moment ago."""
    try:
        taken = tenant.taken(tenant.sign_in(proof))
    except RefusedError as problem:
        return Way.tried(what, False, problem.what)
    return Way.tried(what, taken, {False: "refused", True: "it was let in", None: "nobody can be asked"}[taken])


def old_token(tenant: Tenant, name: str, token: SignedIn) -> Way:
    taken = tenant.taken(token)
    life = tenant.profile.token_seconds
    lives = f"such tokens live {life} s" if life else "the tenant does not say how long such tokens live"
    return Way.tried(
        f"a token that {name} got before",
        taken,
        "nobody can be asked" if taken is None else f"it is still taken; {lives}" if taken else "refused",
    )
