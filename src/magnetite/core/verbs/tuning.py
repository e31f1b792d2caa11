"""Find the best value of one setting of a restoration: by the reference, or by the risk."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from magnetite.core.chain.notation import parse_step
from magnetite.core.chain.step import Chain, Step
from magnetite.core.compute.sharing import Sharing
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.methods.declarations import Metric
from magnetite.core.methods.parameters import Files
from magnetite.core.picture import Picture
from magnetite.core.restore.kernels.noise_sd import estimated
from magnetite.core.solve.axis import Axis
from magnetite.core.solve.best import largest
from magnetite.core.verbs.restoring import run
from magnetite.core.verbs.score import Pair, score_steps

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
    #: Whether it was scored against the reference, or its risk estimated.
    oracle: bool

    @property
    def words(self) -> str:
        """What was found, for people."""
        how = (
            "against the reference: an oracle, for there is none in practice"
            if self.oracle
            else "by the unbiased estimate of its risk, for Gaussian noise"
        )
        return f"{self.setting} is best of {self.tries}: {self.metric} {self.value:.5g} {how}"


def tune(
    picture: Picture,
    chain: Chain,
    metric: str,
    reference: Picture | None,
    files: Files | None = None,
    seed: int = 0,
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
    files : Files, optional
        Reads what settings name by file.
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
        measure = _against(reference, picture, step, files)
    elif step.method.name == "psnr":
        measure = _expected(picture, seed, files)
    else:
        raise PictureError(f"without a reference psnr alone can be estimated, not {metric}")
    tried: dict[str, float] = {}

    def at(number: float) -> Chain:
        return chain.with_setting(place, key, kind.at(number))

    def worth(number: float) -> float:
        candidate = at(number)
        if str(candidate) not in tried:
            tried[str(candidate)] = measure(candidate)
        return tried[str(candidate)]

    with Sharing().open():  # what tries have in common is computed once
        best = largest(Axis(span, _DECADES), worth)
    return Tuned(
        at(best),
        str(step),
        -worth(best) if lower_is_better else worth(best),
        f"{key}={kind.spell(kind.at(best))}",
        len(tried),
        reference is not None,
    )


def _against(
    reference: Picture, picture: Picture, metric: Step, files: Files | None
) -> Callable[[Chain], float]:
    sign = -1 if metric.declared(Metric).better == "lower" else 1

    def measure(candidate: Chain) -> float:
        pixels, _ = run(picture, candidate, picture.pixels(), files)
        restored, _ = picture.with_pixels(pixels)
        return sign * score_steps(Pair(reference, restored), [metric])[str(metric)]

    return measure


def _expected(picture: Picture, seed: int, files: Files | None) -> Callable[[Chain], float]:
    """PSNR to be expected of a chain, by its effect on the picture and on one a little beside."""
    pixels = picture.pixels()
    sd = estimated(pixels, None, picture.step)
    if sd == 0:
        raise PictureError("the picture shows no noise: its risk cannot be estimated")
    probe = np.random.default_rng(seed).choice([-1, 1], pixels.shape).astype(pixels.dtype)
    beside = pixels + pixels.dtype.type(_PROBE * sd) * probe

    def measure(candidate: Chain) -> float:
        first, second = (
            run(picture, candidate, p, files)[0].astype(float) for p in (pixels, beside)
        )
        divergence = float(np.mean(probe * (second - first))) / (_PROBE * sd)
        risk = float(np.mean((first - pixels) ** 2)) - sd**2 + 2 * sd**2 * divergence
        return -10 * math.log10(max(risk, 1e-12))

    return measure
