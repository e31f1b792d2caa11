"""Arguments, names, folders and outputs as hostile as they come."""

from __future__ import annotations

import json
import os
import resource
import shutil
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest

import magnetite
import magnetite.core.methods.catalogue
from conftest import PROGRAM, Run, texture
from magnetite.core.picture import as_picture
from magnetite.files.names import shown


def test_inputs_are_not_overwritten(run: Run, gray: Path, tmp_path: Path) -> None:
    for name in ("curve.png", "crops.png", "x.png", "x-curves.png", "x-maps.png", "k.png"):
        shutil.copy(gray, tmp_path / name)
    before = gray.read_bytes()
    jpeg = ("--codec", "jpeg quality=50,80")
    for words in (
        ("curve", "curve.png", *jpeg, "--out", "."),
        ("curve", "crops.png", *jpeg, "--out", "."),
        ("gauge", "x.png", "x-curves.png", "--curves", "."),
        ("score", "x.png", "x.png", "x-maps.png", "--maps", "."),
        ("restore", "x.png", "k.png", "wiener-deblur", "kernel=k.png", "sd=1%"),
        ("degrade", "x.png", "k.png", "psf-blur", "kernel=k.png"),
    ):
        assert "would replace the input" in run(*words, status=2).stderr
    assert {p.read_bytes() for p in tmp_path.glob("*.png")} == {before}
    assert {p.suffix for p in tmp_path.iterdir()} == {".png"}


@pytest.mark.parametrize("encoding", ["ascii", "cp1252"])
def test_tables_in_any_encoding(encoding: str, gray: Path, tmp_path: Path) -> None:
    environment = os.environ | {"PYTHONIOENCODING": encoding}
    done = subprocess.run(
        [PROGRAM, "score", gray, gray], capture_output=True, env=environment, timeout=60
    )
    assert (done.returncode, done.stderr) == (0, b"")
    assert "psnr dB" in done.stdout.decode(encoding)


def test_outputs_that_are_closed_or_full(gray: Path) -> None:
    words = f"{PROGRAM} score {gray} {gray}"
    closed = subprocess.run(f"{words} >&-", shell=True, capture_output=True, timeout=60)
    assert (closed.returncode, closed.stderr) == (0, b"")
    full = subprocess.run(f"{words} >/dev/full", shell=True, capture_output=True, timeout=60)
    assert full.returncode == 2
    assert full.stderr == b"magnetite: No space left on device\n"


def test_names_of_any_bytes(run: Run, gray: Path, tmp_path: Path) -> None:
    name = os.fsdecode(b"bad\xff\x1b[31m $5_$ \\frac.png")
    shutil.copy(gray, tmp_path / name)
    visible = "bad\\xff\\x1b[31m $5_$ \\frac.png"
    assert shown(name) == visible
    run("degrade", name, os.fsdecode(b"out\xfe.png"), "gaussian-noise", "sd=2%")
    record = json.loads((tmp_path / os.fsdecode(b"out\xfe.png.cert.json")).read_text())
    assert record["verdict"] == "as asked"
    for words in (
        ("score", name, name, "--maps", "maps"),
        ("gauge", name, "--curves", "curves"),
        ("gauge", name, "--curves", "two\nlines"),
        ("view", "sheet", name),
        ("curve", name, "--codec", "jpeg quality=50,80", "--out", "curve"),
    ):
        done = run(*words)
        assert "\x1b" not in done.stdout + done.stderr
        assert all(line.startswith("note: ") for line in done.stderr.splitlines())
    done = run("curve", name, "--codec", "jpeg quality=50,80", "--out", "curve")
    assert "2 of 2 points taken" in done.stderr
    assert visible in run("gauge", name).stdout


def test_long_names_leave_nothing_behind(run: Run, gray: Path, tmp_path: Path) -> None:
    name = "n" * 246 + ".png"
    shutil.copy(gray, tmp_path / name)
    run("degrade", name, "o.png", "gaussian-noise", "sd=1%")
    assert "255 bytes" in run("score", name, name, "--maps", "maps", status=2).stderr
    assert not (tmp_path / "maps").exists()
    run("degrade", "g.png", "m" * 246 + ".png", "gaussian-noise", "sd=1%", status=2)
    assert not list(tmp_path.glob("m*"))


