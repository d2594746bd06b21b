"""The facet *credential*: what the identity proves itself with, renewed as generations."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from sigillum.core.charter.charter import API_TOKEN, KEY_PAIR, PASSWORD, CredentialWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import Bearer, Presented, Principal, Ready, Usable
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import Standing, Where, await_, hanging, on_its_way, principal, stand, stopped, unknown
from sigillum.core.kinds.access import ROLE
from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.profile import PERSON, SEALED
from sigillum.core.kinds.signing import CREDENTIAL, Credential
from sigillum.core.records.history import Generation, State
from sigillum.core.records.steps import Ask, Catch, Complete, KeepKey, KeepSecret, Kept, Prove, Step, StepKind, Usual
from sigillum.core.values.errors import Mistake
from sigillum.core.values.marks import Id, Mark, Ref, StepId
from sigillum.core.values.times import format_duration, format_instant, parse_instant, rough_duration, whole_second

NAME = "credential"


def mark_of(seen: Seen, name: str) -> Mark:
    return seen.mark(NAME, ("name", name))


def terms_of(want: CredentialWant, now: datetime, known: Mapping[str, Any]) -> dict[str, Any]:
    """What a generation is made with. Its end is fixed when it is first begun and never moves."""
    if known:
        return {**known, "limits": list(want.limits), "kind": want.kind}
    until = whole_second(now) + timedelta(seconds=want.lasts_seconds)
    return {"until": format_instant(until), "limits": list(want.limits), "kind": want.kind}


def compare(seen: Seen, draft: Draft) -> None:
    """Bring every wanted credential into being, and end our own that are wanted no more."""
    bearer = draft.one(Bearer, seen.tenant)
    registered = bearer is not None and bearer.registered
    fact = hanging(seen, CREDENTIAL, bearer.id if bearer is not None else None, there=not registered)
    for grant in seen.charter.grants if seen.charter.credentials else ():
        seen.ask(Query(ROLE, "name", grant.role))
    if not fact.known:
        if seen.charter.credentials:
            unknown(seen, draft, fact, f"the credentials of {seen.charter.identity.name}")
        return
    for want in seen.charter.credentials:
        if _allowed(seen, draft, want, registered=registered):
            One(seen, draft, want, registered=registered).bring(fact.records)
    _not_wanted(seen, draft, fact.records)


def _allowed(seen: Seen, draft: Draft, want: CredentialWant, *, registered: bool) -> bool:
    """Does the tenant allow it? Adds the mistakes where it does not."""
    found = [*_limits(seen, want), *_tenant_limits(seen, want, registered=registered)]
    draft.mistakes += [Mistake(code, what, mend, want.position) for code, what, mend in found]
    return not found


def narrower(limits: Iterable[str], permissions: Iterable[str]) -> list[str]:
    """The limits that no grant covers: a credential can be narrower than the grants, never wider."""
    have = set(permissions)
    return [limit for limit in limits if limit not in have]


def _limits(seen: Seen, want: CredentialWant) -> Iterator[tuple[str, str, str]]:
    charter = seen.charter
    roles = [seen.ask(Query(ROLE, "name", g.role)) for g in charter.grants] if want.limits else []
    granted = [p for f in roles for r in f.records for p, _ in r.body.permissions]
    granted += [p for r in charter.roles for p in r.permissions] + [p.scope for p in charter.permissions]
    wide = narrower(want.limits, granted)
    if wide and granted and all(f.known for f in roles) and not charter.member_of:
        yield ("limits-wider", f"{want.name} is limited to {', '.join(wide)}, which no grant of this charter gives",
               "name permissions of the granted roles only")
    if want.kind == PASSWORD and want.limits:
        yield "limits-password", f"{want.name}: a password cannot be narrowed", "leave `limits` out"
    if want.kind == API_TOKEN and seen.profile.limits_compulsory and not want.limits:
        yield ("limits-missing", f"at {seen.tenant} a token must be narrowed, and {want.name} is not",
               "add `limits:` with the permissions that the program uses")


def _tenant_limits(seen: Seen, want: CredentialWant, *, registered: bool) -> Iterator[tuple[str, str, str]]:
    profile, tenant, number = seen.profile, seen.tenant, seen.charter.credentials.index(want)  # told of the first too many
    longest, most, taken = profile.credential_seconds, profile.keys_per_principal, profile.credential_kinds
    if longest and want.lasts_seconds > longest:
        yield ("life-tenant", f"{want.name} lasts {format_duration(want.lasts_seconds)}, {tenant} allows "
               f"{format_duration(longest)}", f"write `lasts: {format_duration(longest)}` or less")
    if most and number == most:
        yield "keys-too-many", f"{tenant} allows {most} credentials a principal", "ask for fewer"
    if taken and want.kind not in taken:
        yield "credential-kind", f"{tenant} takes no {want.kind}", f"write `kind:` {' or '.join(taken)}"
    if registered and want.limits:
        yield ("limits-registered", f"{tenant} only registers clients, and narrows no credential of theirs",
               "leave `limits` out")
    if registered and number == 1:
        yield "keys-too-many", f"a client that {tenant} registered has one credential", "ask for one"


class Renewal(NamedTuple):
    """Why the present generation cannot stay; `held` False: nobody here can use it, so it ends first."""

    reason: str
    held: bool


class One:
    """One wanted credential, brought to where it should be."""

    def __init__(self, seen: Seen, draft: Draft, want: CredentialWant, *, registered: bool) -> None:
        self.seen, self.draft, self.want, self.registered = seen, draft, want, registered
        self.mark = mark_of(seen, want.name)

    def bring(self, records: tuple[Record[Credential], ...]) -> None:
        seen, draft, want = self.seen, self.draft, self.want
        bearer = draft.one(Bearer, seen.tenant)
        standing = stand(seen, draft, self.mark, records, f"credential {want.name}", bearer.id if bearer is not None else None)
        generation = standing.generation
        if generation is None and self._stranger(records):
            return
        known = generation.terms if generation is not None and standing.where is not Where.GONE else {}
        terms = terms_of(want, seen.now, known)
        if generation is None or standing.where in (Where.NONE, Where.OPEN, Where.GONE):
            if standing.where is Where.GONE:
                draft.note("gone", f"{want.name} was made once and is no longer there; a new generation follows")
            self._make(standing.number, terms, standing.why(Usual.PROVES))
            return
        if standing.record is not None and (off := stopped(seen, draft, self.mark, standing.record, generation,
                                                           f"credential {want.name}")):
            draft.provide(Usable(seen.tenant, want.name), *off)  # and no other key is made beside it
            return
        renewal = self._renewal(standing, changed=terms != known)
        if renewal is not None:
            old = standing.record.id if standing.record is not None else generation.id
            self._replace(generation, old, terms_of(want, seen.now, {}), renewal)
        elif standing.record is None:
            waited = await_(seen, draft, self.mark, CREDENTIAL, standing, f"the credential {want.name}")
            self._finish(generation.number, generation.id, waited, active=False)
        else:
            self._finish(generation.number, generation.id or standing.record.id,
                         active=standing.record.body.active or on_its_way(seen, generation))
            self._worth_knowing(standing.record.body)

    def _stranger(self, records: tuple[Record[Credential], ...]) -> bool:
        """A credential of that name that Sigillum did not make: left alone where somebody else holds it."""
        seen, want = self.seen, self.want
        record = next((r for r in records if r.body.name == want.name), None)
        if record is None or (want.held_here and seen.history.ledger) or \
                seen.history.owns(NAME, seen.tenant, record.id, record.mark):
            return False
        self.draft.note("credential-stands", f"{want.name} stands already, and its holder is somebody else; "
                        "Sigillum leaves it alone", warning=False)
        return True

    def _renewal(self, standing: Standing, *, changed: bool) -> Renewal | None:
        """Why the present generation cannot stay, or None."""
        record, generation, want = standing.record, standing.generation, self.want
        assert generation is not None
        held = self.seen.held.get((want.name, generation.number), "")
        if record is not None and record.body.until and record.body.until <= self.seen.now:
            return Renewal(f"it ended at {format_instant(record.body.until)}", held=True)
        if want.held_here and not held:
            inactive = record is None or not record.body.active
            if want.tenant_made and self.seen.profile.confirmed_by == PERSON:
                return None  # whoever made it is asked for it again
            if want.tenant_made and inactive and self.seen.profile.secret_delivery == SEALED:
                return None
            reason = "its secret was not caught" if want.tenant_made else "its private key is not here"
            return Renewal(reason, held=False)
        if record is not None and want.kind == KEY_PAIR and want.held_here and record.body.thumbprint != held:
            return Renewal("the key kept here is another one", held=False)
        return Renewal("the charter limits it differently", held=True) if changed else None

    def _make(self, number: int, terms: Mapping[str, Any], why: str, *needs: StepId) -> StepId | None:
        """Keep a key, make the credential (inactive where possible), catch a secret, activate. The last step."""
        seen, draft, want = self.seen, self.draft, self.want
        born_inactive = seen.profile.born_inactive is not False and not self.registered
        bearer = draft.one(Bearer, seen.tenant)
        assert bearer is not None
        if want.kind == KEY_PAIR and not want.held_here and want.public_key is None:
            draft.add(Step(
                StepId(self.mark, number, "ask"), StepKind.ASK, f"the holder of {want.name} for the public key",
                Ask(advice="make a key pair, send its public half (a JWK) and write `public_key: file:PATH` "
                    f"at {want.name}"),
                why="keep_in is holder: no private key travels"))
            return None
        key: Any = want.public_key
        kept = self._keep(number, needs)
        if kept is not None:
            needs, key = (*needs, kept), Ref(kept, "public_key") if want.kind == KEY_PAIR else None
        part = {"principal": bearer.id, "carrier": bearer.kind.name, "type": want.kind, "public_key": key,
                "name": want.name if number == 1 else f"{want.name}-{number}",
                "until": parse_instant(terms["until"]), "limits": want.limits,
                "active": not born_inactive}
        if want.kind == PASSWORD:
            part["password"] = Kept(want.name, number)
        after = {**({} if self.registered else {"until": f"{terms['until']} ({format_duration(want.lasts_seconds)})"}),
                 "limits": ", ".join(want.limits) or "none: all that is granted"}
        made = draft.add(Step(
            StepId(self.mark, number, "make"), StepKind.MAKE, f"credential {want.name} ({want.kind})",
            Make(CREDENTIAL, part, terms, self._about()), (*draft.by(seen.tenant, Bearer, Ready), *needs),
            CREDENTIAL.power, why, after=after))
        return self._finish(number, Ref(made, "id"), made, active=not born_inactive) or made

    def _keep(self, number: int, needs: tuple[StepId, ...]) -> StepId | None:
        """Make here what is made here, and keep it before anything is sent."""
        want = self.want
        if want.kind == KEY_PAIR and want.held_here:
            return self.draft.add(Step(
                StepId(self.mark, number, "keep"), StepKind.KEEP, f"private key of {want.name} here ({want.algorithm})",
                KeepKey(want.name, number, want.algorithm), needs,
                why=Usual.MADE_HERE))
        if want.kind == PASSWORD:
            made_here = "made here" if not want.source else f"from {want.source.partition(':')[0]}"
            return self.draft.add(Step(
                StepId(self.mark, number, "keep"), StepKind.KEEP, f"password of {want.name} here, {made_here}",
                KeepSecret(want.name, number, want.source), needs,
                why="it is kept before it is sent; nobody has to change it, and no mail carries it"))
        return None

    def _about(self) -> dict[str, Any]:
        """What stands beside the key or secret in its file: who proves itself with it."""
        who, presented = principal(self.seen, self.draft), self.draft.one(Presented, self.seen.tenant)
        return {"principal_id": who.id if who is not None else "", "client_id": presented.client_id if presented is not None
                else "", "account": self.seen.charter.identity.name}

    def _finish(self, number: int, identity: Id, *needs: StepId, active: bool) -> StepId | None:
        """Catch the secret where the tenant makes it, and activate; nothing where both is done."""
        want, draft = self.want, self.draft
        if want.tenant_made and not self.seen.held.get((want.name, number)):
            needs = (*needs, draft.add(Step(
                StepId(self.mark, number, "catch"), StepKind.KEEP, f"secret of {want.name} here, straight from the tenant",
                Catch(want.name, number, identity, self._about()), needs, CREDENTIAL.power,
                Usual.SHOWN_ONCE)),)
        if not active:
            needs = (*needs, draft.add(Step(
                StepId(self.mark, number, "activate"), StepKind.CHANGE, f"credential {want.name}: switch it on",
                Change(CREDENTIAL, identity, {"active": True}, about=self._about()), needs, CREDENTIAL.power,
                Usual.KEPT, {"active": False}, {"active": True})))
        elif isinstance(identity, str) and (want.name, number) in self.seen.incomplete:
            needs = (*needs, draft.add(Step(
                StepId(self.mark, number, "complete"), StepKind.KEEP, f"beside what is kept of {want.name}, whose it is",
                Complete(want.name, number, identity, self._about()), needs, why="it was begun earlier, and interrupted")))
        draft.provide(Usable(self.seen.tenant, want.name), *needs)
        return needs[-1] if needs else None

    def _replace(self, generation: Generation, old: str, terms: Mapping[str, Any], renewal: Renewal) -> None:
        """A new generation; the old one ends once the new one was proved, or before where nobody holds it."""
        number, why = generation.number + 1, f"a new generation, since {renewal.reason}"
        if not renewal.held:
            ended = _end(self.draft, generation, old, renewal.reason)
            self._make(number, terms, why, ended)
            return
        done = self._make(number, terms, why)
        if done is None:
            return  # its holder has to act first: the old one stays until there is another
        _end(self.draft, generation, old, renewal.reason, *self._proved(generation, done))

    def _proved(self, generation: Generation, done: StepId) -> tuple[StepId, ...]:
        """The step that proves what replaces a credential: signing in with it, and what must work."""
        if not self.want.held_here:
            self.draft.note("unproved", f"nobody here can sign in with the new {self.want.name}: its holder has to say that "
                            "it works", warning=False)
            return (done,)
        proofs = tuple(n for n, p in enumerate(self.seen.whole.proofs)
                       if p.allowed and (not self.want.limits or p.permission in self.want.limits))
        ending = StepId(self.mark, generation.number, "end")
        return (done, self.draft.add(Step(
            StepId(self.mark, generation.number + 1, "prove"), StepKind.PROVE, f"the new {self.want.name}: sign in with it, "
            "and try what must work", Prove(proofs, self.want.name, (ending,)), (done,),
            why="the old one ends only after what replaces it was proved")))

    def _worth_knowing(self, body: Credential) -> None:
        draft, want = self.draft, self.want
        if body.until is not None:
            left = body.until - self.seen.now
            if left <= timedelta(seconds=want.renew_before_seconds):
                draft.note("credential-due", f"{want.name} ends in {rough_duration(left.total_seconds())}, at "
                           f"{format_instant(body.until)}")
        elif self.registered:
            draft.note("credential-endless", f"{want.name} has no end at {self.seen.tenant}, whatever `lasts` says")
        if want.kind == PASSWORD and body.must_change:
            draft.note("password-change", f"{want.name} has to be changed at the first sign-in, which strands a program: "
                       "end it there, and enact again")
        if want.kind == PASSWORD and body.expires is not None:
            draft.note("password-expires", f"does {want.name} expire? {'yes' if body.expires else 'no'}", warning=False)


def _end(draft: Draft, generation: Generation, identity: str, why: str, *needs: StepId) -> StepId:
    return draft.add(Step(
        StepId(generation.mark, generation.number, "end"), StepKind.END, f"credential {generation.mark.get('name')}",
        End(CREDENTIAL, identity), needs, CREDENTIAL.power, why))


def _not_wanted(seen: Seen, draft: Draft, records: tuple[Record[Credential], ...]) -> None:
    wanted = {mark_of(seen, w.name) for w in seen.charter.credentials}
    ending = {s.action.id for s in draft.steps if isinstance(s.action, End)}
    fresh = draft.by(seen.tenant, Usable)
    for record in records:
        generation = seen.history.owns(NAME, seen.tenant, record.id, record.mark)
        name = record.body.name or record.id
        if generation is None:
            if mark_of(seen, name) not in wanted:
                draft.note("credential-extra", f"the credential {name} is not in the charter; Sigillum did not "
                           "make it and leaves it alone")
        elif generation.state is State.ENDED or record.id in ending:
            continue
        elif generation.mark not in wanted:
            _end(draft, generation, record.id, "the charter no longer asks for it", *fresh)
        elif generation.number < (seen.history.latest(generation.mark) or generation).number:
            _end(draft, generation, record.id, "a newer generation took its place",
                 *(s for s in fresh if s.mark == generation.mark))


def words(mark: Mark) -> str:
    return f"the credential {mark.get('name')}"


FACET = Facet(NAME, compare, frozenset((Usable,)), frozenset((Bearer, Principal, Ready, Presented)),
              words=words)
