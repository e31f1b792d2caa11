"""Write docs/performance.md from the figures of `suite.py --json` and the notes of attempts."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

ATTEMPTS = Path(__file__).with_name("attempts.md")


def main() -> None:
    measured = json.loads(Path(sys.argv[1]).read_text())
    parts = [HEAD, goals(measured["timings"]), growth(measured), profiles(measured["profiles"])]
    Path(sys.argv[2]).write_text("\n".join([*parts, ATTEMPTS.read_text()]))


HEAD = """# Performance

Made by `make bench`. Every path is timed against a yardstick, by turns in one run: ratios carry
over to other machines, seconds do not. `make bench-quick` compares ratios at up to 1 megapixel with
those in `benchmarks/stored.json` and fails where one grew by more than a third. `make bench-large`
works on a gigapixel (see [Large pictures](large.md)).
"""


def table(titles: list[str], rows: list[list[str]]) -> str:
    lines = [titles, ["---"] * len(titles), *rows]
    return "\n".join("| " + " | ".join(line) + " |" for line in lines) + "\n"


def goals(timings: list[dict[str, Any]]) -> str:
    rows = [
        [
            t["case"], t["yardstick"], f"{t['megapixels']:g}", f"{t['seconds']:.3g}",
            f"{t['ratio']:.3g}", f"{t['low']:.3g} to {t['high']:.3g}", f"{t['goal']:g}",
            "met" if t["met"] else "missed",
        ]
        for t in timings
        if t["goal"] is not None
    ]  # fmt: skip
    titles = ["path", "yardstick", "MP", "s", "ratio", "middle half", "goal", ""]
    return "## Goals\n\nOn two threads, with loops compiled already.\n\n" + table(titles, rows)


def growth(measured: dict[str, Any]) -> str:
    """One thread, growth with size, and memory, of the cases that have them."""
    rows = []
    for name, power in measured["exponents"].items():
        if power is None:
            continue
        own = [t for t in measured["timings"] if t["case"] == name]
        peak = measured["memory"].get(name)
        single = next((t for t in own if t["threads"] == 1), None)
        double = next(
            t for t in own if t["threads"] > 1
            and (single is None or t["megapixels"] == single["megapixels"])
        )  # fmt: skip
        speedup = "" if single is None else f"{single['seconds'] / double['seconds']:.2f}"
        sizes = ", ".join(f"{t['megapixels']:g}: {t['ratio']:.3g}" for t in own if t["threads"] > 1)
        rows.append([name, sizes, speedup, f"{power:.2f}", "" if peak is None else f"{peak:.3g}"])
    titles = ["path", "ratio by megapixels", "two threads over one", "power of pixels",
              "peak, float32 pictures"]  # fmt: skip
    return "## Sizes, threads and memory\n\n" + table(titles, rows)


def profiles(found: dict[str, list[list[Any]]]) -> str:
    text = "## Where the time goes\n"
    for job, parts in found.items():
        whole = parts[-1][1]
        rows = [[n, f"{s:.3f}", f"{100 * s / whole:.0f} %", limit] for n, s, limit in parts]
        text += f"\n**{job}**, the whole command:\n\n"
        text += table(["part", "s", "share", "limited by"], rows)
    return text


if __name__ == "__main__":
    main()
