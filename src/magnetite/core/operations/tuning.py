"""Find the best value of one setting of a restoration: by the reference, or by the risk."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from magnetite.core.chain.notation import as_step
from magnetite.core.chain.step import Chain, Step
from magnetite.core.compute.sharing import Sharing
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.methods.context import Files
from magnetite.core.methods.declarations import Metric
from magnetite.core.operations.restoration_chain import run
from magnetite.core.operations.risk import Risk, risk_of
from magnetite.core.operations.score import Pair, score_steps
from magnetite.core.picture import Picture
from magnetite.core.solve.axis import Axis
from magnetite.core.solve.best import largest

#: Settings that start at 0 are searched over this many powers of ten.
_DECADES = 4


@dataclass(frozen=True)
class Tuned:
    """The best value of a setting, the criterion, and the number of values that were tried."""

    chain: Chain
    metric: str
    setting: str
    tries: int
    #: Score against the reference; None without one.
    value: float | None = None
    #: The estimate without a reference, and its limits in words.
    risk: Risk | None = None
    limits: str = ""
    #: Whether no value was estimated to improve the picture: the chain is empty then.
    useless: bool = False
    #: Whether the best value is the least or largest that was tried.
    at_end: bool = False

    @property
    def oracle(self) -> bool:
        """Whether it was scored against the reference."""
        return self.value is not None

    @property
    def words(self) -> str:
        """The result, for people."""
        end = ", at an end of the range searched" if self.at_end and not self.useless else ""
        best = f"{self.setting} is best of {self.tries}{end}"
        if self.value is not None:
            return (
                f"{best}: {self.metric} {self.value:.5g} against the reference: an oracle, for "
                "there is none in practice"
            )
        figure = f": {self.risk.words}" if self.risk is not None and self.risk.words else ""
        warning = (
            "; no value is estimated to improve the picture, which is kept as it is"
            if self.useless
            else ""
        )
        return f"{best}{figure}, {self.limits}{warning}"


def tune(
    picture: Picture,
    chain: Chain,
    metric: str,
    reference: Picture | None,
    files: Files | None = None,
    seed: int = 0,
    noise: float | None = None,
) -> Tuned:
    """The chain with its one `auto` setting at its best.

    Parameters
    ----------
    picture : Picture
        The picture to restore.
    chain : Chain
        With exactly one setting `auto`.
    metric : str
        The figure that is to be best, such as `psnr`. Without a reference it is psnr, by an
        estimate of the error for white Gaussian noise: Stein's for chains that remove noise, the
        weighted predictive risk for those that undo a known blur (see `risk_of`).
    reference : Picture or None
    files : Files, optional
        Reads files that settings name.
    seed : int
        Of the probes of the risk.
    noise : float, optional
        Sd of the picture's noise, of full scale, where it is known: without it no PSNR is stated.

    Raises
    ------
    ChainError
        If not exactly one setting is `auto`, or it has no range.
    PictureError
        If a metric other than psnr is asked for without a reference, or no estimate is known
        for a step.
    """
    if len(chain.open_settings) != 1:
        raise ChainError(
            f"one setting is tuned: write auto for one in {str(chain)!r}, "
            f"not for {len(chain.open_settings)}"
        )
    ((position, key),) = chain.open_settings
    kind = chain.steps[position].method.parameters[key].kind
    span = kind.span()
    if span is None:
        raise ChainError(
            f"{chain.steps[position].method.name} {key}= has no range to be tuned over"
        )
    step = as_step(metric, "metric")
    lower_is_better = step.declared(Metric).better == "lower"
    if reference is None and step.method.name != "psnr":
        raise PictureError(f"without a reference psnr alone can be estimated, not {metric}")
    estimate, limits = (
        (None, "") if reference is not None else risk_of(picture, chain, noise, seed, files)
    )
    risks: dict[str, Risk] = {}

    def expected(candidate: Chain) -> float:
        assert estimate is not None, "without a reference the risk is estimated"
        risks[str(candidate)] = estimate(candidate)
        return -risks[str(candidate)].value

    measure = expected if reference is None else _against(reference, picture, step, files)
    tried: dict[str, float] = {}

    def at(number: float) -> Chain:
        return chain.with_setting(position, key, kind.at(number))

    def worth(number: float) -> float:
        candidate = at(number)
        if str(candidate) not in tried:
            tried[str(candidate)] = measure(candidate)
        return tried[str(candidate)]

    with Sharing().open():  # results that the trials share are computed once
        axis = Axis(span, _DECADES)
        best = largest(axis, worth)
        ends = [kind.spell(kind.at(axis.number(end))) for end in (axis.low, axis.high)]
        spelled = kind.spell(kind.at(best))
        found = Tuned(
            at(best), str(step), f"{key}={spelled}", len(tried), limits=limits,
            at_end=spelled in ends,
        )  # fmt: skip
        if estimate is None:
            score = -worth(best) if lower_is_better else worth(best)
            return replace(found, value=score)
        risk, untouched = risks[str(at(best))], estimate(Chain(()))
    if risk.value >= untouched.value:
        return replace(found, chain=Chain(()), risk=untouched, useless=True)
    return replace(found, risk=risk)


def _against(
    reference: Picture, picture: Picture, metric: Step, files: Files | None
) -> Callable[[Chain], float]:
    sign = -1 if metric.declared(Metric).better == "lower" else 1

    def measure(candidate: Chain) -> float:
        pixels = run(picture, candidate, picture.pixels(), files).pixels
        restored, _ = picture.with_pixels(pixels)
        return sign * score_steps(Pair(reference, restored), [metric], files=files)[str(metric)]

    return measure
