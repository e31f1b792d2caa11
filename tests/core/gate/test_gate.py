"""Gates: their rates are direct counts, their rules hold on pictures that they have not seen."""

from __future__ import annotations

import itertools
import json
import math
import shutil
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run
from magnetite.core.errors import InputError
from magnetite.core.gate.fit import fit_classes, fit_scores
from magnetite.core.gate.gate import Gate
from magnetite.core.gate.rates import area, most_accepted, rate, references_needed, share, threshold
from magnetite.synthetic.catalogue import SCENES


def test_shares_have_the_published_intervals() -> None:
    # Clopper and Pearson: 0 of 10 ends at 1 - 0.025^(1/10), 1 of 10 is 0.0025 to 0.4450.
    assert share(0, 10)[1:] == pytest.approx((0, 1 - 0.025**0.1))
    assert share(1, 10) == pytest.approx((0.1, 0.002529, 0.445016), abs=1e-5)
    assert share(10, 10)[1:] == pytest.approx((0.025**0.1, 1))


def test_the_area_is_the_share_of_ordered_pairs_and_holds_over_references() -> None:
    rng = np.random.default_rng(0)
    values, accepted = rng.integers(0, 9, 60).astype(float), rng.random(60) < 0.4
    pairs = [
        (g > b) + (g == b) / 2 for g in values[accepted] for b in values[~accepted]
    ]  # fmt: skip
    found = area(values, accepted, np.arange(60))
    assert found.share == pytest.approx(np.mean(pairs))
    assert found.low < found.share < found.high
    held = 0
    groups, labels = np.repeat(np.arange(10), 8), np.arange(80) % 2 == 0
    for seed in range(400):
        rng = np.random.default_rng(seed)
        own = rng.normal(0, math.sqrt(0.5), 10)[groups]
        drawn = area(own + rng.normal(labels * 1.0, math.sqrt(0.5)), labels, groups)
        held += drawn.low <= 0.5 * (1 + math.erf(0.5)) <= drawn.high  # Φ(1/√2)
    assert 0.92 * 400 <= held <= 0.98 * 400


def test_bounds_hold_over_references_and_have_the_published_ends() -> None:
    each, none = np.arange(45), np.zeros(45, bool)
    assert most_accepted(none, each, 0.9) == pytest.approx(1 - 0.1 ** (1 / 45))
    assert references_needed(0.05, 0.9, single=True) == 45
    for most, confidence in itertools.product(range(1, 100, 6), range(50, 100, 3)):
        powers = ((n, (100 - most) ** n <= (100 - confidence) * 100 ** (n - 1))
                  for n in itertools.count(1))  # fmt: skip
        wanted = next(n for n, held in powers if held)  # exact: 1 - (1 - most)^n
        assert references_needed(most / 100, confidence / 100, single=True) == wanted
        none = np.zeros(wanted, bool)
        assert most_accepted(none, np.arange(wanted), confidence / 100) <= most / 100
    needed = references_needed(0.05, 0.9, single=False)
    for count, kept in ((needed, True), (needed - 1, False)):
        pairs = np.repeat(np.arange(count), 2)
        assert (most_accepted(np.zeros(2 * count, bool), pairs, 0.9) <= 0.05) is kept
    groups, exceeded, held = np.repeat(np.arange(40), 5), 0, 0
    for seed in range(300):
        rng = np.random.default_rng(seed)
        chance = rng.beta(0.3, 1.7, 40)  # of mean 0.15, unlike from reference to reference
        flags = rng.random(200) < chance[groups]
        exceeded += most_accepted(flags, groups, 0.9) < 0.15
        found = rate(flags, groups)
        held += found.low <= 0.15 <= found.high
    assert exceeded <= 0.13 * 300
    assert 0.92 * 300 <= held <= 0.99 * 300


