"""The whole plan is checked before anything runs, in plain words with file and line."""

from __future__ import annotations

import csv
import shutil
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run, texture
from magnetite.core.picture import as_picture

PLAN = """seed = 1
repeats = 2
[references]
files = ["refs/*.png"]
[degradations]
noisy = "gaussian-noise sd=4%"
soft = "gaussian-blur sigma=1px"
[treatments]
nothing = "nothing"
known = "nl-means sd=known"
[pairs]
exclude = [["soft", "known"]]
[scores]
metrics = "psnr,ssim"
[keep]
pictures = "worst 1"
by = "ssim"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "refs").mkdir()
    picture = as_picture((255 * texture(40, 40)).astype(np.uint8))
    magnetite.write(picture, tmp_path / "refs" / "a.png")
    (tmp_path / "plan.toml").write_text(PLAN)
    return tmp_path


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("repeats = 2", 'repeats = "3"', "plan.toml:2: repeats: is a whole number, not '3'"),
        ("repeats = 2", "repeats = 2.0", "plan.toml:2: repeats: is a whole number"),
        ("repeats = 2", "repeats = 0", "plan.toml:2: repeats: is at least 1, not 0"),
        ("seed = 1", "seed = true", "plan.toml:1: seed: is a whole number, not True"),
        ("seed = 1", f"seed = {2**63}", "plan.toml:1: seed: is below"),
        ('["refs/*.png"]', '"refs/*.png"', "plan.toml:4: references.files: is a list, as in"),
        ('["refs/*.png"]', "[]", "plan.toml:4: references.files: names nothing"),
        ('["refs/*.png"]', '["refs/*.png", "no/*"]', "references.files: 'no/*' finds no picture"),
        ('["refs/*.png"]', "[3]", "is a text in quotes, not 3"),
        ('[["soft", "known"]]', '[["soft"]]', "pairs.exclude"),
        ("exclude =", 'only = [["soft", "known"]]\nexclude =',
         "no degradation is paired with a treatment"),
        ('[["soft", "known"]]', "[]", "sd=known: 'soft' does not end with noise of a stated sd"),
        ('by = "ssim"', 'by = "mae"', "keep.by: 'mae' is not among the scores"),
        ("worst 1", "worst 0", "is none of: none, all, worst N"),
        ("[scores]", "[scorse]", "did you mean scores?"),
        ('nothing = "nothing"', "nothing = 3", "3 is not a chain"),
        ('nothing = "nothing"', 'nothing = "median size=3"',
         "nothing: 'median size=3' changes the picture: give it another name"),
        ("[references]", "[references]\nbase = 3", "base"),
        ('files = ["refs/*.png"]', "", "plan.toml:3: references.files: is missing"),
    ],
)  # fmt: skip
def test_mistakes_are_found_before_anything_runs(
    run: Run, folder: Path, old: str, new: str, told: str
) -> None:
    assert old in PLAN
    (folder / "plan.toml").write_text(PLAN.replace(old, new))
    done = run("run", "plan.toml", "--workers", "1", status=2)
    assert told in done.stderr
    assert "Input should" not in done.stderr
    assert not (folder / "plan").exists()


def test_a_runs_folder_is_whole(run: Run, folder: Path) -> None:
    """Its plan finds the references from where it is kept, and resumes the run beside it."""
    first = run("run", "plan.toml", "--workers", "1")
    assert " 0 failed" in first.stdout
    assert "0 computed" in run("run", "plan/plan.toml", "--workers", "1").stdout
    shutil.copytree(folder, folder.parent / "copied")
    copied = folder.parent / "copied"
    shutil.rmtree(folder / "refs")
    assert "0 computed" in run("run", copied / "plan" / "plan.toml", "--workers", "1").stdout
    other = run("run", copied / "plan" / "plan.toml", "--into", folder / "new", "--workers", "1")
    assert " 0 taken from before, 0 failed" in other.stdout


def test_a_run_of_failures_shows_its_reasons(run: Run, folder: Path) -> None:
    text = PLAN.replace("nl-means sd=known", "wiener-deblur kernel=gone.npy")
    text = text.replace('nothing = "nothing"\n', "").replace(
        "[pairs]\nexclude", "[pairs]\n# exclude"
    )
    (folder / "plan.toml").write_text(text)
    missing = run("run", "plan.toml", "--dry", status=2).stderr
    assert "treatments.known: wiener-deblur kernel: gone.npy: no such file" in missing
    assert missing.startswith("magnetite: plan.toml:")
    np.save(folder / "gone.npy", np.zeros((3, 3)))
    run("run", "plan.toml", "--workers", "1", status=3)
    for words in (("report", "plan"), ("summarize", "plan")):
        told = run(*words, status=2).stderr
        assert "no row is done: 3 failed: " in told
        assert "not all 0" in told


DOTTED = """references.files = ["refs/*.png"]
degradations.noisy = "gaussian-noise sd=4%"
treatments.nothing = "nothing"
"""
PAIRS = """pairs.exclude = [
  ["noisy", "nothing"],
]
"""


def test_folders_and_files_may_have_the_signs_of_patterns(run: Run, folder: Path) -> None:
    odd = folder / "[a]*" / "refs"
    odd.mkdir(parents=True)
    for name in ("b[1].png", "b1.png"):
        shutil.copy(next((folder / "refs").glob("*.png")), odd / name)
    samples = 255 - magnetite.read(odd / "b1.png").samples
    magnetite.write(as_picture(samples), odd / "b1.png")
    for pattern, names in (("refs/b[1].png", {"b[1]"}), ("refs/b*.png", {"b[1]", "b1"}),
                           ("refs/?1.png", {"b1"})):  # fmt: skip
        (folder / "[a]*" / "plan.toml").write_text(DOTTED.replace("refs/*.png", pattern))
        run("run", "[a]*/plan.toml", "--workers", "1")
        rows = csv.DictReader((folder / "[a]*" / "plan" / "scores.csv").read_text().splitlines())
        assert {row["reference"] for row in rows} == names


@pytest.mark.parametrize("text", [
    DOTTED + PAIRS + 'treatments.median = "median size=3"\n',
    'base = "."\n' + DOTTED,
    'references = {files = ["refs/*.png"]}\n' + DOTTED.split("\n", 1)[1],
])  # fmt: skip
def test_plans_without_table_headers_run_and_their_copies_too(
    run: Run, folder: Path, text: str
) -> None:
    (folder / "plan.toml").write_text(text)
    assert "1 computed" in run("run", "plan.toml", "--workers", "1").stdout
    assert "1 row" in run("run", "plan/plan.toml", "--dry").stdout
    assert "0 computed" in run("run", "plan/plan.toml", "--workers", "1").stdout


@pytest.mark.parametrize("text", [
    '"base" = "."\n' + DOTTED, DOTTED + "base = '''\n.'''\n",
])  # fmt: skip
def test_a_base_that_cannot_be_replaced_is_told_before_the_run(
    run: Run, folder: Path, text: str
) -> None:
    (folder / "plan.toml").write_text(text)
    told = run("run", "plan.toml", status=2).stderr
    assert "plan.toml: base: write it on a line of its own" in told
    assert not (folder / "plan").exists()


def test_the_line_of_a_dotted_key_is_told(run: Run, folder: Path) -> None:
    (folder / "plan.toml").write_text(DOTTED.replace("sd=4%", "sd=4"))
    assert "plan.toml:2: degradations.noisy" in run("run", "plan.toml", status=2).stderr


MISTAKES = """
repeat = 2
[references]
files = ["refs/*.png"]
convert = "crop width=9"
[degradations]
noisy = "gausian-noise sd=2%"
other = "gaussian-noise sd=2"
[treatments]
median = "median sizes=3"
[pairs]
exclude = [["noisy", "mediam"]]
[scores]
metrics = "psnr,sim"
[keep]
pictures = "some"
"""


def test_all_mistakes_of_a_plan_are_told_at_once(run: Run, folder: Path) -> None:
    (folder / "plan.toml").write_text(MISTAKES)
    told = run("run", "plan.toml", status=2).stderr
    for words in (
        "plan.toml:2: repeat: is not a key of a plan; did you mean repeats?",
        "plan.toml:5: references.convert: crop needs height=",
        "plan.toml:7: degradations.noisy: word 1, 'gausian-noise'",
        "did you mean gaussian-noise?",
        "plan.toml:8: degradations.other: word 2, 'sd=2': 2 has no unit",
        "plan.toml:10: treatments.median: word 2, 'sizes=3': median has no setting 'sizes'",
        "plan.toml:14: scores.metrics: word 1, 'sim'",
        "plan.toml:16: keep.pictures: 'some' is none of: none, all, worst N, best N, sample N",
    ):
        assert words in told
    (folder / "plan.toml").write_text(PLAN.replace('["soft", "known"]', '["soft", "knwon"]'))
    told = run("run", "plan.toml", status=2).stderr
    assert "plan.toml:12: pairs.exclude: 'knwon' is not declared; did you mean known?" in told
    (folder / "plan.toml").write_text(PLAN.replace("refs/*.png", "none/*.png"))
    assert (
        "references.files: 'none/*.png' finds no picture"
        in run("run", "plan.toml", status=2).stderr
    )
    (folder / "plan.toml").write_text("[references\n")
    assert "is not TOML" in run("run", "plan.toml", status=2).stderr
