"""The answer to the engineer's questions, from the measurements."""

from __future__ import annotations

from collections.abc import Sequence

from magnetite.core.analysis.simultaneous import Difference
from magnetite.demo.plan import DENOISERS, NOISES, READABLE
from magnetite.demo.results import SceneResult, gains_over


def answer(results: Sequence[SceneResult], subject: str, focus: str | None) -> list[str]:
    """Paragraphs: which rate keeps `subject` readable, and does denoising before coding pay?

    `focus` names the scene that the subject is on, if it is among the results.
    """
    return [_readable(results, subject, focus), *(_denoising(results, noise) for noise in NOISES)]


def _readable(results: Sequence[SceneResult], subject: str, focus: str | None) -> str:
    reached = {r.name: r.readable_rate for r in results if r.readable_rate is not None}
    words = {r.name: f"{r.readable_rate_words} bpp".replace("≤", "at most") for r in results}
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


def _denoising(results: Sequence[SceneResult], noise: str) -> str:
    """One noise: the denoiser that gains most, its interval, and the gain on each scene."""
    gains, number = gains_over(list(results), noise)
    by_scene = "; ".join(_scene(result, noise) for result in results)
    if not gains:
        return f"Under {noise} ({NOISES[noise]}) no curves could be compared. {by_scene}."
    best = max(gains, key=lambda name: gains[name].mean)
    found = gains[best]
    paying = [r.name for r in results if r.best(noise)[1] > 0]
    sentence = (
        f"Under {noise} ({NOISES[noise]}) denoising before coding pays on {len(paying)} of "
        f"{len(results)} scenes. In the mean over {number} {best} filtering ({DENOISERS[best]}) "
        f"gains {found.mean:+.2f} dB of PSNR at equal rate"
    )
    if number > 1:
        sentence += f", 95 % interval {found.low:+.2f} to {found.high:+.2f}: {_meaning(found)}"
    others = ", ".join(f"{n} {one.mean:+.2f}" for n, one in gains.items() if n != best)
    if others:
        sentence += f" ({others}; the intervals of all {len(gains)} hold together)"
    return f"{sentence}. By scene: {by_scene}."


def _meaning(gain: Difference) -> str:
    """The meaning of an interval over scenes for other scenes."""
    if gain.low > 0:
        return "it pays on scenes of this kind"
    return "it loses on scenes of this kind" if gain.high < 0 else "on other scenes it may lose"


def _scene(result: SceneResult, noise: str) -> str:
    name, gain = result.best(noise)
    if gain <= 0:
        return f"{result.name} is best coded as it is"
    return f"{result.name} {name} {gain:+.2f} dB"