@pytest.mark.parametrize("most", [0.1, 0.3])
def test_thresholds_keep_the_promise_and_are_as_low_as_they_may(most: float) -> None:
    rng = np.random.default_rng(4)
    labels, groups = rng.random(200) < 0.5, np.arange(200)
    values = rng.normal(labels * 1.5, 1)
    cut = threshold(values, labels, groups, most, 0.9)
    bad = values[~labels]
    assert most_accepted(bad >= cut, groups[~labels], 0.9) <= most
    lower = bad[bad < cut].max()
    assert most_accepted(bad >= lower, groups[~labels], 0.9) > most
    assert not ((values > lower) & (values < cut) & labels).sum() or cut > lower
    few = threshold(values[:40], labels[:40], groups[:40], 0.01, 0.9)
    assert not (values[:40][~labels[:40]] >= few).any()


def test_a_promise_that_the_references_do_not_carry_is_named() -> None:
    rng = np.random.default_rng(7)
    labels = np.arange(60) % 2 == 0
    fitted = fit_classes({"psnr": (rng.normal(30 + 9 * labels, 2)).tolist()}, labels.tolist(),
                         [f"r{k // 2:02}" for k in range(60)], "test")  # fmt: skip
    assert fitted.promise is not None
    assert fitted.promise.false_accepts == pytest.approx(1 - 0.1 ** (1 / 30))
    assert fitted.promise.words == (
        "accepts at most 7.388 % of the rejected pictures of new references, with 90 % confidence"
    )
    assert (
        "30 references with rejected pictures do not carry a promise of 5 % with 90 % confidence: "
        "it takes 45, without a false accept"
    ) in fitted.remarks
    with pytest.raises(InputError, match="the confidence is 1, not"):
        fit_classes({"psnr": list(range(60))}, labels.tolist(), [], "test", 0.05, 1.0)


def test_a_rule_finds_the_weights_and_its_rates_hold_on_new_pictures() -> None:
    def drawn(seed: int, count: int) -> tuple[dict[str, list[float]], np.ndarray, list[str]]:
        rng = np.random.default_rng(seed)
        x = rng.normal(0, 1, (count, 3))
        labels = rng.random(count) < 1 / (1 + np.exp(-(3 * x[:, 0] - 2 * x[:, 1])))
        names = ("psnr", "ssim", "noise-wavelet")
        return (
            dict(zip(names, x.T.tolist(), strict=True)),
            labels,
            [f"r{i % 50}" for i in range(count)],
        )

    fitted = fit_classes(*drawn(1, 1000), "test", 0.1)
    weights = [feature.weight for feature in fitted.gate.features]
    assert weights == pytest.approx([3, -2, 0], abs=0.4)
    assert [f.kind for f in fitted.gate.features] == ["metric", "metric", "gauge"]
    figures, labels, _ = drawn(2, 4000)
    verdicts = [
        fitted.gate.judge(dict(zip(figures, row, strict=True))).accepted
        for row in zip(*figures.values(), strict=True)
    ]
    accepted = np.array(verdicts)
    for name, direct in (
        ("false accepts", accepted[~labels].mean()), ("false rejects", (~accepted)[labels].mean()),
    ):  # fmt: skip
        found = fitted.results[name]
        assert found.low - 0.03 <= direct <= found.high + 0.03, name
    again = Gate.of_record(json.loads(json.dumps(fitted.gate.as_record())))
    assert again == fitted.gate


