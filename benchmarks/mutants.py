"""Changes of meaning: each is made to a copy of the code, and the tests that run the changed line have to notice it.

Kinds: a comparison is turned, a condition dropped, a constant another one, a call left out, two acts swapped, a write to the journal
removed, a need dropped. Places are drawn with a fixed seed, of each package and kind the same number as far as there are so many,
and called by what they say and not by their line, so that neither a change elsewhere nor another layout draws others. What nobody
notices is listed; `SURVIVORS` says of each why that is so, and one without a reason is a gap in the tests.
"""

from __future__ import annotations

import argparse
import ast
import hashlib
import pickle
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from itertools import pairwise
from pathlib import Path

from benchmarks.noticing import SOURCE, Change, Result, measured, tried

WHERE = ("core", "workflows", "tenants", "keys", "keeping", "sandbox/deciding")
TESTS = ("core", "access", "workflows", "keys", "keeping", "behind", "tenants", "ledger", "cli")
# Left out: what takes most of the time and notices what quicker ones do, and what the documents and terminals say.
LEFT_OUT = " and ".join(
    f"not {name}"
    for name in (
        "killed",
        "every_line_runs",
        "demo_plays",
        "rubbish",
        "test_terminals",
        "one_of_each_class",
        "service_denies",
        "hostile_values",
        "test_strangers",
        "test_bad_days",
        "kept_fresh",
        "test_signals",
        "test_acting",
        "wrong_in_any_way",
        "profile_serves_on",
        "test_many",
        "one_more_run_ends",
        "nothing_secret",
    )
)
REAL = "tenants/postgresql/"
KINDS = ("comparison", "condition", "constant", "call", "order", "journal", "need")
OF_EACH = 10  # changes of one kind in one package, where there are so many
BOUNDARIES = "tests/cli/test_kill.py::test_killed_at_every_boundary_with_every_fate_of_the_request"
ALSO = {  # what is tried as well: killed at each boundary of the journal, told stories, and what runs in the other party's process
    "workflows/enacting/carrying": [f"{BOUNDARIES}[arrives-at-once]", f"{BOUNDARIES}[lost-after-at-once]"],
    "core/facets": ["tests/core/test_stories.py"],
    "core/comparing": ["tests/core/test_stories.py"],
    "sandbox/deciding/decide": [
        "tests/access",
        "tests/cli/test_access.py",
        "tests/cli/test_directory.py",
        "tests/cli/test_identities.py",
        "tests/cli/test_delegation.py",
    ],
    "sandbox/deciding/cluster": ["tests/cli/test_workload.py"],
    "sandbox/deciding/trusts": ["tests/sandbox/test_exchange.py", "tests/core/test_federation.py"],
    "sandbox/deciding/signin": ["tests/cli/test_sign_in.py"],
    "sandbox": ["tests/access", "tests/cli/test_access.py"],
}
LEAST, SHARE, BOUND_SECONDS, WORKERS = 240, 0.90, 1200, 2
SPARE_SECONDS = 30  # no change is begun so shortly before the end
TURNED: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
}
ACTS = (
    "settle",
    "write",
    "attempt",
    "complete",
    "until",
    "keep_key",
    "keep_secret",
    "keep_password",
    "finished",
    "append",
    "reached",
    "send",
)
JOURNAL = ("settle", "write", "append")
# A change that no test notices, by its name, and why.
SURVIVORS: dict[str, str] = {}


def _named(kind: str, file: str, inside: str, said: str, more: str = "") -> str:
    return f"{kind} {file} {inside}: {said[:100]}{more[:70]}"


def _called(node: ast.AST) -> str:
    """The name of what a statement calls, if it is a call."""
    value = node.value if isinstance(node, (ast.Expr, ast.Assign, ast.Return)) else None
    function = value.func if isinstance(value, ast.Call) else None
    return function.attr if isinstance(function, ast.Attribute) else function.id if isinstance(function, ast.Name) else ""


