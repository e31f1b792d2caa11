"""Runs: what they compute, that nothing is lost or done twice, and how they end."""

from __future__ import annotations

import os
import random
import re
import resource
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from filelock import FileLock

import magnetite
from conftest import PROGRAM, Run, texture
from magnetite.core.picture import as_picture
from magnetite.experiment.results import read_rows

PLAN = """
seed = 3
repeats = 2
[references]
files = ["refs/*.png"]
[degradations]
clean = "nothing"
noisy = "gaussian-noise sd=2%,6%"
[treatments]
nothing = "nothing"
median = "median size=3,5"
known = "sliding-dct sd=known"
coded = "dct step=8%,16%"
both = "median size=3 + dct step=8%"
[pairs]
exclude = [["clean", "known"]]
[scores]
metrics = "psnr,ssim"
gauges = "noise-wavelet"
"""
#: Of three references: clean with 6 treatments once, two noises with 7 twice.
ROWS = 3 * (6 + 2 * 2 * 7)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A folder with a plan and its references."""
    (tmp_path / "refs").mkdir()
    for number in range(3):
        samples = np.rint(texture(48, 56, seed=number) * 255).astype(np.uint8)
        magnetite.write(as_picture(samples), tmp_path / "refs" / f"r{number}.png")
    (tmp_path / "plan.toml").write_text(PLAN)
    return tmp_path


def table(path: Path) -> pd.DataFrame:
    """The exported rows, without what they took."""
    frame = pd.read_csv(path / "scores.csv")
    return frame.drop(columns=[c for c in frame if c.startswith("seconds")])


def start(folder: Path, *words: str) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [PROGRAM, "run", "plan.toml", *words], cwd=folder, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip


def finished(process: subprocess.Popen[str], status: int = 0) -> tuple[str, str]:
    """What a run printed, once it has ended with a status."""
    out, err = process.communicate(timeout=120)
    assert process.returncode == status, err
    return out, err


def test_rows_are_what_the_single_commands_give(run: Run, folder: Path) -> None:
    done = run("run", "plan.toml", "--workers", "1")
    assert f"{ROWS} rows: {ROWS} computed, 0 taken from before, 0 failed" in done.stdout
    rows = table(folder / "plan")
    assert len(rows) == ROWS
    assert (rows["status"] == "done").all()
    reference = magnetite.read(folder / "refs" / "r1.png")
    noisy = magnetite.degrade(reference, "gaussian-noise sd=6%", seed=4)
    sd = noisy.certificate.steps[0].findings[0].drawn
    median = magnetite.restore(noisy.picture, "median size=3").picture
    coded = magnetite.compress(median, "dct step=8%")
    expected = {
        "nothing": (noisy.picture, None),
        "median": (median, None),
        "sliding-dct sd=known": (
            magnetite.restore(noisy.picture, f"sliding-dct sd={sd:.6g}dn").picture, None,
        ),
        "median + dct step=8%": (coded.picture, len(coded.data)),
    }  # fmt: skip
    chosen = rows[(rows["reference"] == "r1") & (rows["seed"] == 4)]
    chosen = chosen[chosen["degradation"] == "gaussian-noise sd=6%"].set_index("treatment")
    for treatment, (picture, size) in expected.items():
        row = chosen.loc[treatment]
        scores = magnetite.score(reference, picture, "psnr,ssim")
        assert (row["psnr"], row["ssim"]) == (scores["psnr"], scores["ssim"]), treatment
        assert row["noise-wavelet"] == magnetite.gauge(picture, "noise-wavelet")["noise-wavelet"]
        assert row["bytes"] == size or (size is None and np.isnan(row["bytes"]))
    parquet = pd.read_parquet(folder / "plan" / "scores.parquet")
    assert parquet["psnr"].tolist() == rows["psnr"].astype(float).tolist()
    # The ledger of a run that has ended is one file, which is read without writing beside it.
    assert (folder / "plan" / "ledger.sqlite").read_bytes()[18:20] == b"\x01\x01"
    assert len(read_rows(folder / "plan").frame) == ROWS
    assert not list((folder / "plan").glob("ledger.sqlite-*"))


def test_what_is_there_is_not_computed_again(run: Run, folder: Path) -> None:
    run("run", "plan.toml", "--workers", "1")
    before = table(folder / "plan")
    assert f"0 computed, {ROWS} taken" in run("run", "plan.toml", "--workers", "1").stdout
    more = PLAN.replace('"median size=3,5"', '"median size=3,5,7"')
    (folder / "plan.toml").write_text(more)
    done = run("run", "plan.toml", "--workers", "1")
    assert f"{ROWS + 15} rows: 15 computed, {ROWS} taken" in done.stdout
    less = PLAN.replace("repeats = 2", "repeats = 1")
    (folder / "plan.toml").write_text(less)
    assert " 0 computed" in run("run", "plan.toml", "--workers", "1").stdout
    assert len(table(folder / "plan")) == 3 * (6 + 2 * 7)
    (folder / "plan.toml").write_text(PLAN.replace('"psnr,ssim"', '"psnr,ssim,mae"'))
    assert f"{ROWS} computed" in run("run", "plan.toml", "--workers", "1").stdout
    after = table(folder / "plan")
    pd.testing.assert_frame_equal(after.drop(columns="mae"), before)


@pytest.mark.long
def test_processes_give_the_same_rows(folder: Path) -> None:
    for words in (("--workers", "1", "--into", "one"), ("--workers", "2", "--into", "two")):
        finished(start(folder, *words))
    pd.testing.assert_frame_equal(table(folder / "one"), table(folder / "two"))


def survives_kills(folder: Path, kills: int, workers: str) -> None:
    """Kill a run at random moments, resume it each time, and compare with one that was not."""
    finished(start(folder, "--into", "whole", "--workers", "1"))
    chance = random.Random(kills)
    for _ in range(kills):
        process = start(folder, "--into", "killed", "--workers", workers)
        time.sleep(chance.uniform(0.8, 2.5))
        process.send_signal(signal.SIGKILL)
        process.communicate(timeout=20)
        ledger = folder / "killed" / "ledger.sqlite"
        if ledger.is_file():
            base = sqlite3.connect(ledger)
            assert base.execute("PRAGMA integrity_check").fetchone() == ("ok",)
            base.close()
        for picture in (folder / "killed" / "pictures").glob("*.png"):
            magnetite.read(picture)
    finished(start(folder, "--into", "killed", "--workers", workers))
    one, two = table(folder / "whole"), table(folder / "killed")
    pd.testing.assert_frame_equal(one, two)
    assert len(one) == ROWS == len(one.drop_duplicates(one.columns[:13].tolist()))
    assert len(list((folder / "killed" / "pictures").iterdir())) == two["picture"].nunique()


@pytest.mark.long
def test_a_killed_run_is_resumed(folder: Path) -> None:
    (folder / "plan.toml").write_text(PLAN + '[keep]\npictures = "all"\n')
    survives_kills(folder, 2, "1")


@pytest.mark.long
def test_a_run_survives_twenty_kills(folder: Path) -> None:
    (folder / "plan.toml").write_text(PLAN + '[keep]\npictures = "all"\n')
    survives_kills(folder, 20, "2")


def test_what_a_killed_run_left_half_written_goes(run: Run, folder: Path) -> None:
    for path in (folder / "plan", folder / "plan" / "pictures"):
        path.mkdir()
        (path / ".magnetite-half.png").write_bytes(b"")
    run("run", "plan.toml", "--workers", "1")
    assert not list((folder / "plan").rglob(".magnetite-*"))


@pytest.mark.long
def test_an_interruption_ends_a_run_soon_and_cleanly(folder: Path) -> None:
    slow = PLAN.replace(
        'median = "median size=3,5"', 'slow = "richardson-lucy sigma=2 iterations=1000"'
    )
    (folder / "plan.toml").write_text(slow)
    process = start(folder, "--workers", "2")
    while not (folder / "plan" / "ledger.sqlite").is_file():
        time.sleep(0.05)
    time.sleep(1.0)  # rows are under way
    process.send_signal(signal.SIGINT)
    _, err = finished(process, 130)
    assert err.splitlines()[-1] == "magnetite: interrupted"
    status = subprocess.run(
        [PROGRAM, "run", "--status", "plan"], cwd=folder, capture_output=True, text=True
    )
    assert status.returncode == 0
    assert "missing" in status.stdout


def test_two_runs_do_not_share_a_folder(folder: Path) -> None:
    (folder / "plan").mkdir()
    with FileLock(folder / "plan" / "run.lock"):
        _, err = finished(start(folder, "--workers", "1"), 2)
    assert "another run works in this folder" in err


def test_a_full_disk_ends_with_one_line_and_a_sound_ledger(run: Run, folder: Path) -> None:
    def small_files() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (60_000, 60_000))

    process = subprocess.run(
        [PROGRAM, "run", "plan.toml", "--workers", "1"], cwd=folder, capture_output=True,
        text=True, preexec_fn=small_files, timeout=120,
        env=os.environ | {"PYTHONDONTWRITEBYTECODE": "1"},  # it would be truncated unnoticed
    )  # fmt: skip
    assert process.returncode == 2, process.stderr
    assert len(process.stderr.strip().splitlines()) == 1
    assert "Traceback" not in process.stderr
    run("run", "plan.toml", "--workers", "1")
    assert len(table(folder / "plan")) == ROWS


def test_failed_rows_are_told_and_tried_again(run: Run, folder: Path) -> None:
    failing = PLAN.replace(
        'median = "median size=3,5"',
        'jpeg = "jpeg quality=50"\nfile = "wiener-deblur kernel=k.npy"',
    )
    (folder / "plan.toml").write_text(failing)
    np.save(folder / "k.npy", np.zeros((3, 3)))
    done = run("run", "plan.toml", "--workers", "1", status=3)
    rows = pd.read_csv(folder / "plan" / "scores.csv")
    total = len(rows)
    assert f"{total} rows: {total} computed, 0 taken from before, 15 failed" in done.stdout
    assert "sum" in done.stdout
    said = run("run", "--status", "plan", status=3).stdout
    assert f"{total} rows, {total - 15} done, 15 failed, 0 missing" in said
    np.save(folder / "k.npy", np.ones((3, 3)))
    assert "15 computed" in run("run", "plan.toml", "--workers", "1").stdout
    assert "0 failed, 0 missing" in run("run", "--status", "plan").stdout


def test_a_file_that_changes_makes_new_rows(run: Run, folder: Path) -> None:
    plan = PLAN.replace('"median size=3,5"', '"wiener-deblur kernel=k.npy"')
    (folder / "plan.toml").write_text(plan.replace('"psnr,ssim"', '"all"'))
    np.save(folder / "k.npy", np.ones((3, 3)))
    assert " 0 failed" in run("run", "plan.toml", "--workers", "1").stdout
    rows = table(folder / "plan")
    assert rows["psnr"].notna().all()
    assert rows["status"].eq("done").all()
    assert not {"delta-e", "ms-ssim"} & {c for c in rows if rows[c].notna().any()}, (
        "too small, gray"
    )
    np.save(folder / "k.npy", np.eye(3))
    assert "15 computed" in run("run", "plan.toml", "--workers", "1").stdout


@pytest.mark.parametrize(
    ("rule", "count", "metric"),
    [("worst 2", 2, "psnr"), ("best 3", 3, "psnr"), ("sample 4", 4, "psnr"), ("worst 2", 2, "mae")],
)
def test_pictures_that_are_kept(run: Run, folder: Path, rule: str, count: int, metric: str) -> None:
    plan = PLAN.replace('"psnr,ssim"', '"psnr,mae"')
    (folder / "plan.toml").write_text(plan + f'[keep]\npictures = "{rule}"\nby = "{metric}"\n')
    run("run", "plan.toml", "--workers", "1")
    rows = table(folder / "plan")
    kept = rows[rows["picture"].notna()]
    assert len(kept) >= count
    values = rows[metric].replace("inf", np.inf).astype(float)
    if rule.startswith("worst"):
        worst = values.nsmallest(count) if metric == "psnr" else values.nlargest(count)
        assert set(kept.index) == set(worst.index)
    for name in kept["picture"]:
        assert magnetite.read(folder / "plan" / name).describe() == "56x48 gray, 8 bits"


def test_the_dry_run_says_the_size(run: Run, folder: Path) -> None:
    done = run("run", "plan.toml", "--dry")
    assert done.stdout.startswith(f"{ROWS} rows of 3 figures: 3 references, 2 repeats")
    assert not (folder / "plan").exists()
    # Rounding alone draws no random numbers, and is done once; dithered it does.
    for step, more in (("quantize bits=6", 0), ("quantize bits=6 dither=triangular", 3 * 6)):
        (folder / "plan.toml").write_text(PLAN.replace('clean = "nothing"', f'clean = "{step}"'))
        assert run("run", "plan.toml", "--dry").stdout.startswith(f"{ROWS + more} rows of")


@pytest.mark.long
def test_the_starter_runs_as_it_is(run: Run, tmp_path: Path) -> None:
    run("scenes", "trays", "--size", "96x72")
    run("run", "--starter", "plan.toml")
    text = (tmp_path / "plan.toml").read_text()
    (tmp_path / "plan.toml").write_text(text.replace("repeats = 2", "repeats = 1"))
    assert "0 failed" in run("run", "plan.toml", "--workers", "1").stdout


def test_a_folder_that_cannot_be_written_is_told(run: Run, folder: Path) -> None:
    (folder / "sealed").mkdir(mode=0o500)
    target = "/proc/run" if os.geteuid() == 0 else "sealed/run"  # the superuser writes anywhere
    said = run("run", "plan.toml", "--into", target, status=2).stderr
    assert re.fullmatch(r"magnetite: \S+: the folder cannot be created \(.*\)\n", said)


@pytest.mark.long
def test_a_worker_that_is_killed_costs_nothing(folder: Path) -> None:
    slow = PLAN.replace('"median size=3,5"', '"richardson-lucy sigma=2 iterations=60"')
    (folder / "plan.toml").write_text(slow)
    process = start(folder, "--workers", "2", "--into", "hurt")
    for _ in range(100):
        workers = [pid for pid in children(process.pid) if "spawn_main" in command_of(pid)]
        rows = folder / "hurt" / "ledger.sqlite"
        if workers and rows.is_file() and process.poll() is None:
            time.sleep(1.5)
            os.kill(workers[0], signal.SIGKILL)
            break
        time.sleep(0.1)
    finished(process)
    finished(start(folder, "--workers", "1", "--into", "whole"))
    pd.testing.assert_frame_equal(table(folder / "hurt"), table(folder / "whole"))


def children(parent: int) -> list[int]:
    found = Path(f"/proc/{parent}/task/{parent}/children").read_text().split()
    return [int(pid) for pid in found]


def command_of(pid: int) -> str:
    try:
        return Path(f"/proc/{pid}/cmdline").read_text()
    except OSError:
        return ""


def test_the_table_of_a_loop_takes_a_short_plan(run: Run, tmp_path: Path) -> None:
    (tmp_path / "refs").mkdir()
    for number in range(8):
        samples = np.rint(texture(24, 28, seed=number) * 255).astype(np.uint8)
        magnetite.write(as_picture(samples), tmp_path / "refs" / f"r{number}.png")
    plan = """\
