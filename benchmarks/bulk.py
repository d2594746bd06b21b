"""Enacting 200 charters: CPU a request against the bare library, and the rate against a shell script with curl."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from benchmarks.tools import SIGILLUM, Measured, cpu_seconds, workspace

CHARTERS = 200
BARE_REQUESTS = 2000
BARE = """
import json, sys, urllib3
pool = urllib3.PoolManager()
token, address, count = open("token").read().strip(), sys.argv[1], int(sys.argv[2])
headers = {"Authorization": "Bearer " + token, "Content-Type": "application/scim+json"}
body = {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "displayName": "x"}
for number in range(count):
    if number % 3 == 0:
        sent = json.dumps({**body, "userName": f"bare-{number}"}).encode()
        made = json.loads(pool.request("POST", address + "/Users", body=sent, headers=headers).data)
    else:
        json.loads(pool.request("GET", address + "/Users/" + made["id"], headers=headers).data)
"""
SHELL = """
token=$(cat token)
for n in $(seq {count}); do
  curl -s -o made -H "Authorization: Bearer $token" -H 'Content-Type: application/scim+json' \\
    -d "{{\\"schemas\\": [\\"urn:ietf:params:scim:schemas:core:2.0:User\\"], \\"userName\\": \\"shell-$n\\"}}" {address}/Users
  id=$(sed 's/.*"id": "\\([^"]*\\)".*/\\1/' made)
  curl -s -o /dev/null -H "Authorization: Bearer $token" {address}/Users/$id
done
"""


def measure(folder: Path) -> list[Measured]:
    house = folder / "bulk"
    with workspace(house, CHARTERS) as about:
        address = str(about["tenants"]["summit"]["address"])
        token = house / ".sigillum" / "sandbox" / "summit.ada.rusk.token"
        (house / "token").write_text(token.read_text())
        requests_ = _count(house, about)
        cpu, wall = cpu_seconds([*SIGILLUM, "enact", "--all", "--yes"], house)
        each = cpu / requests_
        bare_cpu, bare_wall = cpu_seconds([sys.executable, "-c", BARE, address, str(BARE_REQUESTS)], house)
        idle, _ = cpu_seconds([sys.executable, "-c", "import json, sys, urllib3"], house)
        bare = (bare_cpu - idle) / BARE_REQUESTS
        found = [Measured("CPU a request, enacting 200 charters, against bare urllib3", each / bare, 2.5,
                          f"{each * 1e3:.2f} ms over {requests_} requests in {wall:.1f} s, "
                          f"{bare * 1e3:.2f} ms ({BARE_REQUESTS / bare_wall:.0f} a second)")]
        if shutil.which("curl"):
            found.append(_shell(house, address, requests_ / wall))
    return found


def _count(house: Path, about: dict[str, Any]) -> int:
    """How many requests one charter takes, by the log; the first also discovers the tenant."""
    told = subprocess.run([*SIGILLUM, "-v", "enact", "wind-0", "--yes"], cwd=house, check=True, capture_output=True,
                          text=True).stderr
    lines = [line for line in told.splitlines() if re.search(r" -> \d+", line)]
    shared = sum(1 for line in lines if re.search(r"/(ResourceTypes|TenantProfiles|oauth-authorization-server)", line))
    again = subprocess.run([*SIGILLUM, "-v", "rehearse", "wind-0"], cwd=house, check=True, capture_output=True, text=True).stderr
    settled = sum(1 for line in again.splitlines() if " -> " in line)
    return (len(lines) - shared) * (CHARTERS - 1) + settled


def _shell(house: Path, address: str, rate: float) -> Measured:
    count = 100
    script = house / "script.sh"
    script.write_text(SHELL.format(count=count, address=address))
    begun = time.perf_counter()
    subprocess.run(["/bin/sh", str(script)], cwd=house, check=True)
    theirs = 2 * count / (time.perf_counter() - begun)
    return Measured("requests a second against a shell script with one curl a request", rate / theirs, 10,
                    f"{rate:.0f} a second, {theirs:.0f} a second", at_most=False)
