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
ROUNDS = 120
# The same sixteen exchanges that a charter takes, by the library alone: what is sent is written as JSON, what comes is read.
BARE = """
import base64, json, os, sys, urllib3
from urllib.parse import urlencode
pool = urllib3.PoolManager()
run, scim, rounds = sys.argv[1], sys.argv[2], int(sys.argv[3])
base = scim.removesuffix("/scim/v2")
bearer = {"Authorization": "Bearer " + open("token").read().strip(), "Accept": "application/scim+json"}
typed = {**bearer, "Content-Type": "application/scim+json"}
form = {"Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json"}
own, core = "urn:sigillum:scim:1.0:", "urn:ietf:params:scim:schemas:core:2.0:"
def read(answer):
    return json.loads(answer.data)
def look(kind, filter_):
    return read(pool.request("GET", f"{scim}/{kind}?" + urlencode({"filter": filter_}), headers=bearer))["Resources"]
def make(kind, body):
    made = read(pool.request("POST", f"{scim}/{kind}", body=json.dumps(body).encode(), headers=typed))["id"]
    read(pool.request("GET", f"{scim}/{kind}/{made}", headers=bearer))
    return made
def link(kind, id_):
    return {"value": id_, "$ref": f"{scim}/{kind}/{id_}"}
for number in range(rounds):
    name = f"bare-{run}-{number}"
    look("Users", f'userName eq "{name}"')
    role = look("Roles", 'name eq "stream-writer"')[0]["id"]
    place = look("Places", 'path eq "brindlemoor/sensing-prod" or path eq "brindlemoor/sensing-prod/streams/mast-4"')[0]["id"]
    user = make("Users", {"schemas": [core + "User", own + "ServiceAccount"], "externalId": name, "userName": name,
                          "displayName": "Wind readings ingest", "active": True, own + "ServiceAccount": {
                              "kind": "service-account", "purpose": "Store wind readings", "owner": "mara.teel@x.example"}})
    make("Grants", {"schemas": [own + "Grant"], "externalId": name, "principal": link("Users", user),
                    "role": link("Roles", role), "place": link("Places", place), "reason": "stores the readings"})
    x = base64.urlsafe_b64encode(os.urandom(32)).rstrip(b"=").decode()
    key = make("Credentials", {"schemas": [own + "Credential"], "externalId": name, "principal": link("Users", user),
                               "name": "ingest-key", "kind": "key-pair", "active": False, "limits": ["stream.append"],
                               "publicKey": {"kty": "OKP", "crv": "Ed25519", "x": x}})
    change = {"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
              "Operations": [{"op": "replace", "path": "active", "value": True}]}
    read(pool.request("PATCH", f"{scim}/Credentials/{key}", body=json.dumps(change).encode(), headers=typed))
    read(pool.request("GET", f"{scim}/Credentials/{key}", headers=bearer))
    for path in ("token", "introspect"):
        sent = urlencode({"grant_type": "urn:ietf:params:oauth:grant-type:jwt-bearer", "assertion": "x" * 400})
        read(pool.request("POST", f"{base}/oauth/{path}", body=sent.encode(), headers=form))
    look("Places", 'path eq "brindlemoor/sensing-prod/streams/mast-test" or path eq "brindlemoor/sensing-prod/streams/mast-4"')
    for path in ("work/streams/brindlemoor/sensing-prod/streams/mast-test", "access/v1/evaluation"):
        body = {"subject": {"type": "service-account", "id": user}, "action": {"name": "stream.delete"},
                "resource": {"type": "place", "id": "brindlemoor"}}
        read(pool.request("POST", f"{base}/{path}", body=json.dumps(body).encode(), headers=typed))
"""
SHELL = r"""
# The same job, one curl a request: account, grant, key, credential, each read back; signing in; two proofs.
token=$(cat token); scim={address}; base=${{scim%/scim/v2}}; type='Content-Type: application/scim+json'
send() {{ curl -s -o answer -X "$1" -H "Authorization: Bearer $token" -H "$type" ${{3:+-d "$3"}} "$2"; }}
id() {{ sed 's/.*"id": "\([0-9a-f]*\)".*/\1/' answer; }}
look() {{ curl -s -o answer -G -H "Authorization: Bearer $token" --data-urlencode "filter=$2" "$scim/$1"; }}
b64() {{ openssl base64 -A | tr '+/' '-_' | tr -d '='; }}
sign() {{
  now=$(date +%s); head=$(printf '{{"alg":"EdDSA","typ":"JWT"}}' | b64)
  claims=$(printf '{{"iss":"%s","sub":"%s","aud":"%s","iat":%s,"exp":%s,"jti":"%s"}}' $user $user $base $now $((now+60)) $1 | b64)
  printf '%s.%s' $head $claims > message
  printf '%s.%s.%s' $head $claims $(openssl pkeyutl -sign -rawin -inkey key -in message | b64)
}}
for n in $(seq {count}); do
  look Users "userName eq \"shell-$n\""
  look Roles 'name eq "stream-writer"'; role=$(id)
  look Places 'path eq "brindlemoor/sensing-prod"'; place=$(id)
  send POST $scim/Users "{{\"schemas\": [\"urn:ietf:params:scim:schemas:core:2.0:User\"], \"userName\": \"shell-$n\"}}"; user=$(id)
  send GET $scim/Users/$user
  who="\"principal\": {{\"\$ref\": \"../Users/$user\"}}"
  send POST $scim/Grants "{{\"schemas\": [\"urn:sigillum:scim:1.0:Grant\"], $who, \"role\": {{\"\$ref\": \"../Roles/$role\"}}, \"place\": {{\"\$ref\": \"../Places/$place\"}}}}"
  send GET $scim/Grants/$(id)
  openssl genpkey -algorithm ed25519 -out key 2>/dev/null
  x=$(openssl pkey -in key -pubout -outform DER | tail -c 32 | b64)
  send POST $scim/Credentials "{{\"schemas\": [\"urn:sigillum:scim:1.0:Credential\"], $who, \"kind\": \"key-pair\", \"publicKey\": {{\"kty\": \"OKP\", \"crv\": \"Ed25519\", \"x\": \"$x\"}}}}"; key=$(id)
  send GET $scim/Credentials/$key
  send PATCH $scim/Credentials/$key '{{"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [{{"op": "replace", "path": "active", "value": true}}]}}'
  send GET $scim/Credentials/$key
  curl -s -o answer -d grant_type=urn:ietf:params:oauth:grant-type:jwt-bearer -d assertion=$(sign a$n) $base/oauth/token
  access=$(sed 's/.*"access_token":"\([^"]*\)".*/\1/' answer)
  curl -s -o answer -d token=$access -d client_assertion_type=urn:ietf:params:oauth:client-assertion-type:jwt-bearer -d client_assertion=$(sign b$n) $base/oauth/introspect
  curl -s -o answer -H "Authorization: Bearer $access" -d '{{"items": [{{"note": "x"}}]}}' $base/work/streams/brindlemoor/sensing-prod/streams/mast-test
  curl -s -o answer -H "Authorization: Bearer $access" -d "{{\"subject\": {{\"type\": \"service-account\", \"id\": \"$user\"}}, \"action\": {{\"name\": \"stream.delete\"}}, \"resource\": {{\"type\": \"place\", \"id\": \"brindlemoor/sensing-prod/streams/mast-4\"}}}}" $base/access/v1/evaluation
done
grep -q '"decision":false' answer
"""
REQUESTS_A_ROUND, REQUESTS_A_CHARTER = 15, 16


