"""Output of the commands on made-up pictures, and the contents of their figures and pages.

`python tests/transcript.py` writes it to `transcript.txt`; a test compares. A change that is meant
is read in the difference of that file before it is committed.
"""

from __future__ import annotations

import io
import re
import shlex
import tempfile
from collections.abc import Iterator
from contextlib import chdir, redirect_stderr, redirect_stdout
from html.parser import HTMLParser
from pathlib import Path
from unittest.mock import patch

import numpy as np
from matplotlib.figure import Figure

import magnetite
from magnetite.cli.main import execute
from magnetite.core.picture import as_picture
from magnetite.synthetic.catalogue import SCENES
from magnetite.views import style

KEPT = Path(__file__).with_suffix(".txt")
NUMBER = re.compile(r"(?<![\w.])[-+−]?\d+(?:\.\d+)?(?:e[-+]?\d+)?(?![\w.]*\d)")
PLANS = {
    "methods": """
repeats = 2
[references]
files = ["trays/*.png"]
[degradations]
noise = "gaussian-noise sd=1.5%,5%"
soft = "gaussian-blur sigma=1.2px"
[treatments]
nothing = "nothing"
median = "median"
smooth = "gaussian sigma=0.6px"
[scores]
metrics = "psnr,ssim,delta-e"
gauges = "mean,tenengrad"
""",
    "rates": """
[references]
files = ["trays/*.png", "tray.tif"]
[treatments]
blocks = "dct step=3%,6%,12%,25%"
waves = "wavelet step=3%,6%,12%,25%"
[scores]
metrics = "psnr,ssim"
""",
}
COMMANDS = """
scenes trays --size 160x112 --seed 3
convert trays/chart-plate.png plate.png gray + depth bits=12
convert trays/clay-core.png tray.tif crop left=8 top=6 width=120 height=90
degrade trays/veined-breccia.png worn.png gaussian-blur sigma=1.2px + gaussian-noise sd=8dn
degrade trays/veined-breccia.png few.png quantize bits=4 + jpeg quality=40 --format json
degrade trays/clay-core.png frame.png sensor-noise full-well=4000e read=6e prnu=1%
degrade trays/banded-ironstone.png aimed.png gaussian-noise sd=auto --aim psnr=30
degrade trays/speckled-granite.png striped.png banding amplitude=6dn period=7px + salt-pepper \
density=3%
compress trays/veined-breccia.png a.mgt dct --rate 1bpp --decoded a.png
--convert 'crop left=8 top=6 width=96 height=80' compress trays/veined-breccia.png e.mgt dct step=5%
compress trays/veined-breccia.png b.mgt wavelet --aim ssim=0.9
compress trays/speckled-granite.png c.mgt predictive --format json
compress trays/speckled-granite.png d.mgt svd --ratio 4
expand b.mgt b.png
restore worn.png clean.png nl-means --reference trays/veined-breccia.png
restore worn.png tuned.png bm3d
restore frame.png oracle.png gaussian sigma=auto --reference trays/clay-core.png --aim psnr=best
restore few.png smooth.png deblock step=8dn --format json
score trays/veined-breccia.png worn.png clean.png a.mgt b.mgt
score trays/veined-breccia.png worn.png clean.png --metrics all
score trays/veined-breccia.png worn.png --metrics psnr,ssim,delta-e --region 20,10,90x80 \
--format json
score trays/clay-core.png frame.png trays/clay-core.png --metrics mse,snr,gmsd --format markdown
score good bad --metrics mse,psnr
convert trays/clay-core.png right.png crop left=3 top=2 width=150 height=100
convert trays/clay-core.png left.png crop left=0 top=0 width=150 height=100
score left.png right.png --align
gauge trays/veined-breccia.png worn.png few.png --metrics all
gauge large.png --metrics mtf50,noise-blocks --curves gauged
gauge plate.png frame.png --metrics mean,sd,entropy,noise-blocks --format csv
view noise trays/veined-breccia.png worn.png
view residual worn.png clean.png
view planes frame.png
view profile worn.png clean.png --line 10,20,120.5,80
view surface worn.png --region 20,10,60x40
view spectrum worn.png clean.png frame.png
view sheet trays/veined-breccia.png worn.png clean.png
view sharpness large.png
view approximation worn.png
view sweep trays/veined-breccia.png dct step=8dn,32dn block=4,8 --curve
view sweep trays/clay-core.png median size=1,3,7
curve trays/veined-breccia.png trays/clay-core.png --codec 'dct step=8dn,16dn,32dn,64dn' \
--codec 'wavelet step=8dn,16dn,32dn,64dn' --at psnr=32 --out curves
curve trays/speckled-granite.png --codec 'jpeg quality=20,40,60,80' --codec 'dct \
step=8dn,16dn,32dn,64dn' --metrics psnr,ssim,mse --format json
degrade plate.png shot.png sensor-noise full-well=4000e read=6e --seed 1
degrade plate.png more.png sensor-noise full-well=4000e read=6e --seed 2
degrade large.png soft.png gaussian-blur sigma=1.5px
calibrate noise shot.png more.png
calibrate blur soft.png
chart chart.png --size 900x600 --seed 4
degrade chart.png seen.png to-linear standard=srgb + gaussian-blur sigma=0.9px + white-balance \
red=0.8 green=0.8 blue=0.7 + sensor-noise full-well=6000e read=5e prnu=2% + to-encoded \
standard=bt709 --seed 2
calibrate chart seen.png --chart chart.json --camera store.toml
run methods.toml --dry
run methods.toml --workers 1
run rates.toml --workers 1
summarize methods --table means
summarize methods --table means --by treatments,reference --metric ssim
summarize methods --table ranking
summarize methods --table ranking --metric delta-e --format json
summarize methods --table interactions
summarize methods --table agreement
summarize methods --table references
summarize methods --table noticed
summarize methods --table guarantee --need psnr>=28 --need ssim>=0.7
summarize rates --table rates
summarize rates --table guarantee --need psnr>=30 --share 70%
predict rates trays/veined-breccia.png tray.tif --need psnr>=34
report methods --need psnr>=30 --out page.html
report rates --out rates.html
report --pictures trays/veined-breccia.png worn.png clean.png --out pictures.html
gate fit --accepted good --rejected bad
gate check gate.json good/1.png bad/4.png
ask trays/veined-breccia.png trays/clay-core.png --design pairs --steps 'gaussian-noise \
sd=2dn,6dn,20dn' --out pairs
raters pairs answers --count 12
opinions answers --test pairs --metrics psnr,ssim
ask trays/veined-breccia.png --design rating --steps 'jpeg quality=4,8,15,25,40,60,90' --out \
rating
raters rating grades --count 12
opinions grades --test rating --metrics ssim,psnr --gate people.json
ask trays/veined-breccia.png --design threshold --steps 'gaussian-blur sigma=0.2..2/0.2' --out \
threshold
raters threshold seen --count 6
opinions seen --test threshold
methods gaussian-noise
methods dct --format json
"""


