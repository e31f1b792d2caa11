"""Time every hot path against its yardstick: make bench, make bench-quick.

Prints a table of ratios with their spread; `--json FILE` keeps it. `--quick` takes few rounds at
one size and fails where a ratio grew by more than a third over the figures in the repository.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import paths.coding
import paths.degrading
import paths.restoring
import paths.scoring
import paths.starting  # noqa: F401
from measure import CASES, Case, Timing, exponent, timed
from profiles import profiles
from rich.console import Console
from rich.table import Table

from magnetite.core.compute.threads import cores, use_threads

STORED = Path(__file__).with_name("stored.json")
#: Megapixels that the quick run takes at most.
QUICK = 1.0
#: Growth of a ratio that fails it.
GROWN = 4 / 3


def main() -> int:
    options = _options()
    if options.memory:
        print(json.dumps(memory_of(CASES[options.memory], options.megapixels)))
        return 0
    chosen = [c for c in CASES.values() if options.only in c.name]
    timings = list(quick(chosen) if options.quick else full(chosen))
    show(timings)
    if options.quick:
        return compare(timings, store=options.store)
    powers = {c.name: exponent(t for t in timings if t.case == c.name and t.threads != 1)
              for c in chosen}  # fmt: skip
    memory = {c.name: measured_memory(c) for c in chosen if not c.process and c.size > 1}
    extras(powers, memory)
    if options.json:
        record = {
            "timings": [t.as_dict() for t in timings], "exponents": powers, "memory": memory,
            "profiles": {} if options.only else profiles(),
        }  # fmt: skip
        options.json.write_text(json.dumps(kept(options.json, record), indent=1) + "\n")
    return 0


def kept(file: Path, record: dict[str, Any]) -> dict[str, Any]:
    """The record with the figures of cases that it does not have from an earlier file."""
    before = json.loads(file.read_text()) if file.exists() else {"timings": []}
    own = {t["case"] for t in record["timings"]}
    others = [t for t in before["timings"] if t["case"] in CASES and t["case"] not in own]
    record["timings"] = sorted(
        [*others, *record["timings"]], key=lambda t: list(CASES).index(t["case"])
    )
    for part in ("exponents", "memory", "profiles"):
        record[part] = before.get(part, {}) | record[part]
    return record


def _options() -> argparse.Namespace:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", default="", help="cases whose name has this text")
    parser.add_argument(
        "--json", type=Path, help="file for the figures; it keeps those of other cases"
    )
    parser.add_argument("--quick", action="store_true", help="compare with the stored figures")
    parser.add_argument("--store", action="store_true", help="store the quick run's figures")
    parser.add_argument("--memory", help=argparse.SUPPRESS)
    parser.add_argument("--megapixels", type=float, help=argparse.SUPPRESS)
    return parser.parse_args()


def full(chosen: list[Case]) -> Iterator[Timing]:
    """Every case at its sizes; at the goal's size on one thread as well."""
    for one in chosen:
        for size in sorted({*one.sizes, one.size}):
            yield told(one, size, cores())
        if not one.process and one.yardstick != "a second":
            yield told(one, one.size, 1)


def quick(chosen: list[Case]) -> Iterator[Timing]:
    """The quick cases at one small size."""
    for one in chosen:
        if one.quick:
            yield told(one, min(one.size, QUICK), cores(), rounds=3)


def told(one: Case, size: float, threads: int, rounds: int | None = None) -> Timing:
    """A case on a number of threads, with a word on stderr while it runs."""
    print(f"\r{one.name}, {size:g} MP, {threads} threads".ljust(79), end="", file=sys.stderr)
    use_threads(threads)
    try:
        return timed(one, size, threads, rounds)
    finally:
        use_threads(cores())
        print("\r".ljust(80) + "\r", end="", file=sys.stderr)


def memory_of(one: Case, megapixels: float) -> float:
    """Peak memory of the work beyond what is there before it, over the picture in float32."""
    one.setting(0.4)[0]()  # imports and compiles
    work, _ = one.setting(megapixels)
    Path("/proc/self/clear_refs").write_text("5")  # the peak is counted from here
    before = _resident("VmRSS")
    work()
    return (_resident("VmHWM") - before) / (megapixels * 1e6 * one.channels * 4)


def _resident(what: str) -> int:
    """Bytes that the process holds, or has held at most."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) * 1024 for line in lines if line.startswith(what))


def measured_memory(one: Case) -> float:
    """`memory_of` in a process of its own."""
    command = [sys.executable, __file__, "--memory", one.name, "--megapixels", str(one.size)]
    done = subprocess.run(command, check=True, capture_output=True, text=True)
    return float(f"{json.loads(done.stdout.splitlines()[-1]):.3g}")


def show(timings: list[Timing]) -> None:
    """The table of ratios."""
    table = Table(title="hot paths against their yardsticks, by turns in one run")
    for title in ("path", "yardstick"):
        table.add_column(title, overflow="fold")
    for title in ("MP", "threads", "s", "yardstick s", "ratio", "middle half", "goal", ""):
        table.add_column(title, justify="right", no_wrap=True)
    for t in timings:
        verdict = {None: "", True: "met", False: "missed"}[t.met]
        goal = "" if t.goal is None else f"{t.goal:g}"
        table.add_row(
            t.case, t.yardstick, f"{t.megapixels:g}", str(t.threads), f"{t.seconds:.4f}",
            f"{t.yardstick_seconds:.4f}", f"{t.ratio:.4g}", f"{t.low:.4g} to {t.high:.4g}",
            goal, verdict,
        )  # fmt: skip
    _console().print(table)


def extras(powers: dict[str, float | None], memory: dict[str, float]) -> None:
    """How time grows with size, and memory."""
    table = Table(title="growth of time with the number of pixels, and peak memory")
    for title in ("path", "time grows with pixels to the power", "peak, float32 pictures"):
        table.add_column(title)
    for name in dict.fromkeys([*powers, *memory]):
        power, peak = powers.get(name), memory.get(name)
        if power is not None or peak is not None:
            table.add_row(
                name, "" if power is None else f"{power:.2f}", "" if peak is None else f"{peak:.3g}"
            )
    _console().print(table)


def _console() -> Console:
    return Console(width=None if sys.stdout.isatty() else 160)


def compare(timings: list[Timing], *, store: bool) -> int:
    """1 where a ratio grew by more than a third over the stored one, also when timed again."""
    stored = json.loads(STORED.read_text()) if STORED.exists() else {}
    if store:
        now = {t.case: t.as_dict()["ratio"] for t in timings}
        STORED.write_text(json.dumps(stored | now, indent=1) + "\n")
        print(f"stored {len(now)} ratios")
        return 0
    grown = {t.case: t.ratio for t in timings if _grown(t, stored)}
    for name in list(grown):
        again = next(quick([CASES[name]]))
        if not _grown(again, stored):
            del grown[name]
    for name, ratio in grown.items():
        print(f"{name}: {ratio:.4g} times its yardstick, {stored[name]:.4g} stored")
    print(f"{len(timings)} ratios; {len(grown)} grew by more than a third")
    return 1 if grown else 0


def _grown(timing: Timing, stored: dict[str, float]) -> bool:
    return timing.low > GROWN * stored.get(timing.case, timing.low)


if __name__ == "__main__":
    sys.exit(main())
