"""The guarantee on the page: each reference a line, and the share that meets the need."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy import stats

import magnetite
from browser import accessible, opened
from conftest import Run, run_in, texture
from magnetite.core.picture import as_picture
from magnetite.experiment.results import read_rows

NEED = ("--need", "ssim>=0.8", "--need", "psnr>=20", "--share", "50%", "--confidence", "90%")


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A run of six references, of which some meet the need at some settings."""
    folder = tmp_path_factory.mktemp("guarantee")
    (folder / "refs").mkdir()
    for seed in range(6):
        samples = (40 * (1 + seed) * texture(48, 64, seed=seed)).astype(np.uint8)
        magnetite.write(as_picture(samples), folder / "refs" / f"r{seed}.png")
    (folder / "plan.toml").write_text(
        '[references]\nfiles = ["refs/*"]\n[degradations]\nweak = "gaussian-noise sd=1%"\n'
        '[treatments]\ncoded = "dct step=2%,6%,16%,32%"\nbare = "nothing"\n[scores]\n'
        'metrics = "psnr,ssim"\n'
    )
    for words in (("run", "plan.toml", "--workers", "1"), ("report", "plan", *NEED)):
        run_in(folder, *words)
    return folder


def test_lines_shares_and_bounds_are_those_of_the_rows(folder: Path) -> None:
    rows = read_rows(folder / "plan").frame
    coded = rows[rows["treatment name"] == "coded"]
    with opened(folder / "plan" / "report.html") as one:
        page = one.page
        assert accessible(one) == []
        page.click("nav a[href='#guarantee']")
        page.select_option("#guarantee-sequence", index=0)
        page.select_option("#guarantee-figure", index=0)
        scores, shares = page.evaluate(
            "() => page.guaranteeCharts.map((chart) => chart.data.datasets.map((set) => "
            "({ label: set.label, data: set.data, colour: set.borderColor })))"
        )
        lines = {line["label"]: line["data"] for line in scores}
        assert set(lines) == {*coded["reference"], "need"}
        rates = coded.groupby("treatment")["bpp"].mean().sort_values(ascending=False)
        for reference, own in coded.groupby("reference"):
            ssim = own.set_index("treatment")["ssim"][rates.index]
            assert [point["y"] for point in lines[reference]] == pytest.approx(list(ssim))
            assert [point["x"] for point in lines[reference]] == pytest.approx(list(rates))
        blue = page.evaluate("page.colour('--c0')")
        meets = (coded["ssim"] >= 0.8).groupby(coded["reference"]).all()
        drawn_blue = {line["label"]: line["colour"] == blue for line in scores}
        assert {name: drawn_blue[name] for name in meets.index} == meets.to_dict()
        assert meets.nunique() == 2
        met = coded.assign(met=(coded["ssim"] >= 0.8) & (coded["psnr"] >= 20))
        passed = met.groupby("treatment")["met"].sum()[rates.index]
        assert 0 < passed.iloc[-1] < 6 or passed.nunique() > 1
        by_name = {one["label"]: [point["y"] for point in one["data"]] for one in shares}
        assert by_name["meets the need, %"] == pytest.approx([100 * n / 6 for n in passed])
        bounds = [100 * stats.beta.ppf(0.1, n, 7 - n) if n else 0.0 for n in passed]
        assert by_name["bound, %"] == pytest.approx(bounds)
        assert by_name["wanted, %"] == [50, 50]
        # Pointing at a line names its reference, its figure and its setting.
        at = page.evaluate(
            "() => { const chart = page.guaranteeCharts[0]; const set = chart.data.datasets"
            ".findIndex((one) => one.label === 'r2'); const point = chart.getDatasetMeta(set)"
            ".data[1]; const box = chart.canvas.getBoundingClientRect(); "
            "return [box.left + point.x, box.top + point.y]; }"
        )
        page.mouse.move(*at)
        one.settle()
        said = one.text("#guarantee-pointed")
        assert "ssim" in said
        assert "dct step=6%" in said
        cells = page.locator("#guarantee-table tbody tr").first.locator("td").all_inner_texts()
        assert str(int(passed.iloc[0])) in cells
        page.select_option("#guarantee-figure", index=1)
        other = page.evaluate("() => page.guaranteeCharts[0].data.datasets[0].data[0].y")
        own = coded[coded["reference"] == scores[0]["label"]].set_index("treatment")["psnr"]
        assert other == pytest.approx(own[rates.index[0]])
        page.select_option("#guarantee-sequence", index=1)  # a treatment without rate
        one.settle()
        one.check()


def test_needs_that_cannot_be_drawn_are_one_line(run: Run, folder: Path) -> None:
    for words, says in (
        (("--need", "vif>=1"), "is not a figure of this run"),
        (("--need", "ssim"), "ssim"),
        (("--need", "ssim=0.9"), "states no bound"),
        (("--need", "ssim>=0.9", "--share", "0%"), "share"),
    ):
        done = run("report", folder / "plan", *words, "--out", "x.html", status=2)
        assert says in done.stderr
        assert len(done.stderr.strip().splitlines()) == 1
