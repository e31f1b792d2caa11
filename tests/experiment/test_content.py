"""Rows are known by content: of pictures, of files that steps and figures name, of commands."""

from __future__ import annotations

import json
import os
import pickle
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy import ndimage

import magnetite
from conftest import Run, as_in_a_new_process, texture
from magnetite import external
from magnetite.core.errors import InputError
from magnetite.core.methods.catalogue import forget
from magnetite.core.picture import as_picture
from magnetite.experiment import cluster
from magnetite.experiment.cluster import _declare_once, code_of, perform_with
from magnetite.experiment.executors import Alone, Threads
from magnetite.experiment.plan import PlanError
from magnetite.experiment.plan_reading import read_plan
from magnetite.experiment.rates import family_of
from magnetite.experiment.results import better_of
from magnetite.experiment.runner import Outcome, run
from magnetite.experiment.tasks import PlanJob
from magnetite.files.names import apart


def picture_at(path: Path, seed: int, side: int = 40) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    samples = np.rint(texture(side, side + 8, seed=seed) * 255).astype(np.uint8)
    magnetite.write(as_picture(samples), path)


def carried_out(folder: Path, text: str, into: str = "run", executor: object = None) -> Outcome:
    """A plan carried out in this process, whose caches stay from run to run."""
    (folder / "plan.toml").write_text(text)
    job = PlanJob.of(read_plan(folder / "plan.toml"), folder)
    return run(job, text, folder / into, executor or Alone())  # type: ignore[arg-type]


def table(folder: Path) -> pd.DataFrame:
    frame = pd.read_csv(folder / "scores.csv")
    return frame.drop(columns=[c for c in frame if c.startswith("seconds")])


PLAN = """
[references]
files = ["refs/*.png"]
[degradations]
noisy = "gaussian-noise sd=4%"
[treatments]
nothing = "nothing"
median = "median"
"""


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
    assert "model.json: is not the file of that name that the gate was fitted with" in refused
    with pytest.raises(InputError, match="is not the file of that name"):
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


OWN = """
import numpy as np
from magnetite.core.methods.catalogue import ColourPolicy, metric

SCALE = np.array([1.0, 2.0])
OTHER = 5

def gap(difference, power=1):
    return (abs(difference) ** power).mean()

@metric("own-gap", summary="A gap.", colour=ColourPolicy.LUMA, source="own", unit="dn",
        values="0 and more", better="lower", identical=0)
def own_gap(reference, test, peak=1.0):
    "Says nothing."
    return float(SCALE[1] * max(gap(part) for part in [reference - test]))
"""


def test_code_of_ones_own_is_part_of_the_key(tmp_path: Path) -> None:
    """A changed metric of a script gives new figures; what it does not use changes nothing."""
    picture_at(tmp_path / "refs" / "a.png", 1)
    text = f'{PLAN}[scores]\nmetrics = "own-gap"\n'
    values: list[float] = []
    for old, new, computed in (
        ("", "", 2),
        ("Says nothing", "Says more", 0),
        ("OTHER = 5", "OTHER = 6", 0),
        ("2.0]", "4.0]", 2),
        ("mean()", "max()", 2),
        ("power=1", "power=2", 2),
        ("SCALE[1] *", "SCALE[1] +", 2),
    ):
        names = {"__name__": "mine.figures"}
        exec(OWN.replace(old, new), names)
        try:
            assert carried_out(tmp_path, text).computed == computed, new
            names["SCALE"] = names["SCALE"] * 1.5  # as another cell of a notebook would
            assert carried_out(tmp_path, text).computed == 2
            names["SCALE"] = names["SCALE"] / 1.5
            assert carried_out(tmp_path, text).computed == 2
        finally:
            forget("metric", "own-gap")
        values.append(table(tmp_path / "run")["own-gap"][0])
    assert values[0] == values[1] == values[2] == values[3] / 2
    assert len(set(values)) == 5