def prepare() -> None:
    """Files that the commands read and none of them writes: plans, and judged pictures."""
    for name, plan in PLANS.items():
        Path(f"{name}.toml").write_text(plan)
    plate = next(scene for scene in SCENES if scene.name == "chart-plate")
    magnetite.write(plate.picture(480, 336, 0), "large.png")
    rng = np.random.default_rng(6)
    for folder, sd in (("good", 5), ("bad", 9)):
        Path(folder).mkdir()
        for number in range(24):
            noise = rng.normal(0, sd + number % 6, (24, 32))
            picture = as_picture((128 + noise).clip(0, 255).astype(np.uint8))
            magnetite.write(picture, Path(folder) / f"{number}.png")


def lines() -> Iterator[str]:
    """The transcript, computed in a folder of its own."""
    with tempfile.TemporaryDirectory() as folder, chdir(folder):
        prepare()
        for command in COMMANDS.strip().splitlines():
            yield f"$ magnetite {command}"
            yield from output(shlex.split(command))


def output(words: list[str]) -> Iterator[str]:
    """Printed lines of a command, and the contents of the figures and pages that it writes."""
    out, err, figures = io.StringIO(), io.StringIO(), []

    def kept(figure: Figure, path: Path) -> None:
        figures.append(figure)
        figure.draw_without_rendering()
        path.touch()

    with redirect_stdout(out), redirect_stderr(err), patch.object(style, "save", kept):
        status = execute(words)
    texts = [*err.getvalue().splitlines(), *out.getvalue().splitlines()]
    if status:
        texts.append(f"status {status}")
    for figure in figures:
        texts += contents(figure)
    if words[0] == "report":
        texts += page(Path(words[-1]).read_text())
    yield from (steady(text) for text in texts if text.strip())


