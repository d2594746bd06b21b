"""The closed list of causes for a refusal: code, what it means, and what mends it. docs/refusals.md is made from it."""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple


class Cause(StrEnum):
    """Why a decision falls as it does; the order of the members is the order in which they are named."""

    ALLOWED = "allowed"
    FACTS_UNKNOWN = "facts-unknown"
    PRINCIPAL_UNKNOWN = "principal-unknown"
    SUSPENDED = "suspended"
    PRINCIPAL_OFF = "principal-off"
    PRINCIPAL_UNFINISHED = "principal-unfinished"
    SIGN_IN_REFUSED = "sign-in-refused"
    PLACE_UNKNOWN = "place-unknown"
    PLACE_NOT_FELT = "place-not-felt"
    MEANS_NOTHING = "means-nothing"
    CREDENTIAL_UNKNOWN = "credential-unknown"
    CREDENTIAL_INACTIVE = "credential-inactive"
    CREDENTIAL_WAITING = "credential-waiting"
    CREDENTIAL_ENDED = "credential-ended"
    SERVICE_OFF = "service-off"
    SERVICE_NOT_FELT = "service-not-felt"
    LOCATION_DIFFERS = "location-differs"
    LICENCE_MISSING = "licence-missing"
    NOT_REQUESTED = "not-requested"
    WAY_DIFFERS = "way-differs"
    NOT_CONSENTED = "not-consented"
    CONSENT_NARROWER = "consent-narrower"
    NO_DELEGATE = "no-delegate"
    SCOPE_NOT_DELEGATED = "scope-not-delegated"
    PERSON_OUTSIDE = "person-outside"
    PERSON_UNKNOWN = "person-unknown"
    PERSON_LACKS = "person-lacks"
    HALF_MISSING = "half-missing"
    RUNS_OTHERWISE = "runs-otherwise"
    SIGN_IN_KIND = "sign-in-kind"
    LIMITS_NARROWER = "limits-narrower"
    GRANT_UNFINISHED = "grant-unfinished"
    NOT_FELT = "not-felt"
    WINDOW_WAITING = "window-waiting"
    WINDOW_ENDED = "window-ended"
    LABEL_DIFFERS = "label-differs"
    REACH_ELSEWHERE = "reach-elsewhere"
    PLACE_ELSEWHERE = "place-elsewhere"
    ROLE_LACKS = "role-lacks"
    PERMISSION_UNKNOWN = "permission-unknown"
    NOTHING_GRANTED = "nothing-granted"
    RIGHT_MISSING = "right-missing"


class Shows(StrEnum):
    """What a refusal for a cause alone is worth."""

    RIGHT = "right"
    KEY = "key"
    BEGIN = "begin"
    EARLY = "early"  # time alone brings the answer
    SILENT = "silent"  # what is not known shows nothing, however surely it is refused
    OTHERWISE = "otherwise"  # something else was in the way


class Mends(StrEnum):
    """What sort of change mends a cause, where it is one of several alike."""

    OWN = "own"
    WAIT = "wait"
    GRANT = "grant"
    CONSENT = "consent"
    NAME = "name"  # another name, as `asked` says


class About(NamedTuple):
    """What a cause means, and the step that mends it; what a refusal for it shows, and how it is mended here.

    `before`: it stands in the way whatever is granted; `asked`: what to ask instead.
    """

    meaning: str
    mend: str
    shows: Shows = Shows.RIGHT
    mends: Mends = Mends.OWN
    before: bool = False
    asked: str = ""


