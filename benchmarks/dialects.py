"""What a request costs that a dialect describes, against one of the driver `open`: accounts made, read, found and ended."""

from __future__ import annotations

import json
import statistics
import time
from pathlib import Path

from benchmarks.tools import Measured, workspace
from sigillum.core.kinds.changes import End, Make
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query
from sigillum.core.values.secret import Secret
from sigillum.tenants.port import Address, Link, Result, Tenant
from sigillum.tenants.registry import connect

EXAMPLE = Path(__file__).parents[1] / "src" / "sigillum" / "example" / "dialects" / "lanterns.yaml"
ROUNDS, ACCOUNTS = 9, 40


def cpu_a_request(tenant: Tenant, lines: list[str], round_: int) -> float:
    """Seconds of this process for each request, in one round."""
    lines.clear()
    begun = time.process_time()
    for number in range(ACCOUNTS):
        name = f"cost-{round_}-{number}"
        made = tenant.make(Make(ACCOUNT, {"name": name, "display": "Cost", "active": True}), f"mark-{name}")
        assert made.result is Result.DONE, made
        assert made.record is not None
        assert tenant.read(ACCOUNT, made.record.id) is not None
        assert tenant.facts([Query(ACCOUNT, "name", name)])[Query(ACCOUNT, "name", name)].first is not None
        assert tenant.end(End(ACCOUNT, made.record.id)).result is Result.DONE
    return (time.process_time() - begun) / len(lines)


def measure(folder: Path) -> list[Measured]:
    house = folder / "dialects"
    with workspace(house, slow=False) as running:
        (house / "dialects").mkdir(exist_ok=True)
        (house / "dialects" / "lanterns.yaml").write_text(EXAMPLE.read_text())
        lines = {"summit": list[str](), "lanterns": list[str]()}
        tenants = dict[str, Tenant]()
        for name, admin, driver in (("summit", "ada.rusk", "open"), ("lanterns", "ines.vole", "dialect")):
            token = Secret((house / ".sigillum" / "sandbox" / f"{name}.{admin}.token").read_text().strip())
            address = Address(name, running["tenants"][name]["address"], admin=admin, driver=driver)
            tenants[name] = connect(address, Link(token, house, log=lines[name].append))
        for name, tenant in tenants.items():  # a warm-up
            cpu_a_request(tenant, lines[name], 0)
        rounds = [[cpu_a_request(tenants[n], lines[n], r) for n in ("lanterns", "summit")] for r in range(1, ROUNDS + 1)]
    ours, open_ = (statistics.median(r[i] for r in rounds) for i in (0, 1))
    return [
        Measured(
            "CPU a request that a dialect describes, against the driver open",
            statistics.median(a / b for a, b in rounds),
            1.3,
            json.dumps({"dialect_us": round(ours * 1e6), "open_us": round(open_ * 1e6)}),
        )
    ]