def test_a_verdict_says_what_decided_and_what_is_outside() -> None:
    rng = np.random.default_rng(5)
    labels = np.arange(60) < 30
    figures = {
        "psnr": (rng.normal(30 + 6 * labels, 2)).tolist(),
        "sd": rng.normal(0, 1, 60).tolist(),
    }
    gate = fit_classes(figures, labels, [str(i) for i in range(60)], "test").gate
    bad = gate.judge({"psnr": 27.0, "sd": 0.0})
    assert (bad.accepted, bad.decided, bad.outside) == (False, "psnr", ())
    assert bad.margin < 0
    far = gate.judge({"psnr": 80.0, "sd": 0.0})
    assert (far.accepted, far.outside) == (True, ("psnr",))
    # Beyond the pictures that it was fitted to by more than a tenth of their range.
    low, high = min(figures["psnr"]), max(figures["psnr"])
    for edge, away in ((low, low - high), (high, high - low)):
        assert gate.judge({"psnr": edge + 0.09 * away, "sd": 0.0}).outside == ()
        assert gate.judge({"psnr": edge + 0.11 * away, "sd": 0.0}).outside == ("psnr",)
    with pytest.raises(InputError, match="needs sd, and this picture has none"):
        gate.judge({"psnr": 30.0})


@pytest.mark.parametrize(("lacking", "kept"), [(2, 1), (3, 0)])
def test_a_figure_that_more_than_a_tenth_of_the_pictures_lack_is_left_out(
    lacking: int, kept: int
) -> None:
    rng = np.random.default_rng(3)
    one, other = rng.normal(size=(2, 20)) + 3 * (np.arange(20) % 2)
    names = [f"p{k}.png" for k in range(20)]
    one[:lacking] = np.nan
    labels = (np.arange(20) % 2 == 1).tolist()
    found = fit_classes({"mean": one, "sd": other}, labels, names, "1", pictures=names)
    assert [feature.name for feature in found.gate.features] == ["mean"] * kept + ["sd"]
    assert found.gate.facts["pictures"] == (20 - lacking if kept else 20)
    words = ", ".join(names[:lacking])
    told = "left out: {} no finite mean" if kept else "mean left out: {} no finite value"
    assert told.format(f"{lacking} of 20 pictures ({words}) have") in found.remarks


def test_scores_are_regressed() -> None:
    rng = np.random.default_rng(6)
    x = rng.normal(0, 1, 300)
    wanted = 3 + 0.8 * x + rng.normal(0, 0.3, 300)
    fitted = fit_scores(
        {"ssim": x.tolist()}, wanted.tolist(), [str(i % 30) for i in range(300)], "test", 3
    )
    assert fitted.gate.features[0].weight == pytest.approx(0.8, abs=0.06)
    assert fitted.results["rmse"].low < 0.3 < fitted.results["rmse"].high
    truth = 0.8 / math.hypot(0.8, 0.3)
    assert fitted.results["Pearson"].low < truth < fitted.results["Pearson"].high
    assert fitted.gate.judge({"ssim": 1.0}).value == pytest.approx(3.8, abs=0.1)


@pytest.mark.parametrize(("labels", "words"), [
    ([True] * 20, "no picture is labelled rejected"),
    ([True] * 17 + [False] * 3, "3 pictures labelled rejected: a gate needs 5 or more"),
])  # fmt: skip
def test_too_little_is_refused(labels: list[bool], words: str) -> None:
    with pytest.raises(InputError, match=words):
        fit_classes({"psnr": list(range(20))}, labels, list("abcdefghijklmnopqrst"), "test")


