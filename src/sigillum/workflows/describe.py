"""Writing charters: a new one, one that describes an account as it stands, and renaming."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from sigillum.charters import files
from sigillum.core.charter.charter import KEY_PAIR
from sigillum.core.kinds.access import GRANT, Grant
from sigillum.core.kinds.identities import ACCOUNT, TEAM, Account, Team
from sigillum.core.kinds.kind import Fact, Query, Record
from sigillum.core.kinds.signing import CREDENTIAL, Credential
from sigillum.core.records.history import RENAMED
from sigillum.core.values.errors import FileError, Mistake, Position, SomebodyError, UsageError
from sigillum.core.values.text import CHARTER_NAME
from sigillum.core.values.times import format_duration, format_instant
from sigillum.keeping.private import write_private
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Tenant

from .office import CLAIM, Office

DAY = 86_400


@dataclass(frozen=True, slots=True)
class Wanted:
    """The answers to the questions of `charter new`."""

    name: str
    tenant: str
    purpose: str
    owner: str
    role: str = ""
    at: str = ""


def _scalar(value: str) -> str:
    """A text as YAML, quoted only where it must be."""
    plain = re.match(r"[A-Za-z][\w @./+()'-]*\Z", value) and value.strip() == value
    words = ("true", "false", "null", "yes", "no", "on", "off")
    return value if plain and value.lower() not in words and " #" not in value else json.dumps(value, ensure_ascii=False)


def new(office: Office, wanted: Wanted) -> Path:
    """Write a charter to begin with. Raises FileError where the name is taken or an answer is wrong."""
    path = _free(office, wanted.name)
    usual = office.workspace.file.defaults
    review = files.review_day(datetime.now(UTC).date(), usual.review_after)
    lines = [f"charter: {wanted.name}", f"tenant: {wanted.tenant}", f"purpose: {_scalar(wanted.purpose)}"]
    if wanted.owner and wanted.owner != usual.owner:
        lines.append(f"owner: {wanted.owner}")
    lines += [f"review: {review}", "", "identity:", "  kind: service-account", f"  name: {wanted.name}", "", "grants:"]
    lines += [f"  - role: {_scalar(wanted.role)}", f"    at: {wanted.at}", f"    because: {_scalar(wanted.purpose)}", ""]
    lines += ["credentials:", f"  - name: {wanted.name}-key", "    kind: key-pair",
              f"    lasts: {format_duration(usual.credential_lasts)}", "",
              "# What must work, and what must not. Permissions that change data are tried only at test objects.",
              "proofs: []", ""]
    _write(path, "\n".join(lines))
    try:
        files.load(office.workspace, path)
    except FileError:
        path.unlink()
        raise
    return path


def _write(path: Path, text: str) -> None:
    path.parent.mkdir(exist_ok=True)
    write_private(path, text)
    path.chmod(0o644)


def _free(office: Office, name: str) -> Path:
    """The file for a new charter. Raises FileError (name taken) and UsageError."""
    if not CHARTER_NAME.match(name):
        raise UsageError(f"{name!r} cannot be a charter's name", where="charter",
                         mend="use small letters, digits and dashes, 63 at most")
    taken = files.names(office.workspace).get(name)
    path = office.workspace.charters / f"{name}.yaml"
    if taken or path.exists():
        shown = files.shown_path(office.workspace, taken[0] if taken else path)
        mistake = Mistake("name-taken", f"the charter name {name!r} is taken", "choose another name", Position(shown))
        raise FileError(mistake.what, where=shown, mend=mistake.mend, mistakes=(mistake,))
    return path


def from_principal(office: Office, name: str, tenant_name: str, principal: str) -> Path:
    """Write the charter that describes an account as it stands. Raises SomebodyError where there is none."""
    path = _free(office, name)
    tenant = office.tenants.reach(tenant_name)
    account = _account(tenant, principal)
    teams, grants = Query(TEAM, "member", account.id), Query(GRANT, "principal", account.id)
    credentials = Query(CREDENTIAL, "principal", account.id)
    facts = tenant.facts([teams, grants, credentials])
    lines = _about(name, tenant_name, account.body)
    lines += _teams(facts[teams])
    lines += _grants(facts[grants], account)
    lines += _credentials(facts[credentials])
    _write(path, "\n".join(lines) + "\n")
    return path


def _account(tenant: Tenant, principal: str) -> Record[Account]:
    queries = [Query(ACCOUNT, "name", principal), Query(ACCOUNT, "id", principal)]
    found = next((f.first for f in tenant.facts(queries).values() if f.first is not None), None)
    if found is None:
        raise SomebodyError(f"{tenant.address.name} shows no account {principal!r}", where=tenant.address.name,
                            mend="give its name or principal id as the tenant has it")
    return found


def _about(name: str, tenant: str, account: Account) -> list[str]:
    lines = [f"charter: {name}", f"tenant: {tenant}"]
    if account.stage:
        lines.append(f"stage: {account.stage}")
    lines.append(f"purpose: {_scalar(account.purpose or f'Described from the account {account.name}')}")
    lines += [f"{who}: {_scalar(value)}" for who, value in (("owner", account.owner), ("deputy", account.deputy)) if value]
    lines += ["", "identity:", "  kind: service-account", f"  name: {_scalar(account.name)}"]
    if account.location:
        lines.append(f"  location: {_scalar(account.location)}")
    if account.display and account.display != account.name:
        lines.append(f"  display: {_scalar(account.display)}")
    return lines


def _teams(fact: Fact[Team]) -> list[str]:
    names = [_scalar(r.body.name) for r in fact.records]
    return ["", f"member_of: [{', '.join(names)}]"] if names else []


def _grants(fact: Fact[Grant], account: Record[Account]) -> list[str]:
    """Its grants; one where another principal is the place is that one's own page to tell."""
    own = [r.body for r in fact.records if not r.body.place.startswith("@") or r.body.place == f"@{account.id}"]
    lines = ["", "grants:"] if own else []
    for grant in own:
        parts: dict[str, Any] = {"role": grant.role, "at": "self" if grant.place.startswith("@") else grant.place,
                                 "because": grant.reason, "from": format_instant(grant.start) if grant.start else "",
                                 "until": format_instant(grant.until) if grant.until else ""}
        written = [f"{k}: {_scalar(str(v))}" for k, v in parts.items() if v]
        rules = [f"{_scalar(n)}: [{', '.join(_scalar(v) for v in values)}]" for n, values in grant.where]
        written += [f"where: {{{', '.join(rules)}}}"] if rules else []
        lines += [f"  {'- ' if i == 0 else '  '}{line}" for i, line in enumerate(written)]
    return lines


