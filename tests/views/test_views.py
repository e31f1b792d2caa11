"""What figures show: scales, spectra, lines, labels; checked on the numbers behind them."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from matplotlib.text import Text

import magnetite
from conftest import Run, size_of, texture
from magnetite.core.analysis.approximation import approximate
from magnetite.core.analysis.residual import clear_positions, local_strengths, residual
from magnetite.core.analysis.spectrum import power, radial_power
from magnetite.core.degrade.certify.noise import LAPLACE, NORMAL
from magnetite.core.errors import InputError, PictureError
from magnetite.core.picture import as_picture
from magnetite.core.picture.region import Region
from magnetite.views.approximation import approximation_figure
from magnetite.views.noise import Declared, declared_noise, noise_figure
from magnetite.views.planes import planes_figure
from magnetite.views.profile import Segment, profile_figure
from magnetite.views.residual import residual_figure
from magnetite.views.sheet import sheet
from magnetite.views.spectrum import spectrum_figure
from magnetite.views.style import _spread
from magnetite.views.surface import surface_figure
from magnetite.views.sweep_curves import sweep_figure

GRAY = as_picture((texture(40, 60) * 255).astype(np.uint8))


def test_views_are_drawn_of_every_sort_of_picture(run: Run, tmp_path: Path) -> None:
    run("scenes", "trays", "--size", "160x112")
    breccia, clay = "trays/veined-breccia.png", "trays/clay-core.png"
    run("degrade", clay, "deep.png", "laplace-noise", "sd=3%")
    run("degrade", breccia, "kept.tif", "gaussian-noise", "sd=20%", "--overflow", "keep")
    assert magnetite.read(tmp_path / "kept.tif").samples.max() > 1
    run("view", "noise", breccia, "kept.tif")
    run("view", "noise", clay, "deep.png")
    assert size_of(tmp_path / "noise.png")[0] == 1280
    run("view", "planes", breccia)
    run("view", "profile", clay, "deep.png", "--line", "10,20,90.5,70")
    run("view", "surface", "kept.tif", "--region", "30,20,90x60")
    seen = (tmp_path / "surface.png").read_bytes()
    run("view", "surface", "kept.tif", "--region", "30,20,90x60", "--turn", "30", "--tilt", "20")
    assert seen != (tmp_path / "surface.png").read_bytes()
    run("view", "spectrum", breccia, clay, "kept.tif")
    for name in ("planes", "profile", "surface", "spectrum"):
        assert size_of(tmp_path / f"{name}.png")[0] == 1280


def test_the_spectrum_of_white_noise_is_its_variance() -> None:
    noise = np.random.default_rng(0).normal(3, 2.5, (200, 300))
    frequency, mean = radial_power(noise)
    assert frequency[0] < 0.01
    assert frequency[-1] == pytest.approx(0.5, abs=0.01)
    np.testing.assert_allclose(mean[24:], 2.5**2, rtol=0.25)
    assert np.average(mean, weights=frequency) == pytest.approx(2.5**2, rel=0.03)


def test_a_wave_stands_at_its_frequency() -> None:
    y, x = np.mgrid[:96, :128]
    spectrum = power(np.sin(2 * np.pi * (x / 8 + y / 16)))
    row, column = np.unravel_index(spectrum.argmax(), spectrum.shape)
    assert {(row, column), (96 - row, 128 - column)} == {(6, 16), (90, 112)}


def test_a_profile_is_the_samples_on_its_line() -> None:
    distance, values = Segment(5, 7, 25, 7).sampled(GRAY)
    np.testing.assert_allclose(distance, np.arange(21))
    np.testing.assert_allclose(values, GRAY.samples[7, 5:26], atol=1e-4)
    plane = as_picture(np.add.outer(2 * np.arange(30), np.arange(40)).astype(np.uint8))
    distance, values = Segment(1, 2, 31, 22).sampled(plane)
    # On a plane, values grow evenly along any line.
    np.testing.assert_allclose(values, 5 + distance / distance[-1] * 70, atol=1e-4)
    assert Segment.across(GRAY) == Segment(0, 20, 59, 20)
    with pytest.raises(PictureError, match="the line 0,0,60,5 leaves array"):
        Segment(0, 0, 60, 5).sampled(GRAY)
    for text in ("1,2,3", "1,2,3,x", "1,1,1,1.5"):
        with pytest.raises(InputError, match=r"not a line|shorter than a px"):
            Segment.parse(text)


@given(st.tuples(*[st.integers(0, 500)] * 2, *[st.integers(1, 500)] * 2))
def test_regions_are_spelled_as_they_are_read(numbers: tuple[int, ...]) -> None:
    region = Region(*numbers)
    assert Region.parse(str(region)) == region
    picture = as_picture(np.arange(500 * 1000, dtype=np.uint32).reshape(500, 1000) / 5e5)
    left, top, width, height = numbers
    if left + width <= 1000 and top + height <= 500:
        part = region.of(picture)
        assert part.shape == (height, width)
        assert part[0, 0] == picture.samples[top, left]
    else:
        with pytest.raises(PictureError, match="leaves array"):
            region.of(picture)


def test_what_a_certificate_declares_is_drawn() -> None:
    for step, law in (("gaussian-noise", NORMAL), ("laplace-noise", LAPLACE)):
        made = magnetite.degrade(GRAY, f"{step} sd=9dn mean=2dn")
        found = declared_noise(made.certificate.as_dict(), GRAY, made.picture)
        assert found == Declared(law, pytest.approx(2), pytest.approx(9))
    made = magnetite.degrade(GRAY, "quantize bits=2")
    assert declared_noise(made.certificate.as_dict(), GRAY, made.picture) is None
    worn = magnetite.degrade(GRAY, "gaussian-noise sd=9dn").picture
    figure = noise_figure(GRAY, worn, Declared(NORMAL, 0, 9))
    *equation, image, histogram, spectrum = figure.axes
    clean, noise, total = (axes.images[0].get_array() for axes in equation)
    inside = (noise > 0) & (noise < 1)
    np.testing.assert_allclose(clean[inside] + noise[inside] - 0.5, total[inside], atol=1e-6)
    shown = image.images[0].get_array()
    difference = worn.samples.astype(float) - GRAY.samples
    # No difference is mid-gray; equal differences are equal grays.
    assert (shown[difference == 0] == 0.5).all()
    assert len(np.unique(shown[difference == 5])) == 1
    heights = histogram.lines[0].get_ydata()
    assert heights.sum() == pytest.approx(100, abs=0.5)
    assert spectrum.lines[1].get_ydata()[0] == pytest.approx(20 * np.log10(difference.std()))
    with pytest.raises(PictureError, match="the sizes differ"):
        noise_figure(GRAY, as_picture(worn.samples[:20]), None)


def test_a_certificate_of_other_pictures_declares_nothing(run: Run, tmp_path: Path) -> None:
    """A file that was replaced, another reference, noise that is not alone, junk."""
    magnetite.write(GRAY, tmp_path / "g.png")
    run("degrade", "g.png", "n.png", "laplace-noise", "sd=9dn")
    assert run("view", "noise", "g.png", "n.png").stderr == ""
    run("degrade", "g.png", "b.png", "gaussian-blur", "sigma=1", "+", "gaussian-noise", "sd=9dn")
    assert (
        "other steps besides the noise: a normal" in run("view", "noise", "g.png", "b.png").stderr
    )
    run("convert", "g.png", "h.png", "depth", "bits=12")
    assert (
        "does not match the samples of these pictures"
        in run("view", "noise", "h.png", "n.png").stderr
    )
    again = run("convert", "b.png", "n.png", "gray")
    assert "note: n.png.cert.json is the certificate of an earlier file" in again.stderr
    assert run("convert", "b.png", "m.png", "gray").stderr == ""
    assert (
        "does not match the samples of these pictures"
        in run("view", "noise", "g.png", "n.png").stderr
    )
    for junk in ({}, {"reference": {"sha256": 1}, "result": {"sha256": 1}, "steps": [5]}):
        (tmp_path / "n.png.cert.json").write_text(json.dumps(junk))
        assert "is not a certificate" in run("view", "noise", "g.png", "n.png").stderr


def test_the_spectrum_of_noise_is_drawn_for_each_channel() -> None:
    even = as_picture(np.full((90, 120, 3), 128, np.uint8))
    noise = [20, 0, 0] * np.random.default_rng(3).normal(size=(90, 120, 3))
    worn = as_picture(np.rint(even.samples + noise).astype(np.uint8))
    *lines, _ = noise_figure(even, worn, None).axes[-1].lines
    assert [line.get_label() for line in lines] == ["red", "green", "blue"]
    difference = worn.samples[..., 0] - 128.0
    level = 10 * np.log10(difference.var())
    assert np.mean(lines[0].get_ydata()) == pytest.approx(level, abs=1)
    assert max(lines[1].get_ydata()) < level - 40


def test_the_plots_of_a_residual_are_over_the_positions_of_its_verdict() -> None:
    """Two thirds of the picture are black, where noise is clipped."""
    rng = np.random.default_rng(7)
    before, noise = np.zeros((120, 160)), rng.normal(0, 6, (120, 160))
    before[:60, :100] = 128 + 40 * np.sin(np.arange(100) / 3)
    noisy = as_picture(np.rint(before + noise).clip(0, 255).astype(np.uint8))
    after = magnetite.restore(noisy, "gaussian sigma=2px").picture
    figure = residual_figure(noisy, after)
    found = residual(noisy, after)
    assert found is not None
    _, correlation, strengths = figure.axes[:3]
    drawn = correlation.images[0].get_array()
    near = np.delete(drawn[6:11, 6:11].ravel(), 12)  # within 2 px, without the origin
    assert np.sqrt(np.mean(near**2)) == pytest.approx(found.structure)
    difference = noisy.samples - after.samples.astype(float)
    clear, _ = clear_positions(noisy.pixels(), after.pixels())
    assert clear is not None
    assert 0.25 < clear.mean() < 0.35
    level, measured = (line.get_ydata() for line in strengths.lines)
    assert level[0] == pytest.approx(np.sqrt(np.mean(difference[clear] ** 2)))
    power, _ = local_strengths(difference, difference)
    assert np.mean(np.square(measured)) == pytest.approx(power[clear].mean(), rel=0.01)


def test_identical_pictures_have_a_noise_figure_too() -> None:
    figure = noise_figure(GRAY, GRAY, None)
    assert (figure.axes[1].images[0].get_array() == 0.5).all()
    assert (figure.axes[3].images[0].get_array() == 0.5).all()


def test_bit_planes_come_most_significant_first() -> None:
    deep = magnetite.Picture(GRAY.samples.astype(np.uint16) * 16 + 5, 12, "gray")
    axes = planes_figure(deep).axes
    assert len(axes) == 12
    for position, panel in enumerate(axes):
        weight = 11 - position
        np.testing.assert_array_equal(panel.images[0].get_array(), deep.samples >> weight & 1)
        assert panel.get_title(loc="left").startswith(f"plane {weight}")
    with pytest.raises(PictureError, match="float picture has no bit planes"):
        planes_figure(as_picture(texture(9, 9)))
    with pytest.raises(PictureError, match="of gray and RGB pictures"):
        planes_figure(as_picture(np.zeros((9, 9, 5), np.uint8)))


def test_a_landscape_has_the_heights_of_its_region() -> None:
    surface_figure(GRAY, "gray.png", Region(10, 5, 30, 20))
    large = as_picture(np.zeros((300, 500), np.uint8))
    (title,) = surface_figure(large, "large.png").texts or [surface_figure(large, "x")._suptitle]
    assert "averaged over 4x4 px" in title.get_text()


def test_too_many_pictures_are_refused() -> None:
    with pytest.raises(InputError, match="1 to 4 pictures are shown, not 5"):
        spectrum_figure([GRAY] * 5, ["a"] * 5)
    with pytest.raises(InputError, match="up to 7 pictures"):
        profile_figure([GRAY] * 8, ["a"] * 8, Segment.across(GRAY))
    with pytest.raises(PictureError, match="share no scale"):
        profile_figure([GRAY, as_picture(texture(40, 60))], ["a", "b"], Segment.across(GRAY))
    with pytest.raises(PictureError, match="covers different content in each; crop or resize"):
        profile_figure([GRAY, as_picture(GRAY.samples[:, :59])], ["a", "b"], "0,9,50,9")


def test_a_sheet_has_one_scale_for_all() -> None:
    small = as_picture(GRAY.samples[:20, :30])
    figure = sheet([GRAY, small], ["large", "small"], Region(2, 3, 10, 8))
    widths = [axes.get_position().width for axes in figure.axes[::2]]
    assert widths[0] == pytest.approx(2 * widths[1])
    large_crop, small_crop = (axes.images[0].get_array() for axes in figure.axes[1::2])
    np.testing.assert_array_equal(large_crop, small_crop)


@given(st.lists(st.floats(0, 1), min_size=1, max_size=12))
def test_labels_keep_their_distance_and_order(heights: list[float]) -> None:
    positions = _spread(sorted(heights), 0.06, 0.0, 1.0)
    assert all(b - a >= 0.06 - 1e-9 for a, b in pairwise(positions))
    assert max(positions) <= 1.0


def test_approximations_are_what_the_mathematics_says() -> None:
    plane = texture(48, 56)
    found = approximate(plane)
    left, values, right = np.linalg.svd(plane, full_matrices=False)
    for rank in (0, 3, 20, 48):
        best = (left[:, :rank] * values[:rank]) @ right[:rank]
        error = np.sqrt(((best - plane) ** 2).mean())
        assert found.rank_error[rank] == pytest.approx(error, abs=1e-12)
    assert found.break_even == pytest.approx(48 * 56 / 105)
    patches = plane.reshape(6, 8, 7, 8).swapaxes(1, 2).reshape(42, 64)
    centred = patches - patches.mean(axis=0)
    basis = np.linalg.svd(centred)[2]
    for count in (1, 5, 30):
        kept = ((centred @ basis[:count].T) ** 2).sum() / (centred**2).sum()
        assert found.variance[count] == pytest.approx(kept, rel=1e-9)
    spectrum = np.fft.fft2(plane)
    least = np.sort(np.abs(spectrum).ravel())[::-1][round(found.shares[40] * plane.size) - 1]
    spectrum[np.abs(spectrum) < least] = 0
    error = np.sqrt((np.abs(np.fft.ifft2(spectrum) - plane) ** 2).mean())
    assert found.whole_error[40] == pytest.approx(error, rel=0.02)
    assert found.block_error[-1] == 0
    blocks = patches.reshape(-1, 8, 8)
    k, n = np.mgrid[:8, :8]
    basis = np.cos(np.pi * k * (2 * n + 1) / 16) * np.where(k == 0, math.sqrt(1 / 8), 0.5)
    coefficients = basis @ blocks @ basis.T
    sizes = np.sort(np.abs(coefficients).ravel())[::-1]
    coefficients[np.abs(coefficients) < sizes[round(found.shares[40] * plane.size) - 1]] = 0
    error = np.sqrt(((basis.T @ coefficients @ basis - blocks) ** 2).mean())
    assert found.block_error[40] == pytest.approx(error)
    square = texture(30, 37)
    shown = approximate(square)
    assert shown.ranks == (1, 3, 10, 30)
    left, values, right = np.linalg.svd(square, full_matrices=False)
    for rank, picture in zip(shown.ranks, shown.pictures, strict=True):
        best = (left[:, :rank] * values[:rank]) @ right[:rank]
        np.testing.assert_allclose(picture, best, atol=1e-12)


def test_no_label_of_a_figure_is_cut_or_written_in_marks(monkeypatch: pytest.MonkeyPatch) -> None:
    """Every text of every view lies inside its figure; powers of ten are plain numbers."""
    wide = as_picture((texture(60, 90, 3) * 255).astype(np.uint8))
    worn = magnetite.degrade(wide, "gaussian-noise sd=9dn").picture
    long = "a very long name of a picture that somebody gave it at the core shed last year.png"
    figures = {
        "noise": noise_figure(replace(wide, origin=long), replace(worn, origin=long), None),
        "approximation": approximation_figure(wide, long),
        "sweep": sweep_figure(magnetite.sweep(wide, "dct step=2dn,20dn block=4,8,16"), curve=True),
        "surface": surface_figure(wide, long),
        "spectrum": spectrum_figure([wide, worn], [long, long]),
        "profile": profile_figure([wide, worn], [long, long], Segment.across(wide)),
        "residual": residual_figure(worn, wide),
        "planes": planes_figure(wide),
        "sheet": sheet([wide, worn], [long, long]),
    }
    drawn: list[Text] = []
    draw = Text.draw
    monkeypatch.setattr(Text, "draw", lambda text, *rest: (drawn.append(text), draw(text, *rest)))
    for name, figure in figures.items():
        drawn.clear()
        figure.draw_without_rendering()
        edge = figure.bbox
        assert len(drawn) > 1
        for text in drawn:
            if words := text.get_text():
                box = text.get_window_extent()
                inside = box.x0 >= 0 and box.x1 <= edge.x1 + 0.5
                inside = inside and box.y0 >= -0.5 and box.y1 <= edge.y1
                assert inside, f"{name}: {words!r}: {box}"
                assert "$" not in words, f"{name}: {words}"


def test_spectra_share_one_scale_and_a_flat_picture_is_black() -> None:
    flat = as_picture(np.full((40, 40), 90, np.uint8))
    grain = as_picture((255 * texture(40, 40)).astype(np.uint8))
    for pictures in ([flat], [flat, grain]):
        drawn = spectrum_figure(pictures, ["a", "b"][: len(pictures)])
        images = [axes.images[0] for axes in drawn.axes if axes.images]
        assert len({image.get_clim() for image in images}) == 1
        low = images[0].get_clim()[0]
        assert np.asarray(images[0].get_array()).max() < low
    assert np.asarray(images[1].get_array()).max() == pytest.approx(images[1].get_clim()[1])


def test_long_titles_are_broken_and_wide_pictures_stand_below_each_other() -> None:
    title = "nl-means sd=12dn window=7 + dct step=24dn block=8 smooth=off"
    square = as_picture(np.zeros((100, 100), np.uint8))
    four = sheet([square] * 4, [title, "a", "b", "c"])
    first = four.axes[0].get_title(loc="left")
    assert first.replace("\n", " ") == title
    assert first.count("\n") == 1
    wide = as_picture(np.zeros((40, 400), np.uint8))
    lefts = {round(axes.get_position().x0, 4) for axes in sheet([wide] * 3, ["a"] * 3).axes}
    assert len(lefts) == 1
    part = sheet([wide], ["a"], Region(0, 0, 20, 20)).axes[1].get_position()
    assert part.width * 1280 > 200
