"""The facet *credential*: what the identity proves itself with, renewed as generations."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from sigillum.core.charter.charter import API_TOKEN, KEY_PAIR, PASSWORD, CredentialWant
from sigillum.core.charter.rules import narrower
from sigillum.core.kinds.facts import Query, Snapshot, Thing
from sigillum.core.records.history import Generation
from sigillum.core.records.steps import Ask, Catch, Change, Create, End, KeepKey, KeepSecret, Kept, Ref, Step, StepKind
from sigillum.core.values.errors import Mistake
from sigillum.core.values.times import format_duration, format_instant, parse_instant, rough_duration, whole_second

from .common import Standing, View, await_step, existing, stand, unknown

NAME, THING, POWER = "credential", "credential", "credentials"
BY_HAND = "by hand"


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """Once it is known on what they hang: all its credentials."""
    if isinstance(view.bearer, str):
        yield Query(THING, "principal", view.bearer)


def terms_of(want: CredentialWant, now: datetime, known: Mapping[str, Any]) -> dict[str, Any]:
    """What a generation is made with. Its end is fixed when it is first begun and never moves."""
    if known:
        return {**known, "limits": list(want.limits), "kind": want.kind}
    until = whole_second(now) + timedelta(seconds=want.lasts_seconds)
    return {"until": format_instant(until), "limits": list(want.limits), "kind": want.kind}


def compare(view: View) -> None:
    """Bring every wanted credential into being, and end our own that are wanted no more."""
    fact = existing(view, THING)
    if not fact.known:
        if view.charter.credentials:
            unknown(view, fact, f"the credentials of {view.charter.identity.name}")
        return
    things = fact.things
    for want in view.charter.credentials:
        if _allowed(view, want):
            _one(view, want, things)
    _not_wanted(view, things)


def _allowed(view: View, want: CredentialWant) -> bool:
    """Does the tenant allow it? Adds the mistakes where it does not."""
    profile, mistakes = view.snapshot.profile, []
    longest = profile.credential_seconds
    if longest and want.lasts_seconds > longest:
        mistakes.append(Mistake(
            "life-tenant", f"{want.name} lasts {format_duration(want.lasts_seconds)}, {view.snapshot.tenant} allows "
            f"{format_duration(longest)}", f"write `lasts: {format_duration(longest)}` or less", want.position))
    granted = [p for g in view.charter.grants for t in view.snapshot.fact("role", "name", g.role).things
               for p, _ in t.get("permissions") or ()]
    granted += [p for r in view.charter.roles for p in r.permissions] + [p.scope for p in view.charter.permissions]
    wide = narrower(want.limits, granted)
    known = all(view.snapshot.fact("role", "name", g.role).known for g in view.charter.grants)
    if wide and granted and known and not view.charter.member_of:
        mistakes.append(Mistake(
            "limits-wider", f"{want.name} is limited to {', '.join(wide)}, which no grant of this charter gives",
            "name permissions of the granted roles only", want.position))
    most = profile.keys_per_principal
    if most and len(view.charter.credentials) > most:
        mistakes.append(Mistake("keys-too-many", f"{view.snapshot.tenant} allows {most} credentials a principal",
                                "ask for fewer", want.position))
    taken = profile.credential_kinds
    if taken and want.kind not in taken:
        mistakes.append(Mistake("credential-kind", f"{view.snapshot.tenant} takes no {want.kind}",
                                f"write `kind:` {' or '.join(taken)}", want.position))
    if want.kind == API_TOKEN and profile.limits_compulsory and not want.limits:
        mistakes.append(Mistake("limits-missing", f"at {view.snapshot.tenant} a token must be narrowed, and {want.name} is not",
                                "add `limits:` with the permissions that the program uses", want.position))
    if want.kind == PASSWORD and want.limits:
        mistakes.append(Mistake("limits-password", f"{want.name}: a password cannot be narrowed", "leave `limits` out",
                                want.position))
    if view.registered and want.limits:
        mistakes.append(Mistake("limits-registered", f"{view.snapshot.tenant} only registers clients, and narrows no "
                                "credential of theirs", "leave `limits` out", want.position))
    if view.registered and len(view.charter.credentials) > 1:
        mistakes.append(Mistake("keys-too-many", f"a client that {view.snapshot.tenant} registered has one credential",
                                "ask for one", want.position))
    view.draft.mistakes += mistakes
    return not mistakes


def _one(view: View, want: CredentialWant, things: tuple[Thing, ...]) -> None:
    standing = stand(view, NAME, want.name, things)
    generation = standing.generation
    if generation is None and _stranger(view, want, things):
        return
    known = generation.terms if generation is not None and standing.state != "gone" else {}
    terms = terms_of(want, view.snapshot.now, known)
    if standing.state in ("none", "open", "gone"):
        if standing.state == "gone":
            view.draft.note("gone", f"{want.name} was made once and is no longer there; a new generation follows")
        _bring(view, want, standing.number, terms, standing.why("the identity proves itself"))
        return
    assert generation is not None
    renewal = _renewal(view, want, standing, terms != known)
    if renewal is not None:
        fresh = terms_of(want, view.snapshot.now, {})
        old = standing.thing.id if standing.thing is not None else generation.id
        _replace(view, want, generation, old, fresh, renewal)
    elif standing.thing is None:
        waited = view.add(await_step(view, NAME, want.name, THING, standing, f"the credential {want.name}"))
        _finish(view, want, generation.number, generation.id, (waited,), active=False)
    else:
        _finish(view, want, generation.number, generation.id or standing.thing.id, (),
                active=bool(standing.thing.get("active")))
        _due(view, want, standing.thing)
        if view.registered and not standing.thing.get("until"):
            view.draft.note("credential-endless", f"{want.name} has no end at {view.snapshot.tenant}, whatever `lasts` says")
        if want.kind == PASSWORD and standing.thing.get("must_change"):
            view.draft.note("password-change", f"{want.name} has to be changed at the first sign-in, which strands a program: "
                            "end it there, and enact again")
        if want.kind == PASSWORD and standing.thing.get("expires") is not None:
            expires = "yes" if standing.thing.get("expires") else "no"
            view.draft.note("password-expires", f"does {want.name} expire? {expires}", warning=False)


def _stranger(view: View, want: CredentialWant, things: tuple[Thing, ...]) -> bool:
    """A credential of that name that Sigillum did not make: left alone where somebody else holds it."""
    thing = next((t for t in things if t.get("name") == want.name), None)
    if thing is None or (want.held_here and view.state.ledger) or view.state.owns(NAME, thing.id, thing.external_id):
        return False
    view.draft.note("credential-stands", f"{want.name} stands already, and its holder is somebody else; "
                    "Sigillum leaves it alone", warning=False)
    return True


class Renewal(NamedTuple):
    """Why the present generation cannot stay; `held` False: nobody here can use it, so it ends first."""

    reason: str
    held: bool


def _renewal(view: View, want: CredentialWant, standing: Standing, changed: bool) -> Renewal | None:
    """Why the present generation cannot stay, or None."""
    thing, generation = standing.thing, standing.generation
    assert generation is not None
    held = view.held.get((want.name, generation.number), "")
    if thing is not None and thing.get("until") and parse_instant(thing.get("until")) <= view.snapshot.now:
        return Renewal(f"it ended at {thing.get('until')}", held=True)
    if want.held_here and not held:
        inactive = thing is None or not thing.get("active")
        if want.tenant_made and view.snapshot.profile.secret_delivery == BY_HAND:
            return None  # whoever made it is asked for it again
        if want.tenant_made and inactive and view.snapshot.profile.secret_delivery == "sealed":
            return None
        reason = "its secret was not caught" if want.tenant_made else "its private key is not here"
        return Renewal(reason, held=False)
    if thing is not None and want.kind == KEY_PAIR and want.held_here and thing.get("thumbprint") != held:
        return Renewal("the key kept here is another one", held=False)
    return Renewal("the charter limits it differently", held=True) if changed else None


def _bring(view: View, want: CredentialWant, number: int, terms: Mapping[str, Any], why: str,
           needs: tuple[str, ...] = ()) -> str:
    """Keep a key, make the credential (inactive where possible), catch a secret, activate. The last step's id."""
    born_inactive = view.snapshot.profile.born_inactive is not False and not view.registered
    key: Any = want.public_key
    if want.kind == KEY_PAIR and want.held_here:
        needs = (*needs, view.add(Step(
            f"keep-{want.name}-{number}", StepKind.KEEP, view.snapshot.tenant, NAME, want.name,
            f"private key of {want.name} here ({want.algorithm})", KeepKey(want.name, number, want.algorithm),
            number, needs=needs, why="it is made where it is kept, before the public half is sent")),)
        key = Ref(needs[-1], "public_key")
    elif want.kind == PASSWORD:
        made_here = "made here" if not want.source else f"from {want.source.partition(':')[0]}"
        needs = (*needs, view.add(Step(
            f"keep-{want.name}-{number}", StepKind.KEEP, view.snapshot.tenant, NAME, want.name,
            f"password of {want.name} here, {made_here}", KeepSecret(want.name, number, want.source), number, needs=needs,
            why="it is kept before it is sent; nobody has to change it, and no mail carries it")),)
    elif want.kind == KEY_PAIR and key is None:
        view.add(Step(
            f"ask-{want.name}", StepKind.ASK, view.snapshot.tenant, NAME, want.name,
            f"the holder of {want.name} for the public key",
            Ask(f"make a key pair, send its public half (a JWK) and write `public_key: file:PATH` at {want.name}"),
            number, why="keep_in is holder: no private key travels"))
        return ""
    fields = {"principal": view.bearer, "carrier": "client" if view.charter.is_client else "account",
              "name": _tenant_name(want.name, number), "kind": want.kind,
              "public_key": key, "until": terms["until"], "limits": list(want.limits), "active": not born_inactive}
    if want.kind == PASSWORD:
        fields["password"] = Kept(want.name, number)
    fields |= _about(view)
    after = {"until": f"{terms['until']} ({format_duration(want.lasts_seconds)})",
             "limits": ", ".join(want.limits) or "none: all that is granted"}
    made = view.add(Step(
        f"make-{want.name}-{number}", StepKind.MAKE, view.snapshot.tenant, NAME, want.name,
        f"credential {want.name} ({want.kind})",
        Create(THING, view.external_id(NAME, want.name, number), fields, terms), number,
        needs=(*view.step_of(view.bearer), *view.principal_step, *needs), power=POWER, why=why, after=after))
    return _finish(view, want, number, Ref(made, "id"), (made,), active=not born_inactive) or made