def test_blurred_pictures_are_told_from_sharp_ones(run: Run, tmp_path: Path) -> None:
    for seed in range(1, 5):
        for scene in SCENES:
            picture = scene.picture(176, 128, seed)
            soft = magnetite.degrade(picture, f"gaussian-blur sigma={1 + seed / 4}px").picture
            split = "held" if seed == 4 else "known"
            for label, one in (("good", picture), ("bad", soft)):
                target = tmp_path / split / label
                target.mkdir(parents=True, exist_ok=True)
                magnetite.write(one, target / f"{scene.name}-{seed}.png")
    done = run("gate", "fit", "--accepted", "known/good", "--rejected", "known/bad",
               "--metrics", "edge-width,high-frequency-share,laplacian-variance")  # fmt: skip
    assert "28 pictures of 15 references" in done.stdout
    assert "chart-plate-2.png of known/good/chart-plate-1.png, " in done.stderr  # of any seed
    good = sorted(str(p) for p in (tmp_path / "held" / "good").iterdir())
    bad = sorted(str(p) for p in (tmp_path / "held" / "bad").iterdir())
    rows = json.loads(
        run("gate", "check", "gate.json", *good, *bad, "--format", "json", status=1).stdout
    )
    verdicts = [row["accepted"] for row in rows["rows"]]
    assert sum(verdicts[:5]) >= 4
    assert sum(verdicts[5:]) <= 1
    passed = [path for path, ok in zip(good, verdicts, strict=False) if ok]
    run("gate", "check", "gate.json", *passed, status=0)
    table = run("score", "known/good", "known/bad", "--metrics", "psnr,ssim", "--format", "csv")
    (tmp_path / "t.csv").write_text(table.stdout)
    names = [line.split(",")[1] for line in table.stdout.splitlines()[1:]]
    labels = [f"{n},{'accepted' if '-1' in n else 'rejected'}" for n in names]
    (tmp_path / "labels.csv").write_text("\n".join(["picture,verdict", *labels]) + "\n")
    assert (
        "wrote of.json"
        in run("gate", "fit", "t.csv", "--labels", "labels.csv", "--out", "of.json").stdout
    )
    assert "name one --reference" in run("gate", "check", "of.json", good[0], status=2).stderr
    words = ("check", "of.json", "known/bad/clay-core-1.png", "--reference")
    assert "rejected" in run("gate", *words, "known/good/clay-core-1.png", status=1).stdout
    for words in (("--region", "9,9,99x99"), ("--crop-border", "4")):
        part = run("score", "known/good", "known/bad", *words, "--format", "csv")
        (tmp_path / "part.csv").write_text(part.stdout)
        fit = ("gate", "fit", "part.csv", "--labels", "labels.csv")
        assert "and a gate measures whole pictures" in run(*fit, status=2).stderr
    shutil.copy(tmp_path / "labels.csv", tmp_path / "no.json")
    assert "is not JSON" in run("gate", "check", "no.json", good[0], status=2).stderr
    assert "has no column 'x'" in run("gate", "fit", "t.csv", "--label", "x", status=2).stderr
    of_classes = ("gate", "fit", "t.csv", "--labels", "labels.csv", "--least", "3")
    assert "--least goes with scores" in run(*of_classes, status=2).stderr
    folders = ("gate", "fit", "--accepted", "known/good", "--rejected", "known/bad")
    assert "the two folders are the labels" in run(*folders, "--label", "x", status=2).stderr


@pytest.mark.parametrize(("figure", "score", "words"), [
    ("5", "1e400", "label '1e400' is neither"), ("5", "1e308", "a score of 1e+308 is too large"),
    ("5", "x", "label 'x' is neither"), ("5", "1_0", "label '1_0' is neither"),
    ("1e308", "2", None), ("nan", "2", None), ("1_0", "2", None), ("1e400", "2", None),
])  # fmt: skip
def test_tables_with_numbers_that_are_none(
    run: Run, tmp_path: Path, figure: str, score: str, words: str | None
) -> None:
    rows = [f"p{k}.png,{k % 7},{k % 5},{k / 3}" for k in range(24)]
    rows[3] = f"p3.png,{figure},1,{score}"
    (tmp_path / "t.csv").write_text("\n".join(["picture,psnr,ssim,score", *rows]) + "\n")
    fit = ("gate", "fit", "t.csv", "--label", "score", "--least", "3")
    if words is not None:
        assert words in run(*fit, status=2).stderr
        assert not (tmp_path / "gate.json").exists()
        return
    assert "1 of 24 pictures (p3.png) has no finite psnr" in run(*fit).stderr
    for promise in ("--false-accepts", "--confidence"):
        assert "and the labels are scores" in run(*fit, promise, "60%", status=2).stderr
