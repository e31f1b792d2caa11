"""The library without the command line: all that the README's commands do."""

from __future__ import annotations

import csv
import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import matplotlib
import numpy as np
import pytest

import magnetite
from conftest import Run, run_in
from magnetite.core.errors import InputError
from magnetite.synthetic.catalogue import SCENES

CURVE = [(0.2, 28.0), (0.4, 31.0), (0.8, 34.0), (1.6, 37.0)]
SCRIPT = """
import sys

for name in ("typer", "rich", "magnetite.cli"):
    sys.modules[name] = None  # importing them fails

import numpy as np

import magnetite
from magnetite.core.analysis.repeats import summarise_by_reference
from magnetite.core.methods.catalogue import every
from magnetite.core.operations.gauge import gauge_curves
from magnetite.files.pairs import pairs_of
from magnetite.files.resources import DiskFiles
from magnetite.files.sidecar import write_certified
from magnetite.synthetic.catalogue import SCENES
from magnetite.views.style import save
from pathlib import Path

scenes = {scene.name: scene.picture(128, 96, 0) for scene in SCENES}
breccia, chart = scenes["veined-breccia"], scenes["chart-plate"]
magnetite.write(breccia, "breccia.png")
assert magnetite.read("breccia.png").same_samples(breccia)

degraded = magnetite.degrade(breccia, "gaussian-blur sigma=1.2 + gaussian-noise sd=8dn", seed=7)
write_certified(degraded, Path("degraded.png"))
assert degraded.certificate.verdict == "as asked"
assert list(degraded.data_frame().columns)[:3] == ["step", "figure", "unit"]
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
    profile_figure([chart], ["chart"], Segment.parse("20,60,110,60")),
    surface_figure(breccia, "breccia", None), spectrum_figure([breccia, noisy], ["a", "b"]),
    residual_figure(noisy, breccia), sheet([breccia, noisy], ["a", "b"], None),
    approximation_figure(breccia, "breccia"),
]
for number, figure in enumerate(figures[:3]):
    save(figure, Path(f"{number}.png"))

frames = [magnetite.degrade(chart, "sensor-noise full-well=9000e read=15e", seed=s).picture
          for s in (1, 2)]
transfer = magnetite.photon_transfer(frames)
assert transfer.data_frame().set_index("figure").loc["gain", "value"] > 0
plate = next(scene for scene in SCENES if scene.name == "chart-plate").picture(480, 336, 0)
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
assert {"psnr", "residual sd"} <= set(restored.data_frame()["figure"])
grain = magnetite.convert(noisy, "middle width=64 height=48 + gray")
tuned = magnetite.restore(grain, "gaussian sigma=auto", aim="psnr=best")
assert tuned.tuned.tries > 5 and "sigma=" in tuned.chain
magnetite.restore(blurred, "wiener-deblur sigma=1.7 sd=1%")

scores = magnetite.score(plate, blurred, "all", region="20,10,200x180")
assert scores.data_frame().set_index("figure").loc["psnr", "unit"] == "dB" and scores.left_out == {}
mask = np.zeros((96, 128)); mask[20:80, 20:80] = 1
magnetite.score(breccia, noisy, mask=mask)
magnetite.score(breccia, noisy, "psnr", gray=True, border=4, align=True)
repeats = [("breccia", magnetite.score(breccia, magnetite.degrade(
    breccia, "gaussian-noise sd=8dn", seed=s).picture)) for s in range(3)]
assert summarise_by_reference(repeats)["breccia"]["psnr"].number == 3
assert {one.name for one in magnetite.error_maps(breccia, noisy)} >= {"error", "ssim"}
assert pairs_of(Path("breccia.png"), [Path("degraded.png")])[0]
assert magnetite.gauge(blurred, "mtf50,edge-width,noise-mask").remarks
assert gauge_curves(blurred).edge is not None

codecs = ["dct step=2%,4%,8%,16%", "wavelet step=2%,4%,8%,16%"]
small = magnetite.convert(breccia, "middle width=96 height=72 + gray weights=bt709")
curves = magnetite.curve(small, codecs, "psnr")
comparisons, _ = curves.comparisons()
assert comparisons[0].bd_rate is not None and len(curves.data_frame()) == 8
assert curves.rates_at("psnr", 30.0) and len(curves.at_equal_rate(small)[1]) == 2
swept = magnetite.sweep(small, "dct step=2%,8%")
assert list(swept.data_frame()["step"]) == ["2%", "8%"]

from magnetite.experiment.executors import Alone
from magnetite.experiment.plan_reading import read_plan
from magnetite.experiment.runner import run
from magnetite.experiment.ranking import ranking
from magnetite.experiment.results import read_rows
from magnetite.experiment.tasks import PlanJob
from magnetite.pages.content import of_pictures, of_run
from magnetite.pages.page import write_page
from magnetite.views.sweep_curves import sweep_figure

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
assert write_page(pictures, Path("pictures.html")).outside == 0
assert len(every()) > 90
assert not {"typer", "rich"} & {n for n, m in sys.modules.items() if m is not None}
print("done")
"""