def _about(view: View) -> dict[str, Any]:
    """What stands beside the key or secret in its file: who proves itself with it."""
    return {"principal_id": view.principal, "client_id": view.client_id, "account": view.charter.identity.name}


def _tenant_name(name: str, number: int) -> str:
    return name if number == 1 else f"{name}-{number}"


def _finish(view: View, want: CredentialWant, number: int, identity: str | Ref, needs: tuple[str, ...], *,
            active: bool) -> str:
    """Catch the secret where the tenant makes it, and activate; nothing where both is done."""
    if want.tenant_made and not view.held.get((want.name, number)):
        needs = (*needs, view.add(Step(
            f"catch-{want.name}-{number}", StepKind.KEEP, view.snapshot.tenant, NAME, want.name,
            f"secret of {want.name} here, straight from the tenant", Catch(want.name, number, identity, _about(view)), number,
            needs=needs, power=POWER, why="only the tenant can make it, and it is shown once")),)
    if active:
        return needs[-1] if needs else ""
    return view.add(Step(
        f"activate-{want.name}-{number}", StepKind.CHANGE, view.snapshot.tenant, NAME, want.name,
        f"credential {want.name}: switch it on", Change(THING, identity, {"active": True}, about=_about(view)), number,
        needs=needs, power=POWER, why="it is kept, so it may prove something now", before={"active": False},
        after={"active": True}))


