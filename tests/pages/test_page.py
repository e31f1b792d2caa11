"""Pages of runs with odd names, of thousands of rows, and of pictures that come from no run."""

from __future__ import annotations

import itertools
import math
import re
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import magnetite
import witness
from browser import opened
from conftest import Run, texture
from magnetite.core.picture import as_picture
from magnetite.experiment.ledger import Ledger
from magnetite.experiment.results import RunRows
from magnetite.experiment.tasks import Cell, Facts
from magnetite.experiment.work import Done
from magnetite.pages.answer import answers
from magnetite.pages.content import _families, of_run
from magnetite.pages.page import write_page
from random_runs import random_run

MARKUP = "<img src=x onerror=document.title='taken'>"
ODD = {
    "markup": f"{MARKUP}</script><script>document.title='taken'</script>",
    "quotes": 'it\'s "quoted" & `ticked` ${1+1} {{ 7*7 }}',
    "right to left": "صورة اللبّ الحجري",
    "wide": "玄武岩の写真・第三箱",
    "long": "un" * 120 + "til",
    "line ends": "first\u2028second",
}


def test_odd_names_are_shown_as_they_are(run: Run, tmp_path: Path) -> None:
    (tmp_path / "refs").mkdir()
    picture = as_picture((255 * texture(24, 32)).astype(np.uint8))
    for name in ("<b>bold</b> & 'co' \"x\"", "صورة", "玄武岩"):
        file = name.replace("/", "\u2215")
        magnetite.write(picture, tmp_path / "refs" / f"{file}.png")
        picture = as_picture(np.roll(picture.samples, 3, axis=1))
    quoted = {name: text.replace("\\", "\\\\").replace('"', '\\"') for name, text in ODD.items()}
    treatments = "\n".join(
        f'"{text}" = "gaussian sigma={k}px"' for k, text in enumerate(quoted.values(), 1)
    )
    (tmp_path / "plan.toml").write_text(
        f'title = "{quoted["markup"]}"\n[references]\nfiles = ["refs/*"]\n[degradations]\n'
        f'"{quoted["quotes"]}" = "gaussian-noise sd=3%"\n[treatments]\n{treatments}\n'
        'fails = "wiener-deblur kernel=zeros.npy"\n[keep]\npictures = "worst 2"\n',
        "utf-8",
    )
    np.save(tmp_path / "zeros.npy", np.zeros((3, 3)))
    run("run", "plan.toml", "--workers", "1", status=3)
    run("report", "plan")
    for size in ((390, 844),):
        with opened(tmp_path / "plan" / "report.html", size) as one:
            assert one.page.title().startswith(ODD["markup"])
            assert one.text("h1") == ODD["markup"]
            assert one.page.locator("img").count() == 0
            seen = one.page.evaluate("document.body.textContent")
            for text in ODD.values():
                assert text in seen
            one.page.locator("#compare").scroll_into_view_if_needed()
            one.page.wait_for_function("() => page.stageState.loaded.length > 1")
            offered = one.page.locator("#compare-reference option").all_inner_texts()
            assert "صورة" in offered
            assert one.page.locator("#choices bdi").count() > 6
            assert "not all 0" in one.text("#failures")
            assert one.page.evaluate("document.documentElement.scrollWidth") <= size[0]
            one.check()


