"""Made-up rows of runs: unlike rows, failures, infinities, two factors, skewed scores."""

from __future__ import annotations

import math
import re

import numpy as np

import witness


def random_run(seed: int) -> list[witness.Row]:
    """Rows of a made-up run: unlike rows, failures, infinities, two factors, skewed scores."""
    rng = np.random.default_rng(seed)
    references = [f"r{k}" for k in range(rng.choice([1, 2, 3, 5, 9]))]
    levels = [f"gaussian-noise sd={k + 1}dn" for k in range(rng.integers(1, 3))]
    degradations = [("noise", level) for level in levels]
    if rng.random() < 0.4:
        degradations += [("soft", f"gaussian-blur sigma={k}px") for k in (1, 2)]
    treatments = [("nothing", "nothing"), ("m", "median"), ("same", "median size=5")]
    coded = rng.random() < 0.6
    if coded:
        blocks = (8, 16) if rng.random() < 0.4 else (8,)
        treatments += [("coded", f"dct step={s}% block={b}") for b in blocks for s in (2, 4, 8, 16)]
        treatments += [("after", f"median + dct step={s}% block=8") for s in (2, 4, 8, 16)]
    if rng.random() < 0.3:
        treatments = [t for t in treatments if t[0] == "coded"] or treatments[:1]
    skipped = {(rng.choice(levels), t) for t in treatments if rng.random() < 0.1}
    failing, endless = rng.choice([0, 0.03]), rng.choice([0, 0.02])
    spread = rng.choice([0.0, 0.2, 1.0])
    gains = {t: rng.normal(0, 1) for t in treatments}
    rows = []
    for reference in references:
        own = 20 + 3 * rng.lognormal(0, 1)
        for position, (name, degradation) in enumerate(degradations):
            for repeat in range(2 if name == "noise" else 1):
                for treatment in treatments:
                    if (degradation, treatment) in skipped:
                        continue
                    step = re.search(r"step=(\d+)", treatment[1])
                    quality = math.log2(int(step[1])) if step else 0.0
                    block = 0.05 if "block=16" in treatment[1] else 0.0
                    psnr = own - 2 * position + gains[treatment] * spread - 3 * quality
                    psnr += rng.normal(0, 0.3 * spread)
                    failed = rng.random() < failing
                    never = treatment[0] == "same" and seed % 7 == 0
                    if rng.random() < endless or never:
                        psnr = math.inf
                    mse = 0.0 if math.isinf(psnr) else 65025 / 10 ** (psnr / 10)
                    bpp = 4 * 2.0 ** (-0.8 * quality) * math.exp(rng.normal(0, 0.02) - block)
                    rows.append({
                        "reference": reference, "width": 64, "height": 48, "bits": 8,
                        "reference activity": own,
                        "degradation name": name, "degradation": degradation, "repeat": repeat,
                        "treatment name": treatment[0], "treatment": treatment[1],
                        "status": "failed" if failed else "done",
                        "reason": "out of memory" if failed else None,
                        "bpp": bpp if step and not failed else math.nan,
                        "psnr": math.nan if failed else psnr, "mse": math.nan if failed else mse,
                        "seconds treat": rng.uniform(0.1, 1),
                    })  # fmt: skip
    return rows
