"""The facet *credential*: what the identity proves itself with, renewed as generations."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta
from typing import Any, NamedTuple

from sigillum.core.charter.charter import CredentialWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.generation import Making, begin, called, end, finish, first, provers, signer, terms_of
from sigillum.core.facets.provides import Bearer, ItsPrincipal, Presented, Ready, Usable
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import (
    Standing,
    Where,
    adopt,
    await_,
    hanging,
    on_its_way,
    principal,
    stand,
    stopped,
    suspended,
    unknown,
)
from sigillum.core.kinds.access import ROLE
from sigillum.core.kinds.changes import Change, End
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.profile import PERSON, SEALED
from sigillum.core.kinds.signing import CREDENTIAL, Credential
from sigillum.core.records.history import BRIDGE, Generation, State
from sigillum.core.records.steps import CHANGED, TURNING, Adopt, Ask, Prove, Step, StepKind, Turning, Usual
from sigillum.core.values.marks import Id, Mark, StepId
from sigillum.core.values.times import format_instant, rough_duration

from . import lost
from .allowed import allowed, as_it_stands, changed, kept_here, note_holders, turning

NAME = "credential"


def mark_of(seen: Seen, name: str) -> Mark:
    return seen.mark(NAME, ("name", name))


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
    _taken(seen, draft)
    # those that an identity makes itself come after the password with which it signs in for that
    for want in sorted(seen.charter.credentials, key=lambda w: w.kind in seen.profile.made_by_identity):
        if len(want.consumers) > 1:
            draft.note(
                "credential-shared",
                f"{want.name} is used by {' and '.join(want.consumers)}: where it leaks at one, "
                "all of them stop, and each change waits for all; the tenant tells one last use, and nobody's name",
            )
        if allowed(seen, draft, want, registered=registered):
            One(seen, draft, want, registered=registered).bring(fact.records)
    _not_wanted(seen, draft, fact.records)


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
        if self.mark in seen.history.turns:
            draft.note(TURNING, f"{want.name} is being rotated", warning=False)
            draft.provide(Usable(seen.tenant, want.name))
            return
        bearer = draft.one(Bearer, seen.tenant)
        standing = stand(
            seen,
            draft,
            self.mark,
            records,
            f"credential {want.name}",
            bearer.id if bearer is not None else None,
            lambda r: r.says(name="") or not r.denies(name=want.name),
        )
        generation = standing.generation
        if generation is None and self._stranger(records):
            return
        known = seen.history.terms(self.mark, standing.number)
        terms = terms_of(want, seen.now, known, seen.profile.credential_grain)
        if generation is None or standing.where in (Where.NONE, Where.OPEN, Where.GONE):
            if standing.where is Where.GONE:
                users = f": {', '.join(want.consumers)} need it" if want.consumers else ""
                draft.note("gone", f"{want.name} was made once and is no longer there; a new generation follows{users}")
            self._make(standing.number, terms, standing.why(want.purpose or Usual.PROVES))
            return
        note_holders(seen, draft, want, generation)
        asked = self._asked(standing)
        if asked is not None:
            draft.provide(Usable(seen.tenant, want.name), *asked)  # and no other key is made beside it
            return
        renewal = self._renewal(standing, changed=terms != known)
        if renewal is not None:
            old = standing.record.id if standing.record is not None else generation.id
            known = seen.history.terms(self.mark, generation.number + 1)
            self._replace(generation, old, terms_of(want, seen.now, known, seen.profile.credential_grain), renewal)
        elif standing.record is None:
            waited = await_(seen, draft, self.mark, CREDENTIAL, standing, f"the credential {want.name}")
            self._finish(generation.number, generation.id, waited, active=False)
        else:
            if generation.elsewhere and want.held_here and not seen.held.get((want.name, generation.number)):
                draft.provide(Usable(seen.tenant, want.name))
            else:
                self._finish(
                    generation.number,
                    generation.id or standing.record.id,
                    active=standing.record.body.active or on_its_way(seen, generation),
                )
            for text in changed(want, standing.record, known):
                draft.note(CHANGED, text)
            self._worth_knowing(standing.record, generation.number)

    def _asked(self, standing: Standing) -> tuple[StepId, ...] | None:
        """What a person is asked first: about a suspension of ours, a stop by others, a key that is not here. None: nothing."""
        seen, draft, generation = self.seen, self.draft, standing.generation
        if standing.record is None:
            return None
        about = (seen, draft, self.mark, standing.record, generation, f"credential {self.want.name}")
        held = suspended(*about)
        return held if held is not None else stopped(*about) or lost.asked(seen, draft, self.want, standing) or None

    def _stranger(self, records: tuple[Record[Credential], ...]) -> bool:
        """A credential of that name that Sigillum did not make: left alone where somebody else holds it."""
        seen, want = self.seen, self.want
        record = next((r for r in records if r.says(name=want.name)), None)
        if (
            record is not None
            and seen.choices.adopt
            and record.says(type=want.kind)
            and seen.history.owns(NAME, seen.tenant, record.id, record.mark) is None
        ):
            taken = Adopt(CREDENTIAL, record.id, terms=as_it_stands(record.body))
            adopt(self.draft, self.mark, 1, f"the credential {want.name}", taken)
            self.draft.provide(Usable(seen.tenant, want.name))
            return True
        if (
            record is None
            or (want.held_here and seen.history.ledger)
            or seen.history.owns(NAME, seen.tenant, record.id, record.mark)
        ):
            return False
        self.draft.note(
            "credential-stands",
            f"{want.name} stands already, and its holder is somebody else; Sigillum leaves it alone",
            warning=False,
        )
        return True

    def _renewal(self, standing: Standing, *, changed: bool) -> Renewal | None:
        """Why the present generation cannot stay, or None."""
        record, generation, want = standing.record, standing.generation, self.want
        assert generation is not None
        held = self.seen.held.get((want.name, generation.number), "")
        if record is not None and record.over(self.seen.now):
            # where it counts though it is over, it goes first
            return Renewal(f"it ended at {format_instant(record.body.until)}", held=not self.seen.profile.ended_count)
        if want.held_here and not held and generation.elsewhere:
            if generation.adopted:
                stays = "it stays until another generation takes its place"
                what = f"what {want.name} proves itself with was made elsewhere and is not here: {stays}"
                self.draft.note("credential-elsewhere", what)
            return Renewal("the charter limits it differently", held=True) if changed else None
        if want.held_here and not held:
            inactive = record is None or not record.body.active
            if want.is_a.tenant_made and self.seen.profile.confirmed_by == PERSON:
                return None  # whoever made it is asked for it again
            if want.is_a.tenant_made and inactive and self.seen.profile.secret_delivery == SEALED:
                return None
            reason = "its secret was not caught" if want.is_a.tenant_made else "its private key is not here"
            return Renewal(reason, held=False)
        if record is not None and want.is_a.repeatable and want.held_here and record.denies(thumbprint=held):
            return Renewal("the key kept here is another one", held=False)
        return Renewal("the charter limits it differently", held=True) if changed else None

    def _making(self, number: int) -> Making:
        """What its steps are made of."""
        seen, bearer = self.seen, self.draft.one(Bearer, self.seen.tenant)
        assert bearer is not None
        who, presented = principal(seen, self.draft), self.draft.one(Presented, seen.tenant)
        about = {
            "principal_id": who.id if who is not None else "",
            "client_id": presented.client_id if presented is not None else "",
            "account": seen.charter.identity.name,
        }
        return Making(
            self.mark,
            self.want,
            number,
            bearer.id,
            bearer.kind.name,
            about,
            seen.profile.born_inactive is not False and not self.registered,
            self.registered,
            seen.held.get((self.want.name, number), ""),
            (self.want.name, number) in seen.incomplete,
            signer=signer(seen.charter.credentials, seen.profile.made_by_identity, self.want, seen.held),
        )

    def _make(self, number: int, terms: Mapping[str, Any], why: str, *needs: StepId) -> StepId | None:
        """The steps of a new generation. The last one; None where its holder has to act first."""
        ready, making = self.draft.by(self.seen.tenant, Bearer, Ready), self._making(number)
        steps = begin(making, terms, why, *needs, ready=ready)
        kept_here(self.seen, self.draft, self.want, terms, registered=self.registered)
        late = first(making.signer, self.seen.tenant)
        ids = [self.draft.add(step, late if step.kind is StepKind.MAKE else ()) for step in steps]
        if isinstance(steps[-1].action, Ask):
            return None
        self.draft.provide(Usable(self.seen.tenant, self.want.name), *(i for i in ids if i.verb != "keep"))
        return ids[-1]

    def _finish(self, number: int, identity: Id, *needs: StepId, active: bool) -> None:
        """What is still to be done of one that was made."""
        ids = [self.draft.add(step) for step in finish(self._making(number), identity, *needs, active=active)]
        self.draft.provide(Usable(self.seen.tenant, self.want.name), *needs, *ids)

    def _replace(self, generation: Generation, old: str, terms: Mapping[str, Any], renewal: Renewal) -> None:
        """A new generation; the old one ends once the new one was proved, or before where nobody holds it."""
        number, why = generation.number + 1, f"a new generation, since {renewal.reason}"
        if not renewal.held:
            ended = self.draft.add(end(generation.mark, generation.number, old, renewal.reason))
            self._make(number, terms, why, ended)
            return
        done = self._make(number, terms, why)
        if done is None:
            return  # its holder has to act first: the old one stays until there is another
        self.draft.add(end(generation.mark, generation.number, old, renewal.reason, *self._proved(generation, done)))

    def _proved(self, generation: Generation, done: StepId) -> tuple[StepId, ...]:
        """The step that proves what replaces a credential: signing in with it, and what must work."""
        if not self.want.held_here:
            self.draft.note(
                "unproved",
                f"nobody here can sign in with the new {self.want.name}: its holder has to say that it works",
                warning=False,
            )
            return (done,)
        proofs = provers(self.seen.whole, self.want)
        ending = StepId(self.mark, generation.number, "end")
        return (
            done,
            self.draft.add(
                Step(
                    StepId(self.mark, generation.number + 1, "prove"),
                    StepKind.PROVE,
                    f"the new {self.want.name}: sign in with it, and try what must work",
                    Prove(proofs, self.want.name, (ending,)),
                    (done,),
                    why="the old one ends only after what replaces it was proved",
                )
            ),
        )

    def _worth_knowing(self, record: Record[Credential], number: int) -> None:
        draft, want, body = self.draft, self.want, record.body
        if want.is_a.typed and want.endless is not None and body.expires:
            about = f"credential {want.name}: its own end is switched off"
            draft.add(
                Step(
                    StepId(self.mark, number, "lasting"),
                    StepKind.CHANGE,
                    about,
                    Change(CREDENTIAL, record.id, {"expires": False}, record.version),
                    power=CREDENTIAL.power,
                    why=f"{want.endless.accepted_by} accepts that: {want.endless.why}",
                    before={"expires": True},
                    after={"expires": False},
                )
            )
        elif want.endless is None and body.until is not None:
            left = body.until - self.seen.now
            if left <= timedelta(seconds=want.renew_before_seconds):
                self._due(f"it ends in {rough_duration(left.total_seconds())}, at {format_instant(body.until)}", number)
        elif self.registered:
            draft.note("credential-endless", f"{want.name} has no end at {self.seen.tenant}, whatever `lasts` says")
        if want.is_a.typed and body.must_change:
            draft.note(
                "password-change",
                f"{want.name} has to be changed at the first sign-in, which strands a program: end it there, and enact again",
            )
        if want.is_a.typed and body.expires is not None:
            draft.note("password-expires", f"does {want.name} expire? {'yes' if body.expires else 'no'}", warning=False)

    def _due(self, why: str, number: int) -> None:
        """It is time for the next generation: a rotation begins, where it can be done without a gap."""
        draft, want, most = self.draft, self.want, self.seen.profile.most(self.want.kind)
        if most == 1:
            draft.note(
                "credential-due-gap",
                f"{want.name}: {why}. {self.seen.tenant} takes one credential at a time, so that "
                "nobody can sign in between its end and the next one's pick-up",
            )
        elif not want.held_here:
            draft.note(
                "credential-due",
                f"{want.name}: {why}. Its holder makes the next key, and its public half goes into the charter",
            )
        else:
            draft.add(
                Step(
                    StepId(self.mark, number + 1, "rotate"),
                    StepKind.CHANGE,
                    f"credential {want.name}: rotate it",
                    Turning("begin", "", want.name, number + 1, number),
                    draft.by(self.seen.tenant, Bearer, Ready),
                    why=why,
                    after=turning(self.seen, want),
                )
            )


def _taken(seen: Seen, draft: Draft) -> None:
    """A service says with which kinds of sign-in it is used; what is to work by another one is refused before it is made."""
    charter = seen.charter
    for proof in charter.proofs:
        operation = seen.profile.operations.get(proof.permission)
        kinds = [c.kind for c in charter.credentials if proof.credential in ("", c.name)]
        ways = [
            *dict.fromkeys(kinds),
            *(["trust"] if charter.trusts and not proof.credential else []),
            *(["signing"] if charter.signing is not None and not proof.credential else []),
        ]
        if proof.allowed and operation is not None and operation.takes and ways and not set(ways) & set(operation.takes):
            draft.wrong(
                "sign-in-kind",
                f"{proof.permission} is taken with {' or '.join(operation.takes)} at {seen.tenant}, "
                f"and {charter.identity.name} signs in with {' or '.join(ways)}",
                f"give it a credential of the kind {operation.takes[0]}"
                if operation.takes[0] != "trust"
                else "let it in by a trust: `trusts:`",
                proof.position,
            )


def _not_wanted(seen: Seen, draft: Draft, records: tuple[Record[Credential], ...]) -> None:
    wanted = {mark_of(seen, w.name) for w in seen.charter.credentials}
    ending = {s.action.id for s in draft.steps if isinstance(s.action, End)}
    fresh = draft.by(seen.tenant, Usable)
    for record in records:
        generation = seen.history.owns(NAME, seen.tenant, record.id, record.mark)
        name = record.body.name or record.id
        if generation is None:
            if mark_of(seen, name) not in wanted:
                draft.note(
                    "credential-extra",
                    f"the credential {name} is not in the charter; Sigillum did not make it and leaves it alone",
                )
        elif generation.state is State.ENDED or record.id in ending:
            continue
        elif (
            turned := mark_of(seen, generation.mark.get(BRIDGE) or generation.mark.get("name"))
        ) in wanted and turned in seen.history.turns:
            continue  # its rotation ends it
        elif generation.mark not in wanted:
            draft.add(end(generation.mark, generation.number, record.id, "the charter no longer asks for it", *fresh))
        elif generation.number < (seen.history.latest(generation.mark) or generation).number:
            draft.add(
                end(
                    generation.mark,
                    generation.number,
                    record.id,
                    "a newer generation took its place",
                    *(s for s in fresh if s.mark == generation.mark),
                )
            )


def words(mark: Mark) -> str:
    return f"the credential {called(mark)}"


FACET = Facet(NAME, compare, frozenset((Usable,)), frozenset((Bearer, ItsPrincipal, Ready, Presented)), words=words)
