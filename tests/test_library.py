"""The library without the command line: all that the README's commands do."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import magnetite
from magnetite.scenes.catalogue import SCENES

SCRIPT = """
import sys

for name in ("typer", "rich", "magnetite.cli"):
    sys.modules[name] = None  # importing them fails

import numpy as np

import magnetite
from magnetite.core.analysis.repeats import summarise_by_reference
from magnetite.core.methods.catalogue import every
from magnetite.core.verbs.gauge import gauge_curves
from magnetite.files.pairs import pairs_of
from magnetite.files.resources import DiskFiles
from magnetite.files.sidecar import write_certified, write_json
from magnetite.scenes.catalogue import SCENES
from magnetite.views.style import save
from pathlib import Path

scenes = {scene.name: scene.picture(256, 192, 0) for scene in SCENES}
breccia, chart = scenes["veined-breccia"], scenes["chart-plate"]
magnetite.write(breccia, "breccia.png")
assert magnetite.read("breccia.png").same_samples(breccia)

degraded = magnetite.degrade(breccia, "gaussian-blur sigma=1.2 + gaussian-noise sd=8dn", seed=7)
write_certified(degraded.picture, Path("degraded.png"), degraded.certificate.as_dict())
assert degraded.certificate.verdict == "as asked"
assert list(degraded.frame().columns)[:3] == ["step", "figure", "unit"]
noisy = magnetite.degrade(breccia, "gaussian-noise sd=8dn").picture
soft = magnetite.degrade(breccia, "gaussian-blur sigma=auto", aim="ssim=0.80")
assert abs(magnetite.score(breccia, soft.picture, "ssim")["ssim"] - 0.80) <= 0.0005

from magnetite.views.noise import noise_figure
from magnetite.views.planes import planes_figure
from magnetite.views.profile import Segment, profile_figure
from magnetite.views.residual import residual_figure
from magnetite.views.sheet import sheet
from magnetite.views.spectrum import spectrum_figure
from magnetite.views.surface import surface_figure
from magnetite.views.approximation import approximation_figure

figures = [
    noise_figure(breccia, noisy, None), planes_figure(breccia),
    profile_figure([chart], ["chart"], Segment.parse("60,120,160,120")),
    surface_figure(breccia, "breccia", None), spectrum_figure([breccia, noisy], ["a", "b"]),
    residual_figure(noisy, breccia), sheet([breccia, noisy], ["a", "b"], None),
    approximation_figure(breccia, "breccia"),
]
for number, figure in enumerate(figures):
    save(figure, Path(f"{number}.png"))

frames = [magnetite.degrade(chart, "sensor-noise full-well=9000e read=15e", seed=s).picture
          for s in (1, 2)]
transfer = magnetite.photon_transfer(frames)
assert transfer.frame().set_index("figure").loc["gain", "value"] > 0
plate = next(scene for scene in SCENES if scene.name == "chart-plate").picture(640, 448, 0)
blurred = magnetite.degrade(plate, "gaussian-blur sigma=1.7 + gaussian-noise sd=1%").picture
edge = magnetite.measure_edge(blurred)
assert "gaussian-blur sigma=1.7" in edge.blurs[0].step and edge.rows()[0].unit == "c/px"

tile = magnetite.compress(breccia, "dct step=24dn")
assert magnetite.expand(tile.data).same_samples(tile.picture)
assert magnetite.compress(breccia, "wavelet", rate=0.5).bpp <= 0.5
assert magnetite.compress(breccia, "dct", ratio=20).ratio >= 20
good = magnetite.compress(breccia, "dct", aim="ssim=0.95")
assert abs(good.aim.reached - 0.95) <= 0.0005 and good.rows()[0].figure == "rate"

restored = magnetite.restore(noisy, "gaussian sigma=2", reference=breccia)
assert restored.before["psnr"] > restored.after["psnr"] and restored.residual.verdict
assert {"psnr", "residual sd"} <= set(restored.frame()["figure"])
tuned = magnetite.restore(noisy, "sliding-dct sd=auto", aim="psnr=best")
assert tuned.tuned.tries > 5 and "sd=" in tuned.chain
magnetite.restore(blurred, "wiener-deblur sigma=1.7 sd=1%")

