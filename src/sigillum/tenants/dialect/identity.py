"""The identity's own side of a dialect: signing in, trying permissions, and asking the tenant for decisions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from sigillum.core.deciding.proofs import Trial
from sigillum.core.kinds.access import BELOW, GRANT, PLACE
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.profile import Operation
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.secret import Secret
from sigillum.tenants.port import Address, Link, Proof, SignedIn

from .calls import Speaker, Spoken, fits
from .fields import last_of
from .things import Things
from .values import at, needs

if TYPE_CHECKING:
    from sigillum.core.deciding.values import Question

    from .model import WaySection, WhoSection


class DialectSignIns:
    """Speaking as somebody, by the ways in that the dialect describes."""

    def __init__(self, speaker: Speaker, address: Address, link: Link) -> None:
        self.speaker, self.dialect, self.address, self._link = speaker, speaker.dialect, address, link
        self._proofs = dict[tuple[str, str], Proof]()  # of those that sign in for each place anew
        self._held = dict[tuple[str, str, str], SignedIn]()
        self._places = dict[str, dict[str, Any]]()

    @property
    def things(self) -> Things:
        """What can be looked up, as it is now."""
        return Things(self.speaker)

    def sign_in(self, proof: Proof, place: str = "") -> SignedIn:
        """With what it proves itself; the tenant's word for who that is, where the dialect says how it is asked.

        Where tokens are for one `place`, for that one, or one at which it has a right. Raises RefusedError.
        """
        kind = (
            "api-token"
            if proof.token is not None
            else "password"
            if proof.account
            else "shared-secret"
            if proof.secret is not None
            else "key-pair"
        )
        account = proof.account or self.name_of(proof.principal)
        there = self._place(place or proof.place or self._somewhere(proof.principal)) if self._by_place(kind) else {}
        way, secret = self._way(kind, str(there.get("type", ""))), proof.token or proof.secret
        if way is None or (kind == "key-pair" and proof.key is None):
            raise RefusedError(
                f"the dialect {self.dialect.dialect} does not say how one signs in with a {kind}",
                where=self.address.name,
                mend="describe it under `ways_in: identity:`",
            )
        about: dict[str, Any] = {
            "account": account,
            "principal": proof.principal,
            "secret": secret,
            "key": proof.key,
            "credential": last_of(proof.credential),
            **there,
        }
        if way.first is not None:
            secret = Secret(self.speaker.first(way, about))
        elif way.signs is not None:
            secret = Secret(self.speaker.assertion(way, about))
        assert secret is not None
        signed = SignedIn(secret, proof.principal, f"with its {kind}", kind, credential=last_of(proof.credential))
        if self.dialect.who is None:
            return self._known(proof, signed)
        spoken = self._who(self.dialect.who, signed)
        if spoken.means != "done":
            raise RefusedError(
                f"signing in was refused (status {spoken.answer.status}): {spoken.said}",
                where=self.address.name,
                mend="is it switched on, and not ended?",
            )
        said = str(at(spoken.body, self.dialect.who.at) or "")
        if said != (proof.principal if self.dialect.who.field == "id" else account):
            raise RefusedError(
                f"it runs as {said or 'nobody'}, not as {account or proof.principal}",
                where=self.address.name,
                mend="ask the tenant's operator; nothing was tried",
            )
        return self._known(proof, signed._replace(said=f"with its {kind}; the tenant says: {said}"))

    def _ways(self, kind: str) -> list[WaySection]:
        return self.dialect.ways_in.identity.get(kind, [])  # type: ignore[call-overload,no-any-return]

    def _by_place(self, kind: str) -> bool:
        """Is a token of that kind of credential for one place?"""
        return any(way.at or (way.first is not None and needs(way.first) & {"place", "place_id"}) for way in self._ways(kind))

    def _way(self, kind: str, place_type: str) -> WaySection | None:
        return next((way for way in self._ways(kind) if not way.at or place_type in way.at), None)

    def _who(self, call: WhoSection, signed_in: SignedIn) -> Spoken:
        return self.speaker.send(call, {"token": signed_in.token}, self.presents(signed_in), look=True)

    def _known(self, proof: Proof, signed_in: SignedIn) -> SignedIn:
        """A sign-in that holds: the same is tried again for each place, where tokens are for one."""
        if proof.place or self._by_place(signed_in.scheme):
            self._proofs[signed_in.principal, signed_in.credential] = proof
        return signed_in

    def _somewhere(self, principal: str) -> str:
        """A place at which it has a right, else the first that there is."""
        things = self.things
        usual, below = self.dialect.says.grants_reach, list[str]()
        for held in things.fact(Query(GRANT, "principal", principal)).records:
            if (held.body.reach or usual) != BELOW:
                return str(held.body.place)
            below.append(f"{held.body.place}/")
        places = [str(p.body.path) for p in things.fact(Query(PLACE, "all")).records]
        return next((p for p in places if p.startswith(tuple(below))), places[0] if places else "")

    def _there(self, signed_in: SignedIn, place: str) -> SignedIn | Trial:
        """The sign-in that holds at a place: a token for another one is refused there, whatever it may. One that is refused for
        this place alone is shown by the one that was let in elsewhere: they differ in nothing else.
        """
        proof = self._proofs.get((signed_in.principal, signed_in.credential))
        if proof is None or place == proof.place:
            return signed_in
        if proof.place:
            return Trial(None, f"what it signed in with is for {proof.place} alone, and shows nothing of another place")
        of = signed_in.principal, signed_in.credential, place
        if of not in self._held:
            try:
                self._held[of] = self.sign_in(proof, place)
            except RefusedError as problem:
                return Trial(False, f"tokens are for one place, and this one gives none; another one does: {problem.what}")
        return self._held[of]

    def name_of(self, principal: str) -> str:
        """The name of an account; nothing where there is none of that id."""
        record = self.things.fact(Query(ACCOUNT, "id", principal)).first
        return str(record.body.name) if record is not None else ""

    def presents(self, signed_in: SignedIn) -> dict[str, str]:
        """What a sign-in presents, or what the administrator does."""
        way = next(iter(self._ways(signed_in.scheme)), None)
        if way is None:
            return self.speaker.as_administrator({})
        values = {
            "secret": signed_in.token,
            "token": signed_in.token,
            "principal": signed_in.principal,
            "credential": signed_in.credential,
        }
        if way.basic is not None:
            values["account"] = self.name_of(signed_in.principal)
        return self.speaker.headers(way, {**values, "assertion": signed_in.token})

    def token_for(self, proof: Proof, issuer: str) -> Secret:
        raise RefusedError(
            "a dialect gives no tokens for other tenants", where=self.address.name, mend="use a tenant of the driver open"
        )

    def taken(self, signed_in: SignedIn) -> bool | None:
        if self.dialect.who is None:
            return None
        spoken = self._who(self.dialect.who, signed_in)
        return True if spoken.means == "done" else False if spoken.answer.status in (401, 403) else None

    def as_administrator(self, principal: str) -> SignedIn:
        return SignedIn(
            self._link.token, principal, "asked by the administrator, not signed in as the identity", "administrator"
        )

    def _place(self, place: str) -> dict[str, Any]:
        """What calls at a place can name. Its id is looked up once: another place of that path would have another one, and a
        token for the first one is refused there.
        """
        if place not in self._places:
            things = self.things
            record = things.fact(Query(PLACE, "path", place)).first
            if record is None:
                return {"place": place}
            self._places[place] = {**things.of_record(record), "place": place}
        return self._places[place]

    def attempt(self, signed_in: SignedIn, operation: Operation, place: str) -> Trial:
        section = self.dialect.permissions.get(operation.permission)
        if section is None or section.try_ is None:
            return Trial(None, f"the dialect does not say how {operation.permission} is tried")
        there = self._there(signed_in, place)
        if isinstance(there, Trial):
            return there
        values = {**self._place(place), "principal": signed_in.principal, "account": self.name_of(signed_in.principal)}
        try:
            for call in section.before:
                first = self.speaker.ask(call, values)
                if first.means not in ("done", "exists", "unchanged"):
                    return Trial(None, f"what has to be there first was refused (status {first.answer.status}): {first.said}")
            spoken = self.speaker.send(section.try_, values, self.presents(there), any_form=True)
        finally:
            for call in section.after:
                self.speaker.ask(call, values)
        status = spoken.answer.status
        if spoken.means in ("done", "unchanged"):
            return Trial(True, f"done (status {status})")
        if spoken.means == "refused":
            return Trial(False, f"refused (status {status})", unauthenticated=status == 401)
        return Trial(None, f"status {status} says neither yes nor no: {spoken.said}")

    def ask(self, signed_in: SignedIn, permission: str, place: str, person: str = "") -> Trial:
        decides = self.dialect.decides
        if decides is None:
            return Trial(None, "the dialect does not say how the tenant is asked for a decision")
        values = {
            **self._place(place),
            "principal": signed_in.principal,
            "permission": permission,
            "account": self.name_of(signed_in.principal),
        }
        there = self._there(signed_in, place) if decides.by == "identity" else signed_in
        if isinstance(there, Trial):
            return there
        headers = self.presents(there) if decides.by == "identity" else self.speaker.as_administrator(values)
        spoken = self.speaker.send(decides, values, headers)
        if spoken.means == "refused" and decides.allows is None:
            return Trial(False, f"refused (status {spoken.answer.status})", unauthenticated=spoken.answer.status == 401)
        if spoken.means != "done":
            return Trial(None, f"status {spoken.answer.status} says neither yes nor no: {spoken.said}")
        allowed = decides.allows is None or fits(decides.allows, spoken.answer.status, spoken.body)
        return Trial(allowed, "the tenant decides so")

    def ask_all(self, questions: Sequence[Question]) -> list[Trial]:
        if self.dialect.decides is None or self.dialect.decides.by != "administrator":
            return [Trial(None, "the dialect does not say how the tenant is asked for a decision") for _ in questions]
        return [self.ask(self.as_administrator(q.principal), q.permission, q.place) for q in questions]

    def ask_sign_in(self, account: str, context: Mapping[str, Any]) -> Trial:
        return Trial(None, "a dialect does not say how a tenant is asked about sign-in")