def _replace(view: View, want: CredentialWant, generation: Generation, old: str, terms: Mapping[str, Any],
             renewal: Renewal) -> None:
    """A new generation; the old one ends after it, or before where nobody holds it."""
    number, why = generation.number + 1, f"a new generation, since {renewal.reason}"
    if not renewal.held:
        ended = _end(view, generation, old, renewal.reason, ())
        _bring(view, want, number, terms, why, (ended,))
        return
    done = _bring(view, want, number, terms, why)
    _end(view, generation, old, renewal.reason, (done,) if done else ())


def _end(view: View, generation: Generation, identity: str, why: str, needs: tuple[str, ...]) -> str:
    return view.add(Step(
        f"end-credential-{identity}", StepKind.END, view.snapshot.tenant, NAME, generation.name,
        f"credential {generation.name}", End(THING, identity), generation.number, needs=needs, power=POWER, why=why))


def _due(view: View, want: CredentialWant, thing: Thing) -> None:
    until = thing.get("until")
    if not until:
        return
    left = parse_instant(until) - view.snapshot.now
    if left <= timedelta(seconds=want.renew_before_seconds):
        view.draft.note("credential-due", f"{want.name} ends in {rough_duration(left.total_seconds())}, at {until}")


def _not_wanted(view: View, things: tuple[Thing, ...]) -> None:
    wanted = {w.name for w in view.charter.credentials}
    ending = {s.action.id for s in view.draft.steps if isinstance(s.action, End)}
    for thing in things:
        generation = view.state.owns(NAME, thing.id, thing.external_id)
        name = str(thing.get("name") or thing.id)
        if generation is None:
            if name not in wanted:
                view.draft.note("credential-extra", f"the credential {name} is not in the charter; Sigillum did not "
                                "make it and leaves it alone")
        elif generation.state == "ended" or thing.id in ending:
            continue
        elif generation.name not in wanted:
            fresh = tuple(s.id for s in view.draft.steps if s.facet == NAME and s.kind is not StepKind.END)
            _end(view, generation, thing.id, "the charter no longer asks for it", fresh)
        elif generation.number < (view.state.latest(NAME, generation.name) or generation).number:
            after = tuple(s.id for s in view.draft.steps if s.facet == NAME and s.name == generation.name
                          and s.kind is StepKind.CHANGE)
            _end(view, generation, thing.id, "a newer generation took its place", after)
