"""Chains, steps and figures are read from text once, where they enter the program."""

from __future__ import annotations

from pathlib import Path

import pytest

import magnetite
from magnetite.cli.main import execute
from magnetite.core.chain import notation
from magnetite.core.chain.step import Step
from magnetite.core.operations import expand

PLAN = """
[references]
files = ["g.png"]
convert = "middle width=96 height=96"
[degradations]
noisy = "gaussian-noise sd=2%"
[treatments]
nothing = "nothing"
coded = "dct step=4%,8%,16%"
median = "median size=3"
known = "nl-means sd=known"
[scores]
metrics = "psnr,ssim window=7"
gauges = "sd"
[keep]
pictures = "worst 2"
by = "psnr"
"""

#: Words of a command, and every text that it reads.
COMMANDS = {
    "score g.png soft.png --metrics psnr,ssim": ["psnr", "ssim"],
    "score g.png soft.png --metrics all": [],
    "gauge g.png --metrics sd,edge-width": ["sd", "edge-width"],
    "degrade g.png a.png gaussian-blur sigma=1 + gaussian-noise sd=2%": [
        "gaussian-blur sigma=1 + gaussian-noise sd=2%"
    ],
    "degrade g.png a.png gaussian-noise sd=auto --aim psnr=30": ["gaussian-noise sd=auto", "psnr"],
    "compress g.png a.mgt dct step=8%": ["dct step=8%"],
    "compress g.png a.mgt dct --rate 2bpp --decoded b.png": ["dct"],
    "compress g.png a.mgt dct --aim ssim>=0.9": ["dct", "ssim"],
    "expand soft.mgt b.png": [],
    "restore soft.png a.png median size=3 --reference g.png": ["median size=3"],
    "restore soft.png a.png gaussian sigma=auto --aim psnr=best": ["gaussian sigma=auto", "psnr"],
    "convert g.png a.png depth bits=4": ["depth bits=4"],
    "--convert gray convert g.png a.png depth bits=4": ["gray", "depth bits=4"],
    "curve g.png --codec dct --codec predictive --metric psnr": ["dct", "predictive", "psnr"],
    "view sweep g.png dct step=4%,8% --metrics psnr --out a.png": ["dct step=4%,8%", "psnr"],
    "run plan.toml --workers 1": [
        "middle width=96 height=96", "gaussian-noise sd=2%", "dct step=4%,8%,16%", "median size=3",
        "nl-means sd=known", "psnr", "ssim window=7", "sd", "psnr",
    ],
}  # fmt: skip


def _step_of_stream(text: str, kind: str) -> Step:
    (chain,) = _READ(text, notation._Reading((kind,)))
    return chain.steps[0]


_READ = notation._read


@pytest.fixture
def texts(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """Every text that is read as a chain, a step or a figure, but in the header of a stream."""
    found: list[str] = []
    monkeypatch.setattr(expand, "parse_step", _step_of_stream)

    def reading(text, reading):
        found.append(text if isinstance(text, str) else " ".join(text))
        return _READ(text, reading)

    monkeypatch.setattr(notation, "_read", reading)
    return found


@pytest.mark.parametrize("words", COMMANDS)
def test_each_text_is_read_once(
    words: str, gray: Path, texts: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(gray.parent)
    Path("plan.toml").write_text(PLAN)
    picture = magnetite.degrade(magnetite.read(gray), "gaussian-blur sigma=1").picture
    magnetite.write(picture, "soft.png")
    Path("soft.mgt").write_bytes(magnetite.compress(picture, "dct step=8%").data)
    texts.clear()
    assert execute(words.split()) == 0
    assert sorted(texts) == sorted(COMMANDS[words])
