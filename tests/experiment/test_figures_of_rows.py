"""Figures of the rows of a run: missing ones are said, and none has the name of a column."""

from __future__ import annotations

import html
import json
import re
import shutil
import sqlite3
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import magnetite
from conftest import Run, texture
from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, forget, metric
from magnetite.core.picture import as_picture
from magnetite.views.curves import curves_figure

PLAN = """
[references]
files = ["refs/*.png"]
[degradations]
noisy = "gaussian-noise sd=5dn,9dn"
[treatments]
nothing = "nothing"
median = "median"
[scores]
metrics = "psnr,delta-e"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """Two colour references and two gray ones."""
    (tmp_path / "refs").mkdir()
    for seed in range(4):
        samples = (texture(40, 48, 3 if seed < 2 else None, seed=seed) * 255).astype(np.uint8)
        magnetite.write(as_picture(samples), tmp_path / "refs" / f"r{seed}.png")
    (tmp_path / "plan.toml").write_text(PLAN)
    return tmp_path


def test_rows_keep_the_figures_that_suit_their_pictures(run: Run, folder: Path) -> None:
    reason = "delta-e needs an RGB picture; this one has 1 channel"
    dry = run("run", "plan.toml", "--dry").stdout
    assert re.search(f"\ndelta-e will be missing, such as of r[23]: {reason}\n", dry)
    done = run("run", "plan.toml", "--workers", "1")
    assert "16 rows: 16 computed, 0 taken from before, 0 failed" in done.stdout
    assert f"note: 8 figures of delta-e missing: {reason}\n" in done.stderr
    rows = pd.read_csv(folder / "plan" / "scores.csv")
    gray = rows["reference"].isin(["r2", "r3"])
    assert rows["psnr"].notna().all()
    assert (rows["delta-e"].isna() == gray).all()
    again = run("run", "plan.toml", "--workers", "1")
    assert "0 computed, 16 taken from before" in again.stdout
    assert (
        "note: 8 figures of delta-e missing: delta-e does not suit their pictures" in again.stderr
    )


def test_amplitudes_in_dn_of_unlike_depths_are_said(run: Run, folder: Path) -> None:
    """5 dn of 16 bits are 5 / 257 dn of 8 bits: PSNR differs by 20 log10 257 = 48.2 dB."""
    deep = 257 * magnetite.read(folder / "refs" / "r3.png").samples.astype(np.uint16)
    magnetite.write(as_picture(deep), folder / "refs" / "deep.png")
    plan = PLAN.replace("sd=5dn,9dn", "variance=25dn2").replace("psnr,delta-e", "psnr")
    more = '[pairs]\nexclude = [["noisy", "coded"]]\n'
    plan = plan.replace("[scores]", f'coded = "dct step=4dn"\n{more}[scores]')
    (folder / "plan.toml").write_text(plan + '[keep]\npictures = "none"\n')
    words = (
        "references of 8 and 16 bits: a dn is another share of full scale in each, so that "
        "“gaussian-noise variance=25dn2” differs in strength between them; amplitudes in % do not"
    )
    assert words in run("run", "plan.toml", "--dry").stdout
    assert f"note: {words}\n" in run("run", "plan.toml", "--workers", "1").stderr
    rows = pd.read_csv(folder / "plan" / "scores.csv").set_index(["reference", "treatment"])
    assert dict(rows["bits"].groupby("reference").first()) == {
        "deep": 16, "r0": 8, "r1": 8, "r2": 8, "r3": 8,
    }  # fmt: skip
    psnr = rows["psnr"].xs("nothing", level="treatment")
    assert psnr["deep"] - psnr["r3"] == pytest.approx(20 * np.log10(257), abs=0.2)
    for table in ("means", "ranking", "interactions", "references"):
        assert words in run("summarize", "plan", "--table", table).stdout
    assert words in run("summarize", "plan", "--table", "guarantee", "--need", "psnr>=30").stdout
    assert run("summarize", "plan").stdout.count(words) == 1
    run("report", "plan", "--limit", "0")
    assert words in html.unescape((folder / "plan" / "report.html").read_text())
    in_shares = plan.replace("variance=25dn2", "sd=2%").replace("4dn", "2%")
    (folder / "plan.toml").write_text(in_shares)
    assert "share of full scale" not in run("run", "plan.toml", "--dry").stdout
    curve = run("curve", "refs/deep.png", "refs/r3.png", "--codec", "pcm bits=2,3,4,5")
    assert "share of full scale" not in curve.stderr


def test_the_dry_run_tries_references_of_every_colour(run: Run, folder: Path) -> None:
    (folder / "refs" / "r3.png").unlink()
    for seed in range(4, 16):
        samples = (texture(20, 24, 3, seed=seed) * 255).astype(np.uint8)
        magnetite.write(as_picture(samples), folder / "refs" / f"r{seed}.png")
    before = run("run", "plan.toml", "--dry").stdout
    assert "delta-e will be missing, such as of r2: " in before
    shutil.copy(folder / "refs" / "r4.png", folder / "refs" / "s.png")
    copied = run("run", "plan.toml", "--dry").stdout
    assert copied.splitlines()[0] == before.splitlines()[0]
    assert copied.splitlines()[2] == before.splitlines()[2]
    assert "refs/s.png holds the same samples as " in copied


def test_rows_without_any_figure_fail(run: Run, folder: Path) -> None:
    (folder / "plan.toml").write_text(PLAN.replace("psnr,delta-e", "delta-e"))
    dry = run("run", "plan.toml", "--dry").stdout
    assert re.search("\nrows will fail, such as of r[23]: delta-e needs an RGB", dry)
    assert dry.startswith("16 rows of 1 figure: 4 references, 1 repeat\n")
    seen: list[tuple[int, int, int]] = []
    plan = folder / "plan.toml"
    magnetite.run(plan, folder / "own", workers=1, listener=lambda *counts: seen.append(counts))
    assert seen[-1] == (16, 16, 8)
    assert (folder / "own" / "scores.csv").stat().st_mode & 0o777 == 0o644
    done = run("run", "plan.toml", "--workers", "1", status=3)
    assert "16 rows: 16 computed, 0 taken from before, 8 failed" in done.stdout
    assert "missing:" not in done.stderr
    (folder / "plan.toml").write_text(PLAN.replace("psnr,delta-e", "all"))
    assert "missing:" not in run("run", "plan.toml", "--workers", "1").stderr


def test_a_missing_gauge_is_said(run: Run, folder: Path) -> None:
    (folder / "plan.toml").write_text(PLAN.replace("psnr,delta-e", "psnr") + 'gauges = "mtf50"\n')
    assert "note: 16 figures of mtf50 missing: " in run("run", "plan.toml", "--workers", "1").stderr


def test_rows_that_are_not_done_yet_are_counted(run: Run, folder: Path) -> None:
    run("run", "plan.toml", "--workers", "1")
    base = sqlite3.connect(folder / "plan" / "ledger.sqlite")
    base.execute("DELETE FROM cells WHERE key IN (SELECT cell FROM plan LIMIT 3)")
    base.execute(
        "UPDATE cells SET status = 'failed', reason = 'why' WHERE key IN "
        "(SELECT cell FROM plan ORDER BY number DESC LIMIT 2)"
    )
    base.commit()
    base.close()
    assert "  left out: 2 failed rows, 3 missing rows" in run("summarize", "plan").stdout
    (promised,) = magnetite.summarize(folder / "plan", "guarantee", need="psnr>=1")
    assert "left out: 3 missing rows" in promised.notes  # failed ones are counted
    assert any(note.startswith("2 rows of ") and "failed" in note for note in promised.notes)
    said = run("run", "--status", "plan", status=3).stdout
    assert "16 rows, 11 done, 2 failed, 3 missing" in said


@pytest.mark.long
def test_all_figures_are_columns_of_their_own(run: Run, folder: Path) -> None:
    """The gauge `activity` besides the activity of the reference."""
    (folder / "plan.toml").write_text(PLAN.replace("psnr,delta-e", "all") + 'gauges = "all"\n')
    run("run", "plan.toml", "--workers", "1")
    names = (folder / "plan" / "scores.csv").read_text().splitlines()[0].split(",")
    assert len(set(names)) == len(names)
    rows = pd.read_csv(folder / "plan" / "scores.csv")
    for row in rows.to_dict("records"):
        reference = magnetite.read(folder / "refs" / f"{row['reference']}.png")
        noisy = magnetite.degrade(reference, row["degradation"], seed=row["seed"]).picture
        done = magnetite.restore(noisy, "median").picture if row["treatment"] == "median" else noisy
        for name, picture in (("reference activity", reference), ("activity", done)):
            assert row[name] == pytest.approx(magnetite.gauge(picture, "activity")["activity"])
    means = json.loads(run("summarize", "plan", "--format", "json").stdout)["tables"]["means"]
    activity = rows.groupby(["degradation", "treatment"])["activity"].mean()
    found = {(r["degradation"], r["treatment"]): r["mean"] for r in means
             if r["figure"] == "activity"}  # fmt: skip
    assert found == pytest.approx(dict(activity))
    run("report", "plan")


def test_a_figure_has_no_name_of_a_column(run: Run, folder: Path) -> None:
    summary = {"colour": ColourPolicy.EACH, "source": "own", "unit": "", "summary": "Own."}
    method = metric("bpp", values="0 and up", better="lower", identical=0.0, **summary)(
        lambda one, two, peak: 0.0
    )
    try:
        (folder / "plan.toml").write_text(PLAN.replace("psnr,delta-e", "bpp"))
        said = run("run", "plan.toml", "--workers", "1", status=2).stderr
        assert "a column of every run is called 'bpp': declare the figure under another" in said
    finally:
        forget("metric", "bpp")
    assert method is not None


def test_references_without_a_figure_do_not_meet_its_need(run: Run, folder: Path) -> None:
    run("run", "plan.toml", "--workers", "1")
    need = ("--need", "delta-e<=30", "--share", "50%")
    said = run("summarize", "plan", "--table", "guarantee", *need).stdout
    note = "8 rows of 2 references have no delta-e, and do not meet the need"
    assert note in said
    rows = pd.read_csv(folder / "plan" / "scores.csv")
    met = rows.assign(met=rows["delta-e"] <= 30).groupby(["degradation", "treatment"])["met"].sum()
    words = ("summarize", "plan", "--table", "guarantee", *need, "--format", "json")
    for row in json.loads(run(*words).stdout)["tables"]["guarantee"]:
        assert (row["passed"], row["of"]) == (met[row["degradation"], row["treatment"]], 4)
        assert row["passed"] == 2
    run("report", "plan", *need)
    assert note in (folder / "plan" / "report.html").read_text()
    with_all = run("summarize", "plan", "--table", "guarantee", "--need", "psnr>=10").stdout
    assert "do not meet the need" not in with_all


def test_curves_keep_the_figures_that_suit_their_pictures(run: Run, folder: Path) -> None:
    files, codecs = (
        ["refs/r0.png", "refs/r2.png"],
        ["dct step=2%,5%,9%,20%", "wavelet step=2%,5%,9%,20%"],
    )
    words = ["curve", *files, *(w for codec in codecs for w in ("--codec", codec)), "--metrics"]
    done = run(*words, "psnr,delta-e", "--format", "json")
    assert "note: 8 figures of delta-e missing: delta-e needs an RGB picture" in done.stderr
    document = json.loads(done.stdout)
    for row in document["rows"]:
        assert row["scores"]["psnr"] > 20
        assert ("delta-e" in row["scores"]) == (row["reference"] == "refs/r0.png")
    gaps = {(row["reference"], row["metric"]): row["bd_rate"] for row in document["comparisons"]}
    assert gaps["refs/r2.png", "delta-e"] is None
    assert gaps["refs/r2.png", "psnr"] is not None
    assert gaps["mean", "delta-e"] == pytest.approx(gaps["refs/r0.png", "delta-e"])
    assert "nan" not in run(*words, "psnr,delta-e").stdout
    alone = run("curve", "refs/r2.png", "--codec", codecs[0], "--metrics", "all", "--format", "csv")
    assert "delta-e" not in alone.stdout.splitlines()[0]
    assert "needs an RGB" in run(*words[:1], *words[2:5], "--metrics", "delta-e", status=2).stderr

    pictures = [magnetite.read(folder / name) for name in files]
    found = magnetite.curve(pictures, codecs, "psnr,delta-e")
    assert "needs an RGB picture" in found.left_out["delta-e"]
    assert [row[-1] is None for row in found.rows()] == [False] * 8 + [True] * 8
    assert found.curve(1, 0, "delta-e") == []
    panels = [axes.get_title("left") for axes in curves_figure(found).axes]
    assert panels == ["psnr (dB)", "delta-e (ΔE00), 1 of 2 pictures"]
    assert magnetite.curve(pictures[1], codecs, "all").metrics[0] == "mse"
    with pytest.raises(PictureError, match="needs an RGB"):
        magnetite.curve(pictures[1], codecs, "delta-e")


def test_a_table_that_is_not_written_again_does_not_stay(
    run: Run, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    run("run", "plan.toml", "--workers", "1")
    assert (folder / "plan" / "scores.parquet").is_file()
    monkeypatch.setattr("magnetite.experiment.export.installed", lambda name: False)
    run("run", "plan.toml", "--workers", "1")
    names = {path.name for path in (folder / "plan").iterdir()}
    assert "scores.csv" in names
    assert "scores.parquet" not in names