def steady(text: str) -> str:
    """A line without times, alignment, versions of libraries, and sizes and digests that follow."""
    text = re.sub(r"\d[\d.]*(e-\d+)? s\b", "… s", text)
    text = re.sub(r'("seconds"): [^,]*', r"\1: …", text)
    text = re.sub(r'("sha256"): "\w*"', r"\1: …", text)
    text = re.sub(r"[\d.]+ MB\b", "… MB", text)
    text = re.sub(r"\bby (\w+) \d[\d.]*", r"by \1 …", text)
    return " ".join(text.split())


def contents(figure: Figure) -> Iterator[str]:
    """Texts and data of a figure, without its layout."""
    for number, axes in enumerate(figure.axes):
        titles = [axes.get_title(loc=side) for side in ("left", "center", "right")]  # type: ignore[arg-type]
        words = [*titles, axes.get_xlabel(), axes.get_ylabel(), *(t.get_text() for t in axes.texts)]
        yield f"axes {number}: {' | '.join(' '.join(w.split()) for w in words if w)}"
        for line in axes.lines:
            label = str(line.get_label())
            name = "" if label.startswith("_") else f" {label}"
            yield f"  line{name}: {summed(*line.get_data())}"
        for image in axes.images:
            low, high = image.get_clim()
            yield f"  image {summed(image.get_array())} {low:.5g} {high:.5g}"
        for one in axes.collections:
            outlines = [path.vertices for path in one.get_paths()]
            yield f"  collection {summed(one.get_offsets(), *outlines)}"
        if axes.patches:
            boxes = [patch.get_path().get_extents(patch.get_patch_transform()).extents
                     for patch in axes.patches]  # fmt: skip
            yield f"  patches {summed(np.array(boxes))}"


def summed(*arrays: object) -> str:
    """Number, mean and a sum by position of all values."""
    values = np.concatenate([np.ravel(np.ma.filled(np.ma.asarray(a, float), 0)) for a in arrays])
    values = np.nan_to_num(values)
    weights = np.sin(0.7 * np.arange(values.size))
    mean = values.mean() if values.size else 0
    return f"{values.size} {mean:.5g} {weights @ values / max(1, values.size):.5g}"


class _Texts(HTMLParser):
    """Texts of a page, without scripts and styles."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[str] = []
        self._skips = False

    def handle_starttag(self, tag: str, attributes: object) -> None:
        self._skips = tag in ("script", "style")

    def handle_endtag(self, tag: str) -> None:
        self._skips = False

    def handle_data(self, data: str) -> None:
        if not self._skips and data.strip():
            self.found.append(data)


def page(text: str) -> list[str]:
    """Texts of a page up to its versions and times."""
    parser = _Texts()
    parser.feed(text.partition('<section id="provenance"')[0])
    return parser.found


def main() -> None:
    KEPT.write_text("\n".join(lines()) + "\n")


if __name__ == "__main__":
    main()