def _inside(tree: ast.Module) -> dict[ast.AST, str]:
    """The function that each node stands in."""
    out: dict[ast.AST, str] = {}
    for outer in ast.walk(tree):  # the innermost comes last
        if isinstance(outer, (ast.FunctionDef, ast.AsyncFunctionDef)):
            out |= dict.fromkeys(ast.walk(outer), outer.name)
    return out


def _said_only(tree: ast.Module) -> set[ast.AST]:
    """What is there for readers and the type checker only: asserts, annotations, texts."""
    out = {n for a in ast.walk(tree) if isinstance(a, ast.Assert) for n in ast.walk(a)}
    for node in ast.walk(tree):
        for name in ("annotation", "returns"):
            told = getattr(node, name, None)
            out |= set(ast.walk(told)) if told is not None else set()
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.unparse(node.test):
            out |= set(ast.walk(node))
        if isinstance(node, ast.ClassDef):  # what stands in for a field that nobody gives, and how a class is made
            out |= {n for d in node.decorator_list for n in ast.walk(d)}
            out |= {f for f in node.body if isinstance(f, ast.AnnAssign)}
    return out


def changes(file: str) -> Iterator[Change]:
    """Every change that can be made to a file."""
    text = (SOURCE / file).read_text()
    tree = ast.parse(text)
    inside, passed = _inside(tree), _said_only(tree)
    journaled = "carrying" in file

    def put(kind: str, node: ast.expr | ast.stmt, new: str, more: str = "", within: ast.AST | None = None) -> Change:
        lines = text.encode().split(b"\n")
        assert node.end_lineno is not None
        assert node.end_col_offset is not None
        head, tail = lines[node.lineno - 1][: node.col_offset], lines[node.end_lineno - 1][node.end_col_offset :]
        made = [*lines[: node.lineno - 1], head + new.encode() + tail, *lines[node.end_lineno :]]
        name = _named(kind, file, inside.get(within or node, ""), ast.unparse(within or node), more)
        return Change(name, kind, file, node.lineno, b"\n".join(made).decode())

    for node in ast.walk(tree):
        if node in passed:
            continue
        yield from _of_expression(node, file, put)
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and not (journaled and _called(node) in JOURNAL):
            yield put("call", node, "pass", " left out")
        body = getattr(node, "body", None)
        if journaled and isinstance(body, list):
            yield from _acts(body, put)


def _of_expression(node: ast.AST, file: str, put: Callable[..., Change]) -> Iterator[Change]:
    if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in TURNED:
        turned = ast.Compare(node.left, [TURNED[type(node.ops[0])]()], node.comparators)
        yield put("comparison", node, f"({ast.unparse(turned)})", f" -> {ast.unparse(turned)}")
    elif isinstance(node, ast.BoolOp):
        for dropped in node.values:
            if isinstance(dropped, (ast.Constant, ast.Dict, ast.List, ast.Tuple)):
                continue  # what stands for nothing
            left = [v for v in node.values if v is not dropped]
            kept = ast.unparse(ast.BoolOp(node.op, left) if len(left) > 1 else left[0])
            yield put("condition", node, f"({kept})", f" without {ast.unparse(dropped)}")
    elif isinstance(node, (ast.Assign, ast.AnnAssign, ast.keyword, ast.Return)) and isinstance(node.value, ast.Constant):
        value = node.value.value
        if isinstance(value, bool):
            yield put("constant", node.value, str(not value), " the other way", node)
        elif isinstance(value, int):
            yield put("constant", node.value, str(value * 2 + 1), " another one", node)
    elif isinstance(node, ast.Call) and file.startswith("core/facets/") and _called(ast.Expr(node)) == "by":
        for dropped in node.args[1:]:
            less = ast.Call(node.func, [a for a in node.args if a is not dropped], node.keywords)
            yield put("need", node, ast.unparse(less), f" without {ast.unparse(dropped)}")
    elif (
        isinstance(node, ast.Tuple)
        and file.startswith("core/")
        and any(isinstance(e, ast.Starred) and "need" in ast.unparse(e) for e in node.elts)
        and isinstance(node.ctx, ast.Load)
    ):
        for gone in node.elts:
            rest = ast.Tuple([e for e in node.elts if e is not gone], ast.Load())
            yield put("need", node, ast.unparse(rest), f" without {ast.unparse(gone)}")