ABOUT: dict[Cause, About] = {
    Cause.FACTS_UNKNOWN: About(
        "What decides is not shown to the administrator who asks, so neither yes nor no can be said.",
        "Ask with an administrator who may look.",
        shows=Shows.OTHERWISE,
        before=True,
    ),
    Cause.PRINCIPAL_UNKNOWN: About(
        "The tenant knows no principal of that identifier.",
        "Use the principal id or the name as the tenant has it.",
        shows=Shows.SILENT,
        mends=Mends.NAME,
        asked="name the principal by its principal id, or by its name as the tenant has it",
    ),
    Cause.SUSPENDED: About(
        "This workspace suspended the identity, for a reason and perhaps until a time that it wrote down.",
        "Reinstate it, or wait until `sweep` does at its time.",
        shows=Shows.OTHERWISE,
        before=True,
    ),
    Cause.PRINCIPAL_OFF: About(
        "The account or team stands there, and is switched off.", "Switch it on again.", shows=Shows.OTHERWISE, before=True
    ),
    Cause.PRINCIPAL_UNFINISHED: About(
        "The tenant accepted the account and is still making it, or failed to.",
        "Wait until it is ready; a failed one is ended and made anew by `enact`.",
        shows=Shows.EARLY,
        before=True,
    ),
    Cause.SIGN_IN_REFUSED: About(
        "A sign-in rule does not let the account in unattended, or not from there.",
        "Narrow the rule, or be exempt from it: `sign_in:` in the charter.",
        shows=Shows.OTHERWISE,
    ),
    Cause.PLACE_UNKNOWN: About(
        "The tenant's tree has no such place.",
        "Use a path that is there.",
        shows=Shows.SILENT,
        mends=Mends.NAME,
        asked="name a place that is there: {q.place} is not; or, if it was made a moment ago, look again: only that "
        "tells a wrong name from a late one",
    ),
    Cause.PLACE_NOT_FELT: About(
        "The place was made a moment ago, and decisions do not know it yet; the tenant says the same of a wrong one.",
        "Wait until the change is felt.",
        shows=Shows.EARLY,
        mends=Mends.WAIT,
    ),
    Cause.MEANS_NOTHING: About(
        "The permission means something at other kinds of place than this one.",
        "Ask for a place of a kind for which the tenant has the permission.",
        shows=Shows.SILENT,
        mends=Mends.NAME,
        before=True,
        asked="name a place of a kind at which {q.permission} means something; the explanation names them",
    ),
    Cause.SERVICE_OFF: About(
        "The service behind the permission is switched on neither there nor above.",
        "Switch it on: `services:` in a charter.",
        shows=Shows.OTHERWISE,
        before=True,
    ),
    Cause.SERVICE_NOT_FELT: About(
        "The service was switched on a moment ago.",
        "Wait until the change is felt.",
        shows=Shows.EARLY,
        mends=Mends.WAIT,
        before=True,
    ),
    Cause.LOCATION_DIFFERS: About(
        "The program runs in another location than the place lies in.",
        "Run it where the place lies and say so in `identity: location`.",
        shows=Shows.OTHERWISE,
        before=True,
    ),
    Cause.LICENCE_MISSING: About(
        "The permission needs a licence that the account does not hold.",
        "Give it one: `licence:` in the charter.",
        shows=Shows.OTHERWISE,
    ),
    Cause.NOT_REQUESTED: About(
        "The client's registration does not ask for this scope, so nobody can consent to it.",
        "Name it in the charter's `permissions:` and enact.",
        shows=Shows.OTHERWISE,
        mends=Mends.CONSENT,
    ),
    Cause.WAY_DIFFERS: About(
        "The scope is there for the other way of acting: on behalf of people, or alone.",
        "Change `acts:` in the charter, or use the client the way it was consented.",
        mends=Mends.CONSENT,
    ),
    Cause.NOT_CONSENTED: About(
        "The client asks for the scope, and no administrator has consented yet.",
        "Somebody with the power `consents` consents: enact the charter, or hand over its request.",
        mends=Mends.CONSENT,
    ),
    Cause.CONSENT_NARROWER: About(
        "The consent is narrowed to other places.", "Add the place to `only:` of the permission.", mends=Mends.CONSENT
    ),
    Cause.NO_DELEGATE: About(
        "Only a client that uses an API can act for a person.",
        "Ask without a person.",
        shows=Shows.SILENT,
        mends=Mends.NAME,
        asked="ask without a person: only a client that uses an API acts for people",
    ),
    Cause.SCOPE_NOT_DELEGATED: About(
        "It may act for people by a delegation, and this scope is not among those that it may use.",
        "Add the scope to `delegation:` of its charter, where that is meant.",
    ),
    Cause.PERSON_OUTSIDE: About(
        "It may act for people by a delegation, and this person is not among them.",
        "Add the person, or a team, to `people:` of its delegation, where that is meant.",
    ),
    Cause.PERSON_UNKNOWN: About(
        "The tenant knows no person of that identifier.",
        "Use the name or principal id of somebody who is there.",
        shows=Shows.SILENT,
        mends=Mends.NAME,
        asked="name somebody who is there: {q.person} is not",
    ),
    Cause.PERSON_LACKS: About(
        "The person may not do it themselves, and a client that acts for them never may more.",
        "Grant it to the person, or act for somebody who may.",
    ),
    Cause.CREDENTIAL_UNKNOWN: About(
        "The principal has no such credential.",
        "Name one that it has.",
        shows=Shows.SILENT,
        mends=Mends.NAME,
        before=True,
        asked="name a credential of this principal: {own}",
    ),
    Cause.CREDENTIAL_INACTIVE: About(
        "The credential is switched off.", "Enact the charter, which switches it on.", shows=Shows.OTHERWISE, before=True
    ),
    Cause.CREDENTIAL_WAITING: About(
        "The credential's life has not begun.", "Wait until it begins.", shows=Shows.EARLY, mends=Mends.WAIT, before=True
    ),
    Cause.CREDENTIAL_ENDED: About(
        "The credential's life has ended.",
        "Enact the charter, which begins a new generation.",
        shows=Shows.OTHERWISE,
        before=True,
    ),
    Cause.HALF_MISSING: About(
        "A local account of a cluster acts as the principal by one of two records only: what the cluster "
        "says, or the trust; or the two disagree.",
        "Make the other half: `workload:` and `trusts:` of the charter, and enact it.",
    ),
    Cause.RUNS_OTHERWISE: About(
        "Both halves stand, and the workload still runs as its machine, or as another local account.",
        "Start it anew; where its machines share one identity, name their group in the charter.",
    ),
    Cause.SIGN_IN_KIND: About(
        "The service takes other kinds of sign-in than this credential.",
        "Sign in with a kind that it takes: another credential in the charter, or a trust.",
        shows=Shows.OTHERWISE,
        mends=Mends.NAME,
        before=True,
        asked="sign in with a kind that {q.permission} is taken with; the explanation names them",
    ),
    Cause.LIMITS_NARROWER: About(
        "The credential is narrowed to other permissions, or to another place.",
        "Add the permission to the credential's `limits`, or use one for this place.",
        shows=Shows.KEY,
        before=True,
    ),
    Cause.GRANT_UNFINISHED: About(
        "The tenant accepted the grant and is still making it, or failed to.",
        "Wait until it is ready; a failed one is ended and made anew by `enact`.",
        shows=Shows.EARLY,
    ),
    Cause.NOT_FELT: About(
        "The grant or membership was made a moment ago, and decisions do not follow it yet.",
        "Wait until the change is felt.",
        shows=Shows.EARLY,
        mends=Mends.WAIT,
    ),
    Cause.WINDOW_WAITING: About(
        "The grant's window has not begun.", "Wait until it begins.", shows=Shows.BEGIN, mends=Mends.WAIT
    ),
    Cause.WINDOW_ENDED: About(
        "The grant's window has ended.", "Lend the role anew, or change the window in the charter.", mends=Mends.GRANT
    ),
    Cause.LABEL_DIFFERS: About(
        "The grant counts at places with certain labels only, and this place bears others.",
        "Grant the role for this place, too.",
        mends=Mends.GRANT,
    ),
    Cause.REACH_ELSEWHERE: About(
        "The team that holds the grant does not reach this place.",
        "Widen the team's `reach`, or grant the role directly.",
        mends=Mends.GRANT,
    ),
    Cause.PLACE_ELSEWHERE: About(
        "The permission is granted, but at other places.", "Grant the role at this place.", mends=Mends.GRANT
    ),
    Cause.ROLE_LACKS: About(
        "Roles are granted here, but none of them holds the permission.", "Grant a role that holds it.", mends=Mends.GRANT
    ),
    Cause.PERMISSION_UNKNOWN: About(
        "The tenant announces no such permission.",
        "Use one that the tenant announces.",
        shows=Shows.SILENT,
        mends=Mends.NAME,
        asked="use a permission that the tenant announces: {q.permission} is none",
    ),
    Cause.NOTHING_GRANTED: About(
        "Nothing is granted to the principal here.", "Grant a role that holds the permission.", mends=Mends.GRANT
    ),
    Cause.RIGHT_MISSING: About(
        "The permission alone does not suffice: a second one is needed at an enclosing place.", "Grant the second one, too."
    ),
}
CAUSES = tuple(Cause)
RANK = {cause: number for number, cause in enumerate(CAUSES)}


def causes(*, shows: Shows | None = None, mends: Mends | None = None) -> frozenset[Cause]:
    """Those of which a refusal shows just this, or that are mended so."""
    return frozenset(c for c, a in ABOUT.items() if shows in (None, a.shows) and mends in (None, a.mends))
