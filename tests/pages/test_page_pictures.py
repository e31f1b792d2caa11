"""Pictures on the page: their samples, their scores, their differences."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from matplotlib import colormaps
from PIL import Image

import magnetite
from browser import Opened, opened
from conftest import Run, texture
from magnetite.core.picture import as_picture
from magnetite.pages.content import of_pictures
from magnetite.pages.encoding import encode


def test_pictures_of_no_run_are_compared(run: Run, tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    clean = as_picture(rng.integers(0, 65536, (40, 60, 3)).astype(np.uint16))
    floats = as_picture((texture(40, 60) * 1.4 - 0.2).astype(np.float32))
    for name, picture in (("clean", clean), ("float", floats)):
        magnetite.write(picture, tmp_path / f"{name}.tif")
        run("degrade", f"{name}.tif", f"{name}-noisy.tif", "gaussian-noise", "sd=2%")
        run("report", "--pictures", f"{name}.tif", f"{name}-noisy.tif", "--out", f"{name}.html")
    run("report", "--pictures", "clean.tif", "clean-noisy.tif", "--out", "far.html", "--limit", "0")
    assert list((tmp_path / "far-pictures").glob("*.js"))
    for page, picture in (("clean", clean), ("far", clean), ("float", floats)):
        with opened(tmp_path / f"{page}.html") as one:
            values_are_those_of(one, picture, exact=page != "float")
            beside = [url for url in one.asked if "-pictures/" in url]
            assert bool(beside) == (page == "far")
            one.asked[:] = [url for url in one.asked if url not in beside]
            one.check()


def test_a_link_finds_the_same_picture_on_a_page_that_was_written_again(
    run: Run, tmp_path: Path
) -> None:
    """Names of pictures follow from samples and words, also of the files beside the page."""
    clean = (255 * texture(40, 60)).astype(np.uint8)
    for name, samples in (
        ("a", clean), ("b", clean[::-1]), ("c", clean[:, ::-1]), ("d", clean // 2),
    ):  # fmt: skip
        magnetite.write(as_picture(samples), tmp_path / f"{name}.png")
    words = ("report", "--out", "p.html", "--limit", "0", "--pictures", "a.png")
    run(*words, "c.png", "b.png")
    with opened(tmp_path / "p.html") as one:
        before = {p["label"]: p["id"] for p in one.page.evaluate("page.data.pictures")}
        for box in one.page.locator("#choices input").all():
            box.set_checked(box.get_attribute("value") in (before["a.png"], before["c.png"]))
        address = one.page.url
    assert before["c.png"] in address
    run(*words, "d.png", "c.png", "b.png")
    with opened(tmp_path / "p.html") as one:
        one.page.goto("about:blank")
        one.page.goto(address)
        one.page.wait_for_selector("html[data-ready=yes]")
        chosen = one.page.locator("#choices label:has(input:checked) bdi").all_inner_texts()
        assert chosen == ["a.png", "c.png"]
    magnetite.write(as_picture(clean + 1), tmp_path / "c.png")
    run(*words, "c.png", "c.png", "b.png")
    with opened(tmp_path / "p.html") as one:
        now = [p["id"] for p in one.page.evaluate("page.data.pictures")]
    assert len(set(now)) == 4
    assert before["c.png"] not in now
    kept = {path.name.split("-")[0] for path in (tmp_path / "p-pictures").iterdir()}
    assert kept == set(now)


def test_pictures_of_unlike_depth_are_scored_at_that_of_the_reference() -> None:
    plane = texture(20, 24)
    deep, worn = (255 * 257 * plane).astype(np.uint16), (255 * plane).astype(np.uint8)
    content = of_pictures(as_picture(deep), [as_picture(worn)], ["r", "t"], "mse", [None])
    assert content.gallery.notes == ("t: scored at the depth of r",)
    mse = ((deep - worn * 257.0) ** 2).mean() / 257**2
    assert content.rows == (("t", pytest.approx(mse)),)


def values_are_those_of(one: Opened, picture: magnetite.Picture, *, exact: bool) -> None:
    one.page.locator("#compare").scroll_into_view_if_needed()
    one.page.wait_for_function("() => page.stageState.loaded.length > 1")
    values = one.page.evaluate("Array.from(page.stageState.loaded[0].values)")
    expected = picture.samples.reshape(-1)
    if exact:
        np.testing.assert_array_equal(values, expected)
    else:
        np.testing.assert_allclose(values, expected, atol=1.4 / 65535)


def test_pictures_of_unlike_depth_are_compared_on_full_scale(run: Run, tmp_path: Path) -> None:
    """Of 16 and 8 bits: the difference and the error map are those of the values, not of dn."""
    rng = np.random.default_rng(4)
    samples = rng.integers(0, 250, (40, 60)).astype(np.uint8)
    shifts = rng.permuted(np.repeat([0, 4], 1200)).reshape(40, 60).astype(np.uint8)
    magnetite.write(as_picture(samples.astype(np.uint16) * 257), tmp_path / "deep.tif")
    magnetite.write(as_picture(samples + shifts), tmp_path / "worn.png")
    run("report", "--pictures", "deep.tif", "worn.png", "--out", "p.html")
    with opened(tmp_path / "p.html") as one:
        one.page.locator("#compare").scroll_into_view_if_needed()
        one.page.wait_for_function("() => page.stageState.loaded.length > 1")
        seen, words = one.page.evaluate("""async () => {
            const [clean, worn] = page.stageState.loaded;
            const canvas = page.pictures.difference(clean, worn, 8);
            const context = canvas.getContext('2d');
            const shown = Array.from(context.getImageData(0, 0, 60, 40).data);
            const map = await page.pictures.map('error', clean, worn);
            return [shown.filter((_, k) => k % 4 == 0), map.words];
        }""")
    assert seen == [160 if shift else 128 for shift in shifts.ravel()]
    assert words == "error: dark 0, yellow 1028 dn and more"


def viridis(shares: np.ndarray) -> np.ndarray:
    """The published colours of shares of 0 to 1, 0 to 255."""
    return 255 * colormaps["viridis"](shares)[..., :3]


def test_maps_and_the_wipe_show_the_values_of_both_pictures(run: Run, tmp_path: Path) -> None:
    rng = np.random.default_rng(6)
    clean = (texture(32, 48, 3) * 255).astype(np.uint8)
    worn = np.clip(clean + rng.normal(0, 12, clean.shape), 0, 255).astype(np.uint8)
    for name, samples in (("clean", clean), ("worn", worn)):
        magnetite.write(as_picture(samples), tmp_path / f"{name}.png")
    run("report", "--pictures", "clean.png", "worn.png", "--out", "p.html")
    points = [(x, y) for x in (3, 15, 30, 44) for y in (10, 17, 25)]
    with opened(tmp_path / "p.html") as one:
        one.page.locator("#compare").scroll_into_view_if_needed()
        one.page.wait_for_function("() => page.stageState.loaded.length > 1")
        error, similarity = one.page.evaluate("""async () => {
            const pair = page.stageState.loaded;
            const made = ['error', 'ssim'].map((kind) => page.pictures.map(kind, ...pair));
            return (await Promise.all(made)).map((map) => [map.words,
                Array.from(map.canvas.getContext('2d').getImageData(0, 0, 48, 32).data)]);
        }""")
        one.page.check("input[name=mode][value=wipe]")
        one.page.evaluate("page.by('wipe').value = 50")
        one.settle()
        shown = one.page.evaluate("""(points) => points.map(([x, y]) => {
            const [stage, view] = [page.by('stage'), page.view];
            const ratio = stage.width / stage.clientWidth;
            const across = stage.clientWidth / 2 + (x + 0.5 - view.x) * view.zoom;
            const down = stage.clientHeight / 2 + (y + 0.5 - view.y) * view.zoom;
            const at = [across, down].map((v) => Math.round(v * ratio));
            return Array.from(stage.getContext('2d').getImageData(...at, 1, 1).data);
        })""", points)  # fmt: skip
    for (x, y), rgba in zip(points, shown, strict=True):
        assert rgba[:3] == (clean if x < 24 else worn)[y, x].tolist(), (x, y)
    sizes = np.abs(worn.astype(float) - clean).mean(axis=2)
    top = float(error[0].split("yellow ")[1].split()[0])
    assert top == pytest.approx(np.quantile(sizes, 0.99), rel=0.05)
    drawn = np.array(error[1]).reshape(32, 48, 4)[..., :3]
    assert np.abs(drawn - viridis((sizes / top).clip(0, 1))).max() < 20
    (ssim,) = magnetite.error_maps(as_picture(clean), as_picture(worn), ("ssim",))
    drawn = np.array(similarity[1]).reshape(32, 48, 4)[5:-5, 5:-5, :3]
    assert np.abs(drawn - viridis(1 - ssim.values.clip(0, 1))).max() < 20


def test_the_canvas_shows_every_sample_exactly(run: Run, tmp_path: Path) -> None:
    """All 256 values as they are, 16 bits by the nearest byte; read back from the canvas."""
    every = np.arange(256, dtype=np.uint8).reshape(16, 16)
    rng = np.random.default_rng(1)
    colour = rng.integers(0, 256, (16, 16, 3)).astype(np.uint8)
    deep = np.linspace(0, 65535, 256).round().astype(np.uint16).reshape(16, 16)
    for name, samples in (("gray", every), ("colour", colour), ("deep", deep)):
        picture = as_picture(samples)
        magnetite.write(picture, tmp_path / f"{name}.png")
        run("report", "--pictures", f"{name}.png", f"{name}.png", "--out", f"{name}.html")
        with opened(tmp_path / f"{name}.html") as one:
            one.page.locator("#compare").scroll_into_view_if_needed()
            one.page.wait_for_function("() => page.stageState.loaded.length > 1")
            seen = one.page.evaluate("""() => {
                const canvas = page.stageState.loaded[0].canvas;
                return Array.from(canvas.getContext('2d').getImageData(0, 0, 16, 16).data);
            }""")
        shown = np.array(seen).reshape(16, 16, 4)[..., :3]
        wanted = samples if samples.ndim == 3 else samples[..., None].repeat(3, axis=2)
        exact = np.rint(wanted / 257) if name == "deep" else wanted
        np.testing.assert_array_equal(shown, exact)


def test_every_depth_is_put_together_from_its_bytes() -> None:
    for bits in (1, 5, 8, 9, 12, 16):
        samples = np.arange(2**bits).astype(np.uint8 if bits <= 8 else np.uint16)[None]
        made = encode(magnetite.Picture(samples[:, :65536], bits, "gray"))
        assert (made.low is not None) == (bits > 8)
        assert (made.full, made.factor) == (2**bits - 1, 1)
    planes = np.random.default_rng(1).integers(0, 256, (9, 11, 5)).astype(np.uint8)
    made = encode(as_picture(planes))
    assert (made.channels, made.words) == (1, "11x9 5 planes, 8 bits; its first plane is shown")
    shown = np.asarray(Image.open(io.BytesIO(made.high)))
    np.testing.assert_array_equal(shown, planes[..., 0])


def test_a_page_with_pictures_beside_it_works_from_a_web_server(run: Run, tmp_path: Path) -> None:
    """The page's own policy lets its folder in; a second page leaves nothing of the first."""
    rng = np.random.default_rng(5)
    clean = as_picture(rng.integers(0, 256, (40, 60)).astype(np.uint8))
    magnetite.write(clean, tmp_path / "c.png")
    for number in range(3):
        worn = magnetite.degrade(clean, "gaussian-noise sd=4%", seed=number).picture
        magnetite.write(worn, tmp_path / f"w{number}.png")
    words = ("report", "--pictures", "c.png", "w0.png", "w1.png", "w2.png", "--limit", "0")
    run(*words, "--out", "p.html")
    first = {path.name for path in (tmp_path / "p-pictures").iterdir()}
    with opened(tmp_path / "p.html", served=True) as one:
        values_are_those_of(one, clean, exact=True)
        assert one.said == []
    (tmp_path / "p-pictures" / "mine.txt").write_text("kept")
    run("report", "--pictures", "c.png", "w0.png", "--limit", "0", "--out", "p.html")
    second = {path.name for path in (tmp_path / "p-pictures").iterdir()}
    assert second == {"mine.txt"} | (first & second)
    assert len({name.split("-")[0] for name in first}) == 4
    assert len({name.split("-")[0] for name in first & second}) == 2
