"""A workload that gets in by a trust: its profile, and what a program does with one. No workspace is needed for that."""

from __future__ import annotations

import json
import os
import stat
import subprocess
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple

from jsonpointer import JsonPointerException, resolve_pointer

from sigillum.charters.profiles import ProfileFile, ReadsSection, profile_from
from sigillum.core.federation.assertions import look, read
from sigillum.core.federation.conditions import ONE_OF, Condition, Tested
from sigillum.core.federation.trusts import match
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.trusting import TRUST
from sigillum.core.records.history import PROFILED
from sigillum.core.values.errors import FileError, MachineError, RefusedError, SomebodyError, UsageError
from sigillum.core.values.outside import json_of
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import did_you_mean, plain
from sigillum.core.values.times import format_instant, whole_second
from sigillum.ledger.port import Fresh
from sigillum.protocols.addresses import origin_of
from sigillum.protocols.http import Http
from sigillum.reading.given import data_of
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office

from .claims import MOST_BYTES
from .programs import USUAL_LIFE_SECONDS, Given

COMMAND_SECONDS = 30.0


# --- writing one ----------------------------------------------------------------------------------------------------------
def profile_of(office: Office, charter_name: str, only: str, reads: Mapping[str, Any]) -> dict[str, Any]:
    """The profile of a charter's workload. Raises UsageError, SomebodyError."""
    charter = office.charters([charter_name])[0]
    wants = [w for w in charter.trusts if not only or w.name == only]
    if len(wants) != 1:
        known = [w.name for w in charter.trusts]
        what = f"{charter.name} has no trust {only!r}" if only else f"{charter.name} has {len(known) or 'no'} trusts"
        raise UsageError(
            what,
            where="trust profile",
            mend=did_you_mean(only, known) or "name one with --trust" if known else "write some under `trusts`",
        )
    trust, (_, state) = wants[0].trust, office.books.history(charter.name)
    principal, made = state.principal_id(charter.tenant), state.find(TRUST, charter.tenant, name=trust.name)
    if not principal or made is None or not made.id:
        raise SomebodyError(
            f"the trust {trust.name} of {charter.name} was not made yet",
            where=charter.tenant,
            mend=f"run `sigillum enact {charter.name}` first",
        )
    tenant = office.tenants.reach(charter.tenant)
    found: dict[str, Any] = {
        "profile": 1,
        "charter": charter.name,
        "account": charter.identity.name,
        "acts_as": principal,
        "lives_seconds": tenant.profile.token_seconds,
        "tenant": {
            "name": charter.tenant,
            "address": tenant.address.address,
            "issuer": tenant.profile.issuer,
            "endpoint": tenant.token_endpoint,
            "decisions": tenant.profile.decisions,
        },
        "trust": {
            "id": made.id,
            "name": trust.name,
            "issuer": trust.issuer,
            "audience": trust.audience,
            "subject": trust.subject,
            "when": [_said(c) for c in trust.when],
            **({"acts_as": list(trust.acts_as)} if trust.acts_as else {}),
        },
        "reads": dict(reads),
    }
    profile_from(json.dumps(found), "the profile")  # what is written can be read
    return found


def _said(condition: Condition) -> dict[str, Any]:
    value = list(condition.value) if condition.op == ONE_OF else condition.value
    why = {"inside_name": condition.inside_name} if condition.inside_name else {}
    return {"claim": list(condition.claim), condition.op: value, **why}


class WrittenProfile(NamedTuple):
    """A profile that was written here. `exists`: whether its tenant shows the trust that it names; None: that is not shown."""

    trust: str
    to: str
    at: str
    id: str
    exists: bool | None


def note(office: Office, charter: str, found: Mapping[str, Any], to: str) -> None:
    """Write down that a profile was written: when its trust is replaced, it has to be written again."""
    ledger, trust = office.books.writable_ledger(), found["trust"]
    with ledger.claim(CLAIM, BRIEFLY_SECONDS):
        uid, at = office.books.make_known(charter), format_instant(whole_second(datetime.now(UTC)))
        ledger.append([Fresh(PROFILED, uid, {"trust": trust["name"], "id": trust["id"], "to": to, "at": at})])


def written(office: Office, charter_name: str) -> list[WrittenProfile]:
    """The profiles that were written of a charter, each with what its tenant shows of its trust now."""
    charter, (_, state) = office.charters([charter_name])[0], office.books.history(charter_name)
    if not state.profiles:
        return []
    looked = {i: Query(TRUST, "id", i) for i, _ in state.profiles.values()}
    facts = office.tenants.reach(charter.tenant).facts(looked.values())
    shown = {i: bool(facts[q].records) if facts[q].known else None for i, q in looked.items()}
    return [WrittenProfile(trust, to, at, i, shown[i]) for (trust, to), (i, at) in state.profiles.items()]


