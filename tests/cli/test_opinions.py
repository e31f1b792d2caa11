"""The commands ask, raters and opinions, on files."""

from __future__ import annotations

import json
import re
import shutil
from collections import Counter
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run, size_of, texture
from magnetite.core.picture import as_picture
from magnetite.experiment.agreements import _holm
from magnetite.views.opinions import opinions_figure

STEPS = ("--steps", "dct step=2%,6%,16%", "--steps", "gaussian-noise sd=2%,5%,10%")


@pytest.fixture
def references(tmp_path: Path) -> list[str]:
    for seed, name in enumerate(("one", "two")):
        samples = (255 * texture(80, 96, seed=seed)).astype(np.uint8)
        magnetite.write(as_picture(samples), tmp_path / f"{name}.png")
    return ["one.png", "two.png"]


@pytest.fixture(scope="module")
def far(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A test of a threshold, and the answers of one rater."""
    folder = tmp_path_factory.mktemp("far")
    magnetite.write(as_picture((255 * texture(80, 96)).astype(np.uint8)), folder / "one.png")
    steps = "gaussian-blur sigma=0.4..1.6/0.3"
    magnetite.ask(folder / "one.png", folder / "far", design="threshold", steps=steps)
    magnetite.raters(folder / "far", folder / "seen", count=1)
    return folder


def test_ratings_become_opinions_an_agreement_and_a_gate(
    run: Run, tmp_path: Path, references: list[str]
) -> None:
    asked = run("ask", *references, "--design", "rating", *STEPS, "--out", "t")
    assert "14 pictures of 2 references; each rater gives 14 answers" in asked.stdout
    assert "about 40 raters" in asked.stdout  # (1.96 x 0.8 / 0.25)²
    run("raters", "t", "people", "--count", "15", "--random", "1", "--by", "ssim")
    words = ("opinions", "people", "--test", "t", "--metrics", "ssim,psnr", "--gate", "gate.json",
             "--least", "3.5")  # fmt: skip
    done = run(*words, "--format", "json")
    assert "simulated raters, not of people" in done.stderr
    (tmp_path / "mixed").mkdir()
    for path in sorted((tmp_path / "people").iterdir())[:5]:
        answer = json.loads(path.read_text()) | {"simulated": path.stem.endswith("-1")}
        (tmp_path / "mixed" / path.name).write_text(json.dumps(answer))
    mixed = run("opinions", "mixed", "--test", "t").stderr
    assert "note: 1 of 5 raters are simulated; all answers count alike" in mixed
    for folder, words in (("mixed", "raters, some simulated"), ("people", "simulated raters")):
        drawn = opinions_figure(magnetite.opinions(tmp_path / "t", tmp_path / folder), None)
        assert re.search(rf" of \d+ {words}[,;]", drawn.texts[0].get_text())
    assert "not of people" not in mixed
    again = run("raters", "t", "mixed", "--count", "3").stderr
    assert "mixed holds answers of other raters too, and opinions counts all of a folder: " in again
    record = json.loads(done.stdout)
    assert list(record["left_out"]) == ["random-15"]
    assert record["simulated"] is True
    assert size_of(tmp_path / "opinions.png") == (1280, 800)
    scores = {(row["content"], row["condition"]): row["value"]
              for row in record["rows"] if row["figure"] == "mean opinion score"}  # fmt: skip
    # By hand: the mean of the grades in the files.
    test = json.loads((tmp_path / "t" / "test.json").read_text())
    one = test["stimuli"][5]
    grades = [
        int(trial["answer"])
        for path in (tmp_path / "people").glob("answers-simulated-*.json")
        for trial in json.loads(path.read_text())["trials"] if trial["first"] == one["name"]
    ]  # fmt: skip
    assert scores[one["content"], one["condition"]] == pytest.approx(np.mean(grades))
    agreements = {row["metric"]: row for row in record["agreement"] if row["of"] == "all"}
    by_kind = {row["of"] for row in record["agreement"]}
    assert by_kind == {"all", "dct", "gaussian-noise"}  # two references: too few of themselves
    assert agreements["ssim"]["Pearson"] > 0.9
    # Both on the same pictures: psnr is infinite of references.
    assert {row["pictures"] for row in agreements.values()} == {12}
    assert "note: compared on 12 of 14 pictures; left out: 2 (“psnr” is infinite)" in done.stderr
    alone = run("opinions", "people", "--test", "t", "--metrics", "ssim", "--format", "json")
    assert [row["pictures"] for row in json.loads(alone.stdout)["agreement"]] == [14, 6, 6]
    # The gate accepts where the mapping of its own figures reaches the grade.
    gate = json.loads((tmp_path / "gate.json").read_text())
    assert (gate["threshold"], gate["features"][0]["name"]) == (3.5, "ssim")
    checked = 0
    for stimulus in test["stimuli"]:
        grade = scores[stimulus["content"], stimulus["condition"]]
        if abs(grade - 3.5) < 0.7:
            continue
        reference = next(s["name"] for s in test["stimuli"] if s["content"] == stimulus["content"]
                         and s["condition"] == "reference")  # fmt: skip
        picture, clean = (f"t/pictures/{name}.png" for name in (stimulus["name"], reference))
        status = 0 if grade > 3.5 else 1
        run("gate", "check", "gate.json", picture, "--reference", clean, status=status)
        checked += 1
    assert checked > 6


def test_opinions_that_are_all_the_same_follow_no_metric(
    run: Run, tmp_path: Path, references: list[str]
) -> None:
    run("ask", *references, "--design", "rating", *STEPS, "--out", "t")
    run("raters", "t", "people", "--count", "3")
    for path in (tmp_path / "people").glob("*.json"):
        answers = json.loads(path.read_text())
        for trial in answers["trials"]:
            trial["answer"] = "4"
        path.write_text(json.dumps(answers))
    done = run("opinions", "people", "--test", "t", "--metrics", "ssim", status=2)
    assert "no metric can be compared: the opinions of all 14 pictures are the same" in (
        done.stderr
    )


def test_the_figure_of_a_threshold_has_its_psychometric_function(far: Path) -> None:
    found = magnetite.opinions(far / "far", far / "seen")
    (one,) = found.functions
    thresholds, function = opinions_figure(found, None).axes
    assert function.get_title("left").startswith("one: gaussian-blur")
    assert len(function.collections) == 1
    shown = function.collections[0].get_offsets()
    np.testing.assert_allclose(shown, np.column_stack([one.levels, 100 * one.right / one.shown]))
    assert len(thresholds.get_yticklabels()) >= 1


def test_pairs_of_a_run_and_ties(run: Run, tmp_path: Path, references: list[str]) -> None:
    (tmp_path / "plan.toml").write_text(
        '[references]\nfiles = ["one.png", "two.png"]\n[degradations]\nnoisy = "gaussian-noise '
        'sd=8%"\n[treatments]\nbare = "nothing"\nmedian = "median size=3"\nsoft = "gaussian '
        'sigma=2"\n[scores]\nmetrics = "psnr"\n'
    )
    run("run", "plan.toml", "--workers", "1")
    asked = run("ask", "plan", "--design", "pairs", "--out", "t", "--ties", "--with-reference")
    assert "8 pictures of 2 references; each rater gives 24 answers" in asked.stdout
    assert "8 pictures" in run("ask", "plan", "--design", "pairs", "--out", "t", "--ties",
                               "--with-reference").stdout  # fmt: skip
    run("raters", "t", "people", "--count", "9")
    record = json.loads(run("opinions", "people", "--test", "t", "--format", "json").stdout)
    shown = Counter(
        name
        for path in (tmp_path / "people").glob("*.json")
        if path.stem not in record["left_out"]
        for trial in json.loads(path.read_text())["trials"]
        for name in (trial["first"], trial["second"])
    )
    test = json.loads((tmp_path / "t" / "test.json").read_text())
    stimuli = {one["name"]: (one["content"], one["condition"]) for one in test["stimuli"]}
    answers = {(row["content"], row["condition"]): row["answers"] for row in record["rows"]}
    assert answers == {stimuli[name]: count for name, count in shown.items()}
    lines = run("opinions", "people", "--test", "t", "--format", "csv").stdout.splitlines()
    assert len(lines) == 9
    assert {line.split(",")[1] for line in lines[1:]} == {
        "reference", "noisy", "median after noisy", "soft after noisy",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("ask", "one.png", "--design", "chat", *STEPS), "one of pairs, rating, threshold"),
        (("ask", "one.png", "--design", "pairs"), "state the chains"),
        (("ask", "one.png", "--design", "rating", "--ties", *STEPS), "go with the design pairs"),
        (("ask", "none.png", "--design", "pairs", *STEPS), "none.png: no such file"),
        (("ask", "one.png", "one.png", "--design", "pairs", *STEPS), "have one name"),
        (
            ("ask", "one.png", "copy.png", "--design", "pairs", *STEPS),
            "references 1 and 2 hold the same samples",
        ),
        (("ask", "one.png", "--design", "pairs", "--pairs", "3", *STEPS), "do not connect"),
        (("ask", "one.png", "--design", "threshold", *STEPS), "four levels or more"),
        (("ask", "one.png", "--design", "pairs", "--steps", "blur"), "blur"),
        (("ask", "one.png", "--design", "pairs", *STEPS, "--out", "one.png"), "is a file"),
        (("ask", "two.png", "--design", "pairs", *STEPS, "--out", "t"), "holds another test"),
        (("opinions", "people", "--test", "nowhere"), "nowhere/test.json: no such file"),
        (("opinions", "empty", "--test", "t"), "holds no answers"),
        (("opinions", "t/test.json", "--test", "t"), "t/test.json: not answers to a blind test"),
        (("opinions", "people", "--test", "t", "--model", "x"), "model 'x'"),
        (("opinions", "people", "--test", "t", "--gate", "g.json"), "takes the metric"),
        (("opinions", "people", "--test", "t", "--gate", "g.json", "--metrics", "ssim"), "grades"),
        (("opinions", "people", "--test", "t", "--metrics", "nothing"), "nothing"),
        (("opinions", "people", "--test", "t", "--out", "a.txt"), "a figure is written as"),
        (("raters", "t", "p2", "--random", "30"), "30 of 20 raters at random"),
        (("raters", "t", "p2", "--by", "psnr"), "not finite for a reference"),
        (("raters", "t", "p2", "--by", "mse"), "higher for better"),
        (("raters", "t", "p2", "--lapse", "2"), "--lapse"),
        (("raters", "t", "p2", "--threshold", "2"), "no effect in a test of the design pairs"),
        (("raters", "far", "p2", "--by", "ssim"), "no effect in a test of the design threshold"),
        (("opinions", "people", "--test", "t", "--least", "3"), "name the gate with --gate"),
        (
            ("opinions", "seen", "--test", "far", "--model", "thurstone"),
            "--model goes with the design pairs",
        ),
    ],
)
def test_bad_input_is_one_line(
    run: Run, tmp_path: Path, references: list[str], far: Path, words: tuple[str, ...], says: str
) -> None:
    (tmp_path / "empty").mkdir()
    shutil.copy(tmp_path / "one.png", tmp_path / "copy.png")
    magnetite.ask(tmp_path / "one.png", tmp_path / "t", steps="dct step=2%,6%,16%")
    magnetite.raters(tmp_path / "t", tmp_path / "people", count=3)
    if {"far", "seen"} & set(words):
        shutil.copytree(far, tmp_path, dirs_exist_ok=True)
    before = sorted(path.name for path in tmp_path.iterdir())
    done = run(*words, status=2)
    assert says in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1
    assert sorted(path.name for path in tmp_path.iterdir()) == before


def test_a_picture_that_was_changed_is_not_scored(
    run: Run, tmp_path: Path, references: list[str]
) -> None:
    magnetite.ask(tmp_path / "one.png", tmp_path / "t", steps="dct step=2%,6%,16%,20%,30%,40%")
    magnetite.raters(tmp_path / "t", tmp_path / "people", count=4)
    (path, *_) = sorted((tmp_path / "t" / "pictures").iterdir())
    magnetite.write(as_picture(255 - magnetite.read(path).samples), path)
    done = run("opinions", "people", "--test", "t", "--metrics", "ssim", status=2)
    assert "has changed since the test was made" in done.stderr


def test_chances_are_corrected_for_all_comparisons() -> None:
    """Holm: the smallest times their number, the next times one less, never falling."""
    found = _holm({"a": 0.03, "b": 0.01, "d": 0.04, "e": 0.6})
    assert found == pytest.approx({"b": 0.04, "a": 0.09, "d": 0.09, "e": 0.6})
    assert _holm({"a": 0.7, "b": 0.6}) == {"a": 1.0, "b": 1.0}