@pytest.mark.long
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
    assert "more: see data_frame()" in repr(degraded)


WORKERS = """
import numpy as np
from joblib import Parallel, delayed

import magnetite
from magnetite.core.methods.catalogue import ColourPolicy, metric

FACTOR = 255


@metric("largest-error", summary="Largest error.", colour=ColourPolicy.EACH, source="own",
        unit="dn", values="0 to 255", better="lower", identical=0.0)
def largest_error(reference, test, peak=1.0):
    return FACTOR / peak * float(np.abs(np.asarray(reference, float) - test).max())


def scored(k):
    clean = np.full((32, 32), 100, np.uint8)
    test = clean.copy()
    test[3, 4] += k
    return magnetite.score(clean, test, largest_error)["largest-error"]


if __name__ == "__main__":
    assert magnetite.score(np.zeros((9, 9)), np.ones((9, 9)), largest_error)["largest-error"] > 254
    for again in range(2):
        wanted = [k * FACTOR / 255 for k in range(5)]
        assert Parallel(2)(delayed(scored)(k) for k in range(5)) == wanted
        FACTOR = 510  # workers that live on follow
"""


@pytest.mark.long
def test_worker_processes_know_a_metric_of_a_script(tmp_path: Path) -> None:
    """By its function: they have not run its declaration."""
    (tmp_path / "script.py").write_text(WORKERS)
    done = subprocess.run(
        [sys.executable, "script.py"], cwd=tmp_path, capture_output=True, text=True, timeout=120
    )
    assert done.returncode == 0, done.stderr


def test_a_plan_is_carried_out_summarized_and_shown(run: Run, tmp_path: Path) -> None:
    """The same rows, tables and page as by the commands."""
    (tmp_path / "refs").mkdir()
    for name, picture in list(magnetite.scenes((96, 72)).items())[:2]:
        magnetite.write(picture, tmp_path / "refs" / f"{name}.png")
    (tmp_path / "plan.toml").write_text(
        '[references]\nfiles = ["refs/*"]\nconvert = "gray"\n[degradations]\n'
        'noise = "gaussian-noise sd=5%"\n[treatments]\nmedian = "median"\nbare = "nothing"\n'
    )
    calls: list[tuple[int, int, int]] = []
    done = magnetite.run(
        tmp_path / "plan.toml", workers=1, listener=lambda *counts: calls.append(counts)
    )
    assert (done.folder, done.computed, done.failed) == (tmp_path / "plan", 4, 0)
    assert calls[-1] == (4, 4, 0)
    assert magnetite.run(done.folder / "plan.toml", workers=1).reused == 4
    (ranking,) = magnetite.summarize(done.folder, "ranking")
    words = ["summarize", "plan", "--table", "ranking", "--format", "csv"]
    said = run(*words).stdout.splitlines()
    rows = list(csv.DictReader(said))
    assert list(rows[0]) == list(ranking.frame.columns)
    assert [row["treatment"] for row in rows] == ranking.frame["treatment"].tolist()
    assert magnetite.report(done.folder).page.is_file()
    with pytest.raises(InputError, match="has no rows that the table rates"):
        magnetite.summarize(done.folder, "rates")
    assert set(dir(magnetite)) == {*magnetite.__all__, "__version__"}