def test_what_is_no_plain_file_is_not_replaced(run: Run, gray: Path, tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe.png")
    (tmp_path / "fixed.png").write_bytes(b"mine")
    (tmp_path / "link.png").symlink_to("target.png")
    noise = ("gaussian-noise", "sd=1%")
    assert "a pipe" in run("degrade", "g.png", "pipe.png", *noise, status=2).stderr
    run("degrade", "g.png", "link.png", *noise)
    assert (tmp_path / "link.png").is_symlink()
    assert (tmp_path / "target.png").is_file()
    if os.geteuid():
        (tmp_path / "fixed.png").chmod(0o400)
        assert "read-only" in run("degrade", "g.png", "fixed.png", *noise, status=2).stderr


def test_a_picture_has_its_certificate_or_is_not_there(gray: Path, tmp_path: Path) -> None:
    from magnetite.core.errors import FileError
    from magnetite.files import sidecar

    degraded = magnetite.degrade(magnetite.read(gray), "gaussian-noise sd=1%")
    (tmp_path / "o.png.cert.json").mkdir()
    with pytest.raises(FileError, match="is a folder"):
        sidecar.write_certified(degraded, tmp_path / "o.png")
    assert not (tmp_path / "o.png").exists()
    (tmp_path / "p.png").mkdir()
    with pytest.raises(FileError, match="is a folder"):
        sidecar.write_certified(degraded, tmp_path / "p.png")
    assert not (tmp_path / "p.png.cert.json").exists()


@pytest.mark.long
def test_without_a_cache_folder_loops_are_compiled_anew(gray: Path, tmp_path: Path) -> None:
    """As another user, whose installation and home cannot be written."""
    source = Path(magnetite.__file__).parent
    copy = tmp_path / "lib" / "magnetite"
    shutil.copytree(source, copy, ignore=shutil.ignore_patterns("__pycache__"))
    code = (
        "import numba.core.caching as c\n"
        "c.CacheImpl._locator_classes = []\n"  # as where none finds a folder
        "from magnetite.cli import main\nmain()"
    )
    done = subprocess.run(
        [sys.executable, "-B", "-c", code, "compress", gray, "o.mgt", "bit-planes", "keep=2"],
        cwd=tmp_path, capture_output=True, text=True, timeout=120,
        env=os.environ | {"PYTHONPATH": str(tmp_path / "lib")},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert done.stderr.count("compiled loops are not kept") == 1


@pytest.mark.long
def test_points_of_a_curve_are_never_lost(run: Run, gray: Path, tmp_path: Path) -> None:
    words = ("curve", "g.png", "--out", "c", "--format", "csv", "--workers", "1")
    one, two = ("--codec", "jpeg quality=20,50,80"), ("--codec", "dct step=8dn,16dn")
    run(*words, *one)
    run(*words, *two, "--metrics", "ssim")
    assert "3 of 5 points taken" in run(*words, *two, *one).stderr
    programs = [
        subprocess.Popen(
            [PROGRAM, *words, "--codec", codec], cwd=tmp_path, stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE, text=True,
        )
        for codec in ("wavelet step=9dn,20dn", "pcm bits=2,3")
    ]  # fmt: skip
    ends = [(program.communicate(timeout=120)[1], program.returncode) for program in programs]
    assert {status for _, status in ends} <= {0, 2}
    for said, status in ends:
        assert status == 0 or "another run works in this folder" in said
    every = [*one, *two, *(w for c in ("wavelet step=9dn,20dn", "pcm bits=2,3")
                           for w in ("--codec", c))]  # fmt: skip
    done = 5 + 2 * [status for _, status in ends].count(0)
    assert f"{done} of 9 points taken" in run(*words, *every).stderr


def test_errors_are_short_lines(run: Run, gray: Path) -> None:
    done = run("degrade", "g.png", "o.png", "a" * 100_000, status=2)
    assert len(done.stderr) < 1100
    assert "is not an aim" in run("compress", "g.png", "o.mgt", "dct", "--aim", " =3",
                                  status=2).stderr  # fmt: skip
    for words in (
        ("compress", "g.png", "o.mgt", "dct", "--rate", "1_0bpp"),
        ("compress", "g.png", "o.mgt", "dct", "--aim", "psnr=３０"),
        ("view", "sheet", "g.png", "--crop", "١,2,30x30"),
        ("view", "sheet", "g.png", "--crop", ""),
        ("view", "profile", "g.png", "--line", "nan,0,1,1"),
        ("demo", "--seed", "-1"),
        ("gauge", "g.png", "--full-scale", "1e300"),
        ("compress", "g.png", "o.mgt", "dct", "block=auto", "--rate", "1bpp"),
        ("compress", "g.png", "o.mgt", "predictive", "bound=auto"),
        ("score", "g.png", "g.png", "--metrics", "ssim window=auto"),
        ("curve", "g.png", "--codec", "dct step=auto"),
    ):
        assert run(*words, status=2).stderr.count("\n") == 1, words
    run("compress", "g.png", "o.mgt", "dct", "--rate", "1e308bpp")
    assert run("degrade", "g.png", "o.png", "gaussian-blur", "sigma=1e-300").stderr == ""


def test_auto_is_refused_wherever_nothing_is_solved_for() -> None:
    from magnetite.core.chain.notation import parse_step, parse_sweep
    from magnetite.core.errors import ChainError
    from magnetite.core.methods.catalogue import every

    for method in every():
        for key, parameter in method.parameters.items():
            text = f"{method.name} {key}=auto"
            if parameter.kind.span() is None:
                continue
            with pytest.raises(ChainError, match=r"auto stands for a value|takes one of"):
                parse_step(text, method.kind, complete=False)
            with pytest.raises(ChainError, match=r"auto stands for a value|takes one of"):
                parse_sweep(text, method.kind, complete=False)


@pytest.mark.long
def test_results_do_not_depend_on_the_number_of_cpus(gray: Path, tmp_path: Path) -> None:
    made = []
    for cpus in ({0}, set(os.sched_getaffinity(0))):
        subprocess.run(
            [PROGRAM, "compress", "g.png", "o.mgt", "pca", "components=6"], cwd=tmp_path,
            check=True, capture_output=True, timeout=60,
            preexec_fn=lambda cpus=cpus: os.sched_setaffinity(0, cpus),
        )  # fmt: skip
        made.append((tmp_path / "o.mgt").read_bytes())
    assert made[0] == made[1]


def test_float_pictures_that_are_not_on_0_to_1() -> None:
    rng = np.random.default_rng(0)
    whole = rng.integers(0, 256, (32, 32), np.uint8)
    with pytest.raises(ValueError, match=r"reach 255, and their full scale is taken as 1\.0"):
        magnetite.score(whole.astype(float), whole.astype(float), "psnr")
    for value in (1e160, 1e-160, 1e300):
        for method in magnetite.core.methods.catalogue.every("metric"):
            one, two = (value * rng.random((180, 180, 3)) for _ in "ab")
            try:
                figure = method.function(one, two) if method.complete else 0.0
            except ValueError as error:
                assert "\n" not in str(error)
                assert "math domain" not in str(error).split(":")[-1]
            else:
                assert not np.isnan(figure), method.name


def test_commands_that_misbehave(run: Run, gray: Path, tmp_path: Path) -> None:
    table = """
        [restoration.pipe]
        run = ["mkfifo", "{output}", "--", "{input}x"]
        [restoration.holds]
        run = ["sh", "-c", "sleep 30 & cp {input} {output}"]
        [restoration.detached]
        run = ["sh", "-c", "setsid sleep 987 & cp {input} {output}"]
        [restoration.missing]
        run = "no-such-program {input} {output}"
    """
    (tmp_path / "own.toml").write_text(table)
    start = time.perf_counter()
    run("--commands", "own.toml", "restore", "g.png", "o.png", "holds")
    run("--commands", "own.toml", "restore", "g.png", "o.png", "detached")
    assert time.perf_counter() - start < 20
    assert subprocess.run(["pgrep", "-f", "^sleep 987"], capture_output=True).returncode == 1
    said = run("--commands", "own.toml", "restore", "g.png", "o.png", "pipe", status=2).stderr
    assert "not a plain file" in said
    assert "no such program" in run(
        "--commands", "own.toml", "restore", "g.png", "o.png", "missing", status=2
    ).stderr  # fmt: skip
    for number, text in enumerate(
        (
            '[restoration.x]\nrun = "a\\u0000b {input} {output}"',
            "x = " + "[" * 5000,
            "[restoration.x]\nrun = 'a {input} {output}'\nseconds = " + "9" * 5000,
            "[codec.x]\nencode = 'a {input} {output} {quality}'\ndecode = 'a {input} {output}'\n"
            f"quality = [1, {'9' * 400}]",
        )
    ):
        (tmp_path / f"bad{number}.toml").write_text(text)
        done = run("--commands", f"bad{number}.toml", "methods", "--brief", status=2)
        assert done.stderr.count("\n") == 1, text[:60]


def test_a_command_ends_with_the_program(gray: Path, tmp_path: Path) -> None:
    sleep = f"sleep 876.{os.getpid()}"  # no other run of the tests has the same
    (tmp_path / "own.toml").write_text(
        f'[restoration.slow]\nrun = ["sh", "-c", "{sleep}; cp {{input}} {{output}}"]\n'
    )
    # Under nohup SIGHUP is ignored, also by programs that are started.
    words = ["env", "--default-signal=HUP", PROGRAM, "--commands", "own.toml", "restore", "g.png",
             "o.png", "slow"]  # fmt: skip
    for number in (signal.SIGHUP, signal.SIGINT):
        program = subprocess.Popen(words, cwd=tmp_path, stderr=subprocess.DEVNULL)
        deadline = time.perf_counter() + 20
        while subprocess.run(["pgrep", "-f", f"^{sleep}"], capture_output=True).returncode:
            assert time.perf_counter() < deadline
            time.sleep(0.05)
        program.send_signal(number)
        assert program.wait(10) == 128 + number
        assert subprocess.run(["pgrep", "-f", f"^{sleep}"], capture_output=True).returncode == 1


@pytest.mark.long
def test_many_programs_start_at_once_with_an_empty_cache(gray: Path, tmp_path: Path) -> None:
    environment = os.environ | {"NUMBA_CACHE_DIR": str(tmp_path / "cache")}
    failed = []

    def work(number: int) -> None:
        done = subprocess.run(
            [PROGRAM, "compress", "g.png", f"{number}.mgt", "bit-planes", "keep=2"],
            cwd=tmp_path, env=environment, capture_output=True, text=True, timeout=120,
        )  # fmt: skip
        if done.returncode:
            failed.append(done.stderr)

    workers = [threading.Thread(target=work, args=(n,)) for n in range(4)]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join()
    assert not failed
    assert len({(tmp_path / f"{n}.mgt").read_bytes() for n in range(4)}) == 1


def test_floats_far_beyond_the_range_are_restored_or_refused() -> None:
    rng = np.random.default_rng(0)
    for method in magnetite.core.methods.catalogue.every("restoration"):
        reach = rng.choice((1.5, 9))
        wild = rng.normal(0, reach / 3, (40, 40)).clip(-reach, reach).astype(np.float32)
        try:
            restored = magnetite.restore(wild, method.example)
        except ValueError as error:
            assert "is outside" not in str(error), method.name
        else:
            assert np.isfinite(restored.picture.samples).all(), method.name


#: Python does not notice that such a limit truncates the bytecode it writes.
NO_BYTECODE = os.environ | {"PYTHONDONTWRITEBYTECODE": "1"}


def test_a_full_disk_leaves_nothing_behind(gray: Path, tmp_path: Path) -> None:
    def full() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (1000, 1000))

    for words in (
        ("degrade", "g.png", "o.png", "gaussian-noise", "sd=9dn"),
        ("view", "sheet", "g.png", "--out", "o.svg"),
    ):
        done = subprocess.run(
            [PROGRAM, *words], cwd=tmp_path, capture_output=True, text=True, timeout=60,
            preexec_fn=full, env=NO_BYTECODE,
        )  # fmt: skip
        assert done.returncode == 2, words
        assert done.stderr.count("\n") == 1, done.stderr
        assert "cannot be written (File too large)" in done.stderr
        assert [path.name for path in tmp_path.iterdir()] == ["g.png"], words


@pytest.mark.long
@pytest.mark.parametrize("ending", ["png", "tif", "jpg", "bmp", "pgm", "webp", "jp2", "npy", "mgt"])
def test_2000_corrupted_pictures_of_each_format(ending: str, tmp_path: Path) -> None:
    from magnetite.core.errors import MagnetiteError

    picture = as_picture((texture(40, 50, 3 if ending != "pgm" else None) * 255).astype(np.uint8))
    path = tmp_path / f"p.{ending}"
    if ending == "mgt":
        path.write_bytes(magnetite.compress(picture, "dct step=8dn").data)
    else:
        magnetite.write(picture, path)
    whole = path.read_bytes()
    rng = np.random.default_rng(1)
    for _ in range(2000):
        data = bytearray(whole)
        for position in rng.integers(0, len(data), rng.integers(1, 9)):
            data[position] = rng.integers(256)
        path.write_bytes(bytes(data[: rng.integers(1, len(data) + 1)]) if rng.random() < 0.3
                         else bytes(data))  # fmt: skip
        start = time.perf_counter()
        try:
            magnetite.read(path)
        except MagnetiteError as error:
            assert "\n" not in str(error)
        assert time.perf_counter() - start < 5


def test_views_of_planes_and_single_columns(run: Run, tmp_path: Path) -> None:
    magnetite.write(as_picture(np.zeros((20, 30, 5), np.uint16)), tmp_path / "planes.tif")
    magnetite.write(as_picture(np.arange(20, dtype=np.uint8)[:, np.newaxis]), tmp_path / "col.png")
    magnetite.write(as_picture(np.array([[9]], np.uint8)), tmp_path / "one.png")
    said = run("view", "noise", "planes.tif", "planes.tif", status=2).stderr
    assert "not of 5 planes" in said
    run("view", "profile", "col.png")
    assert "a single sample" in run("view", "profile", "one.png", status=2).stderr