def _acts(body: list[ast.stmt], put: Callable[..., Change]) -> Iterator[Change]:
    """In carrying: two acts swapped that stand one after the other, and writes to the journal removed."""
    for one, other in pairwise(body):
        if _called(one) in ACTS and _called(other) in ACTS and not isinstance(other, ast.Return):
            both = ast.Module([one, other], [])
            swapped = ast.unparse(ast.Module([other, one], [])).replace("\n", "\n" + " " * one.col_offset)
            spot = ast.Expr(
                ast.Constant(None),
                lineno=one.lineno,
                col_offset=one.col_offset,
                end_lineno=other.end_lineno,
                end_col_offset=other.end_col_offset,
            )
            yield put("order", spot, swapped, f" after {ast.unparse(both.body[1])}", one)
    for one in body:
        if isinstance(one, ast.Expr) and _called(one) in JOURNAL:
            yield put("journal", one, "pass", " removed")


def drawn(seed: int) -> list[Change]:
    """The changes of this run: of each package and kind the same number, drawn with a fixed seed."""

    def drawn_as(change: Change) -> str:
        """Its place in the draw, which no other change to the code moves."""
        return hashlib.sha256(f"{seed} {change.name}".encode()).hexdigest()

    out = list[Change]()
    for where in WHERE:
        found = (str(p.relative_to(SOURCE)) for p in (SOURCE / where).rglob("*.py"))
        files = sorted(f for f in found if not f.startswith(REAL))  # what only real servers try, `make real` does
        all_ = list({c.name: c for file in files for c in changes(file)}.values())
        for kind in KINDS:
            out += sorted((c for c in all_ if c.kind == kind), key=drawn_as)[:OF_EACH]
    return sorted(out, key=drawn_as)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seed", type=int, default=9)
    parser.add_argument("--only", default="", help="only changes whose name has this in it")
    parser.add_argument("--sample", type=int, default=0, metavar="N", help="only so many of them (30: some five minutes)")
    parser.add_argument("--keep", type=Path, metavar="FILE", help="keep what was measured, for another run of the same code")
    parser.add_argument("--again", type=Path, metavar="FILE", help="do not measure: take what was kept")
    args, begun = parser.parse_args(), time.monotonic()
    wanted = [c for c in drawn(args.seed) if args.only in c.name][: args.sample or None]
    found = list[Result]()
    with tempfile.TemporaryDirectory() as folder:
        known = (
            measured(Path(folder), WHERE, TESTS, LEFT_OUT, WORKERS + 2)
            if args.again is None
            else pickle.loads(args.again.read_bytes())
        )
        if args.keep is not None:
            args.keep.write_bytes(pickle.dumps(known))
        print(f"which test runs which line was measured in {time.monotonic() - begun:.0f} s", flush=True)

        def tests(change: Change, most_seconds: float) -> list[str]:
            also = next((also for head, also in ALSO.items() if change.file.startswith(head)), ())
            return known.of(change, also, most_seconds)

        for result in tried(Path(folder), wanted, tests, known.took, WORKERS, begun + BOUND_SECONDS - SPARE_SECONDS):
            found.append(result)
            word = "noticed" if result.noticed else "SURVIVES"
            print(f"{len(found)}/{len(wanted)} {word}  {result.change.name}  {result.by}", flush=True)
    survive = [r for r in found if not r.noticed]
    share = 1 - len(survive) / len(found) if found else 0.0
    print(
        f"\n{len(found)} changes in {time.monotonic() - begun:.0f} s, {share:.0%} noticed "
        f"(at least {SHARE:.0%} of at least {LEAST})"
    )
    for result in survive:
        print(f"  {result.change.name}\n      {SURVIVORS.get(result.change.name, 'NO REASON IS WRITTEN')}")
    enough = len(found) >= LEAST or bool(args.only or args.sample)
    return 0 if enough and share >= SHARE and all(r.change.name in SURVIVORS for r in survive) else 1


if __name__ == "__main__":
    sys.exit(main())
