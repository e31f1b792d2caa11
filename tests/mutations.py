"""Faults are put into the code on purpose, and the tests must see them: `make mutations`.

Of every group of modules a sample of mutants is drawn: an operator, a comparison or a constant is
changed, and the group's tests run. Survivors are printed with their position; the reasons of those
that are known to be equivalent stand in `mutations.toml`.
"""

from __future__ import annotations

import ast
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
import tomllib
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from copy import deepcopy
from dataclasses import asdict, dataclass
from pathlib import Path
from queue import Queue

ROOT = Path(__file__).resolve().parents[1]
REASONS = Path(__file__).with_suffix(".toml")
#: Seconds after which a mutant counts as seen: it hangs.
_LIMIT = 420

#: Modules of each group, and the tests that are to see their faults, the quickest first.
GROUPS: dict[str, tuple[list[str], list[str]]] = {
    "metrics": (
        ["core/metrics/*.py"], ["core/methods/test_versions.py", "core/metrics"],
    ),
    "gauges": (
        ["core/gauges/*.py", "core/edges/*.py"], ["core/methods/test_versions.py", "core/gauges",
                                                  "core/calibrate",
                                                  "core/operations/test_banded.py"],
    ),
    "statistics": (
        ["core/analysis/statistics.py", "core/analysis/guarantee.py", "core/analysis/repeats.py",
         "core/gate/rates.py"],
        ["core/analysis", "core/gate", "experiment/test_guarantee.py", "experiment/test_witness.py",
         "experiment/test_intervals.py"],
    ),
    "answers": (
        ["experiment/ranking.py", "experiment/rates.py", "experiment/summary.py",
         "experiment/common.py", "experiment/guarantee.py", "experiment/two_runs.py",
         "pages/answer.py"],
        ["experiment/test_witness.py", "experiment/test_summary.py", "experiment/test_guarantee.py",
         "experiment/test_two_runs.py"],
    ),
    "certificates": (
        ["core/degrade/certify/*.py", "core/operations/certificate.py",
         "core/operations/findings.py", "core/operations/degrade.py"],
        ["core/methods/test_versions.py", "core/degrade", "core/operations"],
    ),
    "container": (
        ["core/codecs/layers/container.py", "core/codecs/layers/slabs.py", "files/streams.py",
         "core/operations/expand.py", "core/operations/coding.py"],
        ["core/codecs"],
    ),
    "ledger": (
        ["experiment/ledger.py", "experiment/export.py"],
        ["core/methods/test_versions.py", "experiment/test_content.py",
         "experiment/test_foreign_folders.py",
         "experiment/test_runs.py::test_failed_rows_are_told_and_tried_again"],
    ),
    "runner": (
        ["experiment/runner.py", "experiment/retrying.py", "experiment/executors.py",
         "experiment/work.py"],
        ["experiment/test_executors.py", "experiment/test_content.py",
         "experiment/test_runs.py::test_pictures_that_are_kept",
         "experiment/test_runs.py::test_failed_rows_are_told_and_tried_again"],
    ),
    "cache keys": (
        ["core/compute/sharing.py", "experiment/tasks.py", "files/opening.py",
         "core/chain/bind.py", "core/operations/treatment.py"],
        ["experiment/test_content.py", "files/test_opening.py", "core/chain", "core/compute",
         "core/metrics",
         "core/operations/test_sweep.py", "core/methods/test_versions.py"],
    ),
}  # fmt: skip

_SWAPS: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult,
    ast.FloorDiv: ast.Mult, ast.Pow: ast.Mult, ast.Mod: ast.Mult, ast.BitOr: ast.BitAnd,
    ast.BitAnd: ast.BitOr, ast.And: ast.Or, ast.Or: ast.And,
}  # fmt: skip


@dataclass(frozen=True)
class Mutant:
    """A fault: the module, the number of the node in it, and what it changes."""

    group: str
    module: str
    number: int
    line: int
    change: str


def nodes(tree: ast.AST) -> Iterator[tuple[ast.AST, str]]:
    """Nodes that can be changed; not annotations, texts and messages."""
    for name, value in ast.iter_fields(tree):
        if name in ("annotation", "returns", "decorator_list", "bases"):
            continue
        for node in value if isinstance(value, list) else [value]:
            skipped = ast.Raise | ast.JoinedStr | ast.Assert | ast.Import | ast.ImportFrom
            if not isinstance(node, ast.AST) or isinstance(node, skipped):
                continue
            if kind := _changeable(node):
                yield node, kind
            yield from nodes(node)


def _changeable(node: ast.AST) -> str:
    if isinstance(node, ast.Compare):
        return type(node.ops[0]).__name__
    if isinstance(node, ast.BinOp | ast.BoolOp | ast.AugAssign) and type(node.op) in _SWAPS:
        return type(node.op).__name__
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not | ast.USub):
        return type(node.op).__name__
    if isinstance(node, ast.Constant) and isinstance(node.value, int | float):
        return f"constant {node.value}"
    return ""


