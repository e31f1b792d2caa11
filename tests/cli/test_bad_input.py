"""Bad input: one clear line on standard error, exit status 2, nothing written."""

from __future__ import annotations

import contextlib
import re
from pathlib import Path

import numpy as np
import pytest
import tifffile

import magnetite
import magnetite.core.methods.catalogue
from conftest import Run, sample_pictures, texture
from magnetite.core.picture import as_picture

NOISE = ("gaussian-noise", "sd=5%")


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder of good and bad files."""
    tmp_path = tmp_path_factory.mktemp("made")
    magnetite.write(sample_pictures()["rgb 8"], tmp_path / "tile.png")
    png = (tmp_path / "tile.png").read_bytes()
    (tmp_path / "text.png").write_text("hello, this is not a picture\n")
    (tmp_path / "cut.png").write_bytes(png[: len(png) // 2])
    (tmp_path / "bent.png").write_bytes(png[:60] + bytes([png[60] ^ 1]) + png[61:])
    (tmp_path / "empty.png").write_bytes(b"")
    (tmp_path / "file").write_text("a file, not a folder")
    gray = (texture(20, 24) * 255).astype(np.uint8)
    for name, array in {
        "gray": gray, "dot": gray[:1, :1], "tiny": gray[:3, :5], "small": gray[:15],
    }.items():  # fmt: skip
        magnetite.write(magnetite.core.picture.as_picture(array), tmp_path / f"{name}.png")
    hole = texture(20, 24).astype(np.float32)
    hole[3, 5] = np.nan
    np.save(tmp_path / "nan.npy", hole)
    np.save(tmp_path / "float.npy", texture(20, 24))
    tifffile.imwrite(tmp_path / "nan.tif", hole)
    np.save(tmp_path / "objects.npy", np.array([{}], dtype=object), allow_pickle=True)
    tiff = tmp_path / "cut.tif"
    tifffile.imwrite(tiff, gray)
    tiff.write_bytes(tiff.read_bytes()[:300])
    stream = magnetite.compress(gray, "dct step=5%").data
    (tmp_path / "good.mgt").write_bytes(stream)
    (tmp_path / "cut.mgt").write_bytes(stream[: len(stream) // 2])
    (tmp_path / "bent.mgt").write_bytes(stream[:40] + bytes([stream[40] ^ 8]) + stream[41:])
    (tmp_path / "foreign.mgt").write_bytes(png)
    (tmp_path / "newer.mgt").write_bytes(stream[:4] + b"\x09" + stream[5:])
    return tmp_path


def degrade(source: str, *words: str, out: str = "out.png") -> tuple[str, ...]:
    return ("degrade", source, out, *(words or NOISE))


CASES: dict[str, tuple[tuple[str, ...], str]] = {
    "missing file": (degrade("none.png"), "none.png: no such file"),
    "folder for a file": (("gauge", "."), "is a folder"),
    "text named .png": (degrade("text.png"), "text.png: not a picture in a known format"),
    "truncated PNG": (degrade("cut.png"), "cut.png: the PNG is truncated"),
    "altered PNG": (degrade("bent.png"), "bent.png: the PNG is damaged"),
    "truncated TIFF": (degrade("cut.tif"), "cut.tif: .*(truncated|damaged)"),
    "0-byte file": (degrade("empty.png"), r"empty.png: the file is empty \(0 bytes\)"),
    "pickled NPY": (degrade("objects.npy"), "objects.npy: an NPY file with samples of type object"),
    "SSIM of 1x1": (("score", "dot.png", "dot.png"), "window of 11x11 does not fit .* 1x1"),
    "SSIM of 3x5": (("score", "tiny.png", "tiny.png"), "does not fit a picture of 5x3: leave ssim"),
    "gauge of 1x1": (("gauge", "dot.png"), "laplacian-variance needs at least 3x3"),
    "size mismatch": (("score", "gray.png", "small.png"), "sizes differ: .*24x20.*24x15"),
    "colour mismatch": (("score", "gray.png", "tile.png"), "(sizes|colours) differ"),
    "NaN in NPY": (degrade("nan.npy"), r"nan.npy: 1 sample NaN or infinite .*row 3, column 5"),
    "NaN in TIFF": (degrade("nan.tif"), r"nan.tif: 1 sample NaN or infinite .*row 3, column 5"),
    "no unit": (degrade("gray.png", "gaussian-noise", "sd=25"), "25 has no unit: write 25dn"),
    "unknown unit": (degrade("gray.png", "gaussian-noise", "sd=2pt"), "unknown unit 'pt'"),
    "unknown step": (degrade("gray.png", "gausian-noise"), "did you mean gaussian-noise?"),
    "unknown setting": (degrade("gray.png", "quantize", "bit=5"), "did you mean bits?"),
    "negative": (degrade("gray.png", "gaussian-blur", "sigma=-2"), "-2px is outside 0px to 200px"),
    "absurd": (degrade("gray.png", "gaussian-noise", "sd=99999dn"), "outside 0dn to 255dn"),
    "few electrons": (
        degrade("gray.png", "sensor-noise", "full-well=0.5e"),
        "0.5e is outside 1e to 1000000000e",
    ),
    "less than no noise": (
        degrade("gray.png", "sensor-noise", "full-well=900e", "read=-1%"),
        "-1% is below 0%",
    ),
    "absurd block": (
        ("compress", "gray.png", "o.mgt", "dct", "step=1%", "block=99999"),
        "outside 1 to 4096",
    ),
    "not a number": (degrade("gray.png", "quantize", "bits=nan"), "not a whole number"),
    "negative seed": (degrade("gray.png", *NOISE, "--seed=-1"), "not in the range 0<=x"),
    "seed no number": (degrade("gray.png", *NOISE, "--seed=x"), "--seed"),
    "no steps": (("degrade", "gray.png", "out.png"), "Missing argument 'STEPS…'"),
    "unknown option": (degrade("gray.png", *NOISE, "--sead=1"), "--sead"),
    "unknown command": (("degrad", "gray.png"), "degrad"),
    "unknown format": (("score", "gray.png", "gray.png", "--format", "xml"), "--format"),
    "missing folder": (degrade("gray.png", out="no/out.png"), "the folder no does not exist"),
    "file as folder": (degrade("gray.png", out="file/out.png"), "file/out.png: "),
    "unknown ending": (degrade("gray.png", out="out.xyz"), "names no known format"),
    "no such depth": (degrade("gray.png", out="out.ppm"), "PPM cannot hold a picture of"),
    "over the input": (degrade("gray.png", out="gray.png"), "would replace the input"),
    "not .mgt": (("compress", "gray.png", "o.png", "dct", "step=1%"), "has the ending .mgt"),
    "no quality": (("compress", "gray.png", "o.mgt", "dct"), "dct needs step=, such as"),
    "two codecs": (
        ("compress", "gray.png", "o.mgt", *["dct", "step=1%", "+", "dct", "step=2%"]),
        "one step is wanted",
    ),
    "truncated .mgt": (("expand", "cut.mgt", "out.png"), "cut.mgt: .* is (truncated|altered)"),
    "altered .mgt": (("expand", "bent.mgt", "out.png"), "bent.mgt: .* is (truncated|altered)"),
    "foreign .mgt": (("expand", "foreign.mgt", "out.png"), "foreign.mgt: this is not an .mgt"),
    "newer .mgt": (("expand", "newer.mgt", "out.png"), "newer.mgt: this is .mgt version 9"),
    "gray to WebP alpha": (("expand", "good.mgt", "no/out.png"), "the folder no does not exist"),
    "damaged test": (("score", "gray.png", "cut.mgt"), "cut.mgt: "),
    "unknown metric": (("score", "gray.png", "gray.png", "--metrics", "pnsr"), "did you mean psnr"),
    "metric twice": (
        ("score", "gray.png", "gray.png", "--metrics", "mse,mse"),
        "'mse' is listed twice",
    ),
    "crop text": (("view", "sheet", "gray.png", "--crop", "1,2,3"), "'1,2,3' is not a region"),
    "crop without a folder": (
        ("curve", "gray.png", "--codec", "dct step=4dn", "--crop", "1,2,9x9"),
        "with --out",
    ),
    "crop outside": (("view", "sheet", "gray.png", "--crop", "9,9,99x9"), "leaves gray.png"),
    "figure ending": (("view", "sheet", "gray.png", "--out", "s.jpg"), "a figure is written as"),
    "sheet over input": (("view", "sheet", "gray.png", "--out", "gray.png"), "would replace"),
    "scene size": (("scenes", "made", "--size", "9x9"), "scenes of 9x9 cannot be made"),
    "scene size text": (("scenes", "made", "--size", "big"), "write WIDTHxHEIGHT"),
    "unknown method": (("methods", "medan"), "did you mean median?"),
    "demo without pictures": (("demo", "d", "--references", "none"), "none: no such folder"),
    "float to PNG": (("expand", "good.mgt", "out.nef"), "names no known format"),
    "keep in PNG": (
        degrade("gray.png", *NOISE, "--overflow", "keep"),
        "PNG cannot hold .* float; write .tif",
    ),
    "fail": (
        degrade("gray.png", "offset", "by=50%", "--overflow", "fail"),
        "leave the range, and overflow",
    ),
    "unknown rule": (degrade("gray.png", *NOISE, "--overflow", "wrap"), "--overflow"),
    "no aim": (degrade("gray.png", "gaussian-noise", "sd=auto"), "auto is solved for with an aim"),
    "aim of nothing": (degrade("gray.png", *NOISE, "--aim", "psnr=30"), "write auto for one"),
    "aim text": (
        degrade("gray.png", "gaussian-noise", "sd=auto", "--aim", "psnr"),
        "'psnr' is not an aim",
    ),
    "no kernel": (degrade("gray.png", "psf-blur", "kernel=none.npy"), "none.npy: no such file"),
    "colour kernel": (degrade("gray.png", "psf-blur", "kernel=tile.png"), "one gray plane"),
    "cast on gray": (degrade("gray.png", "white-balance", "red=2"), "state its pattern="),
    "upsample too far": (
        degrade("gray.png", *["upsample", "factor=64", "+"] * 3, "upsample", "factor=64"),
        "upsample less",
    ),
    "one frame": (("calibrate", "noise", "gray.png"), "from two or more frames"),
    "frames differ": (("calibrate", "noise", "gray.png", "small.png"), "the frames differ"),
    "same frame twice": (
        ("calibrate", "noise", "gray.png", "gray.png"),
        "are identical: give frames",
    ),
    "two crops": (
        ("score", "gray.png", "gray.png", "--region", "1,1,9x9", "--crop-border", "2"),
        "a region and a border exclude each other",
    ),
    "edge in a dot": (("calibrate", "blur", "dot.png"), "no straight edge"),
    "no edge": (("calibrate", "blur", "small.png"), "no straight edge .* name the region"),
    "region text": (("calibrate", "blur", "gray.png", "--region", "1,2"), "'1,2' is not a region"),
    "region outside": (("view", "surface", "gray.png", "--region", "9,9,99x9"), "leaves gray.png"),
    "noise of other sizes": (("view", "noise", "gray.png", "small.png"), "the sizes differ"),
    "line outside": (("view", "profile", "gray.png", "--line", "0,0,99,9"), "leaves gray.png"),
    "planes of a compressed float": (("view", "planes", "float.npy"), "has no bit planes"),
    "unknown kind": (("methods", "--kind", "filter"), "--kind"),
    "codec twice": (
        ("curve", "gray.png", "--codec", "dct", "--codec", "dct"),
        "the codec 'dct' is named twice",
    ),
    "full scale": (("gauge", "gray.png", "--full-scale", "1000"), "is not 2\\^bits - 1"),
}


@pytest.mark.parametrize("case", CASES)
def test_bad_input_gets_one_clear_line(case: str, run: Run, folder: Path) -> None:
    before = {path: path.read_bytes() for path in folder.iterdir() if path.is_file()}
    words, message = CASES[case]
    done = run(*words, status=2)
    (line,) = done.stderr.splitlines()
    assert re.match(rf"magnetite: .*{message}", line), line
    assert done.stdout == ""
    assert {path: path.read_bytes() for path in folder.iterdir() if path.is_file()} == before


def test_a_folder_that_cannot_be_written_to(run: Run, folder: Path) -> None:
    done = run(*degrade("gray.png", out="/proc/out.png"), status=2)
    assert re.match(r"magnetite: /proc/out.png.*writ", done.stderr)


@pytest.mark.parametrize("name", ["dot.png", "tiny.png"])
def test_tiny_pictures_go_through_what_fits_them(run: Run, folder: Path, name: str) -> None:
    run(*degrade(name, "gaussian-blur", "sigma=9", "+", *NOISE))
    run("restore", "out.png", "back.png", "median", "size=9")
    run("compress", name, "tiny.mgt", "dct", "step=2%", "--decoded", "decoded.png")
    run("score", name, "out.png", "tiny.mgt", "--metrics", "mse,psnr")
    run("view", "sheet", name, "out.png")


@pytest.mark.long
def test_settings_at_their_bounds_give_no_warning(gray: Path) -> None:
    """Warnings are errors here; the slowest settings of deblurring are left out."""
    from magnetite.core.methods.catalogue import every

    pictures = [magnetite.read(gray), as_picture(np.full((48, 64), 128, np.uint8))]
    for method in every("degradation") + every("metric") + every("gauge"):
        for key, parameter in method.parameters.items():
            span = parameter.kind.span()
            if span is None:
                continue
            others = [w for w in method.example.split()[1:] if w.split("=")[0] not in method.one_of]
            others = [w for w in others if not w.startswith(f"{key}=")]
            for number in span:
                value = parameter.kind.spell(parameter.kind.at(number))
                text = " ".join([method.name, *others, f"{key}={value}"])
                for picture in pictures:
                    with contextlib.suppress(ValueError):  # outside what the picture can take
                        _done(method.kind, picture, text)


def _done(kind: str, picture: object, text: str) -> None:
    if kind == "degradation":
        magnetite.degrade(picture, text)
    elif kind == "metric":
        magnetite.score(picture, magnetite.degrade(picture, "offset by=1%").picture, text)
    else:
        magnetite.gauge(picture, text)
