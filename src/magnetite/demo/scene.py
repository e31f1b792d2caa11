"""One scene's part of the story: degrade, restore, compress, score."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from magnetite import compress, curve, degrade, gauge, restore, score
from magnetite.core.curves.comparison import bd_quality, rate_at
from magnetite.core.curves.points import Point
from magnetite.core.picture import Picture
from magnetite.core.verbs.coding import Compressed
from magnetite.core.verbs.degrade import Degraded
from magnetite.core.verbs.score import Scores

NOISE = "gaussian-noise sd=5%"
DENOISER = "gaussian sigma=0.8px"
CODEC = "dct step=1.5%,3%,6%,12%,25%,50%"
METRICS = "mse,psnr,ssim"
ACTIVITY = "laplacian-variance"
#: Veins and grain count as readable at this SSIM against the clean picture.
READABLE = 0.9

CLEAN, NOISY, DENOISED = "clean", "noisy", "denoised"


@dataclass(frozen=True)
class Version:
    """One picture of a scene: what was done to it, and what came out."""

    stage: str
    chain: str
    picture: Picture
    scores: Scores
    compressed: Compressed | None = None


@dataclass(frozen=True)
class SceneResult:
    """All that the story knows of one scene."""

    name: str
    reference: Picture
    degraded: Degraded
    activity: float
    versions: list[Version] = field(default_factory=list)
    #: Rate-distortion points, scored against the clean picture, by what was coded.
    curves: dict[str, list[Point]] = field(default_factory=dict)

    def curve_of(self, source: str, metric: str) -> list[tuple[float, float]]:
        """Points of (rate, score) by rising rate."""
        return [(point.bpp, point.scores[metric]) for point in self.curves[source]]

    def score_of(self, stage: str, metric: str) -> float:
        """The score of one version."""
        return next(v.scores[metric] for v in self.versions if v.stage == stage)

    @property
    def readable_rate(self) -> float | None:
        """Lowest rate in bpp that keeps the clean picture readable; None if none measured does."""
        points = self.curve_of(CLEAN, "ssim")
        return points[0][0] if points[0][1] >= READABLE else rate_at(points, READABLE)

    @property
    def readable_rate_words(self) -> str:
        """That rate to three digits; `≤` where even the lowest rate measured is readable."""
        rate = self.readable_rate
        if rate is None:
            return "–"
        return f"{'≤ ' if rate == self.curves[CLEAN][0].bpp else ''}{rate:#.3g}"

    @property
    def denoising_gain(self) -> float:
        """dB of PSNR that denoising before coding gains at equal rate, on the noisy picture."""
        return bd_quality(self.curve_of(NOISY, "psnr"), self.curve_of(DENOISED, "psnr"))


#: Pieces of work on one scene, for the progress display.
PIECES = 5


def work_through(
    name: str, reference: Picture, seed: int, advance: Callable[[str], None]
) -> SceneResult:
    """Do one scene's whole work; `advance` hears of each piece done."""
    degraded = degrade(reference, NOISE, seed=seed)
    noisy = degraded.picture
    restored = restore(noisy, DENOISER)
    result = SceneResult(name, reference, degraded, gauge(reference, ACTIVITY)[ACTIVITY])
    advance(f"{name}: noise and denoising")
    sources = {CLEAN: reference, NOISY: noisy, DENOISED: restored.picture}
    for label, source in sources.items():
        made = curve(reference, CODEC, METRICS, source=source, workers=1)
        result.curves[label] = made.points(0, 0)
        advance(f"{name}: curve, {label} picture coded")
    result.versions.extend(
        [
            Version(NOISY, NOISE, noisy, score(reference, noisy, METRICS)),
            Version(
                DENOISED, restored.chain, restored.picture,
                score(reference, restored.picture, METRICS),
            ),
        ]
    )  # fmt: skip
    step = _step_nearest_readable(result.curves[CLEAN])
    for label, source in sources.items():
        coded = compress(source, step)
        scores = score(reference, coded.picture, METRICS)
        result.versions.append(Version(f"{label}, coded", step, coded.picture, scores, coded))
    advance(f"{name}: files near the readable rate")
    return result


def _step_nearest_readable(points: list[Point]) -> str:
    return min(points, key=lambda point: abs(point.scores["ssim"] - READABLE)).step