TIMES = 3


def measure(folder: Path) -> list[Measured]:
    runs = [_once(folder / f"bulk-{number}") for number in range(TIMES)]
    middle = [sorted(part)[TIMES // 2] for part in zip(*runs, strict=True)]
    found = [
        Measured(
            "CPU a request, enacting 200 charters, against bare urllib3",
            middle[0],
            2.5,
            f"{middle[2] * 1e3:.2f} ms ({middle[3] * 1e3:.2f} ms with start-up), {middle[4] * 1e3:.2f} ms",
        )
    ]
    if middle[5]:
        found.append(
            Measured(
                "requests a second against a shell script that does the same with one curl a request",
                middle[1],
                10,
                f"{middle[6]:.0f} a second, {middle[5]:.0f} a second",
                at_most=False,
            )
        )
    return found


def _once(house: Path) -> tuple[float, ...]:
    """Ratio of CPU, ratio of rates, CPU a request without and with start-up, the library's, rates of the script and ours."""
    with workspace(house, CHARTERS) as about:
        address = str(about["tenants"]["summit"]["address"])
        token = house / ".sigillum" / "sandbox" / "summit.ada.rusk.token"
        (house / "token").write_text(token.read_text())
        requests_ = _count(house, about)
        scripted = bool(shutil.which("curl") and shutil.which("openssl"))
        others = [_shell(house, address, "before")] if scripted else []
        before = _bare(house, address, 0)
        cpu, wall = cpu_seconds([*SIGILLUM, "enact", "--all", "--yes"], house)
        each = (cpu - _starting(house)) / requests_
        bare_cpu, _ = sorted([before, *(_bare(house, address, n) for n in (1, 2))])[1]
        idle, _ = cpu_seconds([sys.executable, "-c", "import base64, json, os, sys, urllib3"], house)
        bare = (bare_cpu - idle) / (ROUNDS * REQUESTS_A_CHARTER)
        others += [_shell(house, address, "after")] if scripted else []
        other = sum(others) / 2
        return each / bare, requests_ / wall / other if other else 0.0, each, cpu / requests_, bare, other, requests_ / wall


def _starting(house: Path) -> float:
    """CPU of starting, loading every library and reading all charters: what the bare library's figure is without, too."""
    all_, one, proving = (
        cpu_seconds([*SIGILLUM, *command], house)[0]
        for command in (("charter", "check", "--all"), ("charter", "check", "wind-0"), ("prove", "wind-0"))
    )
    return all_ + proving - one


def _bare(house: Path, address: str, run: int) -> tuple[float, float]:
    """CPU and wall seconds of such exchanges by the library alone; one run before ours, two after."""
    return cpu_seconds([sys.executable, "-c", BARE, str(run), address, str(ROUNDS)], house)


def _count(house: Path, about: dict[str, Any]) -> int:
    """How many requests one charter takes, by the log; the first also discovers the tenant."""
    told = subprocess.run(
        [*SIGILLUM, "-v", "enact", "wind-0", "--yes"], cwd=house, check=True, capture_output=True, text=True
    ).stderr
    lines = [line for line in told.splitlines() if re.search(r" -> \d+", line)]
    shared = sum(1 for line in lines if re.search(r"/(ResourceTypes|TenantProfiles|oauth-authorization-server)", line))
    again = subprocess.run(
        [*SIGILLUM, "-v", "rehearse", "wind-0"], cwd=house, check=True, capture_output=True, text=True
    ).stderr
    settled = sum(1 for line in again.splitlines() if " -> " in line)
    return (len(lines) - shared) * (CHARTERS - 1) + settled


def _shell(house: Path, address: str, name: str) -> float:
    """Requests a second of the shell script; it runs once before ours and once after, since machines drift."""
    count = 20
    script = house / "script.sh"
    script.write_text(SHELL.format(count=count, address=address).replace("shell-", f"shell-{name}-"))
    begun = time.perf_counter()
    subprocess.run(["/bin/sh", str(script)], cwd=house, check=True)
    return REQUESTS_A_ROUND * count / (time.perf_counter() - begun)
