"""Of a trial: credentials of every kind, what can be done with them, and a suspension with its undoing."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from typing import Any

from sigillum.core.charter.credential_kinds import CREDENTIAL_KINDS
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Record
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.canonical import public_half
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.secret import Secret
from sigillum.keys.material import make_key
from sigillum.tenants.port import Proof, SignedIn

from .trial_permissions import agreeing, expected
from .trial_rows import DIFFERS, NOT_TRIED, WORKS
from .trial_steps import Steps

TRIAL = "sigillum-trial"


class Credentials:
    """All credentials of the identity, at the places that were named."""

    def __init__(self, steps: Steps) -> None:
        self.steps = steps

    def tried(self, places: Sequence[Record[Any]]) -> None:
        """Each kind: made, signed in with, and ended; a password last, with which an identity may make the others."""
        if not self.steps.described(CREDENTIAL, "make", "end"):
            return
        tried = list[tuple[str, Record[Any], Proof]]()
        for kind in self.steps.tenant.profile.credential_kinds:
            made = self._credential(kind, places, [p for k, _, p in tried if CREDENTIAL_KINDS[k].typed])
            if made is not None and self._sign_in(kind, made[1], places):
                tried.append((kind, *made))
        if tried and self.steps.can(ACCOUNT, "active"):
            self._suspended(tried[0][2])
        for _, record, proof in sorted(tried, key=lambda t: CREDENTIAL_KINDS[t[0]].typed):
            if self.steps.step("end it, and read that it is gone", lambda i=record.id: self.steps.ended(CREDENTIAL, i)):  # type: ignore[misc]
                self.steps.made.remove((CREDENTIAL, record.id))
                self._still(proof)

    def _credential(self, kind: str, places: Sequence[Record[Any]], passwords: list[Proof]) -> tuple[Record[Any], Proof] | None:
        key = make_key(algorithm) if CREDENTIAL_KINDS[kind].signs and (algorithm := self._algorithm()) else None
        placed, own = kind in self.steps.tenant.profile.placed, kind in self.steps.tenant.profile.made_by_identity
        lacking = (
            "nobody signs one here"
            if CREDENTIAL_KINDS[kind].certified
            else "no algorithm is named that is made here"
            if CREDENTIAL_KINDS[kind].signs and key is None
            else "no place is named"
            if placed and not places
            else "its identity makes it, and no password was made"
            if own and not passwords
            else ""
        )
        if lacking:
            self.steps.row(f"a credential ({kind})", NOT_TRIED, lacking)
            return None
        password = Secret(secrets.token_urlsafe(24)) if CREDENTIAL_KINDS[kind].typed else None
        part = {
            "principal": self.steps.account,
            "carrier": "account",
            "type": kind,
            "name": TRIAL,
            "public_key": public_half(key) if key is not None else None,
            "limits": self._limits(places[0]) if placed and self.steps.tenant.profile.limits_compulsory else (),
            "until": self.steps.until(self.steps.tenant.profile.credential_grain),
            "active": True,
            **({"password": password} if password is not None else {}),
            **({"place": places[0].body.path, "place_id": places[0].id} if placed else {}),
            **({"signer": passwords[0].secret} if own else {}),
        }
        made = self.steps.make(CREDENTIAL, part, f"a credential ({kind})")
        secret = None if made is None or key is not None else password or self._fetched(made.id)
        if made is None or (key is None and secret is None):
            return None
        if key is not None:
            return made, Proof(self.steps.account, key=key, algorithm=str(self._algorithm()), credential=made.id)
        token = not CREDENTIAL_KINDS[kind].typed
        return made, Proof(
            self.steps.account,
            token=secret if token else None,
            secret=None if token else secret,
            account=self.steps.identity if not token else "",
            credential=made.id,
            place=str(part.get("place", "")),
        )

    def _limits(self, place: Record[Any]) -> tuple[str, ...]:
        """What the roles that were granted allow at a place of that kind."""
        operations = self.steps.tenant.profile.operations
        return tuple(n for n, o in operations.items() if o.class_ == "looks" and o.means(str(place.value("type"))))

    def _suspended(self, proof: Proof) -> None:
        """An account that is off lets nobody in; switched on again, it does."""

        def off() -> str:
            return self.steps.changed("active", False) or ("it is still let in" if self._let_in(proof) else "")

        def on() -> str:
            return self.steps.changed("active", True) or ("it is not let in" if self._let_in(proof) is False else "")

        self.steps.step("suspend it: nobody signs in", off)
        self.steps.step("and back: it signs in again", on)

    def _let_in(self, proof: Proof) -> bool | None:
        try:
            return self.steps.tenant.taken(self.steps.tenant.sign_in(proof))
        except RefusedError:
            return False

    def _algorithm(self) -> str:
        """By which an assertion of the identity is signed, where such keys are made here."""
        said = next(iter(self.steps.tenant.profile.assertion_algorithms), "Ed25519")
        return "Ed25519" if said == "EdDSA" else said

    def _fetched(self, identity: str) -> Secret | None:
        reply = self.steps.tenant.fetch_secret(identity)
        caught = reply.secret is not None
        self.steps.row("the secret is caught", WORKS if caught else DIFFERS, "" if caught else reply.detail)
        return reply.secret

    def _sign_in(self, kind: str, proof: Proof, places: Sequence[Record[Any]]) -> bool:
        found: list[SignedIn] = []
        if not self.steps.step(f"sign in with it ({kind})", lambda: found.append(self.steps.tenant.sign_in(proof)) or ""):  # type: ignore[func-returns-value]
            return False
        for name, operation in self.steps.tenant.profile.operations.items():
            if not places or operation.class_ != "looks":
                self.steps.row(f"try {name}", NOT_TRIED, "it does more than look" if places else "no place is named")
                continue
            for at in (p.body.path for p in places if not proof.place or p.says(path=proof.place)):
                wanted = expected(self.steps.tenant, self.steps.account, at, name)
                if wanted is None and operation.at:
                    continue
                trial, agrees = agreeing(self.steps.tenant, found[0], operation, at, wanted)
                said = {True: "allowed", False: "refused", None: "not known"}[wanted]
                why = trial.reason if agrees else f"{trial.reason}, and by its roles it is {said}{self.steps.last}"
                self.steps.row(f"try {name} at {at}", WORKS if agrees else DIFFERS, why)
        return True

    def _still(self, proof: Proof) -> None:
        what = "sign in with it again is refused"
        taken = self._let_in(proof)
        if taken is None:
            self.steps.row(what, NOT_TRIED, "nobody can be asked who it is")
        else:
            self.steps.row(what, DIFFERS if taken else WORKS, "it is still taken" if taken else "")
