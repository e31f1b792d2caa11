"""The demo on pictures of one's own, and the page that it ends in."""

from __future__ import annotations

import csv
import re
import shutil
from pathlib import Path

import pytest

import magnetite
from browser import Opened, accessible, opened
from conftest import Run, file_of, size_of
from magnetite.core.quantities import figure

SIZES = ((1280, 800), (390, 844))


def test_the_demo_tells_the_story_of_own_pictures(run: Run, tmp_path: Path) -> None:
    own = tmp_path / "own"
    own.mkdir()
    file_of("gray 8", own)
    file_of("rgb 16", own)
    (own / "notes.txt").write_text("no picture")
    shutil.copy(own / "gray-8.png", own / "h.png")
    (tmp_path / "told" / "references").mkdir(parents=True)  # of an earlier demo
    (tmp_path / "told" / "WALKTHROUGH.txt").write_text("")
    magnetite.write(magnetite.scenes((96, 72))["clay-core"], tmp_path / "told/references/old.png")
    done = run("demo", "told", "--references", "own", "--workers", "1")
    assert "note: skipped: own/notes.txt: not a picture" in done.stderr
    assert "note: skipped: own/h.png holds the same samples as own/gray-8.png" in done.stderr
    assert "denoising before coding pays on" in done.stdout
    told = tmp_path / "told"
    rows = list(csv.DictReader((told / "run" / "scores.csv").read_text().splitlines()))
    assert {row["reference"] for row in rows} == {"gray-8", "rgb-16"}
    assert len(rows) == 2 * (5 + 2 * 5 * 5)
    reference = magnetite.read(told / "references" / "gray-8.png")
    for row in rows:
        if (row["reference"], row["degradation"]) == ("gray-8", "nothing"):
            coded = magnetite.compress(reference, row["treatment"])
            assert (float(row["bpp"]), int(row["bytes"])) == (coded.bpp, len(coded.data))
    assert (told / "answer.txt").read_text().startswith("Details")
    for name in (
        "curves/rate-distortion.png", "curves/denoise-first-strong-noise.png", "sheets/rgb-16.png",
    ):  # fmt: skip
        assert size_of(told / name)[0] == 1280
    assert "holds other files" in run("demo", "own", status=2).stderr
    the_page_works(told, rows, "gray-8", "rgb-16")


@pytest.mark.long
def test_the_page_of_the_whole_demo(run: Run, tmp_path: Path) -> None:
    run("demo", "told")
    run("demo", "told")  # its own folder may be written again
    told = tmp_path / "told"
    assert (told / "report.html").stat().st_size < 15e6
    rows = list(csv.DictReader((told / "run" / "scores.csv").read_text().splitlines()))
    the_page_works(told, rows, "veined-breccia", "clay-core")
    for size in SIZES:
        for theme in ("light", "dark"):
            the_page_suits(told / "report.html", size, theme)


def the_page_works(told: Path, rows: list[dict[str, str]], shallow: str, deep: str) -> None:
    """Everything on the page of a demo does what it says, of pictures of 8 and of 16 bits."""
    path = told / "report.html"
    with opened(path) as one:
        page = one.page
        # The answer names the best treatment with its interval.
        assert re.search(r"gains most: [+−][\d.]+ dB of psnr", one.text("#answer"))
        # The table sorts both ways, filters, finds words, and saves what is shown.
        assert f"{len(rows)} of {len(rows)} rows" in one.text("#rows-count")
        column = page.locator("#rows thead button", has_text="psnr")
        position = 1 + page.locator("#rows thead th").all_inner_texts().index(column.inner_text())
        values = sorted(float(row["psnr"]) for row in rows)
        for expected in (values[-1], values[0]):  # the best first, then the worst
            column.click()
            shown = page.inner_text(f"#rows tbody tr:nth-child(1) td:nth-child({position})")
            assert float(shown) == pytest.approx(expected, abs=0.01)
        page.select_option('select[data-column="reference"]', deep)
        page.fill("#search", "bm3d")
        wanted = [r for r in rows if r["reference"] == deep and "bm3d" in r["treatment"]]
        assert f"{len(wanted)} of {len(rows)} rows" in one.text("#rows-count")
        with page.expect_download() as saved:
            page.click("#export")
        lines = list(csv.DictReader(Path(saved.value.path()).read_text().splitlines()))
        assert sorted(float(line["psnr"]) for line in lines) == pytest.approx(
            sorted(float(row["psnr"]) for row in wanted), rel=1e-8
        )
        # Curves show other figures, and are hidden by their names, with keys as well.
        page.select_option("#curve-y", "ssim")
        assert one.ink("#plot") > 0.01
        the_curve_tells_its_values(one)
        name = page.locator("#legend button", has_text="median").first
        number = page.locator("#legend button").all_inner_texts().index(name.inner_text())
        for visible in (False, True):
            name.press("Enter")
            assert name.get_attribute("aria-pressed") == str(visible).lower()
            assert page.evaluate("(k) => page.chart.isDatasetVisible(k)", number) == visible
        the_comparator_works(one, told, shallow, deep)
        one.check()


