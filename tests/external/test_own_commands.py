"""Codecs and restorations that are commands of the user's own."""

from __future__ import annotations

import csv
import sys
import time
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run, texture
from magnetite.core.picture import as_picture

PROGRAM = """
import sys, zlib
import numpy as np

what, *words = sys.argv[1:]
if what in ("lift", "small"):
    from magnetite import read, write
    from magnetite.core.picture import as_picture
if what == "pack":
    samples, drop = np.load(words[1]), 8 - int(words[0])
    head = bytes([drop, samples.shape[0], samples.shape[1]])
    open(words[2], "wb").write(head + zlib.compress((samples >> drop).tobytes()))
elif what == "unpack":
    data = open(words[0], "rb").read()
    samples = np.frombuffer(zlib.decompress(data[3:]), np.uint8).reshape(data[1], data[2])
    np.save(words[1], samples << data[0])
elif what == "lift":
    picture = read(words[1])
    write(picture.with_pixels(picture.pixels() + float(words[0]))[0], words[2])
elif what == "small":
    write(as_picture(read(words[1]).samples[:4]), words[2])
elif what == "wait":
    import time
    time.sleep(60)
elif what == "fail":
    sys.exit("no such thing")
"""


@pytest.fixture
def own(tmp_path: Path) -> Path:
    (tmp_path / "own.py").write_text(PROGRAM)
    magnetite.write(as_picture((texture(40, 60) * 255).astype(np.uint8)), tmp_path / "g.png")
    call = f"{sys.executable} {{here}}/own.py"
    (tmp_path / "own.toml").write_text(f'''
[codec.planes]
encode = "{call} pack {{quality}} {{input}} {{output}}"
decode = "{call} unpack {{input}} {{output}}"
quality = [1, 8]
points = [2, 4, 6]
picture = "npy"
[codec.slow]
encode = "{call} wait {{quality}} {{input}} {{output}}"
decode = "{call} unpack {{input}} {{output}}"
quality = [1, 8]
seconds = 0.3
[restoration.lift]
run = ["{sys.executable}", "{{here}}/own.py", "lift", "{{strength}}", "{{input}}", "{{output}}"]
strength = [-1.0, 1.0]
[restoration.small]
run = "{call} small 0 {{input}} {{output}}"
[restoration.fail]
run = "{call} fail {{input}} {{output}}"
[restoration.nothing]
run = "true {{input}} {{output}}"
''')
    return tmp_path


def test_a_codec_of_ones_own_takes_part_in_everything(own: Path, run: Run) -> None:
    done = run("--commands", "own.toml", "compress", "g.png", "g.mgt", "planes", "quality=8")
    assert "planes" in done.stdout
    run("--commands", "own.toml", "expand", "g.mgt", "again.png")
    source = magnetite.read(own / "g.png").samples
    np.testing.assert_array_equal(magnetite.read(own / "again.png").samples, source)
    done = run("expand", "g.mgt", "no.png", status=2)
    assert "no codec has that name" in done.stderr
    curve = ["curve", "g.png", "--codec", "planes", "--codec", "planes quality=1,8"]
    done = run("--commands", "own.toml", *curve, "--format", "csv", "--metric", "mse")
    *_, last = csv.DictReader(done.stdout.splitlines())
    assert int(last["bytes"]) == (own / "g.mgt").stat().st_size
    assert float(last["mse"]) == 0
    done = run("--commands", "own.toml", "compress", "g.png", "r.mgt", "planes", "--rate", "3")
    assert (own / "r.mgt").stat().st_size * 8 <= 3 * source.size


def test_a_restoration_of_ones_own(own: Path, run: Run) -> None:
    run("--commands", "own.toml", "restore", "g.png", "l.png", "lift", "strength=0.1")
    source, lifted = (
        magnetite.read(own / name).samples.astype(float) for name in ("g.png", "l.png")
    )
    np.testing.assert_allclose(lifted, (source + 25.5).clip(0, 255), atol=0.51)


def test_commands_that_fail_are_reported_in_one_line(own: Path, run: Run) -> None:
    for step, words in (
        ("small", "gave 60x4"),
        ("fail", "ended with status 1 (no such thing)"),
        ("nothing", "wrote no {output}"),
    ):
        done = run("--commands", "own.toml", "restore", "g.png", "no.png", step, status=2)
        assert words in done.stderr
        assert len(done.stderr.splitlines()) == 1
        assert not (own / "no.png").exists()
    start = time.perf_counter()
    done = run("--commands", "own.toml", "compress", "g.png", "no.mgt", "slow quality=2", status=2)
    assert "stopped after 0.3 s" in done.stderr
    assert time.perf_counter() - start < 20


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("x = [", "not a TOML file"),
        ("[metric.a]\nrun = 'a'", "not [codec.NAME], [restoration.NAME] or [chain.NAME]"),
        ("[codec.dct]\nencode = 'a {input} {output} {quality}'", "already"),
        ("[codec.a]\nencode = 'a {input} {output}'", "no {quality}"),
        ("[codec.a]\nencode = 'a {input} {output} {quality}'", "decode is missing"),
        ("[restoration.a]\nrun = 'a {input} {output}'\nspeed = 3", "speed is not a key"),
        ("[restoration.a]\nrun = 'a {input} {output} {strength}'\nstrength = [3, 1]", "[least"),
        ("[restoration.A]\nrun = 'a {input} {output}'", "small letters"),
    ],
)
def test_declarations_that_cannot_be_used(own: Path, run: Run, text: str, words: str) -> None:
    (own / "bad.toml").write_text(text)
    done = run("--commands", "bad.toml", "methods", status=2)
    assert words in done.stderr
    assert len(done.stderr.splitlines()) == 1
