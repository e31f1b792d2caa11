"""Rows are known by content: of pictures, of files that steps and figures name, of commands."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy import ndimage

import magnetite
from conftest import Run, texture
from magnetite.core.errors import InputError
from magnetite.core.picture import as_picture
from magnetite.experiment.cluster import _declare_once, code_of, perform_with
from magnetite.experiment.executors import Alone, Threads
from magnetite.experiment.plan import PlanError
from magnetite.experiment.plan_reading import read_plan
from magnetite.experiment.runner import run
from magnetite.experiment.tasks import PlanJob
from magnetite.files.names import apart
from small_runs import PLAN, carried_out, picture_at, table


@pytest.mark.parametrize("executor", [Alone, lambda: Threads(2)])
def test_a_replaced_reference_is_read_again(tmp_path: Path, executor: type) -> None:
    """A process that has read the old picture gives the rows of a fresh one."""
    picture_at(tmp_path / "refs" / "a.png", 1)
    carried_out(tmp_path, PLAN, executor=executor())
    picture_at(tmp_path / "refs" / "a.png", 2)
    assert carried_out(tmp_path, PLAN, executor=executor()).computed == 2
    picture_at(tmp_path / "fresh" / "refs" / "a.png", 2)
    carried_out(tmp_path / "fresh", PLAN)
    pd.testing.assert_frame_equal(table(tmp_path / "run"), table(tmp_path / "fresh" / "run"))


def test_a_reference_that_changes_during_a_run_fails_its_rows(tmp_path: Path) -> None:
    picture_at(tmp_path / "refs" / "a.png", 1)
    (tmp_path / "plan.toml").write_text(PLAN)
    job = PlanJob.of(read_plan(tmp_path / "plan.toml"), tmp_path)

    class Replacing(Alone):
        def run(self, tasks):  # type: ignore[no-untyped-def]
            for task in tasks:
                picture_at(tmp_path / "refs" / "a.png", 2)
                yield from super().run(iter([task]))

    assert run(job, PLAN, tmp_path / "run", Replacing()).failed == 2
    assert table(tmp_path / "run")["reason"].str.contains("has changed since the run began").all()


def test_files_of_steps_and_figures_are_part_of_the_key(tmp_path: Path) -> None:
    """Names are relative to the plan, and other content is computed anew."""
    folder = tmp_path / "plans"
    picture_at(folder / "refs" / "a.png", 1, 200)
    np.save(folder / "psf.npy", np.ones((3, 3)))
    models = [model(seed) for seed in (1, 2)]
    (folder / "model.json").write_text(models[0])
    text = PLAN.replace('median = "median"', 'sharp = "wiener-deblur kernel=psf.npy sd=1%"')
    text += '[scores]\nmetrics = "psnr"\ngauges = "naturalness model=model.json"\n'
    text = text.replace('files = ["refs/*.png"]', 'files = ["refs/*.png"]\nconvert = "gray"')
    first = carried_out(folder, text)
    assert (first.failed, first.computed) == (0, 2)
    before = table(folder / "run")
    assert carried_out(folder, text).computed == 0
    (folder / "model.json").write_text(models[1])
    assert carried_out(folder, text).computed == 2
    after = table(folder / "run")
    label = "naturalness model=model.json"
    assert (after["psnr"] == before["psnr"]).all()
    np.save(folder / "psf.npy", np.eye(3))
    assert carried_out(folder, text).computed == 1
    changed = table(folder / "run")
    assert changed["psnr"][0] == before["psnr"][0]
    assert changed["psnr"][1] != before["psnr"][1]
    assert (after[label] != before[label]).all()


def model(seed: int) -> str:
    """A naturalness model of made-up statistics, as its file."""
    rng = np.random.default_rng(seed)
    spread = np.eye(36) * rng.uniform(0.5, 2, 36)
    return json.dumps({"kind": "magnetite naturalness model", "version": 1, "patches": 50,
                       "pictures": 3, "mean": rng.normal(0, 1, 36).tolist(),
                       "covariance": spread.tolist()})  # fmt: skip


def test_an_aim_reads_the_model_of_its_gauge(run: Run, tmp_path: Path) -> None:
    (tmp_path / "model.json").write_text(model(1))
    magnetite.write(
        as_picture(np.rint(255 * texture(96, 200)).astype(np.uint8)), tmp_path / "a.png"
    )
    gauge = "naturalness model=model.json"
    for out, known, open_one in (("o.png", "gaussian-blur sigma=0.8", "gaussian-blur sigma=auto"),
                                 ("o.mgt", "dct step=9dn", "dct")):  # fmt: skip
        verb = "degrade" if out == "o.png" else "compress"
        run(verb, "a.png", out, *known.split())
        wanted = next(iter(magnetite.gauge(tmp_path / out, gauge).values()))
        run(verb, "a.png", out, *open_one.split(), "--aim", f"{gauge}={wanted}")
        reached = next(iter(magnetite.gauge(tmp_path / out, gauge).values()))
        assert reached == pytest.approx(wanted, rel=0.006)


def test_a_gate_does_not_judge_by_another_model(run: Run, tmp_path: Path) -> None:
    """Its figures follow from a file, which is known by content and not by its name."""
    (tmp_path / "model.json").write_text(model(1))
    for folder, sigma in (("good", 0.0), ("bad", 2.0)):
        (tmp_path / folder).mkdir()
        for seed in range(5):
            plane = ndimage.gaussian_filter(texture(96, 200, seed=seed), sigma)
            picture = as_picture(np.rint(255 * plane).astype(np.uint8))
            magnetite.write(picture, tmp_path / folder / f"{seed}.png")
    gauge = "naturalness model=model.json"
    run("gate", "fit", "--accepted", "good", "--rejected", "bad", "--metrics", gauge)
    check = ("gate", "check", "gate.json", "good/0.png", "bad/0.png")
    judged = run(*check, status=1).stdout
    (tmp_path / "model.json").write_text(model(2))
    refused = run(*check, status=2).stderr
    assert "model.json: has changed since the gate was fitted" in refused
    with pytest.raises(InputError, match="has changed since the gate was fitted"):
        magnetite.gate.check(tmp_path / "gate.json", tmp_path / "good" / "0.png")
    (tmp_path / "model.json").unlink()
    assert "model.json: no such file" in run(*check, status=2).stderr
    (tmp_path / "model.json").write_text(model(1))
    assert run(*check, status=1).stdout == judged


def test_a_kept_picture_that_is_gone_is_made_again(tmp_path: Path) -> None:
    picture_at(tmp_path / "refs" / "a.png", 1)
    for rule in ("all", "worst 1"):
        text = f'{PLAN}[keep]\npictures = "{rule}"\n'
        carried_out(tmp_path, text, rule[:3])
        kept = sorted((tmp_path / rule[:3] / "pictures").iterdir())
        content = [path.read_bytes() for path in kept]
        kept[0].unlink()
        carried_out(tmp_path, text, rule[:3])
        assert [path.read_bytes() for path in kept] == content


def test_kept_pictures_keep_their_names_when_a_run_goes_on(tmp_path: Path) -> None:
    picture_at(tmp_path / "refs" / "a.png", 1)
    text = f'{PLAN}[keep]\npictures = "all"\n'
    carried_out(tmp_path, text)
    before = table(tmp_path / "run").set_index(["degradation", "treatment"])["picture"]
    picture_at(tmp_path / "refs" / "b.png", 2)
    carried_out(tmp_path, text)
    after = table(tmp_path / "run")
    assert after["picture"].notna().all()
    assert after["picture"].nunique() == len(after) == 2 * len(before)
    own = after[after["reference"] == "a"].set_index(["degradation", "treatment"])["picture"]
    assert own.to_dict() == before.to_dict()
    assert all((tmp_path / "run" / name).is_file() for name in after["picture"])


def test_a_picture_that_cannot_be_kept_leaves_its_row_done(tmp_path: Path) -> None:
    picture_at(tmp_path / "refs" / "a.png", 1)
    text = f'{PLAN}[keep]\npictures = "worst 1"\n'

    class Forgetting(Alone):
        passes = 0

        def run(self, tasks):  # type: ignore[no-untyped-def]
            self.passes += 1
            for task, results in super().run(tasks):
                lost = [replace(done, reason="out of memory") for done in results]
                yield task, lost if self.passes == 2 else results

    done = carried_out(tmp_path, text, executor=Forgetting())
    assert done.failed == 0
    assert "is not kept: out of memory" in " ".join(done.notes)
    assert (table(tmp_path / "run")["status"] == "done").all()


def test_names_differ_where_pictures_do_and_equal_pictures_count_once(tmp_path: Path) -> None:
    for seed, name in enumerate(("a/x/p", "b/x/p", "c/q", "c/r")):
        picture_at(tmp_path / "refs" / f"{name}.png", min(seed, 2))
    done = carried_out(tmp_path, PLAN.replace("refs/*.png", "refs/**/*.png"))
    names = table(tmp_path / "run")["reference"].unique().tolist()
    assert names == ["a/x/p", "b/x/p", "q"]
    (note,) = done.notes
    assert "r.png holds the same samples as" in note
    assert apart(["d/a.png", "d/a.tif", "d/b.png"]) == ["a.png", "a.tif", "b.png"]
    assert apart(["d/a.png"]) == ["a"]


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("sd=4%", "sd=4%,4%", "sd=4% is listed twice"),
        ("sd=4%", "sd=2%..4%/1%,3%", "sd=3% is listed twice"),
        ('median = "median"', 'm = "median"\nn = "median size=3,5"', "is in 'm' already"),
    ],
)
def test_a_chain_that_is_meant_once_is_refused_twice(
    tmp_path: Path, old: str, new: str, told: str
) -> None:
    picture_at(tmp_path / "refs" / "a.png", 1)
    with pytest.raises(PlanError, match=told):
        carried_out(tmp_path, PLAN.replace(old, new))


def test_a_changed_command_is_run_again_also_by_live_workers(tmp_path: Path) -> None:
    picture_at(tmp_path / "refs" / "a.png", 1)
    script = tmp_path / "shift.py"
    commands = tmp_path / "commands.toml"
    program = "import sys, shutil\nshutil.copy(sys.argv[1], sys.argv[2])\n"
    entry = '[restoration.{}]\nrun = "python3 {{here}}/shift.py {{input}} {{output}}"\n'
    script.write_text(program)
    commands.write_text(entry.format("one-of-mine"))
    _declare_once((commands,))
    text = PLAN.replace('median = "median"', 'mine = "one-of-mine"')
    assert carried_out(tmp_path, text).failed == 0
    assert carried_out(tmp_path, text).computed == 0
    script.write_text(f"{program}# another\n")
    commands.write_text(entry.format("one-of-mine") + entry.format("two-of-mine"))
    text = text.replace("one-of-mine", "two-of-mine")

    class Live(Alone):
        def run(self, tasks):  # type: ignore[no-untyped-def]
            for task in tasks:
                yield task, perform_with(task, (commands,), code_of(task))

    with pytest.raises(PlanError, match="two-of-mine"):
        carried_out(tmp_path, text, executor=Live())
    _declare_once((commands,))
    assert carried_out(tmp_path, text, executor=Live()).failed == 0
    assert carried_out(tmp_path, text.replace("two-of", "one-of")).computed == 1


def test_rows_of_a_ledger_do_not_depend_on_its_batches(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from magnetite.experiment import ledger

    for name in "abcde":
        picture_at(tmp_path / "refs" / f"{name}.png", ord(name))
    assert carried_out(tmp_path, PLAN).failed == 0
    opened = ledger.Ledger(tmp_path / "run", writable=False)
    whole = list(opened.rows())
    assert len(whole) >= 5
    for rows in (1, 2, 3):
        monkeypatch.setattr(ledger, "_ROWS", rows)
        assert list(opened.rows()) == whole
    opened.close()


def test_a_seed_belongs_to_rows_that_draw(tmp_path: Path) -> None:
    """Another seed computes rows with random numbers anew, and no others."""
    picture_at(tmp_path / "refs" / "a.png", 1)
    text = "seed = 5\nrepeats = 2\n" + PLAN.replace(
        "noisy =", 'blurred = "box-blur size=3px"\nnoisy ='
    )
    carried_out(tmp_path, text)
    frame = table(tmp_path / "run").set_index("degradation name")
    assert set(frame.loc["blurred", "seed"]) == {0}
    assert set(frame.loc["noisy", "seed"]) == {5, 6}
    assert carried_out(tmp_path, text.replace("seed = 5", "seed = 6")).computed == 2
