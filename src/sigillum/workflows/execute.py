"""The executor: carries an outline's steps out by the creation protocol. Journal boundaries stand here only."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from sigillum.core.facets.common import ARRIVAL_SLACK_SECONDS, UNKNOWN_ARRIVAL_SECONDS
from sigillum.core.kinds.facts import Query, Thing
from sigillum.core.records import history
from sigillum.core.records.history import Undertakings
from sigillum.core.records.steps import (
    AddTo,
    Adopt,
    Ask,
    Await,
    Catch,
    Change,
    Collision,
    Create,
    End,
    KeepKey,
    KeepSecret,
    Kept,
    Outline,
    Prove,
    Ref,
    Step,
    TakeFrom,
)
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import MachineError, NotYetError, RefusedError, SigillumError, SomebodyError, WaitingError
from sigillum.core.values.secret import Secret
from sigillum.keys.store import KeyStore
from sigillum.tenants.port import Reply, Result, Tenant

from .journal import Journal
from .office import REGISTRATION, Office, Progress

ABOUT = ("principal_id", "client_id", "account")  # what stands beside a key or secret, and comes from the charter
FIRST_PAUSE_SECONDS = 0.05
LONGEST_PAUSE_SECONDS = 5.0


class AgainError(SigillumError):
    """What was known is no longer so: compare again and go on."""


class TakenError(SomebodyError):
    """Something of that name is there, or is said to be; wanted and existing side by side in `collision`."""

    def __init__(self, what: str, collision: Collision, *, where: str, mend: str) -> None:
        super().__init__(what, where=where, mend=mend)
        self.collision = collision

    @classmethod
    def of(cls, what: str, step: Step, action: Create, found: Thing | None, mend: str) -> TakenError:
        """`found` None: look-ups show nothing."""
        rows = tuple((name, value, found.get(name) if found is not None else "not shown")
                     for name, value in action.fields.items() if value and not isinstance(value, (Ref, Kept)))
        name = str(action.fields.get("name", step.name))
        return cls(what, Collision(action.thing, name, found.id if found is not None else "", rows, False), where=step.tenant,
                   mend=mend)


@dataclass(frozen=True, slots=True)
class StepResult:
    """What became of a step: `done`, `failed`, `skipped`, `asked`."""

    step: Step
    state: str
    error: SigillumError | None = None
    yields: Mapping[str, Any] = field(default_factory=dict)


class Executor:
    """Carries out one charter's steps. A failed step stops those that need it, and no other."""

    def __init__(self, office: Office, journal: Journal, state: Undertakings, keys: KeyStore,
                 prove: Callable[[Step], None]) -> None:
        self.office, self.journal, self.state, self.keys = office, journal, state, keys
        self.tenant: Tenant  # that of the step at hand, as the administrator who does it
        self.charter = ""
        self.yields: dict[str, dict[str, Any]] = {}
        self._prove = prove
        self.send_again = False  # a person made sure that an unanswered creation did not arrive
        self._left_seconds = office.settings.patience_seconds
        self._handlers: dict[type, Callable[[Step, Any], dict[str, Any]]] = {
            AddTo: self._add, TakeFrom: self._take,
            KeepKey: self._keep, KeepSecret: self._keep_secret,
            Adopt: self._adopt, Create: self._create, Change: self._change, End: self._end,
            Catch: self._catch, Await: self._await, Prove: self._run_proofs, Ask: self._ask}

    def run(self, charter: str, outline: Outline, *, leave_out: frozenset[str] = frozenset()) -> list[StepResult]:
        """Carry out all steps in order. Raises MachineError (nothing further is sent) and AgainError."""
        results: list[StepResult] = []
        self.charter = charter
        failed: set[str] = set(leave_out)
        for number, step in enumerate(outline.steps, 1):
            if step.id in leave_out:
                results.append(StepResult(step, "skipped"))
                continue
            if failed.intersection(step.needs) or (isinstance(step.action, Prove) and failed - leave_out):
                failed.add(step.id)
                results.append(StepResult(step, "skipped"))
                continue
            self.office.settings.progress(Progress(charter, f"{step.kind} {step.about}", number, len(outline.steps)))
            try:
                self.tenant = self.office.tenant(step.tenant, step.by)
                self.yields[step.id] = self._handlers[type(step.action)](step, step.action)
                results.append(StepResult(step, "done", yields=self.yields[step.id]))
            except (MachineError, AgainError):
                raise
            except SigillumError as problem:
                failed.add(step.id)
                state = "asked" if isinstance(step.action, Ask) or isinstance(problem, WaitingError) else "failed"
                results.append(StepResult(step, state, problem))
        return results

    # --- helpers ----------------------------------------------------------------------------------------------
    def _value(self, value: Any) -> Any:
        if isinstance(value, Kept):
            return self.keys.secret(value.credential, value.generation)
        return self.yields[value.step][value.attribute] if isinstance(value, Ref) else value

    def _pause(self, seconds: float, what: SigillumError) -> None:
        """Wait, within the patience that is left for this charter. Raises `what` where none is left."""
        if self._left_seconds <= 0:
            raise what
        seconds = min(seconds, self._left_seconds)
        self._left_seconds -= max(seconds, 0.01)
        self.office.settings.sleep(seconds)

    @property
    def _arrival_seconds(self) -> float:
        announced = self.tenant.profile.arrival_seconds
        return (UNKNOWN_ARRIVAL_SECONDS if announced is None else announced) + ARRIVAL_SLACK_SECONDS

    def _until(self, found: Callable[[], Any], seconds: float, what: str) -> Any:
        """Poll with growing pauses until `found` gives something. Raises NotYetError."""
        pause, waited = FIRST_PAUSE_SECONDS, 0.0
        while (result := found()) is None:
            if waited >= seconds:
                raise NotYetError(f"{what} is not shown yet, {waited:.0f} seconds after the change",
                                  where=self.tenant.address.name,
                                  mend="run the same command again in a while; nothing is made twice")
            self.office.settings.progress(Progress(self.state.charter, f"waiting until {what} is shown"))
            self.office.settings.sleep(pause)
            waited += pause
            pause = min(pause * 1.7, LONGEST_PAUSE_SECONDS)
        return result

    # --- kinds of step ------------------------------------------------------------------------------------------
    def _keep(self, step: Step, action: KeepKey) -> dict[str, Any]:
        public = self.keys.keep_key(action.credential, action.generation, action.algorithm)
        self.journal.write(history.KEPT, step, what=thumbprint(public))
        return {"public_key": public}

    def _keep_secret(self, step: Step, action: KeepSecret) -> dict[str, Any]:
        chosen = None
        if action.source:
            from sigillum.keys.references import resolve
            chosen = resolve(action.source, self.office.workspace.folder)
        known = self.state.latest(step.facet, step.name)
        sent = known is not None and known.number == step.generation and known.unanswered  # it may stand there already
        self.keys.keep_password(action.credential, action.generation, None if sent else chosen, {"tenant": step.tenant})
        self.journal.write(history.KEPT, step, what="secret")
        return {}

    def _adopt(self, step: Step, action: Adopt) -> dict[str, Any]:
        self.journal.write(history.FOUND if action.found else history.ADOPTED, step, id=action.id, tenant=step.tenant)
        return {"id": action.id}

    def _ask(self, step: Step, action: Ask) -> dict[str, Any]:
        from sigillum.core.records import requests
        if type(action.action) in requests.DO:
            from .requests import write
            wanted, values = action.action, dict[str, Any]()
            if isinstance(wanted, (Create, Change)):
                values = {n: self._value(v) for n, v in wanted.fields.items()}
            elif not isinstance(wanted, End):
                values = {"attribute": wanted.attribute, "value": self._value(wanted.value)}
            identity = "" if isinstance(wanted, Create) else str(self._value(wanted.id))
            request = requests.request_of(step, wanted, values, identity, self.tenant.address.address, self.charter)
            path, entry = write(self.office, self.journal.uid, self.charter, step, request)
            if entry is not None:
                self.journal.write(history.REQUESTED, step, **entry)
            shown = path.relative_to(self.office.workspace.folder)
            raise SomebodyError("the request is written", where=str(shown), mend=action.request)
        raise SomebodyError(f"{step.about}: somebody has to act first", where=step.tenant, mend=action.request)

    def _run_proofs(self, step: Step, action: Prove) -> dict[str, Any]:
        self._prove(step)
        return {}

    def _await(self, step: Step, action: Await) -> dict[str, Any]:
        if action.finished:
            self._finished(step, action.thing, action.id)
            return {"id": action.id}

        def shown() -> Thing | None:
            thing = self.tenant.read(action.thing, action.id)
            inside = thing is not None and (not action.attribute or action.value in _names(thing.get(action.attribute)))
            return thing if inside else None
        seen = self._until(shown, action.seconds, step.about.removeprefix("until the tenant shows "))
        return {"id": seen.id, "client_id": seen.get("client_id")}

    def _finished(self, step: Step, kind: str, identity: str) -> None:
        """Wait, within what was asked for, until a thing that was accepted is made. Raises NotYetError, RefusedError."""
        pause, waited, most = FIRST_PAUSE_SECONDS, 0.0, self.office.settings.wait_seconds
        while (thing := self.tenant.read(kind, identity)) is not None and thing.get("progress") == "accepted":
            if waited >= most:
                raise NotYetError(f"{step.about}: the tenant accepted it, and is still making it", where=step.tenant,
                                  mend="run the same command again in a while, or with --wait 10m; nothing is made twice")
            self.office.settings.progress(Progress(self.state.charter, f"waiting until {step.about} is made, {waited:.0f} s"))
            self.office.settings.sleep(min(pause, most - waited))
            waited += pause
            pause = min(pause * 1.7, LONGEST_PAUSE_SECONDS)
        if thing is not None and thing.get("progress") == "failed":
            raise RefusedError(f"{step.about}: the tenant accepted it, and could not make it", where=step.tenant,
                               mend="run `sigillum enact` again: it ends the failed one and makes another")

    def _add(self, step: Step, action: AddTo) -> dict[str, Any]:
        return self._listed(step, action.thing, str(self._value(action.id)), action.attribute, str(self._value(action.value)),
                            adding=True, about=action.about)

    def _take(self, step: Step, action: TakeFrom) -> dict[str, Any]:
        return self._listed(step, action.thing, action.id, action.attribute, action.value, adding=False)

    def _listed(self, step: Step, kind: str, identity: str, attribute: str, value: str, *, adding: bool,
                about: Mapping[str, Any] | None = None) -> dict[str, Any]:
        """Put into a list or take out of it; doing it twice is the same as once, so a lost answer is sent again."""
        def send() -> Reply:
            if adding:
                return self.tenant.add(kind, identity, attribute, value, about or {})
            return self.tenant.take(kind, identity, attribute, value)
        for number in range(100):
            reply, settle = self.journal.attempt(
                step, "add" if adding else "take", {"id": identity, attribute: value},
                send, thing=kind, id=identity)
            if reply.result is Result.DONE:
                settle(history.MADE if adding else history.ENDED, id=f"{identity}/{value}")
                break
            if reply.result is Result.MISSING and not adding:
                settle(history.ENDED)
                break
            self._not_done(step, reply, settle, number)

        def shown() -> bool | None:
            thing = self.tenant.read(kind, identity)
            return True if (thing is not None and value in _names(thing.get(attribute))) == adding else None
        self._until(shown, self._arrival_seconds, step.about)
        self.journal.boundary(f"{step.id} read-back")
        return {"id": identity}

    def _create(self, step: Step, action: Create) -> dict[str, Any]:
        fields = {name: self._value(value) for name, value in action.fields.items()}
        known = self.state.latest(step.facet, step.name)
        if known is not None and known.unanswered and known.number == step.generation:
            found = self._before_another(step, action)
            if found is not None:
                return self._made(step, action, fields, found)
        for number in range(100):
            reply, settle = self.journal.attempt(
                step, "create", _shown(fields), lambda: self.tenant.create(action.thing, action.external_id, fields),
                thing=action.thing, external_id=action.external_id, terms=action.terms)
            if reply.result is Result.DONE and reply.thing is not None:
                if reply.secret is not None:  # a dynamic registration: what it answered is shown once
                    self.keys.keep_secret(REGISTRATION, step.generation, reply.secret, {"tenant": step.tenant})
                    self.journal.boundary(f"{step.id} kept here")
                settle(history.MADE, id=reply.thing.id)
                return self._made(step, action, fields, reply.thing)
            if reply.result is Result.EXISTS:
                ours = self._after_conflict(step, action, settle, reply.detail)
                settle(history.MADE, id=ours.id)
                return self._made(step, action, fields, ours)
            self._not_done(step, reply, settle, number)
            if reply.result is Result.LOST:
                found = self._before_another(step, action)
                if found is not None:
                    settle(history.MADE, id=found.id)
                    return self._made(step, action, fields, found)
        raise RefusedError(f"{step.about} was tried too often", where=step.tenant, mend="run the same command again")

    def _not_done(self, step: Step, reply: Reply, settle: Callable[..., None], number: int) -> None:
        """Settle a request that was not done, and wait before another attempt. Raises where there is none."""
        error = reply.error if isinstance(reply.error, SigillumError) else RefusedError(
            f"{step.about}: {reply.detail}", where=step.tenant, mend="look at the detail")
        if reply.result in (Result.BUSY, Result.LOST):
            settle(history.LOST if reply.result is Result.LOST else history.REFUSED, why=reply.detail)
            self._pause(reply.wait_seconds if reply.wait_seconds is not None
                        else min(FIRST_PAUSE_SECONDS * 2 ** number, LONGEST_PAUSE_SECONDS), error)
            return
        settle(history.REFUSED, why=reply.detail)
        raise error

    def _find_ours(self, action: Create) -> Thing | None:
        query = Query(action.thing, "external_id", action.external_id)
        return self.tenant.facts([query])[query].first

    def _before_another(self, step: Step, action: Create) -> Thing | None:
        """Where externalIds are not known to be unique, wait the arrival time out and look before sending again."""
        if self.tenant.profile.external_id_unique or self.send_again:
            return None
        if self.tenant.profile.arrival_seconds is None:
            found = self._find_ours(action)
            if found is not None:
                return found
            raise SomebodyError(
                f"{step.about}: an earlier request may or may not have arrived, and {step.tenant} does not say how "
                "long changes take", where=step.tenant,
                mend=f"look there for externalId {action.external_id}; if it is there, run this again; if it surely "
                     "is not, run `sigillum enact` with --send-again")
        try:
            return self._until(lambda: self._find_ours(action), self._arrival_seconds, step.about)  # type: ignore[no-any-return]
        except NotYetError:
            return None

    def _after_conflict(self, step: Step, action: Create, settle: Callable[..., None], said: str) -> Thing:
        """409: it was made by an earlier attempt of ours, or the name is a stranger's. Raises in the second case."""
        try:
            return self._until(lambda: self._find_ours(action), self._arrival_seconds, step.about)  # type: ignore[no-any-return]
        except NotYetError:
            pass
        name = str(action.fields.get("name", ""))
        if action.thing in ("account", "role", "principal"):
            name = name or str(action.fields.get("client_id"))
            query = Query(action.thing, "client_id" if action.thing == "principal" else "name", name)
            found = self.tenant.facts([query])[query].first
            if found is not None:
                settle(history.REFUSED, why="the name is taken")
                raise TakenError.of(f"the {action.thing} {name} exists, and Sigillum did not make it", step, action, found,
                                    "keep it, change it or choose another name")
        before = self.state.generations.get((step.facet, step.name), [])
        if any(g.state == "spent" and g.number == step.generation - 1 for g in before):
            # a fresh externalId is refused as well, so it is the thing itself that is said to be there
            settle(history.REFUSED, why="it is said to be there, and is not shown")
            raise TakenError.of(
                f"{step.about}: the answers disagree. Making it says: {said}. Looking it up shows: nothing of that name",
                step, action, None, "run it again later, if it was removed or made there a moment ago; otherwise ask "
                "somebody who may see it, or choose another name")
        settle(history.SPENT)
        raise AgainError(f"{step.about}: its externalId was used before and cannot be used again")

    def _made(self, step: Step, action: Create, fields: Mapping[str, Any], thing: Thing) -> dict[str, Any]:
        """Read it back, and compare with what was sent. Raises NotYetError, RefusedError."""
        back = self._until(lambda: self.tenant.read(action.thing, thing.id), self._arrival_seconds, step.about)
        self.journal.boundary(f"{step.id} read-back")
        wrong = [name for name, value in _comparable(action.thing, fields).items()
                 if name in back.fields and not _same(back.get(name), value)]
        if back.get("progress"):
            self._finished(step, action.thing, thing.id)
        if action.thing == "credential":
            self._complete_file(step, fields, thing.id)
        if wrong:
            raise RefusedError(f"{step.about}: the tenant made it with another {', '.join(wrong)}", where=step.tenant,
                               mend="run `sigillum rehearse` to see the difference")
        return {"id": thing.id, "until": fields.get("until"), "principal": fields.get("principal"),
                "client_id": back.get("client_id")}

    def _change(self, step: Step, action: Change) -> dict[str, Any]:
        identity, version = str(self._value(action.id)), action.version
        fields = {name: self._value(value) for name, value in action.fields.items()}
        if action.thing == "credential":
            self._complete_file(step, action.about, identity)
        for number in range(100):
            reply, settle = self.journal.attempt(
                step, "change", fields,
                lambda v=version: self.tenant.change(action.thing, identity, fields, v),  # type: ignore[misc]
                thing=action.thing, id=identity, **({"undo": dict(step.before)} if action.mark == history.MADE else {}))
            if reply.result is Result.DONE:
                settle(action.mark or history.CHANGED, **({"id": identity} if action.mark else {}))
                break
            if reply.result is Result.STALE:
                settle(history.REFUSED, why="it had changed since it was read")
                self._pause(min(FIRST_PAUSE_SECONDS * 2 ** number, LONGEST_PAUSE_SECONDS), RefusedError(
                    f"{step.about} keeps changing", where=step.tenant, mend="find out who changes it as well"))
                fresh = self.tenant.read(action.thing, identity)
                version = fresh.version if fresh is not None else ""
                continue
            if reply.result is Result.MISSING:
                settle(history.REFUSED, why="it is not there")
                raise AgainError(f"{step.about} is not there any more")
            self._not_done(step, reply, settle, number)

        def shown() -> Thing | None:
            thing = self.tenant.read(action.thing, identity)
            return thing if thing is not None and all(_same(thing.get(n), v) for n, v in fields.items()) else None
        self._until(shown, self._arrival_seconds, f"the change of {step.about}")
        self.journal.boundary(f"{step.id} read-back")
        return {"id": identity}

    def _complete_file(self, step: Step, about: Mapping[str, Any], identity: str) -> None:
        """Write what a consumer needs beside the key, before the credential begins to prove anything."""
        if not self.keys.path(step.name, step.generation).exists():
            return
        made: Mapping[str, Any] = next((self.yields[n] for n in step.needs if "principal" in self.yields.get(n, {})), {})
        if not made:  # by an earlier run
            thing = self.tenant.read("credential", identity)
            made = thing.fields if thing is not None else {}
        about = {n: self._value(about[n]) for n in ABOUT if about.get(n)}
        self.keys.complete(step.name, step.generation, {
            "tenant": step.tenant, "credential_id": identity, **about, "ends": made.get("until"),
            "token_endpoint": self.tenant.token_endpoint})

    def _end(self, step: Step, action: End) -> dict[str, Any]:
        identity = str(self._value(action.id))
        for number in range(100):
            reply, settle = self.journal.attempt(
                step, "end", {"id": identity}, lambda: self.tenant.end(action.thing, identity),
                thing=action.thing, id=identity)
            if reply.result in (Result.DONE, Result.MISSING):
                settle(history.ENDED)
                break
            self._not_done(step, reply, settle, number)
        self._until(lambda: True if self.tenant.read(action.thing, identity) is None else None,
                    self._arrival_seconds, f"the end of {step.about}")
        self.journal.boundary(f"{step.id} read-back")
        return {}

    def _catch(self, step: Step, action: Catch) -> dict[str, Any]:
        identity = str(self._value(action.id))
        for number in range(100):
            reply, settle = self.journal.attempt(
                step, "fetch", {"id": identity}, lambda: self.tenant.fetch_secret(identity), id=identity)
            if reply.result is Result.DONE and reply.secret is not None:
                self.keys.keep_secret(action.credential, action.generation, reply.secret, {"tenant": step.tenant})
                self.journal.boundary(f"{step.id} kept here")
                settle(history.CHANGED)
                self.journal.write(history.KEPT, step, what="secret")
                self._complete_file(step, action.about, identity)
                return {}
            if reply.result is Result.LOST and self.tenant.profile.secret_delivery != "sealed":
                settle(history.LOST, why=reply.detail)
                raise AgainError(f"{step.about}: the answer was lost, and it is given once only")
            if reply.result in (Result.REFUSED, Result.MISSING) and number == 0:
                settle(history.REFUSED, why=reply.detail)
                raise reply.error if isinstance(reply.error, SigillumError) else AgainError(reply.detail)
            self._not_done(step, reply, settle, number)
        raise AgainError(f"{step.about} was not caught")