scores = magnetite.score(breccia, noisy, "all", region="20,10,200x180")
assert scores.frame().set_index("figure").loc["psnr", "unit"] == "dB" and scores.left_out == {}
mask = np.zeros((192, 256)); mask[40:120, 40:120] = 1
magnetite.score(breccia, noisy, mask=mask)
magnetite.score(breccia, noisy, "psnr", gray=True, border=4, align=True)
repeats = [("breccia", magnetite.score(breccia, magnetite.degrade(
    breccia, "gaussian-noise sd=8dn", seed=s).picture)) for s in range(3)]
assert summarise_by_reference(repeats)["breccia"]["psnr"].number == 3
assert {one.name for one in magnetite.error_maps(breccia, noisy)} >= {"error", "ssim"}
assert pairs_of(Path("breccia.png"), [Path("degraded.png")])[0]
assert magnetite.gauge(blurred, "mtf50,edge-width,noise-mask").remarks
assert gauge_curves(blurred).edge is not None
model = magnetite.fit_naturalness(scene.picture(512, 384, 0) for scene in SCENES)
write_json(Path("good.json"), model.as_record())
magnetite.gauge(breccia, "naturalness model=good.json")

codecs = ["dct step=2%,4%,8%,16%", "wavelet step=2%,4%,8%,16%"]
curves = magnetite.curve(breccia, codecs, "psnr")
comparisons, _ = curves.comparisons()
assert comparisons[0].bd_rate is not None and len(curves.frame()) == 8
assert curves.rates_at("psnr", 30.0) and len(curves.at_equal_rate(breccia)[1]) == 2
small = magnetite.convert(breccia, "middle width=96 height=72 + gray weights=bt709")
swept = magnetite.sweep(small, "dct step=2%,8%")
assert list(swept.frame()["step"]) == ["2%", "8%"]

from magnetite.experiment.executors import Alone
from magnetite.experiment.plan import read_plan
from magnetite.experiment.runner import run
from magnetite.experiment.ranking import ranking
from magnetite.experiment.results import read_rows
from magnetite.experiment.tasks import PlanJob
from magnetite.report.content import of_pictures, of_run
from magnetite.report.page import write_page
from magnetite.views.sweep import sweep_figure

save(sweep_figure(swept), Path("sweep.png"))
magnetite.write(small, "small.png")
Path("plan.toml").write_text(
    "[references]\\nfiles = ['small.png']\\n[degradations]\\nn = 'gaussian-noise sd=4%'\\n"
    "[treatments]\\nm = 'median size=3,5'\\n"
)
job = PlanJob.of(read_plan(Path("plan.toml")), Path())
assert run(job, Path("plan.toml").read_text(), Path("plan"), Alone()).failed == 0
assert len(ranking(read_rows(Path("plan")), "psnr").frame) == 2
assert write_page(of_run(Path("plan")), Path("run.html")).pictures == 3
pictures = of_pictures(small, [swept.cells[1].picture], ["a", "b"], "psnr", [None])
assert write_page(pictures, Path("pictures.html")).beside == 0
assert len(every()) > 90
assert not {"typer", "rich"} & {n for n, m in sys.modules.items() if m is not None}
print("done")
"""


def test_the_library_does_all_without_the_command_line(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-W", "error", "-c", SCRIPT], cwd=tmp_path, capture_output=True,
        text=True, timeout=300,
    )  # fmt: skip
    assert done.stdout == "done\n", done.stderr


def test_results_print_as_a_few_rows_and_show_as_tables() -> None:
    """What a person sees who types a result's name at a prompt or in a notebook."""
    scene = SCENES[2].picture(160, 120, 0)
    degraded = magnetite.degrade(scene, "gaussian-noise sd=9dn + gaussian-noise sd=2dn")
    restored = magnetite.restore(degraded.picture, "median", reference=scene)
    sweep = magnetite.sweep(scene, "dct step=4dn,9dn,20dn,40dn")
    for result in (degraded, degraded.certificate, restored, sweep):
        lines = repr(result).splitlines()
        assert len(lines) <= 14
        assert max(map(len, lines)) < 200
        assert lines[0].startswith(f"<{type(result).__name__}: {len(result.rows())} rows")
        assert result._repr_html_().count("<tr") > len(result.rows()) * 0.5
    assert "psnr" in repr(restored)
    assert "more: see frame()" in repr(degraded)
