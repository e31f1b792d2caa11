"""The answer to the engineer's question, from what was measured."""

from __future__ import annotations

import statistics
from collections.abc import Sequence

from magnetite.demo.scene import NOISE, READABLE, SceneResult


def answer(results: Sequence[SceneResult], subject: str, focus: str | None) -> str:
    """One paragraph: which rate keeps `subject` readable, and does denoising before coding pay?

    `focus` names the scene that the subject is on, if it is among the results.
    """
    return f"{_readable(results, subject, focus)} {_denoising(results)}"


def _readable(results: Sequence[SceneResult], subject: str, focus: str | None) -> str:
    rates = {result.name: result.readable_rate for result in results}
    reached = {name: rate for name, rate in rates.items() if rate is not None}
    criterion = f"(SSIM of at least {READABLE:g} against the clean picture)"
    if not reached:
        return f"{subject} {criterion}: no rate that was measured keeps a scene readable."
    where = focus if focus in reached else max(reached, key=lambda name: reached[name])
    words = f"{subject} stay readable {criterion} from {reached[where]:.2f} bpp on {where}"
    if len(reached) > 1:
        low, high = (f(reached, key=lambda name: reached[name]) for f in (min, max))
        words += f"; {low} needs {reached[low]:.2f} bpp and {high} {reached[high]:.2f} bpp"
    missed = sorted(set(rates) - set(reached))
    if missed:
        words += f"; no measured rate was enough for {', '.join(missed)}"
    return f"{words}."


def _denoising(results: Sequence[SceneResult]) -> str:
    gains = {result.name: result.denoising_gain for result in results}
    paying = [name for name, gain in gains.items() if gain > 0]
    mean = statistics.fmean(gains.values())
    low, high = min(gains, key=lambda n: gains[n]), max(gains, key=lambda n: gains[n])
    verdict = "pays" if len(paying) > len(gains) / 2 else "does not pay"
    words = (
        f"Denoising before coding {verdict}: under {NOISE} it helps {len(paying)} of "
        f"{len(gains)} scenes, by {mean:+.2f} dB PSNR on average at equal rate"
    )
    if len(gains) > 1:
        words += f", from {gains[low]:+.2f} dB ({low}) to {gains[high]:+.2f} dB ({high})"
    return f"{words}."