repeats = 3
[references]
files = ["refs/*.png"]
[degradations]
noisy = "gaussian-noise sd=2%,4%,6%,8%"
[treatments]
none = "nothing"
gaussian = "gaussian sigma=0.8"
median = "median"
means = "nl-means"
blocks = "sliding-dct"
[scores]
metrics = "psnr,ssim"
"""
    assert plan.count("\n") < 25
    (tmp_path / "p.toml").write_text(plan)
    assert "480 rows: 480 computed" in run("run", "p.toml", "--workers", "1").stdout


@pytest.mark.long
def test_a_cluster_gives_the_same_rows_while_workers_die_and_join(folder: Path) -> None:
    distributed = [sys.executable, "-m", "distributed.cli.dask_scheduler"]
    scheduler = subprocess.Popen(
        [*distributed, "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--no-jupyter",
         "--scheduler-file", "scheduler.json"],
        cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip

    def worker(number: int) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            [sys.executable, "-m", "distributed.cli.dask_worker", "--scheduler-file",
             "scheduler.json", "--nthreads", "1", "--no-nanny", "--no-dashboard", "--name",
             str(number)],
            cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip

    processes = [scheduler]
    try:
        while not (folder / "scheduler.json").is_file():
            time.sleep(0.1)
        import json

        address = json.loads((folder / "scheduler.json").read_text())["address"]
        processes += [worker(n) for n in range(3)]
        begun = start(folder, "--cluster", address, "--into", "far")
        time.sleep(6)
        processes[1].kill()
        processes.append(worker(3))
        finished(begun)
        finished(start(folder, "--workers", "1", "--into", "near"))
        pd.testing.assert_frame_equal(table(folder / "near"), table(folder / "far"))
    finally:
        for process in processes:
            process.kill()
            process.wait(20)
