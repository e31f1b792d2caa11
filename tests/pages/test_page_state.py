"""Choices on the page survive a reload and travel as a link; rows and points lead to pictures."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from urllib.parse import parse_qs

import numpy as np
import pytest
from PIL import Image

import magnetite
from browser import Opened, opened
from conftest import run_in, texture
from magnetite.core.picture import as_picture
from magnetite.core.quantities import figure, figures
from magnetite.experiment.results import read_rows


@pytest.fixture(scope="module")
def report(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A run of two references, two noises and a swept codec, and its page."""
    folder = tmp_path_factory.mktemp("state")
    (folder / "refs").mkdir()
    for seed, name in enumerate(("first", "second")):
        samples = (255 * texture(64, 80, seed=seed)).astype(np.uint8)
        magnetite.write(as_picture(samples), folder / "refs" / f"{name}.png")
    (folder / "plan.toml").write_text(
        '[references]\nfiles = ["refs/*"]\n[degradations]\nweak = "gaussian-noise sd=2%"\n'
        'strong = "gaussian-noise sd=8%"\n[treatments]\nbare = "nothing"\n'
        '"coded" = "dct step=2%,4%,8%,16%"\n[scores]\nmetrics = "psnr,ssim"\n'
    )
    for words in (("run", "plan.toml", "--workers", "1"), ("report", "plan")):
        run_in(folder, *words)
    return folder / "plan" / "report.html"


def kept(one: Opened) -> dict[str, list[str]]:
    return parse_qs(str(one.page.evaluate("location.hash")).removeprefix("#view?"))


def lines(one: Opened) -> list[list[str]]:
    """Cells of the table's rows that are drawn."""
    rows = one.page.locator("#rows tbody tr:not(.space)").all()
    return [row.locator("td").all_inner_texts() for row in rows]


def test_choices_survive_a_reload_and_a_link(report: Path) -> None:
    with opened(report) as one:
        page = one.page
        page.select_option("#curve-y", "ssim")
        page.select_option("#curve-reference", index=1)
        page.select_option("#filters [data-column='treatment name']", "coded")
        page.fill("#search", "step=4%")
        page.locator("#rows thead button", has_text="psnr").click()
        page.locator("#compare").scroll_into_view_if_needed()
        page.wait_for_function("() => page.stageState.loaded.length > 1")
        page.check("input[name=mode][value=difference]")
        page.locator("#choices input").nth(1).check()
        page.locator("#stage").focus()
        page.keyboard.press("+")
        page.wait_for_function("() => location.hash.includes('position=')")
        page.click("nav a[href='#scores']")
        table, found = lines(one), kept(one)
        state = page.evaluate("({ ...page.view })")
        address = page.url
        assert found["section"] == ["scores"]
        assert found["mode"] == ["difference"]
        assert len(table) == 4
        one.check()
    for again in ("reload", "link"):
        with opened(report) as one:
            if again == "reload":
                hash_ = address[address.index("#") :]
                one.page.evaluate("(text) => history.replaceState(null, '', text)", hash_)
                one.page.reload()
            else:
                one.page.goto("about:blank")
                one.page.goto(address)
            one.page.wait_for_selector("html[data-ready=yes]")
            assert lines(one) == table
            assert one.page.input_value("#curve-y") == "ssim"
            assert one.page.input_value("#search") == "step=4%"
            assert one.page.input_value("#curve-reference") == found["curve-reference"][0]
            one.page.locator("#compare").scroll_into_view_if_needed()
            one.page.wait_for_function("() => page.stageState.loaded.length > 1")
            one.settle()
            assert one.page.locator("input[name=mode][value=difference]").is_checked()
            assert one.page.locator("#choices input:checked").count() == 3
            now = one.page.evaluate("({ ...page.view })")
            assert now == pytest.approx(state, rel=1e-5)
            assert one.said == []


def test_filters_act_on_means_too(report: Path) -> None:
    with opened(report) as one:
        page = one.page
        page.select_option("#view", "means")
        assert len(lines(one)) == 10
        over = "10 of 10 means; 95 % interval over references, each the mean of its rows"
        assert over in one.text("#rows-count")
        page.select_option("#filters [data-column='degradation name']", "strong")
        page.select_option("#filters [data-column='treatment name']", "coded")
        assert {row[0] for row in lines(one)} == {"gaussian-noise sd=8%"}
        assert all("dct" in row[1] for row in lines(one))
        assert len(lines(one)) == 4
        assert page.locator("#filters [data-column=reference]").is_disabled()
        page.select_option("#view", "rows")
        assert len(lines(one)) == 8
        assert page.locator("#filters [data-column=reference]").is_enabled()
        one.check()


