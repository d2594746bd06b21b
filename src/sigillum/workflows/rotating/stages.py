"""How the stages of a rotation are reached: signing in, giving, keeping a token, seeing that the old one is dead."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import Consumer
from sigillum.core.facets.generation import provers, signer
from sigillum.core.facets.quiet import named
from sigillum.core.kinds.identities import ACCOUNT, CLIENT
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import STAGED, Generation, History
from sigillum.core.records.steps import Prove, Step, Turning
from sigillum.core.undertakings.reached import accepted_from, beside_until, dead, token_counts, token_until
from sigillum.core.undertakings.rotating import ROTATIONS
from sigillum.core.undertakings.rotation import Around, Asked, Rotation, Stage, bridge_mark
from sigillum.core.values.canonical import public_half
from sigillum.core.values.errors import NotYetError, RefusedError, SomebodyError
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import format_instant, whole_second
from sigillum.keeping.files import FileKeeping, NotKeptError
from sigillum.keeping.private import read_private, write_private
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Proof, SignedIn
from sigillum.workflows.desk.office import Office, nothing
from sigillum.workflows.enacting.carrying.files import ABOUT
from sigillum.workflows.proving.trials import principal_of, proof_of

from .own_use import ours


def stage_(office: Office, rotation: Rotation, stage: str, *, number: int = 0, **about: Any) -> None:
    """Write down that a stage was reached, or a word given."""
    office.books.writable_ledger().append(
        [
            Fresh(
                STAGED,
                rotation.uid,
                {
                    **rotation.mark.body(),
                    "generation": number or rotation.number,
                    "of": rotation.key,
                    "stage": stage,
                    "at": format_instant(whole_second(office.tenants.now(rotation.tenant))),
                    **about,
                },
            )
        ]
    )
    office.settings.boundary(f"rotation of {rotation.name} {stage}")


def keep_token(keys: FileKeeping, name: str, number: int, signed_in: SignedIn) -> Path:
    """Keep a token of a generation, to be refused later."""
    path = keys.token(name, number)
    which = f"#{quote(signed_in.credential, safe='')}" if signed_in.credential else ""
    write_private(path, f"{signed_in.scheme}{which} {signed_in.principal} {signed_in.token.reveal()}\n")
    return path


def kept_token(keys: FileKeeping, name: str, number: int) -> SignedIn | None:
    """The token of a generation that was kept, if one was. Raises MachineError."""
    path = keys.token(name, number)
    if not path.exists():
        return None
    scheme, principal, token = read_private(path).split(maxsplit=2)
    scheme, _, which = scheme.partition("#")
    return SignedIn(Secret(token.strip()), principal, "kept", scheme, credential=unquote(which))


class Turns:
    """How the steps of one charter's rotation are done here. What is known is gathered at the beginning of each stage."""

    def __init__(self, office: Office, charter: Charter | None, rotation: Rotation) -> None:
        self.office, self.charter, self.rotation = office, charter, rotation
        self.keys, self.tenant = office.keepings.of(rotation.uid), office.tenants.reach(rotation.tenant)
        self.want = next((c for c in charter.credentials if c.name == rotation.name), None) if charter is not None else None

    @property
    def consumers(self) -> tuple[Consumer, ...]:
        """Who uses it, as far as the house describes them."""
        return named(self.want.consumers, self.office.workspace.rules) if self.want is not None else ()

    @property
    def _state(self) -> History:
        return self.office.books.state(self.rotation.uid)

    @property
    def _now(self) -> datetime:
        return self.office.tenants.now(self.rotation.tenant)

    def around(self, rotation: Rotation) -> Around:
        """What the stage machine looks at, as it is now."""
        charter, want, profile = self.charter, self.want, self.tenant.profile
        if charter is None or want is None:
            return Around(None, profile)
        state, client = self._state, charter.is_client
        registered = state.find(CLIENT, rotation.tenant) if client else None
        path = self.keys.path(rotation.name, rotation.old.number)
        about = self.keys.about(rotation.name, rotation.old.number) if path.exists() else {}
        return Around(
            want,
            profile,
            registered.id if registered is not None else state.principal_id(rotation.tenant),
            (CLIENT if client else ACCOUNT).name,
            {n: about[n] for n in ABOUT if about.get(n)},
            self.keys.held(),
            self.keys.incomplete(),
            provers(charter, want),
            self.consumers,
            self.office.copy,
            tuple(
                (m, g.number, g.id)
                for m, all_ in state.generations.items()
                for g in all_
                if g.kind == CREDENTIAL.name and g.live and g.id and m.tenant == rotation.tenant
            ),
            state.terms,
            signer(charter.credentials, profile.made_by_identity, want, self.keys.held()),
        )

    def public_half(self, rotation: Rotation) -> dict[str, str] | None:
        """Of the old one's key, as far as the tenant shows it or it is here."""
        query = Query(CREDENTIAL, "id", rotation.old.id)
        record = self.tenant.facts([query])[query].first
        if record is not None and record.body.public_key:
            return dict(record.body.public_key)
        here = self.keys.path(rotation.name, rotation.old.number).exists()
        return public_half(self.keys.key(rotation.name, rotation.old.number)[0]) if here else None

    def bridges(self) -> list[Generation]:
        """Every further registration of a key of this credential, in this rotation or an earlier one."""
        return self._state.generations.get(bridge_mark(self.rotation.mark), [])

    def prove(self, step: Step) -> None:
        """What must work is tried with the new one. Raises UnprovedError, NotYetError."""
        from sigillum.workflows.proving.prove import run

        assert self.charter is not None and isinstance(step.action, Prove)
        state = self._state
        report = run(self.office, self.charter, state, self.keys, principal_of(self.office, self.charter, state), step.action)
        if not report.held:
            raise report.error()

    def turn(self, step: Step) -> None:
        """Reach a stage. Raises what keeps it from being reached."""
        action = step.action
        assert isinstance(action, Turning)
        rotation = self.office.books.again(ROTATIONS, self.rotation)
        stages: dict[str, Callable[[Rotation], dict[str, Any]]] = {
            Stage.BESIDE: self._beside,
            Stage.ACCEPTED: self._accept,
            Stage.GIVEN: self._give,
            Stage.TAKEN: lambda one: {"how": action.how},
            Asked.TOKEN: self._keep_token,
            Stage.DEAD: self._dead,
            Stage.CLEARED: self._clear,
        }
        about = stages[action.stage](rotation)
        stage_(self.office, rotation, action.stage, number=step.generation, **about)

    # --- stages -------------------------------------------------------------------------------------------------------
    @property
    def _held(self) -> bool:
        return self.want is not None and self.want.held_here

    def _here(self, rotation: Rotation, number: int) -> bool:
        return self.keys.path(rotation.name, number).exists()

    def _sign_in(self, rotation: Rotation, number: int) -> SignedIn:
        """With one generation; that it was us goes into the ledger. Raises RefusedError."""
        assert self.charter is not None and self.want is not None
        proof: Proof = proof_of(self.keys, self.want, number, principal_of(self.office, self.charter, self._state))
        with ours(self.office, rotation.uid, rotation.mark, number, rotation.key):
            signed_in = self.tenant.sign_in(proof)
            if self.tenant.taken(signed_in) is False:
                raise RefusedError("it is not taken", where=rotation.tenant, mend="wait until it is")
        return signed_in

    def _accept(self, rotation: Rotation) -> dict[str, Any]:
        """It signs in now, and once more when all that the tenant runs has heard of it."""
        if not self._held:
            return {"how": "not tried: its holder has the private half"}
        profile, first = self.tenant.profile, rotation.at(Asked.LET_IN)

        def let_in() -> bool | None:
            try:
                self._sign_in(rotation, rotation.number)
            except RefusedError:
                return None
            return True

        settings = self.office.settings
        from sigillum.workflows.enacting.carrying.ports import Patience

        patience = Patience(settings.timeout_seconds, settings.wait_seconds, settings.pause, nothing, settings.go_on)
        taken, _ = patience.until(let_in, settings.wait_seconds, lambda waited: "")
        if taken is None:
            self._pair(rotation)
            raise NotYetError(
                f"{rotation.tenant} does not take the new {rotation.name} yet",
                where=rotation.tenant,
                mend="run the same command again in a while, or with --wait 10m; the old one serves until then",
            )
        now = self._now
        if first is None and profile.arrival_seconds != 0:
            stage_(self.office, rotation, Asked.LET_IN)
        sure = accepted_from(first, now, profile)
        if now < sure:
            raise NotYetError(
                f"{rotation.tenant} took the new {rotation.name} once; it is tried again from {format_instant(sure)}",
                where=rotation.tenant,
                mend="run the same command again then; the old one serves until then",
            )
        return {"how": "signed in"}

    def _pair(self, rotation: Rotation) -> None:
        """A refusal of the new one says something of it only where the old one is let in. Raises SomebodyError."""
        if rotation.old.live and self._here(rotation, rotation.old.number):
            try:
                self._sign_in(rotation, rotation.old.number)
            except RefusedError as problem:
                raise SomebodyError(
                    f"neither the old nor the new {rotation.name} is let in, so it is not the key: {problem.what}",
                    where=rotation.tenant,
                    mend="find out why first; then this goes on",
                ) from problem

    def _beside(self, rotation: Rotation) -> dict[str, Any]:
        """The new one where consumers that try both find it, for as long as they take to read it."""
        consumers = [self.office.workspace.consumers.get(c) for c in (self.want.consumers if self.want is not None else ())]
        until = beside_until(self._now, (c.picks_up for c in consumers if c is not None))
        return {"place": self.keys.lay_beside(rotation.name, rotation.number).name, "until": format_instant(until)}

    def _give(self, rotation: Rotation) -> dict[str, Any]:
        if not self._held:
            return {"how": "its holder has it"}
        self.keys.give(rotation.name, rotation.number, rotation.serves)
        return {"place": self.keys.current(rotation.name).name, "before": rotation.serves}

    def _keep_token(self, rotation: Rotation) -> dict[str, Any]:
        """A token of the old one, to be refused when it is dead; none where what gives one is kept no more."""
        try:
            signed_in = self._sign_in(rotation, rotation.old.number)
        except NotKeptError as problem:
            return {"how": f"none: {problem.what}", "until": format_instant(self._now)}
        path = keep_token(self.keys, rotation.name, rotation.old.number, signed_in)
        return {"token": path.name, "until": format_instant(token_until(self._now, self.tenant.profile))}

    def _dead(self, rotation: Rotation) -> dict[str, Any]:
        """The new one is let in and the old one is not, nor a token that it got before. Raises NotYetError."""
        if not self._held:
            return self._shown(rotation, untried="its holder has the private half")
        if self._here(rotation, rotation.number):
            self._sign_in(rotation, rotation.number)
        if not self._here(rotation, rotation.old.number):
            return self._shown(rotation, untried="what it proved itself with is not here")
        try:
            self._sign_in(rotation, rotation.old.number)
        except NotKeptError as problem:
            return self._shown(rotation, untried=problem.what)
        except RefusedError:
            pass
        else:
            outlives = rotation.old.terms.get("kind") in self.tenant.profile.outliving
            raise NotYetError(
                f"{rotation.tenant} still takes the old {rotation.name}",
                where=rotation.tenant,
                mend="it is taken there until "
                f"its own end, {rotation.old.terms.get('until')}, unless the server's administrator puts it onto "
                "the revocation list"
                if outlives
                else "run the same command again in a while",
            )
        token = kept_token(self.keys, rotation.name, rotation.old.number)
        refused = token is not None and token_counts(rotation, self._now) and self.tenant.taken(token) is False
        return self._shown(rotation, token_refused=refused)

    def _shown(self, rotation: Rotation, *, untried: str = "", token_refused: bool = False) -> dict[str, Any]:
        """What shows that it is dead. Raises NotYetError where only time shows it."""
        found = dead(rotation, self.tenant.profile, self._now, untried=untried, token_refused=token_refused)
        if found.wait is not None:
            raise NotYetError(
                f"the old {rotation.name} is ended; tokens that it got before may live until {format_instant(found.wait)}",
                where=rotation.tenant,
                mend="run the same command again then",
            )
        return {"how": found.how}

    def _clear(self, rotation: Rotation) -> dict[str, Any]:
        self.office.keepings.remember(rotation.uid, self._state)
        for number in (rotation.old.number, *(g.number for g in rotation.between)):
            self.keys.remove(rotation.name, number)
        return {}
