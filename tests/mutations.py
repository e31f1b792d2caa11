"""Faults are put into the code on purpose, and the tests must see them: `make mutations`.

The tests run once, and the lines that each of them runs are recorded. Of every group of modules a
sample of mutants is drawn: an operator, a comparison or a constant is changed, and the tests that
run the line are run, the quickest first, for a minute at most. Survivors are printed with their
position; the reasons of those that are known to be equivalent stand in `mutations.toml`.

    python tests/mutations.py COUNT OUT.json [GROUP...]

Groups that are not named keep what OUT.json says of them.
"""

from __future__ import annotations

import ast
import json
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
import tomllib
from collections import Counter
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from copy import deepcopy
from dataclasses import asdict, dataclass
from datetime import date
from functools import cached_property
from pathlib import Path
from queue import Queue

from coverage import CoverageData

ROOT = Path(__file__).resolve().parents[1]
REASONS = Path(__file__).with_suffix(".toml")
#: Seconds of tests that a mutant is given, and after which it hangs, which counts as seen.
_TESTED, _LIMIT = 60.0, 420
#: Status of pytest for a test that it does not find.
_UNKNOWN_TEST = 4

#: Modules of each group.
GROUPS: dict[str, list[str]] = {
    "metrics": ["core/metrics/*.py", "core/metrics/kernels/*.py"],
    "gauges": ["core/gauges/*.py", "core/edges/*.py"],
    "statistics": ["core/analysis/*.py", "core/gate/*.py", "core/opinion/*.py"],
    "calibration": ["core/calibrate/*.py", "core/chart/*.py"],
    "degradations": ["core/degrade/*.py"],
    "answers": ["experiment/ranking.py", "experiment/rates.py", "experiment/summary.py",
                "experiment/common.py", "experiment/guarantee.py", "experiment/two_runs.py",
                "experiment/interactions.py", "experiment/opinions.py",
                "experiment/agreements.py", "pages/*.py"],
    "certificates": ["core/degrade/certify/*.py", "core/operations/certificate.py",
                     "core/operations/findings.py", "core/operations/degrade.py"],
    "container": ["core/codecs/layers/*.py", "files/streams.py", "core/operations/expand.py",
                  "core/operations/coding.py", "core/operations/rate.py"],
    "ledger": ["experiment/ledger.py", "experiment/export.py", "experiment/results.py"],
    "runner": ["experiment/runner.py", "experiment/retrying.py", "experiment/executors.py",
               "experiment/work.py"],
    "cache keys": ["core/compute/sharing.py", "experiment/tasks.py", "files/opening.py",
                   "core/chain/bind.py", "core/operations/treatment.py"],
    "codecs": ["core/codecs/*.py", "core/codecs/entropy/*.py"],
    "restorations": ["core/restore/*.py", "core/restore/kernels/*.py"],
    "curves": ["core/curves/*.py", "experiment/curves.py", "experiment/prediction.py",
               "core/solve/*.py"],
    "operations": ["core/operations/*.py"],
    "pictures": ["core/picture/*.py", "core/convert/*.py", "core/compute/*.py"],
    "files": ["files/*.py", "files/formats/*.py"],
    "plans": ["core/chain/*.py", "core/methods/*.py", "experiment/plan*.py",
              "experiment/labels.py", "experiment/gating.py"],
    "views": ["views/*.py"],
    "commands": ["cli/*.py", "core/table.py", "core/quantities.py"],
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
    for pattern in GROUPS[group]:
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


class Recorded:
    """Which tests run which lines of a copy of the project, and how long they take."""

    def __init__(self, tree: Path) -> None:
        words = ["-n", "2", "-vvv", "--durations=0", "--cov", "--cov-context=test", "--cov-report="]
        done = _pytest(tree, words, None)
        self.seconds: Counter[str] = Counter()
        self._in_file: dict[str, set[str]] = {}
        for line in done.stdout.splitlines():
            if found := re.match(r"([\d.]+)s (?:call|setup|teardown) +(tests/\S+?::.*)$", line):
                self.seconds[found[2].strip()] += float(found[1])
            if found := re.search(r"PASSED (tests/\S+?)(::.*)$", line):
                self._in_file.setdefault(found[1], set()).add(found[1] + found[2].strip())
        self._data = CoverageData(str(tree / ".coverage"))
        self._data.read()
        self._source = tree / "src/magnetite"

    def tests_of(self, mutant: Mutant) -> list[str]:
        """Tests that run the line, or, of compiled loops, its module or one that imports it."""
        found = self._at(mutant.module).get(mutant.line, set())
        for module in [] if found else [mutant.module, *self._importers.get(mutant.module, ())]:
            found = found.union(*self._at(module).values())
        found &= set().union(*self._in_file.values())
        chosen, total = [], 0.0
        for test in sorted(found, key=lambda test: (self.seconds[test], test)):
            total += self.seconds[test]
            if total > _TESTED:
                break
            chosen.append(test)
        return chosen

    def _at(self, module: str) -> dict[int, set[str]]:
        by_line = self._data.contexts_by_lineno(str(self._source / module))
        return {line: set(self._named(contexts)) for line, contexts in by_line.items()}

    def _named(self, contexts: Iterable[str]) -> Iterator[str]:
        """Tests of contexts; what a fixture runs is run for all tests of its file."""
        for context in contexts:
            test, _, phase = context.partition("|")
            if phase == "setup":
                yield from self._in_file.get(test.partition("::")[0], ())
            elif test:
                yield test

    @cached_property
    def _importers(self) -> dict[str, set[str]]:
        found: dict[str, set[str]] = {}
        for path in self._source.rglob("*.py"):
            for name in re.findall(r"from magnetite\.([\w.]+) import", path.read_text()):
                module = name.replace(".", "/") + ".py"
                found.setdefault(module, set()).add(str(path.relative_to(self._source)))
        return found


def _pytest(tree: Path, words: list[str], limit: float | None) -> subprocess.CompletedProcess[str]:
    own = os.environ | {
        "PYTHONPATH": str(tree / "src"), "NUMBA_CACHE_DIR": str(tree / "cache"),
    }  # fmt: skip
    return subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", *words],
        cwd=tree, env=own, capture_output=True, text=True, timeout=limit, check=False,
    )  # fmt: skip


