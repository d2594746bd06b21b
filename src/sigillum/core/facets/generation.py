"""The steps of one generation of a credential: keep, make, catch, switch on; the same for the first one and for a rotation."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from sigillum.core.charter.charter import CA, HANDOVER, Charter, CredentialWant
from sigillum.core.facets.provides import Granted, Usable
from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import BRIDGE, IN_PLACE_OF, Generation
from sigillum.core.records.steps import (
    Ask,
    Catch,
    CertificateRequest,
    Certify,
    Complete,
    KeepKey,
    KeepSecret,
    Kept,
    Need,
    Step,
    StepKind,
    Usual,
)
from sigillum.core.values.marks import Id, Mark, Ref, StepId
from sigillum.core.values.times import format_duration, format_instant, parse_instant, whole_second, within_grain


class Making(NamedTuple):
    """What the steps of one generation are made of. `bearer`: on what it hangs, of the kind `carrier`; `about`: what stands
    beside its key or secret; `held`: the thumbprint of the key that is here already, or `secret`; `incomplete`: without what
    stands beside it.
    """

    mark: Mark
    want: CredentialWant
    number: int
    bearer: Id
    carrier: str
    about: Mapping[str, Any]
    born_inactive: bool
    registered: bool = False
    held: str = ""
    incomplete: bool = False
    instead_of: Generation | None = None  # what gives way in the request that makes it
    signer: Kept | None = None  # the password with which the identity makes it itself

    def id(self, verb: str) -> StepId:
        return StepId(self.mark, self.number, verb)


def terms_of(want: CredentialWant, now: datetime, known: Mapping[str, Any], grain: int = 1) -> dict[str, Any]:
    """What a generation is made with. Its end is fixed when it is first begun and never moves, unless it is to have none.

    `grain`: in seconds, of the ends that the tenant can have; it ends a little earlier than wanted.
    """
    rest = {"limits": list(want.limits), "kind": want.kind, **({"at": want.at} if want.at else {})}
    if want.endless is not None:
        return {**{n: v for n, v in known.items() if n != "until"}, **rest}
    if known.get("until"):
        return {**known, **rest}
    until = want.answer.until if want.answer is not None else whole_second(now) + timedelta(seconds=want.lasts_seconds)
    until = within_grain(until, grain)
    begins = {"from": format_instant(whole_second(now))} if want.is_a.certified else {}
    return {**known, "until": format_instant(until), **begins, **rest}


def begin(of: Making, terms: Mapping[str, Any], why: str, *needs: StepId, ready: tuple[StepId, ...] = ()) -> list[Step]:
    """Keep a key, make the credential (inactive where possible), catch a secret, switch it on; or ask its holder first."""
    want = of.want
    if not want.held_here and want.public_key is None:
        return [
            Step(
                of.id("ask"),
                StepKind.ASK,
                f"the holder of {want.name} for the public key",
                Ask(advice=f"make a key pair, send its public half (a JWK) and write `public_key: file:PATH` at {want.name}"),
                why="keep_in is holder: no private key travels",
            )
        ]
    key: Any = want.public_key
    kept = _keep(of, needs)
    if kept is not None:
        needs, key = (*needs, kept.id), Ref(kept.id, "public_key") if want.is_a.signs and not want.is_a.certified else None
    if kept is not None and want.signed_by == CA and (want.answer is None or want.answer.key != of.held):
        return [kept, _ask_ca(of, kept.id)]
    certified = _certify(of, terms, *needs) if want.is_a.certified else None
    needs = (*needs, certified.id) if certified is not None else needs
    part = {
        "principal": of.bearer,
        "carrier": of.carrier,
        "type": want.kind,
        "public_key": key,
        "name": want.name if of.number == 1 else f"{want.name}-{of.number}",
        "until": parse_instant(terms["until"]) if "until" in terms else None,
        "limits": want.limits,
        "active": not of.born_inactive,
    }
    if want.at:
        part |= {"place": want.at}
    if of.signer is not None:
        part |= {"signer": of.signer}
    if certified is not None:
        part |= {"certificate": Ref(certified.id, "certificate")}
    if want.is_a.typed:
        part |= {"password": Kept(want.name, of.number), **({"expires": False} if want.endless is not None else {})}
    ends = (
        {"until": f"{terms['until']} ({format_duration(want.lasts_seconds)})"}
        if "until" in terms
        else {"ends": f"never; {want.endless.accepted_by} accepts that: {want.endless.why}" if want.endless is not None else ""}
    )
    ends |= {"for": want.at} if want.at else {}
    after = {**({} if of.registered else ends), "limits": ", ".join(want.limits) or "none: all that is granted"}
    made = Step(
        of.id("make"),
        StepKind.MAKE,
        f"credential {want.name} ({want.kind})",
        _instead(of, Make(CREDENTIAL, part, terms, of.about)),
        (*ready, *needs),
        CREDENTIAL.power,
        why,
        after=after,
    )
    before = [s for s in (kept, certified) if s is not None]
    return [*before, made, *finish(of, Ref(made.id, "id"), made.id, active=not of.born_inactive)]


def _instead(of: Making, make: Make) -> Make:
    old = of.instead_of
    return make._replace(terms={**make.terms, IN_PLACE_OF: old.number}, instead_of=old.external_id) if old is not None else make


def _ask_ca(of: Making, kept: StepId) -> Step:
    """The house's CA is asked for a certificate over the key that is kept."""
    want, about = of.want, "the house's CA for the certificate of"
    other = want.answer is not None and bool(of.held)
    subject = str(of.about.get("account") or want.name)
    return Step(
        of.id("ask"),
        StepKind.ASK,
        f"{about} {want.name}",
        Ask(
            advice=f"{'what was named is for another key; ' if other else ''}have it sign the request, and write "
            f"`certificate: file:PATH` at {want.name}",
            request=CertificateRequest(want.name, of.number, subject),
        ),
        (kept,),
        why="it signs what the house trusts",
    )