def test_workers_of_a_cluster_have_the_code_of_the_leading_program(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Rows of a worker with another program, metric or file fail; they are not taken for ours."""
    picture_at(tmp_path / "refs" / "a.png", 1)
    np.save(tmp_path / "psf.npy", np.ones((3, 3)))
    text = PLAN.replace('"gaussian-noise sd=4%"', '"psf-blur kernel=psf.npy"')
    text += '[scores]\nmetrics = "own-gap"\n'

    def worker(change: Callable[[], object], number: int) -> Outcome:
        """A run whose worker has changed since the tasks were submitted."""

        class Live(Alone):
            def run(self, tasks):  # type: ignore[no-untyped-def]
                for task in tasks:
                    sent, code = pickle.dumps(task), code_of(task)
                    change()
                    yield task, perform_with(pickle.loads(sent), (), code)

        exec(OWN, {"__name__": "mine.figures"})
        try:
            return carried_out(tmp_path, text, f"run{number}", Live())
        finally:
            forget("metric", "own-gap")

    def other_metric() -> None:
        forget("metric", "own-gap")
        exec(OWN.replace("mean()", "max()"), {"__name__": "mine.figures"})

    changes = (
        lambda: None,
        other_metric,
        lambda: np.save(tmp_path / "psf.npy", np.eye(3)),
        lambda: monkeypatch.setattr(cluster, "_program", lambda: "another"),
    )
    for number, change in enumerate(changes):
        done = worker(change, number)
        assert (done.computed, done.failed) == (2, 2 if number else 0)
    reasons = pd.read_csv(tmp_path / "run3" / "scores.csv")["reason"]
    assert reasons.str.contains("other code, methods or files than the program that leads").all()


def test_rows_of_a_library_are_of_the_version_that_made_them(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Tables state the library of the run, not the one that is installed where they are made."""
    picture_at(tmp_path / "refs" / "a.png", 1)
    text = PLAN.replace('median = "median"', 'coded = "jpeg quality=50"\nown = "dct step=8%"')
    text = text.replace('"gaussian-noise sd=4%"', '"webp quality=20"')
    for version, computed in (("3.0.1", 3), ("3.0.1", 0), ("3.1.0", 1)):
        installed = f"libjpeg_turbo-{version}, libwebp-1.5"
        monkeypatch.setattr("imagecodecs.version", lambda installed=installed: installed)
        assert carried_out(tmp_path, text).computed == computed
    monkeypatch.setattr("imagecodecs.version", lambda: "libjpeg_turbo-9, libwebp-9")
    said = run("summarize", "run", "--table", "means").stdout
    for words in ("webp by libwebp 1.5, effort 6", "jpeg by libjpeg_turbo 3.1.0"):
        assert said.count(words) == 1
    assert "-9" not in said


def test_the_program_of_a_command_is_part_of_the_key(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By whatever name: beside its table, by its path, or on the search path for programs."""
    picture_at(tmp_path / "refs" / "a.png", 1)
    programs = tmp_path / "bin"
    programs.mkdir()
    monkeypatch.setenv("PATH", f"{programs}{os.pathsep}{os.environ['PATH']}")
    text = PLAN.replace('median = "median"', 'own = "own"')
    ways = ("copy", f"{programs}/copy", f"sh {programs}/copy", "{here}/bin/copy")
    for number, way in enumerate(ways):
        command = f"{way} {{input}} {{output}}"
        (tmp_path / "own.toml").write_text(f'[restoration.own]\nrun = "{command}"\n')
        for remark, computed in (("one", 2), ("two", 1), ("two", 0)):
            (programs / "copy").write_text(f'#!/bin/sh\n# {remark}\ncp "$1" "$2"\n')
            (programs / "copy").chmod(0o755)
            with as_in_a_new_process():
                external.declare(tmp_path / "own.toml")
                assert carried_out(tmp_path, text, f"run{number}").computed == computed


def test_names_mean_what_is_declared_now(tmp_path: Path) -> None:
    """Before a declaration, after it, and after another of the same name."""
    assert better_of("own-gap") is None
    for better in ("lower", "higher"):
        exec(OWN.replace("lower", better), {"__name__": "mine.figures"})
        assert better_of("own-gap") == better
        forget("metric", "own-gap")
    assert family_of("own quality=3") == ""
    command = "cp {input} {output} {quality}"
    (tmp_path / "own.toml").write_text(
        f'[codec.own]\nencode = "{command}"\ndecode = "{command}"\nquality = [1, 9]\n'
    )
    with as_in_a_new_process():
        external.declare(tmp_path / "own.toml")
        assert family_of("own quality=3") == "own"
    assert family_of("own quality=3") == ""