def _shown(fields: Mapping[str, Any]) -> dict[str, Any]:
    """Fields as they go into the ledger's digest: a secret leaves no trace there."""
    return {n: "(secret)" if isinstance(v, Secret) else v for n, v in fields.items()}


def _names(values: Any) -> list[str]:
    """What is in a list, whether its values stand alone or with something beside them."""
    return [str(v[0]) if isinstance(v, tuple) else str(v) for v in values or ()]


def _comparable(thing: str, fields: Mapping[str, Any]) -> dict[str, Any]:
    """The fields of a creation that a look-up shows in the same words."""
    fields = {n: v for n, v in fields.items() if thing != "credential" or n not in ABOUT}
    shown = {n: fields[n] for n in (
        "name", "display", "role", "place", "until", "from", "limits", "principal", "reach", "where", "redirects", "requests",
        "client_id", "api", "scope", "acts", "only", "networks") if fields.get(n)}
    if str(shown.get("place", "")).startswith("@"):  # a principal as the place, which may just have been made
        shown["place"] = f"@{fields['place_id']}"
    if fields.get("public_key"):
        shown["thumbprint"] = thumbprint(fields["public_key"])
    return shown


def _same(have: Any, want: Any) -> bool:
    if isinstance(have, (list, tuple)) or isinstance(want, (list, tuple)):
        return sorted(have or ()) == sorted(want or ())
    return (have or None) == (want or None)