# --- using one --------------------------------------------------------------------------------------------------------------
def load(file: str, *, commands: bool) -> ProfileFile:
    """A profile that nobody else can have changed. Raises FileError, MachineError, UsageError."""
    try:
        with Path(file).open(encoding="utf-8") as opened:
            about, text = os.fstat(opened.fileno()), opened.read(MOST_BYTES)
    except (OSError, UnicodeDecodeError) as problem:
        raise FileError(
            "the profile cannot be read", where=file, mend="`trust profile` writes one; check the path"
        ) from problem
    if about.st_mode & (stat.S_IWGRP | stat.S_IWOTH) or about.st_uid not in (0, os.geteuid()):
        raise MachineError(
            "others can write this profile, and it says where tokens go",
            where=file,
            mend="make it yours and nobody else's to write: `chmod go-w`",
        )
    profile = profile_from(text, file)
    if profile.reads.command is not None and not commands:
        raise UsageError(
            f"it runs a command to read its token: {plain(' '.join(profile.reads.command))[:80]}",
            where=file,
            mend="say --allow-command where that is right",
        )
    theirs = {str(origin_of(a)) for a in (profile.tenant.address, profile.tenant.issuer)}
    for name, address in (("endpoint", profile.tenant.endpoint), ("decisions", profile.tenant.decisions)):
        if address and str(origin_of(address)) not in theirs:
            raise UsageError(
                f"its {name} lies elsewhere than its tenant: {plain(address)}",
                where=file,
                mend=f"have a new profile written; tokens go to {' and '.join(sorted(theirs))} alone",
            )
    return profile


def outside(reads: ReadsSection, environment: Mapping[str, str], timeout_seconds: float = 15.0) -> str:
    """The workload's own token. Raises FileError, RefusedError, UnreachableError."""
    if reads.variable is not None:
        text = environment.get(reads.variable, "")
        where = f"variable {reads.variable}"
    elif reads.command is not None:
        text, where = _run(reads.command, environment), "command"
    elif reads.address is not None:
        http = Http(origins=[reads.address], timeout_seconds=timeout_seconds)
        answer = http.send("GET", reads.address, {"Accept": "application/json, text/plain", **reads.header})
        if answer.status != 200:
            raise RefusedError(
                f"this machine is given no token there (status {answer.status})",
                where=plain(reads.address),
                mend="does it run where that address is?",
            )
        text, where = answer.body.decode("utf-8", "replace"), plain(reads.address)
    else:
        assert reads.file is not None
        data, where = data_of(reads.file, MOST_BYTES), reads.file
        text = data[:MOST_BYTES].decode("utf-8", "replace")
    if reads.at:
        try:
            found = resolve_pointer(json_of(text), reads.at)
        except (ValueError, JsonPointerException, TypeError) as problem:
            raise FileError(f"nothing stands at {reads.at}", where=where, mend="look at what is there") from problem
        text = found if isinstance(found, str) else ""
    if not text.strip():
        raise FileError("there is no token", where=where, mend="does this run where the workload's identity is given?")
    return text.strip()


def _run(command: list[str], environment: Mapping[str, str]) -> str:
    try:
        ran = subprocess.run(  # noqa: S603 - a person allowed it
            command,
            env=dict(environment),
            stdout=subprocess.PIPE,
            stdin=subprocess.DEVNULL,
            check=False,
            timeout=COMMAND_SECONDS,
        )
    except (OSError, subprocess.TimeoutExpired) as problem:
        raise FileError(
            f"the command that reads the token did not run: {type(problem).__name__}",
            where=command[0],
            mend="run it by itself first",
        ) from problem
    if ran.returncode:
        raise FileError(
            f"the command that reads the token ended with {ran.returncode}", where=command[0], mend="run it by itself first"
        )
    return ran.stdout[:MOST_BYTES].decode("utf-8", "replace")


def let_in(profile: ProfileFile, environment: Mapping[str, str], *, timeout_seconds: float = 15.0, log: Any = None) -> Given:
    """Read the workload's token, see that it is the right one, and exchange it. Raises SomebodyError, RefusedError, ..."""
    from sigillum.protocols import authzen, oauth

    text = outside(profile.reads, environment, timeout_seconds)
    token, trust = read(text), profile.trust.to_core()
    found = match(trust, token.claims, profile.account)
    if not found.holds:
        raise SomebodyError(
            f"this is not the workload that {trust.name} lets in: {_words_for(found.nearest)}",
            where=profile.charter,
            mend="does the profile lie on the right machine? `trust try` shows each condition",
        )
    late = next((f for f in look(token, datetime.now(UTC)) if f.code == "ended"), None)
    if late is not None:
        raise SomebodyError(
            f"the workload's own token is old: {late.what}", where=profile.charter, mend="whatever writes it has stopped"
        )
    tenant = profile.tenant
    http = Http(origins=[tenant.address, tenant.issuer], timeout_seconds=timeout_seconds, log=log)
    got = oauth.token_for_token(
        http, oauth.Metadata(tenant.issuer, tenant.endpoint), Secret(text), profile.trust.id, profile.acts_as
    )
    if tenant.decisions and authzen.let_in(http, tenant.decisions, f"Bearer {got.value.reveal()}", profile.acts_as) is not True:
        raise RefusedError(
            "what the tenant gave is no token of that account, and was dropped",
            where=tenant.name,
            mend="ask the tenant's operator",
        )
    life = got.lives_seconds or profile.lives_seconds or USUAL_LIFE_SECONDS
    return Given(
        profile.charter,
        {"TOKEN": got.value, "HEADER": Secret(f"Authorization: Bearer {got.value.reveal()}")},
        {"TENANT": tenant.address},
        max(life * 2 / 3, 1.0),
    )


def _words_for(verdict: Tested | None) -> str:
    """The condition that does not hold, with what stands there."""
    if verdict is None:
        return "no condition is known"
    there = f"; there stands {verdict.found!r}" if verdict.found else ""
    return f"{verdict.test.words()}: {verdict.why}{there}"