def big_run(folder: Path, rows: int) -> None:
    """A ledger of many rows whose figures follow formulas; nothing is computed."""
    folder.mkdir()
    facts = [Facts(f"tray-{k:02}", f"{k:064}", 640, 448, 1, 8, 5.0 + k) for k in range(10)]
    steps = [f"dct step={step}%" for step in (2, 4, 8, 16)]
    levels = [f"gaussian-noise sd={sd}%" for sd in (1, 2, 3, 4, 6)]
    names = [f"denoiser {k}" for k in range(rows // (10 * 5 * 4))]
    cells = [
        (Cell(fact.name, fact.digest, f"noise {level[18:]}", level, 0, 0, name, f"{name} {step}"),
         40 - level_at - 3 * step_at + name_at / 7 + k / 50, 2.0 ** (2 - step_at))
        for (k, fact), (level_at, level), (name_at, name), (step_at, step) in itertools.product(
            enumerate(facts), enumerate(levels), enumerate(names), enumerate(steps)
        )
    ]  # fmt: skip
    ledger = Ledger(folder)
    ledger.describe(plan="", figures="psnr\nssim")
    ledger.expect(facts, (cell for cell, _, _ in cells))
    ledger.add([
        (cell, Done(cell.key, None, 1000, bpp, {"psnr": psnr, "ssim": psnr / 50}, {"treat": 0.1}),
         ("psnr", "ssim"), None)
        for cell, psnr, bpp in cells
    ])  # fmt: skip
    ledger.close()


@pytest.mark.long
def test_a_run_of_many_rows_draws_only_what_is_seen(tmp_path: Path) -> None:
    """Sorting, filtering and scrolling make elements of the rows in view alone."""
    big_run(tmp_path / "big", 800)
    write_page(of_run(tmp_path / "big"), tmp_path / "big.html")
    with opened(tmp_path / "big.html") as one:
        assert "800 of 800 rows" in one.text("#rows-count")
        one.settle()
        one.page.evaluate("""() => {
            const make = page.make;
            page.make = (name, ...rest) => {
                page.made += name === 'tr';
                return make(name, ...rest);
            };
        }""")
        acts = [
            *(f"page.by('rows').querySelectorAll('thead button')[{k}].click()" for k in (0, 4, 6)),
            *(f"page.by('search').value = '{word}', "
              "page.by('search').dispatchEvent(new Event('input'))"
              for word in ("d", "denoiser 1", "")),
            *(f"page.by('grid').scrollTop = {top}" for top in range(3_000, 21_000, 6_000)),
        ]  # fmt: skip
        for act in acts:
            one.page.evaluate("page.made = 0")
            one.page.evaluate(act)
            one.settle()
            assert 0 < one.page.evaluate("page.made") < 150, act
        one.page.select_option("#curve-y", "ssim")
        one.settle()
        one.check()


def test_curves_are_means_over_the_references_that_all_lines_have(tmp_path: Path) -> None:
    """Points of the page against the rows: failed and infinite ones, two factors, levels."""
    for seed in (16, 17):
        records = random_run(seed)
        assert any(r["status"] == "failed" or math.isinf(r["psnr"]) for r in records)
        folder = tmp_path / str(seed)
        stored(folder, records)
        write_page(of_run(folder), tmp_path / f"{seed}.html")
        rated = any(not math.isnan(r["bpp"]) for r in records)
        every = len({r["reference"] for r in records if r["status"] == "done"})
        with opened(tmp_path / f"{seed}.html") as one:
            for across in ("bpp", "bpp", None)[not rated :]:
                level = one.page.evaluate("page.by('curve-level').value")
                name = one.page.evaluate("page.by('curve-degradation').value")
                drawn = one.page.evaluate(
                    "page.chart.data.datasets.map((d) => [d.label, d.data.map((p) => [p.x, p.y])])"
                )
                part = [r for r in records if (
                    r["degradation name"] == name and level in ("", r["degradation"]))]  # fmt: skip
                wanted, references = witness.curve_points(part, records, across if rated else None)
                assert {title for title, _ in drawn} == set(wanted)
                for title, points in drawn:
                    np.testing.assert_allclose(sorted(points), wanted[title], rtol=1e-6)
                of = f"the mean over {'' if references == every else f'{references} of '}{every}"
                none = "No finite value to draw: left out, since a row of theirs is missing"
                assert (of if references else none) in one.text("#curve-words")
                # All levels together, then over the levels.
                if one.page.evaluate("page.by('curve-level').value"):
                    one.page.select_option("#curve-level", "")
                else:
                    one.page.select_option("#curve-x", "level of the degradation")
                one.settle()


def test_levels_keep_the_order_of_the_plan_where_the_first_row_failed(tmp_path: Path) -> None:
    records = random_run(9)
    levels = list(dict.fromkeys(
        r["degradation"] for r in records if r["degradation name"] == "noise"
    ))  # fmt: skip
    assert len(levels) == 2
    for record in records:
        if (record["reference"], record["degradation"]) == (records[0]["reference"], levels[0]):
            record |= {"status": "failed", "reason": "lost", "bpp": math.nan}
    stored(tmp_path / "run", records)
    write_page(of_run(tmp_path / "run"), tmp_path / "page.html")
    with opened(tmp_path / "page.html") as one:
        one.page.select_option("#curve-degradation", "noise")
        one.page.select_option("#curve-x", "level of the degradation")
        offered = one.page.evaluate("[...page.by('curve-level').options].map((o) => o.value)")
        ticks = one.page.evaluate(
            "[0, 1].map((v) => page.chart.options.scales.x.ticks.callback(v))"
        )
    assert offered == ["", *levels]
    assert ticks == levels


def stored(folder: Path, records: list[witness.Row]) -> None:
    """A ledger of rows that were not computed."""
    folder.mkdir()
    names = list(dict.fromkeys(r["reference"] for r in records))
    facts = [Facts(name, f"{k:064}", 64, 48, 1, 8, 5.0) for k, name in enumerate(names)]
    cells = [
        Cell(r["reference"], f"{names.index(r['reference']):064}", r["degradation name"],
             r["degradation"], r["repeat"], r["repeat"], r["treatment name"], r["treatment"])
        for r in records
    ]  # fmt: skip
    done = [
        Done(cell.key, r["reason"], 100, None if math.isnan(r["bpp"]) else r["bpp"],
             {m: r[m] for m in ("psnr", "mse")}, {"treat": r["seconds treat"]})
        for cell, r in zip(cells, records, strict=True)
    ]  # fmt: skip
    ledger = Ledger(folder)
    ledger.describe(plan="", figures="psnr\nmse")
    ledger.expect(facts, cells)
    ledger.add([(c, d, ("psnr", "mse"), None) for c, d in zip(cells, done, strict=True)])
    ledger.close()


def test_the_answer_is_that_of_the_figures(tmp_path: Path) -> None:
    big_run(tmp_path / "big", 600)
    found = of_run(tmp_path / "big")
    assert len(found.answers) == 5
    # At equal rate the last denoiser has 2/7 dB more than the first one, on every reference.
    for one in found.answers:
        assert "“denoiser 2” gains most: +0.2857 dB of psnr at equal rate against “denoiser 0”" in (
            one.sentence
        )
        assert one.verdict == "shown"
    with pytest.raises(magnetite.core.errors.InputError, match="not a figure"):
        of_run(tmp_path / "big", "mae")


def test_means_say_which_units_their_intervals_are_over(tmp_path: Path) -> None:
    rows = random_run(1)
    alone = [row for row in rows if row["reference"] == rows[0]["reference"]]
    words = []
    for name, own in (("all", rows), ("one", alone)):
        stored(tmp_path / name, own)
        words.append(of_run(tmp_path / name).means[2])
    assert words[0].startswith("interval over references, each the mean of its rows")
    assert words[1].startswith("interval over the repeats of one reference: it says nothing about")


def test_names_of_both_directions_leave_numbers_as_they_are(tmp_path: Path) -> None:
    """Each name that a sentence quotes is an isolate of its own."""
    folder = tmp_path / "run"
    stored(folder, [
        {**row, "treatment name": "صورة" if row["treatment name"] == "m" else row["treatment name"]}
        for row in random_run(1)
    ])  # fmt: skip
    write_page(of_run(folder), tmp_path / "p.html")
    with opened(tmp_path / "p.html") as one:
        sentences = one.page.locator("#answer p").all_inner_texts()
        isolated = one.page.locator("#answer p bdi").all_inner_texts()
    quoted = [name for text in sentences for name in re.findall("“([^”]*)”", text)]
    assert quoted
    assert isolated == quoted


@pytest.mark.parametrize(
    ("words", "told"),
    [
        ("nowhere", "holds no run"),
        (". --out page.txt", "written as .html"),
        ("a.png b.png", "one run"),
        ("--pictures a.png", "a reference and one picture"),
        ("--pictures a.png b.png", "b.png"),
        ("--pictures a.png a.png --metric psnr", "--metrics"),
    ],
)
def test_bad_reports_leave_nothing(run: Run, tmp_path: Path, words: str, told: str) -> None:
    magnetite.write(as_picture(np.zeros((9, 9), np.uint8)), tmp_path / "a.png")
    bad = run("report", *words.split(), status=2)
    assert told in bad.stderr
    assert bad.stderr.count("\n") == 1
    assert not list(tmp_path.glob("*.html"))


def test_a_reference_that_is_gone_or_changed_is_said(run: Run, tmp_path: Path) -> None:
    (tmp_path / "refs").mkdir()
    for k in range(3):
        picture = as_picture((255 * texture(24, 32, seed=k)).astype(np.uint8))
        magnetite.write(picture, tmp_path / "refs" / f"{k}.png")
    (tmp_path / "plan.toml").write_text(
        '[references]\nfiles = ["refs/*"]\n[treatments]\na = "mean"\n'
    )
    run("run", "plan.toml", "--workers", "1")
    (tmp_path / "refs" / "0.png").unlink()
    magnetite.write(as_picture(np.zeros((24, 32), np.uint8)), tmp_path / "refs" / "1.png")
    told = run("report", "plan").stderr
    assert "0: its pictures are not shown" in told
    assert "1: its pictures are not shown: the file has changed" in told
    assert {one.reference for one in of_run(tmp_path / "plan").gallery.pictures} == {"2"}
    # The whole folder may move.
    (tmp_path / "moved").mkdir()
    for name in ("refs", "plan"):
        (tmp_path / name).rename(tmp_path / "moved" / name)
    assert {one.reference for one in of_run(tmp_path / "moved" / "plan").gallery.pictures} == {"2"}


def test_answers_of_one_reference_are_open() -> None:
    import pandas as pd

    from magnetite.experiment.results import RunRows

    names = ["reference", "degradation name", "degradation", "treatment name", "treatment", "psnr",
             "bpp", "repeat"]  # fmt: skip
    rows = [("r", "d", "d", t, t, v, None, 0) for t, v in (("one", 30.0), ("two", 31.5))]
    (found,) = answers(RunRows.of(pd.DataFrame(rows, columns=names), ("psnr",)), "psnr")
    assert found.verdict == "open"
    assert "“two” is ahead, psnr 31.50 dB in the mean: +1.500 dB of psnr" in found.sentence


def test_curves_are_named_where_a_treatment_has_several() -> None:
    chains = {
        "coded": [f"dct step={s}% block={b}x{b}" for b in (8, 16) for s in (2, 4)],
        "waves": ["wavelet step=2%", "wavelet step=4%"], "median": ["median", "median size=5"],
    }  # fmt: skip
    rows = [(name, chain) for name, own in chains.items() for chain in own]
    frame = pd.DataFrame(rows, columns=["treatment name", "treatment"])
    assert _families(RunRows(frame, (), frame)) == {
        f"coded\n{chain}": f"coded: dct block={b}"
        for b, own in ((8, chains["coded"][:2]), (16, chains["coded"][2:]))
        for chain in own
    }