def is_seen(mutant: Mutant, tests: list[str], tree: Path) -> bool:
    """Whether a test fails with the fault."""
    if not tests:
        return False
    path = tree / "src/magnetite" / mutant.module
    before = path.read_text()
    (tree / "tests.txt").write_text("\n".join(tests))
    try:
        path.write_text(source_of(mutant))
        words = ["-x", "-p", "no:xdist", "-p", "no:cov", f"@{tree / 'tests.txt'}"]
        done = _pytest(tree, words, _LIMIT)
        broken = "ERROR tests/" in done.stdout  # a module of tests cannot be imported
        return broken or done.returncode not in (0, _UNKNOWN_TEST)
    except subprocess.TimeoutExpired:
        return True
    finally:
        path.write_text(before)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 12
    groups = sys.argv[3:] or list(GROUPS)
    out = Path(sys.argv[2]) if len(sys.argv) > 2 else ROOT / "docs/mutations.json"
    with tempfile.TemporaryDirectory() as folder:
        trees: Queue[Path] = Queue()
        for number in range(2):
            tree = Path(folder) / str(number)
            for part in ("src", "tests", "pyproject.toml", "README.md", "docs", "benchmarks"):
                copy = shutil.copytree if (ROOT / part).is_dir() else shutil.copy
                tree.mkdir(exist_ok=True)
                copy(ROOT / part, tree / part)
            trees.put(tree)
        recorded = Recorded(Path(folder) / "0")
        print(f"{len(recorded.seconds)} tests recorded", flush=True)

        def work(mutant: Mutant) -> tuple[Mutant, bool]:
            tests = recorded.tests_of(mutant)
            tree = trees.get()
            try:
                seen = is_seen(mutant, tests, tree)
            finally:
                trees.put(tree)
            if not seen:
                where = f"{mutant.module}:{mutant.number}, line {mutant.line}"
                print(f"survived {len(tests)} tests: {where} {mutant.change}", flush=True)
            return mutant, seen

        with ThreadPoolExecutor(2) as pool:
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
    before = json.loads(out.read_text())["groups"] if out.exists() else {}
    record = {"date": date.today().isoformat(), "groups": before | result}
    out.write_text(json.dumps(record, indent=1) + "\n")


if __name__ == "__main__":
    main()
