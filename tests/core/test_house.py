"""The rules of the house: no circles of imports, nobody looks into a facet but the registry, small rooms."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from functools import cache
from importlib.util import resolve_name
from pathlib import Path

import sigillum
from sigillum.core.charter.credential_kinds import CREDENTIAL_KINDS
from sigillum.core.facets.registry import HERE, LINES
from sigillum.tenants.registry import DRIVERS

SOURCE = Path(sigillum.__file__).parent
REGISTRY = f"{HERE}.registry"
LONGEST_MODULE, LONGEST_FUNCTION = 400, 60


def name_of(path: Path) -> str:
    parts = path.relative_to(SOURCE.parent).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


MODULES = {name_of(p): p for p in sorted(SOURCE.rglob("*.py"))}


@cache
def nodes(name: str) -> tuple[ast.AST, ...]:
    """Every node of a module's syntax tree."""
    return tuple(ast.walk(ast.parse(MODULES[name].read_text())))


def imported(name: str) -> Iterator[str]:
    """Every module of ours that one imports, wherever the import stands: in a function, or for the type checker only."""
    path = MODULES[name]
    package = name if path.name == "__init__.py" else name.rpartition(".")[0]
    for node in nodes(name):
        if isinstance(node, ast.Import):
            yield from (a.name for a in node.names if a.name in MODULES)
        elif isinstance(node, ast.ImportFrom):
            base = resolve_name("." * node.level + (node.module or ""), package) if node.level else node.module or ""
            for alias in node.names:
                found = next((m for m in (f"{base}.{alias.name}", base) if m in MODULES), None)
                if found is not None:
                    yield found


@cache
def graph() -> dict[str, set[str]]:
    return {name: set(imported(name)) - {name} for name in MODULES}


def circle(edges: dict[str, set[str]]) -> list[str]:
    """One circle, or nothing: what is left once whatever imports nothing that is left has gone, again and again."""
    left = {n: set(e) for n, e in edges.items()}
    while free := {n for n, e in left.items() if not e & left.keys()}:
        left = {n: e for n, e in left.items() if n not in free}
    if not left:
        return []
    way = [min(left)]
    while way[-1] not in way[:-1]:
        way.append(min(left[way[-1]] & left.keys()))
    return way[way.index(way[-1]) :]


def test_no_module_imports_itself_by_another() -> None:
    assert circle(graph()) == []
    assert circle({"a": {"b"}, "b": {"c"}, "c": {"b"}, "d": set()}) == ["b", "c", "b"]  # and it would be found


def test_only_the_registry_knows_a_facet() -> None:
    """By its own list, so that no facet can be forgotten; facets do not know each other either."""
    homes = {line.name: line.home for line in LINES}
    for module, names in graph().items():
        for facet, home in homes.items():
            inside = [n for n in names if n == home or n.startswith(f"{home}.")]
            allowed = module in (REGISTRY, home) or module.startswith(f"{home}.")
            assert allowed or not inside, f"{module} looks into the facet {facet}: {inside}"


def test_every_facet_stands_in_the_registry() -> None:
    facets = {n for n, p in MODULES.items() if n.startswith(HERE) and "\nFACET = " in p.read_text()}
    assert facets == {f"{line.home}.facet" if line.checked else line.home for line in LINES}


def names_compared(name: str) -> Iterator[str]:
    """The texts that `.facet` of something is compared with."""
    for node in nodes(name):
        sides = [node.left, *node.comparators] if isinstance(node, ast.Compare) else []
        if any(isinstance(s, ast.Attribute) and s.attr == "facet" for s in sides):
            yield from (c.value for s in sides for c in ast.walk(s) if isinstance(c, ast.Constant) and isinstance(c.value, str))


def offences(name: str) -> Iterator[str]:
    lines = len(MODULES[name].read_text().splitlines())
    if lines > LONGEST_MODULE:
        yield f"{name} has {lines} lines"
    for node in nodes(name):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            assert node.end_lineno is not None
            long = node.end_lineno - node.lineno + 1
            if long > LONGEST_FUNCTION:
                yield f"{name}.{node.name} has {long} lines"
    home = next((line.name for line in LINES if name == line.home or name.startswith(f"{line.home}.")), "")
    for facet in {line.name for line in LINES} & set(names_compared(name)) - {home}:
        yield f"{name} compares with the name of the facet {facet}"


def of_a_body(node: ast.AST) -> bool:
    """Is it a field of what a tenant shows: `X.body.field`, or several of them in a row?"""
    if isinstance(node, ast.Tuple):
        return any(map(of_a_body, node.elts))
    return isinstance(node, ast.Attribute) and isinstance(node.value, ast.Attribute) and node.value.attr == "body"