def _credentials(fact: Fact[Credential]) -> list[str]:
    lines: list[str] = []
    for held in (r.body for r in fact.records):
        if held.type != KEY_PAIR or not CHARTER_NAME.match(held.name):
            continue
        begun = held.start or datetime.now(UTC)
        ends = held.until or begun + timedelta(days=90)
        days = max(1, min(365, round((ends - begun).total_seconds() / DAY)))
        lines += [f"  - name: {_scalar(held.name)}", "    kind: key-pair", f"    lasts: {days}d",
                  "    keep_in: holder          # its private half is with whoever uses it now"]
        if held.limits:
            lines.append(f"    limits: [{', '.join(held.limits)}]")
    return ["", "credentials:", *lines] if lines else []


def rename(office: Office, old: str, new_name: str) -> Path:
    """Give a charter another name; what it made stays its own. Raises FileError, UsageError."""
    path = files.path_of(office.workspace, old)
    fresh = _free(office, new_name)
    with office.books.ledger(write=True).claim(CLAIM, 0.0):
        text = path.read_text(encoding="utf-8")
        changed = re.sub(r"(?m)^(charter:[ \t]*)[\"']?" + re.escape(old) + r"[\"']?(?=[ \t]*(#|$))",
                         lambda m: m[1] + new_name, text, count=1)
        if changed == text:
            raise FileError("the line `charter:` cannot be rewritten", where=str(path),
                            mend=f"write `charter: {old}` on a line of its own, then rename again")
        ledger = office.books.ledger(write=True)
        uid = ledger.uid_of(old)
        if uid is not None:
            ledger.append([Fresh(RENAMED, uid, {"name": new_name, "before": old})])
        target = fresh if path.stem == old else path
        _write(target, changed)
        if target != path:
            path.unlink()
    return target
