"""Deciding what a client does through an API: requested, consented, in this way of acting, for this place, for this person."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any, Protocol

from sigillum.core.charter.charter import ALONE, ON_BEHALF
from sigillum.core.deciding.refusals import Cause
from sigillum.core.deciding.values import ALWAYS, Asks, Consent, Decision, Hidden, KnownPrincipal, Question
from sigillum.core.kinds.profile import Operation


class Known(Protocol):
    """What has to be known of a tenant: the world that decides everything else."""

    principals: dict[str, KnownPrincipal]
    asks: dict[str, Asks]
    consents: dict[str, list[Consent]]
    felt: timedelta

    def decide(self, question: Question) -> Decision[Any]:
        """The verdict on a question without a client."""
        ...

    def blind(self, *keys: Hidden) -> tuple[str, ...]:
        """Which of these facts are not known, in words."""
        ...


def through_api(world: Known, question: Question, rule: Operation) -> Decision[Any]:
    """The verdict for a client, with its first cause. For a person it is never more than that person may."""

    def no(cause: Cause, what: str, of: str = question.principal) -> Decision[Any]:
        hidden = world.blind(Hidden(what, of))
        return Decision(None, Cause.FACTS_UNKNOWN, hidden=hidden) if hidden else Decision(False, cause)

    acts = ON_BEHALF if question.person else ALONE
    asks = world.asks.get(question.principal)
    requested = asks.requests if asks is not None else frozenset[tuple[str, str, str]]()
    if (rule.api, question.permission, acts) not in requested:
        other = any(s == question.permission for _, s, _ in requested)
        return no(Cause.WAY_DIFFERS if other else Cause.NOT_REQUESTED, "asks")
    own = [c for c in world.consents.get(question.principal, ()) if c.scope == question.permission]
    mine = [c for c in own if c.acts == acts]
    if not mine:
        return no(Cause.WAY_DIFFERS if own else Cause.NOT_CONSENTED, "consents")
    here = [c for c in mine if not c.only or question.place in c.only]
    if not here:
        return no(Cause.CONSENT_NARROWER, "consents")
    if not any(felt_from(c, world.felt) <= question.at for c in here):
        return no(Cause.NOT_FELT, "consents")
    if not question.person:
        return Decision(True, Cause.ALLOWED)
    if question.person not in world.principals:
        return no(Cause.PERSON_UNKNOWN, "principal", question.person)
    their = world.decide(question._replace(principal=question.person, person="", credential=""))
    if their.allowed is None:
        return their
    return Decision(True, Cause.ALLOWED, their.by) if their.allowed else Decision(False, Cause.PERSON_LACKS, needed=their)


def felt_from(consent: Consent, felt: timedelta) -> datetime:
    """From when decisions follow a consent."""
    return consent.made + felt if consent.made is not None else ALWAYS
