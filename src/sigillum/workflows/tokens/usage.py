"""What a token opens: used or asked with, and ended before its time."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import NamedTuple

from sigillum.core.deciding.proofs import Trial
from sigillum.core.federation.assertions import NoTokenError, TokenFault, look, read
from sigillum.core.values.errors import SigillumError, UsageError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import CLASSES, did_you_mean, plain
from sigillum.tenants.port import Revoking, SignedIn, now_at
from sigillum.workflows.desk.office import Office

PRESENTED = re.compile(r"[A-Za-z0-9._~+/-]+=*")  # what stands behind Bearer (RFC 6750 §2.1)


class Used(NamedTuple):
    """What became of a token that was used: the tenant's answer; what is wrong with the token, or why the right is missing."""

    trial: Trial
    tried: bool
    subject: str
    findings: tuple[TokenFault, ...] = ()
    cause: str = ""
    scopes: tuple[str, ...] = ()  # to which the token is narrowed, without what was asked for


def _presentable(text: str, where: str) -> str:
    """A token as it is presented. Raises NoTokenError."""
    token = text.strip()
    if not PRESENTED.fullmatch(token):
        raise NoTokenError("this is no token that could be presented", where=where, mend="give the token, whole and alone")
    return token


def use(office: Office, text: str, tenant_name: str, permission: str, place: str) -> Used:
    """Use a token where looking is all that it does, else ask with it. 401 and 403 are two answers: the token is none, or the
    right is missing (RFC 6750 §3.1). Raises UsageError, RefusedError.
    """
    tenant, token = office.tenants.reach(tenant_name), _presentable(text, "token try")
    if not isinstance(tenant, Revoking):
        raise UsageError(
            f"no access token is presented at {tenant_name}: its driver knows no such thing",
            where="token try",
            mend="`sigillum explain` says what somebody may there, and why",
        )
    operation = tenant.profile.operations.get(permission)
    if operation is None:
        raise UsageError(
            f"{tenant_name} has no permission {permission!r}",
            where="token try",
            mend=did_you_mean(permission, tenant.profile.operations) or "`sigillum tenant inspect` lists them",
        )
    claims = read(token).claims if token.count(".") == 2 else {}
    subject, scopes = str(claims.get("sub") or ""), str(claims.get("scope") or "").split()
    signed_in = SignedIn(Secret(token), subject, "a token that was given")
    looks = operation.class_ == CLASSES[0] and bool(operation.template)
    taken = None if looks else tenant.taken(signed_in)
    if taken is False:
        trial = Trial(False, "it is not taken", unauthenticated=True)
    else:
        trial = tenant.attempt(signed_in, operation, place) if looks else tenant.ask(signed_in, permission, place)
    if trial.allowed is not False:
        return Used(trial, looks, subject)
    if trial.unauthenticated:
        now = now_at(tenant, datetime.now(UTC))
        return Used(trial, looks, subject, tuple(f for f in look(read(token), now) if f.refuse) if claims else ())
    narrowed = tuple(plain(s) for s in scopes if s in tenant.profile.operations)
    if narrowed and permission not in narrowed:
        return Used(trial, looks, subject, cause="scope", scopes=narrowed)
    return Used(trial, looks, subject, cause=_why(office, subject, tenant_name, permission, place) if subject else "")


def _why(office: Office, subject: str, tenant: str, permission: str, place: str) -> str:
    """The cause of a refusal, as `explain` names it."""
    from sigillum.workflows.surveying.explain import Wish
    from sigillum.workflows.surveying.explain import run as explain

    try:
        decision = explain(office, Wish(subject, (permission,), (place,), tenant=tenant))[0].explanation.decision
    except SigillumError:
        return ""
    return str(decision.cause) if decision.allowed is False else ""


class Ended(NamedTuple):
    """What became of a token: was it taken before, and is it now? None: there is nothing to ask."""

    before: bool | None
    after: bool | None


def end(office: Office, text: str, tenant_name: str) -> Ended:
    """Have a token ended, and see by a call that it is refused (RFC 7009 §2.2). Raises UsageError, RefusedError."""
    tenant, token = office.tenants.reach(tenant_name), _presentable(text, "token end")
    if not isinstance(tenant, Revoking):
        raise UsageError(
            f"no token is ended at {tenant_name}: its driver knows no way",
            where="token end",
            mend="end or suspend what it was got with",
        )
    subject = str(read(token).claims.get("sub") or "") if token.count(".") == 2 else ""
    signed_in = SignedIn(Secret(token), subject, "a token that was given")
    before = tenant.taken(signed_in)
    tenant.revoke(Secret(token))
    return Ended(before, tenant.taken(signed_in))