def changed(node: ast.AST) -> None:
    """Put the fault in."""
    if isinstance(node, ast.Compare):
        node.ops[0] = _SWAPS[type(node.ops[0])]()  # type: ignore[assignment]
    elif isinstance(node, ast.BinOp | ast.BoolOp | ast.AugAssign):
        node.op = _SWAPS[type(node.op)]()  # type: ignore[assignment]
    elif isinstance(node, ast.UnaryOp):
        node.op = ast.UAdd() if isinstance(node.op, ast.USub) else ast.Not()
        if isinstance(node.op, ast.Not):
            node.operand = ast.UnaryOp(ast.Not(), node.operand)
    elif isinstance(node, ast.Constant):
        value = node.value
        if isinstance(value, bool):
            node.value = not value
        else:
            node.value = value + 1 if isinstance(value, int) else 1.5 * value + (value == 0)


def mutants(group: str, count: int, seed: int) -> list[Mutant]:
    """A sample of the faults of a group."""
    found = []
    for pattern in GROUPS[group][0]:
        for path in sorted((ROOT / "src/magnetite").glob(pattern)):
            module = str(path.relative_to(ROOT / "src/magnetite"))
            for number, (node, kind) in enumerate(nodes(ast.parse(path.read_text()))):
                found.append(Mutant(group, module, number, getattr(node, "lineno", 0), kind))
    return random.Random(f"{group} {seed}").sample(found, min(count, len(found)))


def source_of(mutant: Mutant) -> str:
    """The module with the fault in it."""
    tree = deepcopy(ast.parse((ROOT / "src/magnetite" / mutant.module).read_text()))
    node, _ = list(nodes(tree))[mutant.number]
    changed(node)
    return ast.unparse(ast.fix_missing_locations(tree))


def fails(group: str, tree: Path) -> bool:
    """Whether a test of a group fails in a copy of the project."""
    own = os.environ | {
        "PYTHONPATH": str(tree / "src"), "NUMBA_CACHE_DIR": str(tree / "cache"),
    }  # fmt: skip
    words = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", "-p", "no:xdist"]
    try:
        done = subprocess.run(
            [*words, *(f"tests/{part}" for part in GROUPS[group][1])],
            cwd=tree, env=own, capture_output=True, timeout=_LIMIT, check=False,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return True
    return done.returncode != 0


def is_seen(mutant: Mutant, tree: Path) -> bool:
    """Whether a test fails with the fault."""
    path = tree / "src/magnetite" / mutant.module
    before = path.read_text()
    try:
        path.write_text(source_of(mutant))
        return fails(mutant.group, tree)
    finally:
        path.write_text(before)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    groups = sys.argv[3:] or list(GROUPS)
    out = Path(sys.argv[2]) if len(sys.argv) > 2 else ROOT / "docs/mutations.json"
    with tempfile.TemporaryDirectory() as folder:
        trees: Queue[Path] = Queue()
        for number in range(2):
            tree = Path(folder) / str(number)
            for part in ("src", "tests", "pyproject.toml", "README.md", "docs", "benchmarks"):
                copy = shutil.copytree if (ROOT / part).is_dir() else shutil.copy
                (tree).mkdir(exist_ok=True)
                copy(ROOT / part, tree / part)
            trees.put(tree)

        def work(mutant: Mutant) -> tuple[Mutant, bool]:
            tree = trees.get()
            try:
                seen = is_seen(mutant, tree)
            finally:
                trees.put(tree)
            if not seen:
                print(f"survived: {mutant.module}:{mutant.line} {mutant.change}", flush=True)
            return mutant, seen

        def check(group: str) -> None:
            tree, start = trees.get(), time.perf_counter()
            if fails(group, tree):
                raise SystemExit(f"the tests of {group} fail without a fault, or take too long")
            print(f"{group}: {time.perf_counter() - start:.0f} s without a fault", flush=True)
            trees.put(tree)

        with ThreadPoolExecutor(2) as pool:
            list(pool.map(check, groups))
            found = list(pool.map(work, [m for g in groups for m in mutants(g, count, seed=1)]))
    reasons = tomllib.loads(REASONS.read_text()) if REASONS.exists() else {}
    result = {}
    for group in groups:
        own = [(mutant, seen) for mutant, seen in found if mutant.group == group]
        seen = sum(seen for _, seen in own)
        print(f"{group}: {seen} of {len(own)} seen")
        survivors = [
            asdict(mutant) | {"reason": reasons.get(f"{mutant.module}:{mutant.number}", "")}
            for mutant, seen in own if not seen
        ]  # fmt: skip
        result[group] = {"mutants": len(own), "seen": seen, "survivors": survivors}
    out.write_text(json.dumps(result, indent=1) + "\n")


if __name__ == "__main__":
    main()