def _certify(of: Making, terms: Mapping[str, Any], *needs: StepId) -> Step:
    """The certificate itself, beside the key that it is about."""
    want = of.want
    by = f"by {want.answer.issuer}" if want.answer is not None else "self-signed"
    action = Certify(
        want.name,
        of.number,
        str(of.about.get("account") or want.name),
        str(terms["from"]),
        terms["until"],
        want.answer.der if want.answer is not None else "",
    )
    return Step(
        of.id("certify"),
        StepKind.KEEP,
        f"certificate of {want.name} {_kept(want)}, {by}",
        action,
        needs,
        why="it names its key, and says until when",
    )


def _keep(of: Making, needs: tuple[StepId, ...]) -> Step | None:
    """Make here what is made here, and keep it before anything is sent."""
    want = of.want
    if want.is_a.signs and want.held_here:
        return Step(
            of.id("keep"),
            StepKind.KEEP,
            f"private key of {want.name} {_kept(want)} ({want.algorithm})",
            KeepKey(want.name, of.number, want.algorithm, want.place),
            needs,
            why=Usual.MADE_HERE,
        )
    if want.is_a.typed:
        made_here = "made here" if not want.source else f"from {want.source.partition(':')[0]}"
        return Step(
            of.id("keep"),
            StepKind.KEEP,
            f"password of {want.name} {_kept(want)}, {made_here}",
            KeepSecret(want.name, of.number, want.source, want.place),
            needs,
            why="it is kept before it is sent; nobody has to change it, and no mail carries it",
        )
    return None


def _kept(want: CredentialWant) -> str:
    return {"file": "here", HANDOVER: "here, until it is handed over"}.get(want.keep_in, f"in {want.keep_in}")


def finish(of: Making, identity: Id, *needs: StepId, active: bool) -> list[Step]:
    """Catch the secret where the tenant makes it, and switch it on; nothing where both is done."""
    want, steps = of.want, list[Step]()
    if want.is_a.tenant_made and not of.held:
        steps.append(
            Step(
                of.id("catch"),
                StepKind.KEEP,
                f"secret of {want.name} {_kept(want)}, straight from the tenant",
                Catch(want.name, of.number, identity, of.about, want.place),
                needs,
                CREDENTIAL.power,
                Usual.SHOWN_ONCE,
            )
        )
        needs = (*needs, steps[-1].id)
    if not active:
        steps.append(
            Step(
                of.id("activate"),
                StepKind.CHANGE,
                f"credential {want.name}: switch it on",
                Change(CREDENTIAL, identity, {"active": True}, about=of.about),
                needs,
                CREDENTIAL.power,
                Usual.KEPT,
                {"active": False},
                {"active": True},
            )
        )
    elif isinstance(identity, str) and of.incomplete:
        steps.append(
            Step(
                of.id("complete"),
                StepKind.KEEP,
                f"beside what is kept of {want.name}, whose it is",
                Complete(want.name, of.number, identity, of.about),
                needs,
                why="it was begun earlier, and interrupted",
            )
        )
    return steps


def provers(charter: Charter, want: CredentialWant) -> tuple[int, ...]:
    """The expectations that show that a credential works, by their numbers."""
    return tuple(n for n, p in enumerate(charter.proofs) if p.allowed and want.leaves(p.permission, p.at))


def signer(
    credentials: Iterable[CredentialWant], kinds: frozenset[str], want: CredentialWant, held: Mapping[tuple[str, int], str]
) -> Kept | None:
    """The password with which an identity makes such a credential itself; None where it does not, or where none is kept here.

    `kinds`: which its tenant has made so.
    """
    owner = next((c for c in credentials if c.is_a.typed and c.held_here), None) if want.kind in kinds else None
    return Kept(owner.name, max((n for name, n in held if name == owner.name), default=1)) if owner is not None else None


def first(by: Kept | None, tenant: str) -> tuple[Need, ...]:
    """What comes before a credential that an identity makes itself: it signs in with its password, where it has a right."""
    return (Need(Granted, tenant=tenant), Need(Usable, lambda u: u.name == by.credential, tenant)) if by is not None else ()


def called(mark: Mark) -> str:
    """The name of a credential, or of a further registration of its key."""
    return mark.get("name") or f"{mark.get(BRIDGE)}-bridge"


def end(mark: Mark, number: int, identity: str, why: str, *needs: StepId) -> Step:
    """End a generation."""
    return Step(
        StepId(mark, number, "end"),
        StepKind.END,
        f"credential {called(mark)}",
        End(CREDENTIAL, identity),
        needs,
        CREDENTIAL.power,
        why,
    )