def test_only_kinds_compare_what_a_tenant_shows_with_anything() -> None:
    """There is one equality, and it has three answers: `says`, `denies` and `compared` know what is not shown."""
    told = []
    for name in MODULES:
        if name.startswith(("sigillum.core.kinds", "sigillum.sandbox")):
            continue
        for node in nodes(name):
            if not isinstance(node, ast.Compare):
                continue
            sides = [node.left, *node.comparators]
            nothing = any(isinstance(s, ast.Constant) and s.value is None for s in sides)
            if any(map(of_a_body, sides)) and not nothing:
                told.append(f"{name}:{node.lineno} {ast.unparse(node)}")
    assert told == []


def test_rooms_are_small_and_no_facet_is_known_by_its_name() -> None:
    assert [o for name in MODULES for o in offences(name)] == []


def called(name: str) -> Iterator[tuple[str, ast.Call]]:
    for node in nodes(name):
        if isinstance(node, ast.Call):
            function = node.func.value if isinstance(node.func, ast.Subscript) else node.func
            yield (
                (
                    function.id
                    if isinstance(function, ast.Name)
                    else function.attr
                    if isinstance(function, ast.Attribute)
                    else ""
                ),
                node,
            )


def test_sentences_about_now_are_made_in_one_place_each() -> None:
    """A verdict is made of evidence by its own class, evidence by drivers, observed facts by a snapshot, predictions by one
    function: nobody else calls what makes them.
    """
    makers = {
        "Verdict": {"sigillum.core.deciding.proofs"},
        "Trial": {
            "sigillum.core.deciding.proofs",
            "sigillum.tenants",
            "sigillum.workflows.stopping.ways",
            "sigillum.workflows.tokens.usage",
        },
        "Facts": {"sigillum.core.kinds.snapshot", "sigillum.core.kinds.changes", "sigillum.tenants.by_hand.driver"},
        "World": {"sigillum.core.deciding.gathering", "sigillum.core.deciding.world"},
        "NotShown": {"sigillum.core.kinds.kind", "sigillum.core.deciding.proofs"},
    }
    told = []
    for name in MODULES:
        for call, node in called(name):
            if call in makers and not name.startswith((*makers[call], "sigillum.sandbox")):
                told.append(f"{name}:{node.lineno} makes a {call}")
            if call == "_replace" and any(k.arg == "verdict" for k in node.keywords) and name not in makers["Verdict"]:
                told.append(f"{name}:{node.lineno} replaces a verdict")
    assert told == []


def test_the_core_knows_no_command() -> None:
    told = [
        f"{name}:{node.lineno} {node.value}"
        for name in MODULES
        if name.startswith("sigillum.core.")
        for node in nodes(name)
        if isinstance(node, ast.Constant)
        and isinstance(node.value, str)
        and ("`sigillum " in node.value or "`--" in node.value)
    ]
    assert told == []


def of_their_kind(name: str) -> Iterator[str]:
    """By which names of kinds of credentials a module decides something."""
    for node in nodes(name):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.endswith("credential_kinds"):
            yield from (
                a.name for a in node.names if a.name in ("KEY_PAIR", "CERTIFICATE", "API_TOKEN", "SHARED_SECRET", "PASSWORD")
            )
        for side in [node.left, *node.comparators] if isinstance(node, ast.Compare) else []:
            if isinstance(side, ast.Constant) and side.value in CREDENTIAL_KINDS:
                yield str(side.value)


def test_what_another_one_costs() -> None:
    """docs/architecture.md says how many files each takes; here stands what keeps them so few."""
    kinds = {name: found for name in MODULES if (found := sorted(of_their_kind(name)))}
    outside = {n for n in kinds if not n.startswith(("sigillum.tenants.", "sigillum.sandbox.", "sigillum.keys."))}
    assert outside == {  # what is advised for whom; what is taken for one of which the ledger says no kind
        "sigillum.core.charter.advice",
        "sigillum.workflows.stopping.retire",
    }
    drivers = set(DRIVERS)
    compared = {
        name
        for name in MODULES
        if not name.startswith("sigillum.tenants")
        for node in nodes(name)
        if isinstance(node, ast.Compare)
        for c in ast.walk(node)
        if isinstance(c, ast.Constant) and c.value in drivers - {"open"}
    }
    assert compared == set()
    sorts = {
        f"{name}:{node.lineno}"
        for name in MODULES
        if name != "sigillum.core.deciding.refusals"
        for node in nodes(name)
        if isinstance(node, ast.Set | ast.Tuple) and sum(ast.unparse(e).startswith("Cause.") for e in node.elts) > 6
    }
    assert sorts == set()  # what several causes have in common stands at the causes