def test_columns_are_written_as_in_the_tables_of_the_program(report: Path) -> None:
    rng = np.random.default_rng(0)
    columns = [
        list(10.0 ** rng.uniform(low, low + span, 9)) for low in range(-9, 9) for span in (1, 6)
    ]
    columns += [[-value for value in columns[9]], [0.0, 0.5, 1e-9, -1e-9], [0.0, 0.0]]
    with opened(report) as one:
        write = "(columns) => columns.map((values) => values.map(page.aligned(values)))"
        assert one.page.evaluate(write, columns) == [figures(values) for values in columns]
        write = "(values) => values.map(page.figure)"
        singles = [value for column in columns for value in column if value % 1]
        assert one.page.evaluate(write, singles) == [figure(value) for value in singles]


def test_rows_and_points_lead_to_their_pictures(report: Path) -> None:
    with opened(report) as one:
        page = one.page
        page.fill("#search", "dct")
        row = page.locator("#rows tbody tr", has=page.locator("td button")).nth(1)
        _, *cells = row.locator("td").all_inner_texts()
        row.locator("button").click()
        page.wait_for_function("() => page.stageState.loaded.length === 2")
        shown = page.evaluate(
            "page.stageState.loaded.map((p) => [p.kind, p.reference, p.detail, p.scores.psnr])"
        )
        assert [kind for kind, *_ in shown] == ["reference", "treated"]
        assert shown[1][1] == cells[0]
        assert shown[1][2] == f"{cells[2]}, then {cells[4]}"
        _, *titles = page.locator("#rows thead th").all_inner_texts()
        column = next(k for k, title in enumerate(titles) if title.startswith("psnr"))
        assert shown[1][3] == pytest.approx(float(cells[column]), rel=1e-3)
        page.select_option("#curve-reference", shown[0][1])
        page.locator("#points summary").click()
        point = page.locator("#points-table tr", has=page.locator("button")).first
        chain = point.locator("td").nth(1).inner_text()
        point.locator("button").click()
        page.wait_for_function(
            "(chain) => page.stageState.loaded[1]?.detail.endsWith(chain)", arg=chain
        )
        one.check()


def test_the_table_of_points_has_the_figures_of_the_rows(report: Path) -> None:
    rows = read_rows(report.parent).frame
    rows = rows[(rows["reference"] == "first") & (rows["degradation name"] == "strong")]
    with opened(report) as one:
        page = one.page
        page.select_option("#curve-reference", "first")
        page.select_option("#curve-degradation", "strong")
        page.locator("#points summary").click()

        def points() -> list[list[str]]:
            one.settle()
            lines = page.locator("#points-table tbody tr").all()
            return [line.locator("td").all_inner_texts()[:4] for line in lines]

        coded = rows[rows["bpp"].notna()]
        for _, treatment, *texts in points():
            row = coded[coded["treatment"] == treatment].iloc[0]
            assert list(map(float, texts)) == pytest.approx([row["bpp"], row["psnr"]], rel=2e-3)
        assert len(points()) == len(coded) == 4
        # Over the levels no two settings of a treatment are one point.
        page.select_option("#curve-x", "level of the degradation")
        page.select_option("#curve-y", "ssim")
        (chain,) = rows["degradation"].unique()
        found = {name: (level, float(ssim)) for name, _, level, ssim in points()}
        assert found == {
            row["label"]: (chain, pytest.approx(row["ssim"], rel=2e-3))
            for _, row in rows.iterrows()
        }
        # Points of unlike levels are not joined.
        page.select_option("#curve-degradation", "")
        assert Counter(name for name, *_ in points()) == dict.fromkeys(found, 2)
        page.select_option("#curve-x", "bpp")
        levels = [f"coded · gaussian-noise sd={sd}%" for sd in (2, 8)]
        assert Counter(name for name, *_ in points()) == dict.fromkeys(levels, 4)
        one.check()


def test_the_comparator_is_saved_as_it_is_shown(report: Path, tmp_path: Path) -> None:
    with opened(report) as one:
        page = one.page
        page.locator("#compare").scroll_into_view_if_needed()
        page.wait_for_function("() => page.stageState.loaded.length > 1")
        one.settle()
        with page.expect_download() as download:
            page.click("#save-picture")
        download.value.save_as(tmp_path / "saved.png")
        saved = np.asarray(Image.open(tmp_path / "saved.png").convert("RGBA"))
        drawn = page.evaluate(
            "() => { const c = page.by('stage'); return [c.width, c.height, ...c.getContext('2d')"
            ".getImageData(0, c.height >> 1, c.width, 1).data]; }"
        )
        width, height, *samples = drawn
        assert saved.shape == (height, width, 4)
        assert np.array_equal(saved[height >> 1].reshape(-1), samples)
        one.check()