def test_a_picture_is_judged_by_a_gate(run: Run, tmp_path: Path) -> None:
    """As by the command; a gate of metrics demands the reference."""
    clean = magnetite.scenes((256, 192))["clay-core"]
    for number in range(12):
        folder = tmp_path / ("good" if number < 6 else "bad")
        folder.mkdir(exist_ok=True)
        sd = 1 + 0.1 * number if number < 6 else 4 + number
        worn = magnetite.degrade(clean, f"gaussian-noise sd={sd / 2.55:.2f}%", seed=number).picture
        magnetite.write(worn, folder / f"p{number}.png")
    words = ["gate", "fit", "--accepted", "good", "--rejected", "bad", "--metrics", "noise-blocks"]
    run(*words)
    for number, accepted in ((2, True), (9, False)):
        path = tmp_path / ("good" if accepted else "bad") / f"p{number}.png"
        verdict = magnetite.gate.check(tmp_path / "gate.json", path)
        assert verdict == magnetite.gate.check(tmp_path / "gate.json", magnetite.read(path))
        said = run("gate", "check", "gate.json", path, "--format", "json", status=not accepted)
        (row,) = json.loads(said.stdout)["rows"]
        assert (row["accepted"], row["value"]) == (verdict.accepted, pytest.approx(verdict.value))
        assert verdict.accepted == accepted
        assert (verdict.remarks, said.stderr) == ((), "")
    odd = magnetite.convert(path, "depth bits=8")
    rule = json.loads((tmp_path / "gate.json").read_text())
    (tmp_path / "gate.json").write_text(json.dumps(rule | {"program": "0.0"}))
    assert magnetite.gate.check(tmp_path / "gate.json", odd).remarks == (
        f"the gate was fitted with version 0.0; this is {magnetite.__version__}",
        f"{path} is 256x192 gray, 8 bits; the gate was fitted on 256x192 gray, 16 bits",
    )


