"""Rates of new pictures: conformal intervals, and the command that gives them."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import magnetite
from conftest import Run, texture
from magnetite.core.analysis.conformal import conformal_interval
from magnetite.core.errors import InputError
from magnetite.core.operations.aim import Target
from magnetite.core.picture import as_picture
from magnetite.experiment.prediction import NewPicture, predicted_rates
from magnetite.experiment.results import RunRows


def coverage(count: int, confidence: float, trials: int, draw: str) -> float:
    """Share of new cases that lie in their interval."""
    rng = np.random.default_rng(count)
    held = 0
    for _ in range(trials):
        x = rng.normal(0, 1, (count + 1, 1))
        noise = {
            "normal": lambda: rng.normal(0, 1, count + 1),
            "skewed": lambda: rng.exponential(1, count + 1) ** 2,
            "uneven": lambda x=x: rng.normal(0, 1, count + 1) * (0.2 + np.abs(x[:, 0])),
        }[draw]()
        y = 2 + 0.7 * x[:, 0] + np.sin(3 * x[:, 0]) + noise
        found = conformal_interval(x[:-1], y[:-1], x[-1], confidence)
        held += found.low <= y[-1] <= found.high
    return held / trials


@pytest.mark.long
@pytest.mark.parametrize("draw", ["normal", "skewed", "uneven"])
@pytest.mark.parametrize(("count", "confidence"), [(19, 0.9), (39, 0.8)])
def test_intervals_hold_new_cases(draw: str, count: int, confidence: float) -> None:
    """At least the confidence, and at most one case of n + 1 more."""
    share = coverage(count, confidence, 250, draw)
    error = math.sqrt(confidence * (1 - confidence) / 250)
    assert confidence - 3 * error < share < confidence + 1 / (count + 1) + 3 * error


@pytest.mark.long
@pytest.mark.parametrize("draw", ["normal", "skewed", "uneven"])
def test_coverage_at_95_percent(draw: str) -> None:
    assert 0.93 < coverage(60, 0.95, 2000, draw) < 0.97


def by_definition(x, y, new, confidence, unknown, t) -> bool:
    """Whether a value belongs to the interval: the line is fitted anew with it."""
    design = np.column_stack([np.ones(len(y) + 1), np.append(x, new)])
    values = np.append(y, t)
    line = np.linalg.solve(design.T @ design, design.T @ values)
    residuals = np.abs(values - design @ line)
    larger = (residuals[:-1] >= residuals[-1] - 1e-9).sum() + unknown
    return (larger + 1) / (len(y) + unknown + 1) > 1 - confidence + 1e-12


@pytest.mark.parametrize("unknown", [0, 2])
def test_the_interval_is_its_definition(unknown: int) -> None:
    rng = np.random.default_rng(8)
    for _ in range(12):
        x, y, new = rng.normal(0, 1, 14), rng.normal(0, 1, 14), rng.normal()
        found = conformal_interval(x[:, None], y, np.array([new]), 0.75, unknown)
        if math.isinf(found.high):
            assert by_definition(x, y, new, 0.75, unknown, 1e6)
            continue
        grid = np.linspace(found.low - 3, found.high + 3, 1501)
        inside = [t for t in grid if by_definition(x, y, new, 0.75, unknown, t)]
        step = grid[1] - grid[0]
        assert found.low == pytest.approx(min(inside), abs=1.5 * step)
        assert found.high == pytest.approx(max(inside), abs=1.5 * step)
        assert found.value == pytest.approx(np.polyval(np.polyfit(x, y, 1), new))


def test_few_cases_have_no_ends() -> None:
    x, y = np.arange(8.0)[:, None], np.array([1.0, 3, 2, 5, 4, 6, 8, 7])
    assert conformal_interval(x, y, np.array([4.0]), 0.95).high == math.inf
    assert conformal_interval(x, y, np.array([4.0]), 0.8).high < 20
    with pytest.raises(InputError, match="2 cases are too few"):
        conformal_interval(x[:2], y[:2], np.array([4.0]), 0.9)


PLAN = """
[references]
files = ["refs/*.png"]
[treatments]
coded = "dct step=2%,4%,8%,16%,32%"
[scores]
metrics = "ssim,mae"
"""


def test_only_references_like_a_picture_count() -> None:
    """Rates of three times as many samples are three times as high."""
    rows = [
        {"reference": f"{kind}{n}", "channels": channels, "bits": 8, "degradation": "nothing",
         "reference activity": n + 1.0, "treatment name": "coded", "treatment": f"dct step={s}%",
         "status": "done", "reason": None, "bpp": channels * (n + 1) / s, "psnr": 60.0 - 8 * s}
        for kind, channels, count in (("gray", 1, 4), ("rgb", 3, 3), ("deep", 2, 2))
        for n in range(count) for s in (1, 2, 3, 4)
    ]  # fmt: skip
    run_rows = RunRows.of(pd.DataFrame(rows), ["psnr"])
    new = [NewPicture("g", 2.0, 1, 8), NewPicture("c", 2.0, 3, 8), NewPicture("d", 2.0, 2, 8),
           NewPicture("w", 7.0, 3, 8)]  # fmt: skip
    made = predicted_rates(replace(run_rows, missing=2), Target.parse("psnr>=44"), new, 0.6)
    assert made.notes[0] == "left out: 2 missing rows"
    frame = made.frame.set_index("picture")
    assert dict(frame["references"]) == {"g": 4, "c": 3, "w": 3}
    assert dict(frame["bpp"]) == pytest.approx({"g": 1.0, "c": 3.0, "w": 10.5})
    beyond = next(note for note in made.notes if "beyond" in note)
    assert beyond.startswith("w: its activity, 7.000")
    assert "d: no rate, for fewer than three references of the same channels and depth" in (
        " ".join(made.notes)
    )
    with pytest.raises(InputError, match="f is a picture of 1 channel of float samples, and the "):
        predicted_rates(run_rows, Target.parse("psnr>=44"), [NewPicture("f", 2.0, 1, None)], 0.6)


def test_curves_of_other_settings_are_not_mixed() -> None:
    """Two block sizes are two curves; of coded noise, whose score falls with the rate, none."""
    rows = [
        {"reference": f"r{n}", "channels": 1, "bits": 8, "degradation": noise,
         "reference activity": n + 1.0, "treatment name": "coded",
         "treatment": f"dct step={s}% block={block}x{block}", "status": "done", "reason": None,
         "bpp": block * (n + 1) / s, "psnr": 60.0 - 8 * s if noise == "weak" else 30.0 + s}
        for noise in ("weak", "strong") for n in range(4) for block in (8, 16)
        for s in (1, 2, 3, 4)
    ]  # fmt: skip
    run_rows = RunRows.of(pd.DataFrame(rows), ["psnr"])
    new = [NewPicture("g", 2.0, 1, 8)]
    made = predicted_rates(run_rows, Target.parse("psnr>=44"), new, 0.6)
    frame = made.frame.set_index(["degradation", "treatment"])
    assert dict(frame["bpp"]) == pytest.approx(
        {("weak", "coded: dct block=8"): 8.0, ("weak", "coded: dct block=16"): 16.0}
    )
    with pytest.raises(InputError, match="no treatment has curves of 4 rates or more that cross"):
        predicted_rates(run_rows, Target.parse("psnr>=99"), new, 0.6)


@pytest.mark.parametrize("sign", [1, -1], ids=["higher", "lower"])
def test_references_that_meet_a_need_at_no_rate_or_at_every_rate_are_told_apart(sign: int) -> None:
    label = "psnr" if sign > 0 else "mse"
    rows = [
        {"reference": f"r{n}", "channels": 1, "bits": 8, "degradation": "noise",
         "reference activity": n + 1.0, "treatment name": "coded", "treatment": f"dct step={s}%",
         "status": "done", "reason": None, "bpp": (n + 1) / s,
         label: 100 + sign * (more - 8 * s)}
        for n, more in enumerate([60, 60, 60, 20, 10, 90]) for s in (1, 2, 3, 4)
    ]  # fmt: skip
    need = Target.parse(f"{label}{'>=' if sign > 0 else '<='}{100 + sign * 44}")
    run_rows = RunRows.of(pd.DataFrame(rows), [label])
    made = predicted_rates(run_rows, need, [NewPicture("g", 2.0, 1, 8)], 0.3)
    (said,) = (note for note in made.notes if "least predictable" in note)
    assert f"{need} is met at no rate of the run by 2 and at every rate by 1 of 6" in said
    assert made.frame["references"].tolist() == [3]


def test_a_point_is_the_mean_of_its_repeats() -> None:
    rows = [
        {"reference": f"r{n}", "channels": 1, "bits": 8, "degradation": "noise",
         "reference activity": n + 1.0, "treatment name": "coded", "treatment": f"dct step={s}%",
         "status": "done", "reason": None, "bpp": (n + 1) / s * (1 + sign * 0.5),
         "psnr": 60.0 - 8 * s + sign * s}
        for n in range(4) for s in (1, 2, 3, 4) for sign in (-1, 1)
    ]  # fmt: skip
    run_rows = RunRows.of(pd.DataFrame(rows), ["psnr"])
    made = predicted_rates(run_rows, Target.parse("psnr>=44"), [NewPicture("g", 2.0, 1, 8)], 0.6)
    assert made.frame["bpp"].tolist() == pytest.approx([1.0])
    assert "left out" not in " ".join(made.notes)
    # Activities of 1 to 4: an sd of their logarithms beyond the ends is far.
    far = float(np.std(np.log([1, 2, 3, 4]), ddof=1))
    new = [NewPicture(name, activity, 1, 8) for name, activity in
           (("low", 0.99 * np.exp(-far)), ("near", 1.01 * np.exp(-far)),
            ("most", 3.96 * np.exp(far)), ("high", 4.04 * np.exp(far)))]  # fmt: skip
    need = Target.parse("psnr>=44")
    said = [note for note in predicted_rates(run_rows, need, new, 0.6).notes if "beyond" in note]
    assert [note.split(":")[0] for note in said] == ["low", "high"]
    assert "lies far beyond those of the references, 1.000 to 4.000 dn" in said[1]
    lost = [row | {"status": "failed"} if (row["reference"], row["treatment"]) == (
        "r3", "dct step=2%") else row for row in rows]  # fmt: skip
    fewer = predicted_rates(RunRows.of(pd.DataFrame(lost), ["psnr"]), need, new[:1], 0.6)
    assert "1 reference with fewer than 4 rates left out" in " ".join(fewer.notes)
    assert fewer.frame["references"].tolist() == [3]


def test_the_rate_of_a_new_picture_is_predicted(run: Run, tmp_path: Path) -> None:
    (tmp_path / "refs").mkdir()

    def picture(number: int) -> magnetite.Picture:
        rng = np.random.default_rng(number)
        grain = rng.normal(0, 2 + 22 * rng.random(), (64, 72))
        return as_picture(
            (60 + 120 * texture(64, 72, seed=number) + grain).clip(0, 255).astype(np.uint8)
        )

    for number in range(14):
        magnetite.write(picture(number), tmp_path / "refs" / f"{number}.png")
    for number in (100, 101, 102):
        magnetite.write(picture(number), tmp_path / f"new-{number}.png")
    (tmp_path / "plan.toml").write_text(PLAN)
    run("run", "plan.toml", "--workers", "1")
    news = [f"new-{number}.png" for number in (100, 101, 102)]
    done = run("predict", "plan", *news, "--need", "ssim>=0.9", "--confidence", "80%",
               "--format", "json")  # fmt: skip
    rows = json.loads(done.stdout)["rows"]
    assert [row["picture"] for row in rows] == news
    for row in rows:
        new = magnetite.read(tmp_path / row["picture"])
        needed = magnetite.compress(new, "dct", aim="ssim>=0.9").bpp
        assert row["80 % from"] <= needed <= row["to"]
        assert row["to"] < 2.5 * row["80 % from"]
        assert row["activity dn"] == magnetite.gauge(new, "activity")["activity"]
        assert row["references"] == 14
    paths = [str(tmp_path / name) for name in news]
    made = magnetite.predict(tmp_path / "plan", paths, "ssim>=0.9", confidence=0.8)
    assert made.frame["bpp"].tolist() == [row["bpp"] for row in rows]
    own = run(
        "predict", "plan", "refs/3.png", news[0], "--need", "ssim>=0.9", "--confidence", "80%"
    )
    assert own.stderr.count("the run's reference") == 1
    assert (
        "note: refs/3.png is the run's reference 3: the interval holds for new pictures"
        in own.stderr
    )
    few = run("predict", "plan", *news, "--need", "ssim>=0.9", "--confidence", "99%")
    assert "an interval of 99 % takes 99 references" in few.stderr
    high = run("predict", "plan", *news, "--need", "ssim>=0.99", "--confidence", "60%").stderr
    assert "ssim>=0.99 is met at no rate of the run by 3 of 14" in high
    deep = 257 * magnetite.read(tmp_path / news[0]).samples.astype(np.uint16)
    magnetite.write(as_picture(deep), tmp_path / "deep.png")
    need = ("--need", "ssim>=0.9", "--confidence", "80%")
    other = run("predict", "plan", news[0], "deep.png", *need, status=2).stderr
    assert "deep.png is a picture of 1 channel of 16 bits, and the run's references are" in other
    back = run("--convert", "depth bits=8", "predict", "plan", "deep.png", *need).stdout.split()
    same = run("predict", "plan", news[0], *need).stdout.split()
    assert [word.replace("deep.png", news[0]) for word in back] == same
    for words, says in (
        (["--need", "psnr>=30"], "'psnr' is not a metric of this run; it has: ssim, mae"),
        (["--need", "ssim<=0.9"], "write ssim>=VALUE"),
        (["--need", "ssim"], "is not an aim"),
        (["--need", "ssim>=0.9", "--confidence", "120%"], "120"),
        (["--need", "ssim>=0.9", "--confidence", "20%"], "50 % or more"),
    ):
        failed = run("predict", "plan", *news, *words, status=2)
        assert says in failed.stderr
        assert failed.stderr.count("\n") == 1
