"""Sweeps with their figures against the single computations: make bench-sweeps."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory

import magnetite
from magnetite.core.chain.notation import parse_sweep
from magnetite.core.chain.step import Chain
from magnetite.core.operations.sweep import KINDS
from magnetite.synthetic.catalogue import SCENES
from magnetite.views.style import save
from magnetite.views.sweep_curves import sweep_figure

CHAINS = (
    "dct step=5dn,10dn,20dn,40dn,80dn,160dn", "bm3d sd=5dn,8dn,11dn,14dn,17dn,20dn",
    "gaussian-noise sd=2dn,4dn,8dn,12dn,16dn,20dn", "median size=3,5,7,9,11,13",
)  # fmt: skip
PICTURE = next(scene for scene in SCENES if scene.name == "veined-breccia").picture(768, 512, 0)
ROUNDS = 3


def alone(chain: Chain) -> None:
    """One value as its own command computes and scores it."""
    text = str(chain)
    if chain.steps[0].kind == "codec":
        made = magnetite.expand(magnetite.compress(PICTURE, text).data)
    elif chain.steps[0].kind == "restoration":
        made = magnetite.restore(PICTURE, text).picture
    else:
        made = magnetite.degrade(PICTURE, text).picture
    magnetite.score(PICTURE, made, "psnr,ssim")


def best(*works: Callable[[], object]) -> list[float]:
    """Seconds of the fastest of several rounds of each, in turn, after one that warms up."""
    times: list[list[float]] = [[] for _ in works]
    for _ in range(ROUNDS + 1):
        for own, work in zip(times, works, strict=True):
            start = time.perf_counter()
            work()
            own.append(time.perf_counter() - start)
    return [min(own[1:]) for own in times]


def main() -> None:
    """Print a line for each sweep."""
    print(f"{'six values, 768x512 rgb':48} {'alone':>7} {'sweep':>7} {'ratio':>6}  (at most 1.3)")
    with TemporaryDirectory() as folder:
        target = Path(folder) / "sweep.png"
        for text in CHAINS:
            chains = parse_sweep(text, *KINDS)
            singles, drawn = best(
                lambda chains=chains: [alone(chain) for chain in chains],  # type: ignore[misc]
                lambda text=text: save(  # type: ignore[misc]
                    sweep_figure(magnetite.sweep(PICTURE, text), curve=True), target
                ),
            )
            print(f"{text:48} {singles:7.2f} {drawn:7.2f} {drawn / singles:6.2f}")


if __name__ == "__main__":
    main()
