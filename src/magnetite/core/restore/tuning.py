"""Find the best value of one setting of a restoration: by the reference, or by the risk."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from magnetite.core.chain import Chain, parse_step
from magnetite.core.declarations import Metric
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.parameters import Span
from magnetite.core.picture import Picture
from magnetite.core.restore.apply import restore_chain, run
from magnetite.core.restore.noise_sd import estimated
from magnetite.core.scoring import score

#: First over the whole range, then this many times finer around the best.
_COARSE, _ROUNDS = 13, 2
#: Settings that start at 0 are searched over this many powers of ten.
_DECADES = 4
#: Step of the divergence, in sd of the noise.
_PROBE = 0.1


@dataclass(frozen=True)
class Tuned:
    """What was best, by what, and how many values were tried."""

    chain: Chain
    metric: str
    value: float
    setting: str
    tries: int


def tune(
    picture: Picture, chain: Chain, metric: str, reference: Picture | None, seed: int = 0
) -> Tuned:
    """The chain with its one `auto` setting at its best.

    Parameters
    ----------
    picture : Picture
        What is restored.
    chain : Chain
        With exactly one setting `auto`.
    metric : str
        What is best in, such as `psnr`. Without a reference that is all it can be: its
        expectation is estimated from the picture by Stein's unbiased estimate of the risk, for
        Gaussian noise of the sd that the picture shows (Ramani, Blu and Unser, IEEE Trans. Image
        Processing 17(9), 2008, doi:10.1109/TIP.2008.2001404).
    reference : Picture or None
    seed : int
        Of the probe of the risk.

    Raises
    ------
    ChainError
        If not exactly one setting is `auto`, or it has no range.
    PictureError
        If a metric other than psnr is asked for without a reference.
    """
    if len(chain.open_settings) != 1:
        raise ChainError(
            f"one setting is tuned: write auto for one in {str(chain)!r}, "
            f"not for {len(chain.open_settings)}"
        )
    ((place, key),) = chain.open_settings
    kind = chain.steps[place].method.parameters[key].kind
    span = kind.span()
    if span is None:
        raise ChainError(f"{chain.steps[place].method.name} {key}= has no range to be tuned over")
    step = parse_step(metric, "metric")
    lower_is_better = step.declared(Metric).better == "lower"
    if reference is not None:
        measure = _against(reference, picture, str(step), -1 if lower_is_better else 1)
    elif step.method.name == "psnr":
        measure = _expected(picture, seed)
    else:
        raise PictureError(f"without a reference psnr alone can be estimated, not {metric}")
    tried: dict[str, float] = {}

    def at(number: float) -> Chain:
        return chain.with_setting(place, key, kind.at(number))

    def value(number: float) -> float:
        candidate = at(number)
        if str(candidate) not in tried:
            tried[str(candidate)] = measure(candidate)
        return tried[str(candidate)]

    best = _best(span, value)
    worth = -value(best) if lower_is_better else value(best)
    return Tuned(at(best), str(step), worth, f"{key}={kind.spell(kind.at(best))}", len(tried))


def _best(span: Span, value: Callable[[float], float]) -> float:
    """Where a function is largest: on a coarse grid of logarithms, then around the best place."""
    low = max(span.low, span.high * 10**-_DECADES)
    grid = np.geomspace(low, span.high, _COARSE)
    best, ratio = float(max(grid, key=value)), float(grid[1] / grid[0])
    for _ in range(_ROUNDS):
        ratio = ratio ** (1 / 3)
        around = [best * ratio**k for k in (-2, -1, 0, 1, 2)]
        best = max((n for n in around if low <= n <= span.high), key=value)
    return best


def _against(
    reference: Picture, picture: Picture, metric: str, sign: int
) -> Callable[[Chain], float]:
    def measure(candidate: Chain) -> float:
        return sign * score(reference, restore_chain(picture, candidate).picture, metric)[metric]

    return measure


def _expected(picture: Picture, seed: int) -> Callable[[Chain], float]:
    """PSNR to be expected of a chain, by its effect on the picture and on one a little beside."""
    pixels = picture.pixels()
    sd = estimated(pixels, None, picture.step)
    if sd == 0:
        raise PictureError("the picture shows no noise: there is no risk to be estimated")
    probe = np.random.default_rng(seed).choice([-1, 1], pixels.shape).astype(pixels.dtype)
    beside = pixels + pixels.dtype.type(_PROBE * sd) * probe

    def measure(candidate: Chain) -> float:
        first, second = (run(picture, candidate, p)[0].astype(float) for p in (pixels, beside))
        divergence = float(np.mean(probe * (second - first))) / (_PROBE * sd)
        risk = float(np.mean((first - pixels) ** 2)) - sd**2 + 2 * sd**2 * divergence
        return -10 * math.log10(max(risk, 1e-12))

    return measure