def test_calibrations_and_views_stand_under_the_names_of_their_commands(tmp_path: Path) -> None:
    flat = [np.full((64, 64), level, np.uint16) for level in (2000, 8000, 16000, 24000)]
    chain = "sensor-noise full-well=9000e read=20e"
    frames = [magnetite.degrade(f, chain, seed=k).picture for k in (1, 2) for f in flat]
    full_well = magnetite.calibrate.noise(frames).full_well
    assert full_well.value == pytest.approx(9000, rel=0.15)
    chart = SCENES[2].picture(480, 336, 0)
    assert magnetite.calibrate.blur(chart).mtf50 == magnetite.measure_edge(chart).mtf50
    magnetite.write(chart, tmp_path / "chart.png")
    with matplotlib.rc_context():
        matplotlib.rcdefaults()
        before = dict(matplotlib.rcParams)
        figure = magnetite.view.spectrum([tmp_path / "chart.png"])
        magnetite.view.save(figure, tmp_path / "s.svg")
        assert dict(matplotlib.rcParams) == before  # other plots of the process stay as they were
    run_in(tmp_path, "view", "spectrum", "chart.png", "--out", "t.svg")
    assert (tmp_path / "s.svg").read_bytes() == (tmp_path / "t.svg").read_bytes()
    for group, command in ((magnetite.calibrate, "calibrate"), (magnetite.view, "view")):
        assert set(group.__all__) >= {"noise"}, command


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with a picture, a blind test, answers, and a run."""
    folder = tmp_path_factory.mktemp("made")
    magnetite.write(magnetite.scenes((96, 72))["clay-core"], folder / "core.png")
    magnetite.ask(folder / "core.png", folder / "test", steps="dct step=4dn,16dn,32dn")
    magnetite.raters(folder / "test", folder / "answers", count=6)
    plan = 'references.files = ["core.png"]\ntreatments.median = "median"\n'
    (folder / "plan.toml").write_text(plan)
    magnetite.run(folder / "plan.toml", workers=1)
    return folder


@pytest.mark.parametrize(
    "call",
    [
        lambda core: magnetite.degrade(core, "offset by=9%", overflow="wrap"),
        lambda core: magnetite.error_maps(core, core, ["eror"]),
        lambda core: magnetite.bd_rate(CURVE, CURVE, fit="cubic"),
        lambda core: magnetite.bd_rate(CURVE, CURVE, better="more"),
        lambda core: magnetite.photon_transfer([core, core], pattern="rgb"),
        lambda core: magnetite.summarize("plan", "mean"),
        lambda core: magnetite.summarize("plan", by="colour"),
        lambda core: magnetite.ask("core.png", "test", design="pair", steps="median"),
        lambda core: magnetite.opinions("test", "answers", model="case-v"),
    ],
)
def test_an_unknown_choice_is_refused(
    call: Callable[[magnetite.Picture], object], made: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """None stands for another choice in silence."""
    monkeypatch.chdir(made)
    core = magnetite.read("core.png")
    with pytest.raises(InputError, match="it is one of"):
        call(core)


def test_files_and_arrays_stand_for_pictures(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Every function on pictures gives the same for a picture, its array, and its file."""
    monkeypatch.chdir(tmp_path)
    clean = SCENES[0].picture(160, 120, 0)
    noisy = magnetite.degrade(clean, "gaussian-noise sd=8dn").picture
    for name, picture in (("clean", clean), ("noisy", noisy)):
        magnetite.write(picture, f"{name}.png")
    coded = magnetite.compress(clean, "dct step=8%")
    Path("clean.mgt").write_bytes(coded.data)
    view = magnetite.view
    calls = {
        "convert": lambda x, y: magnetite.convert(x, "gray").samples,
        "degrade": lambda x, y: magnetite.degrade(x, "box-blur size=3").picture.samples,
        "compress": lambda x, y: magnetite.compress(x, "dct step=8%").data,
        "restore": lambda x, y: magnetite.restore(y, "median", reference=x).after,
        "score": lambda x, y: magnetite.score(x, y, "mse,ssim"),
        "gauge": lambda x, y: magnetite.gauge(x, "sd,entropy"),
        "sweep": lambda x, y: magnetite.sweep(x, "dct step=4%,8%").data_frame()["psnr"].tolist(),
        "maps": lambda x, y: [one.values for one in magnetite.error_maps(x, y, ["error"])],
        "curve": lambda x, y: (
            magnetite.curve([x, y], "dct step=4%,8%").data_frame()["bpp"].tolist()
        ),
        "sheet": lambda x, y: view.sheet([x, y], ["a", "b"]).get_size_inches(),
        "noise": lambda x, y: view.noise(x, y).get_size_inches(),
        "profile": lambda x, y: view.profile([x], ["a"], "9,9,70,9").axes[0].lines[0].get_ydata(),
        "spectrum": lambda x, y: view.spectrum([x, y], ["a", "b"]).get_size_inches(),
    }
    sources = (clean, noisy), (clean.samples, noisy.samples), ("clean.png", Path("noisy.png"))
    for name, call in calls.items():
        one, *others = [call(*pair) for pair in sources]
        for other in others:
            np.testing.assert_equal(other, one, err_msg=name)
    assert magnetite.expand("clean.mgt").same_samples(coded.picture)
    assert "clean.png" in view.surface("clean.png").texts[0].get_text()
    for wrong in ("clean.png", clean, 5):
        with pytest.raises(InputError, match="expected a list of pictures"):
            view.spectrum(wrong)
    with pytest.raises(TypeError, match="missing 2 required positional arguments"):
        view.surface()
    for wrong in (5, None, "missing.png", ["clean.png"]):
        with pytest.raises(InputError):
            magnetite.calibrate.blur(wrong)