def the_curve_tells_its_values(one: Opened) -> None:
    """A point under the pointer names its curve and both of its values."""
    page = one.page
    page.locator("#plot").scroll_into_view_if_needed()
    point = page.evaluate("() => page.chart.data.datasets[0].data[1]")
    at = page.evaluate(
        "() => { const d = page.chart.getDatasetMeta(0).data[1]; return [d.x, d.y]; }"
    )
    box = page.locator("#plot").bounding_box()
    page.mouse.move(box["x"] + at[0], box["y"] + at[1])
    one.settle()
    told = page.evaluate("() => page.chart.tooltip.body.flatMap((part) => part.lines).join(' ')")
    assert figure(point["y"]) in told
    assert page.evaluate("() => page.chart.tooltip.opacity") > 0


def the_page_suits(path: Path, size: tuple[int, int], theme: str) -> None:
    """A window of a size and a theme: no rule of access is broken, nothing is cut, it prints."""
    with opened(path, size, theme) as one:
        one.page.locator("#compare").scroll_into_view_if_needed()
        one.page.wait_for_function("() => page.stageState.loaded.length > 1")
        for details in one.page.locator("details").all()[:4]:
            details.locator("summary").first.click()
        assert accessible(one) == []
        width = one.page.evaluate("document.documentElement.scrollWidth")
        assert width <= size[0], "the page is wider than the window"
        assert one.page.evaluate("shift") < 0.02, "what stands on the page moves while it opens"
        one.page.emulate_media(media="print")
        assert len(one.page.pdf()) > 30_000
        one.check()


def the_comparator_works(one: Opened, told: Path, shallow: str, deep: str) -> None:
    """Values under the pointer are those of the files; all modes draw; the landscape turns."""
    page = one.page
    page.locator("#compare").scroll_into_view_if_needed()
    for name in (deep, shallow):
        page.select_option("#compare-reference", name)
        page.wait_for_function("(n) => page.stageState.loaded[1]?.reference === n", arg=name)
        reference = magnetite.read(next((told / "references").glob(f"{name}.*")))
        picture = magnetite.convert(reference, "middle width=256 height=192")
        for _ in range(12):
            page.locator("#stage").press("+")
        one.settle()
        box = page.locator("#stage").bounding_box()
        for share in (0.1, 0.27, 0.4):
            page.mouse.move(box["x"] + share * box["width"], box["y"] + 0.61 * box["height"])
            one.settle()
            told_here = page.inner_text("#readout")
            x, y = map(int, re.match(r"x (\d+), y (\d+)", told_here).groups())
            values = re.search(r"reference: ([\d ]+) dn", told_here)[1].split()
            assert [int(v) for v in values] == picture.samples[y, x].reshape(-1).tolist()
    assert page.evaluate("page.view.zoom") > 20
    page.click("#zoom-fit")
    looks = set()
    for mode in ("side", "wipe", "flicker", "difference"):
        page.check(f'input[name="mode"][value="{mode}"]')
        one.settle()
        looks.add(round(one.ink("#stage"), 4))
        if mode == "wipe":
            page.locator("#stage").press("]")
            assert page.input_value("#wipe") == "55"
            box = page.locator("#stage").bounding_box()
            page.mouse.move(box["x"] + 0.55 * box["width"], box["y"] + 100)
            page.mouse.down()
            page.mouse.move(box["x"] + 0.2 * box["width"], box["y"] + 100)
            page.mouse.up()
            assert float(page.input_value("#wipe")) == pytest.approx(20, abs=1)
        if mode == "flicker":
            before = page.evaluate("page.stageState.turn")
            page.wait_for_function("(b) => page.stageState.turn > b + 1", arg=before)
            page.click("#flick")
    assert len(looks) > 2
    page.check('input[name="mode"][value="side"]')
    for kind in ("error", "ssim"):
        page.select_option("#overlay", kind)
        page.wait_for_function("() => page.stageState.maps.some(Boolean)")
    page.locator("#land").scroll_into_view_if_needed()
    one.settle()
    seen = page.evaluate("page.by('land').toDataURL()")
    page.locator("#land").press("ArrowRight")
    one.settle()
    assert page.evaluate("page.by('land').toDataURL()") != seen


def test_figures_are_written_alike_by_page_and_program(tmp_path: Path) -> None:
    """The page writes figures as the program does, to four digits."""
    values = [0.0, 1, -3, 0.94312, 12.3456, -0.00012345, 4.5e-7, 98765.4, 2.5e9 + 0.25, None]
    source = Path(magnetite.__file__).parent / "pages" / "assets" / "base.js"
    (tmp_path / "p.html").write_text(
        "<!doctype html><html data-ready=yes><title>t</title>"
        f'<script type="application/json" id="data">{{}}</script><script>{source.read_text()}'
        "window.write = page.figure;</script></html>"
    )
    with opened(tmp_path / "p.html") as one:
        for value in values:
            assert one.page.evaluate("(v) => write(v)", value) == figure(value), value
