"""The answer to the engineer's question, from what was measured."""

from __future__ import annotations

import statistics
from collections.abc import Sequence

from magnetite.demo.scene import DENOISER, NOISE, READABLE, SceneResult


def answer(results: Sequence[SceneResult], subject: str, focus: str | None) -> str:
    """One paragraph: which rate keeps `subject` readable, and does denoising before coding pay?

    `focus` names the scene that the subject is on, if it is among the results.
    """
    return f"{_readable(results, subject, focus)} {_denoising(results)}"


def _readable(results: Sequence[SceneResult], subject: str, focus: str | None) -> str:
    reached = {r.name: r.readable_rate for r in results if r.readable_rate is not None}
    words = {r.name: f"{r.readable_rate_words} bpp" for r in results}
    criterion = f"(SSIM of at least {READABLE:g} against the clean picture)"
    missed = sorted(result.name for result in results if result.name not in reached)
    if not reached:
        return f"{subject} {criterion}: no rate that was measured keeps a scene readable."
    low, high = (f(reached, key=lambda name: reached[name]) for f in (min, max))
    where = focus if focus in reached else high
    sentence = f"{subject} stay readable {criterion} from {words[where]} on {where}"
    others = [f"{name} needs {words[name]}" for name in (low, high) if name != where]
    for extra in (" and ".join(dict.fromkeys(others)), _no_rate(missed)):
        sentence += f"; {extra}" if extra else ""
    return f"{sentence}."


def _no_rate(missed: list[str]) -> str:
    return f"no measured rate was enough for {', '.join(missed)}" if missed else ""


def _denoising(results: Sequence[SceneResult]) -> str:
    gains = {result.name: result.denoising_gain for result in results}
    paying = sorted((n for n in gains if gains[n] > 0), key=lambda n: -gains[n])
    losing = sorted((n for n in gains if gains[n] <= 0), key=lambda n: gains[n])
    verdict = (
        f"pays on {len(paying)} of {len(gains)}" if paying else f"pays on none of {len(gains)}"
    )
    sides = [
        f"{verb} {_listing(names, gains)}"
        for verb, names in (("gains", paying), ("loses", losing))
        if names
    ]
    return (
        f"Denoising before coding ({DENOISER} under {NOISE}) {verdict} scenes: in PSNR at equal "
        f"rate it {' and '.join(sides)}; mean {statistics.fmean(gains.values()):+.2f} dB."
    )


def _listing(names: list[str], gains: dict[str, float]) -> str:
    """The strongest few, by size: `5.57 dB on clay-core, 3.13 dB on banded-ironstone`."""
    shown = [f"{abs(gains[name]):.2f} dB on {name}" for name in names[:3]]
    more = len(names) - len(shown)
    return ", ".join(shown) + (f", less on {more} more" if more else "")
