"""A cluster: local accounts, workloads that run as one, and groups of machines that share one identity or give each workload
its own. A workload notices what changed when it starts.
"""

from __future__ import annotations

import uuid
from typing import Any

from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.clock import moment_of, stamp
from sigillum.sandbox.worlds.world import Tenant

Json = dict[str, Any]
MACHINE, WORKLOAD = "machine", "workload"  # whose identity a group's machines give


def _local(tenant: Tenant, compartment: str, name: str) -> tuple[str, Json] | None:
    return next(
        (
            (i, d)
            for i, d in tenant.store.by("LocalAccount", "name", name)
            if (d["compartment"], d["name"]) == (compartment, name)
        ),
        None,
    )


def on_create(tenant: Tenant, kind: str, data: Json) -> None:
    """Check and complete a new one. Raises ScimProblem."""
    now = stamp(tenant.clock.now())
    if kind == "LocalAccount":
        if _local(tenant, data["compartment"], data["name"]) is not None:
            raise ScimProblem(409, "name: there is a local account of that name in the compartment", "uniqueness")
        data |= {"uid": str(uuid.uuid4()), "subject": f"{tenant.name}:{data['compartment']}:{data['name']}", "linkedAt": now}
    elif kind == "Workload":
        data.setdefault("startedAt", now)
    elif kind == "MachineGroup":
        data.setdefault("identities", MACHINE)


def on_update(tenant: Tenant, kind: str, identity: str, data: Json, before: Json) -> None:
    """Note since when a local account acts as somebody; a switch of a group is accepted, and finished later."""
    data |= {n: before[n] for n in ("uid", "subject", "linkedAt", "startedAt", "madeLater") if n in before}
    if kind == "LocalAccount" and data.get("links") != before.get("links"):
        issuers = [one.get("issuer") for one in data.get("links", [])]
        if len(set(issuers)) != len(issuers) or not all(issuers):
            raise ScimProblem(400, "links: it acts as one principal at each issuer", "invalidValue")
        data["linkedAt"] = stamp(tenant.clock.now())
    if kind == "MachineGroup" and data.get("identities") != before.get("identities") and not data.get("madeLater"):
        tenant.begin_slowly(kind, identity, 0)


def start(tenant: Tenant, name: str) -> None:
    """A workload starts anew. Raises ValueError."""
    found = next(iter(tenant.store.by("Workload", "name", name)), None)
    if found is None:
        raise ValueError(f"{tenant.name} has no workload {name}")
    tenant.store.update(KINDS["Workload"], found[0], {**found[1], "startedAt": stamp(tenant.clock.now())})


def _runs(tenant: Tenant, data: Json, group_name: str) -> Json:
    """One instance: since when it runs, and as whom."""
    shared = {"group": group_name, "startedAt": data["startedAt"], "runsAs": f"{tenant.name}:machines:{group_name}"}
    group = next(iter(tenant.store.by("MachineGroup", "name", group_name)), None)
    if group is None or group[1].get("identities") != WORKLOAD or tenant.progress(group[0]) == "accepted":
        return shared
    begun = moment_of(data["startedAt"])
    if group[0] in tenant.slow:  # its machines were made anew, and what ran on them started anew
        begun = max(begun, tenant.slow[group[0]][0])
    local = _local(tenant, data["compartment"], data.get("account") or "default")
    if local is None or not local[1].get("links") or begun < moment_of(local[1]["linkedAt"]):
        return {**shared, "startedAt": stamp(begun)}
    return {**shared, "startedAt": stamp(begun), "runsAs": local[1]["subject"]}


def computed(tenant: Tenant, kind: str, data: Json) -> Json:
    """A workload with what runs of it."""
    return {**data, "instances": [_runs(tenant, data, g) for g in data.get("groups", [])]} if kind == "Workload" else data


def claims_of(tenant: Tenant, name: str) -> tuple[str, Json] | None:
    """The subject and the claims of a workload's tokens, of its first instance; None where there is no such workload."""
    found = next(iter(tenant.store.by("Workload", "name", name)), None)
    if found is None or not found[1].get("groups"):
        return None
    subject = str(_runs(tenant, found[1], found[1]["groups"][0])["runsAs"])
    local = _local(tenant, found[1]["compartment"], found[1].get("account") or "default")
    own = local is not None and local[1]["subject"] == subject
    about = (
        {"compartment": found[1]["compartment"], "local_account": {"name": local[1]["name"], "id": local[1]["uid"]}}
        if own and local is not None
        else {"machines": subject.rpartition(":")[2]}
    )
    return subject, {"cluster": {"name": tenant.name}, **about}
