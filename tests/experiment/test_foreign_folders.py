"""A run's folder from anyone: nothing it says or links to leads out of it."""

from __future__ import annotations

import contextlib
import shutil
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run, run_in, texture
from magnetite.core.errors import FileError
from magnetite.core.picture import as_picture
from magnetite.experiment.ledger import Ledger
from magnetite.files.atomic import inside

PLAN = """[references]
files = ["ref.png"]
[degradations]
soft = "psf-blur kernel=k.npy"
noisy = "gaussian-noise sd=4%"
[treatments]
median = "median"
[keep]
pictures = "all"
"""


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A run at `run`, and pictures that are nobody else's business at `secret`."""
    tmp_path = tmp_path_factory.mktemp("home")
    magnetite.write(as_picture((255 * texture(48, 48)).astype(np.uint8)), tmp_path / "ref.png")
    np.save(tmp_path / "k.npy", np.ones((3, 3)))
    (tmp_path / "secret").mkdir()
    magnetite.write(as_picture(np.full((48, 48), 77, np.uint8)), tmp_path / "secret" / "s.png")
    np.save(tmp_path / "secret" / "s.npy", np.eye(5))
    (tmp_path / "plan.toml").write_text(PLAN)
    run_in(tmp_path, "run", "plan.toml", "--into", "run", "--workers", "1")
    return tmp_path


@pytest.fixture
def home(run: Run, folder: Path) -> Path:
    return folder


def change(folder: Path, statement: str, *values: object) -> None:
    with contextlib.closing(sqlite3.connect(folder / "run" / "ledger.sqlite")) as base:
        assert base.execute(statement, values).rowcount
        base.commit()


def test_kept_pictures_stand_in_the_folder(run: Run, home: Path) -> None:
    (home / "run" / "way").symlink_to(home / "secret")
    shown = run("report", "run").stdout
    for name in (f"{home}/secret/s.png", "../secret/s.png", "pictures/../../ref.png", "way/s.png"):
        change(home, "UPDATE cells SET picture = ?", name)
        done = run("report", "run")
        assert "leads out of the folder" in done.stderr
        before, after = (int(out.split(" pictures")[0].split()[-1]) for out in (shown, done.stdout))
        assert after == before - 2


def test_a_reference_is_the_one_of_the_run(run: Run, home: Path) -> None:
    (text,) = (
        sqlite3.connect(home / "run" / "ledger.sqlite")
        .execute("SELECT value FROM facts WHERE name = 'sources'")
        .fetchone()
    )
    change(home, "UPDATE facts SET value = ? WHERE name = 'sources'",
           text.replace("ref.png\", \"convert", "secret/s.png\", \"convert"))  # fmt: skip
    done = run("report", "run")
    assert "the file has changed since the run" in done.stderr
    assert "0 pictures" in done.stdout


def test_a_chain_opens_no_file_that_the_run_did_not_use(run: Run, home: Path) -> None:
    shown = run("report", "run")
    assert "not as it was" not in shown.stderr
    other = f"psf-blur kernel={home}/secret/s.npy"
    change(home, "UPDATE cells SET degradation = ? WHERE degradation LIKE 'psf-blur%'", other)
    done = run("report", "run")
    assert f"{home}/secret/s.npy: not as it was when the run was computed" in done.stderr
    np.save(home / "k.npy", np.eye(3))
    change(home, "UPDATE cells SET degradation = ? WHERE degradation LIKE 'psf-blur%'",
           "psf-blur kernel=k.npy")  # fmt: skip
    assert "k.npy: not as it was when the run was computed" in run("report", "run").stderr


@pytest.mark.parametrize("link", ["report.html", "ledger.sqlite", "ledger.sqlite-wal", "run.lock",
                                  "plan.toml", "report-pictures", "pictures"])  # fmt: skip
def test_nothing_is_written_through_links_of_the_folder(run: Run, home: Path, link: str) -> None:
    outside = home / "secret" / "target"
    path = home / "run" / link
    if path.is_dir():
        shutil.rmtree(path)
        change(home, "UPDATE cells SET picture = NULL")
    elif path.exists():
        path.rename(outside)
    if link.endswith("pictures"):
        outside.mkdir()
    elif not outside.exists():
        outside.write_bytes(b"mine")
    held = outside.read_bytes() if outside.is_file() else None
    path.symlink_to(outside)
    words = ("report", "run", "--limit", "0") if link.startswith("report") else (
        "run", "plan.toml", "--into", "run", "--workers", "1")  # fmt: skip
    assert "leads out of the folder" in run(*words, status=2).stderr
    assert list(outside.iterdir()) == [] if held is None else outside.read_bytes() == held


def test_a_page_is_replaced_whole_or_not_at_all(
    run: Run, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    run("report", "run", "--limit", "0")
    before = {p: p.read_bytes() for p in (home / "run").glob("report*/*")}
    before[home / "run" / "report.html"] = (home / "run" / "report.html").read_bytes()
    assert len(before) > 3
    from magnetite.pages import page

    count = 0

    def failing(path: Path, data: bytes) -> None:
        nonlocal count
        count += 1
        if count > 2:
            raise FileError(f"{path}: cannot be written (No space left on device)")
        path.write_bytes(data)

    monkeypatch.setattr(page, "write_bytes", failing)
    run("report", "run", "--limit", "0", "--metric", "ssim", status=2)
    after = {p: p.read_bytes() for p in (home / "run").glob("report*/*")}
    after[home / "run" / "report.html"] = (home / "run" / "report.html").read_bytes()
    assert after == before
    assert not list((home / "run").glob(".magnetite-*"))


def test_paths_inside(tmp_path: Path) -> None:
    (tmp_path / "a").mkdir()
    (tmp_path / "way").symlink_to("a")
    for name in ("a/x.png", "x", "a/../x", "way/x", "."):
        if name != ".":
            assert inside(tmp_path, name) == tmp_path / name
    for name in ("..", "../x", "/etc/passwd", "a/../../x", ".", "", "a\0b"):
        with pytest.raises(FileError):
            inside(tmp_path, name)


@pytest.mark.parametrize("name", ["scores.csv", "scores.parquet"])
def test_exports_are_whole_and_in_the_folder(
    run: Run, home: Path, name: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    before, rows = (home / "run" / name).read_bytes(), Ledger.rows

    def failing(ledger: Ledger) -> Iterator[tuple[object, ...]]:
        yield next(rows(ledger))
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patched:
        patched.setattr(Ledger, "rows", failing)
        done = run("run", "plan.toml", "--into", "run", "--workers", "1", status=2)
    assert "cannot be written (No space left on device)" in done.stderr
    assert (home / "run" / name).read_bytes() == before
    (home / "secret" / name).write_text("mine")
    (home / "run" / name).unlink()
    (home / "run" / name).symlink_to(home / "secret" / name)
    done = run("run", "plan.toml", "--into", "run", "--workers", "1", status=2)
    assert "leads out of the folder" in done.stderr
    assert (home / "secret" / name).read_text() == "mine"
    assert not list((home / "run").glob(".magnetite-*"))
