"""The page of a blind test, by the keyboard alone, and what becomes of its answers."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import magnetite
from browser import Opened, accessible, opened
from conftest import Run, texture
from magnetite.core.opinion.threshold import next_level
from magnetite.core.picture import as_picture

STEPS = {
    "pairs": ["gaussian-noise sd=4dn,24dn"],
    "rating": ["gaussian-noise sd=4dn,24dn"],
    "threshold": ["gaussian-noise sd=1dn,2dn,4dn,8dn,16dn,32dn"],
}


@pytest.fixture(scope="module")
def tests(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A test of each design, of two small references."""
    folder = tmp_path_factory.mktemp("ask")
    for seed, name in enumerate(("one", "two")):
        samples = (255 * texture(48, 64, seed=seed)).astype(np.uint8)
        magnetite.write(as_picture(samples), folder / f"{name}.png")
    pictures = [folder / "one.png", folder / "two.png"]
    for design, steps in STEPS.items():
        given = pictures[:1] if design == "threshold" else pictures
        more = {"ties": True, "with_reference": True} if design == "pairs" else {}
        repeats = 12 if design == "threshold" else None
        magnetite.ask(given, folder / design, design=design, steps=steps, repeats=repeats, **more)  # type: ignore[arg-type]
    return folder


def held(keys: Any, key: str, times: int) -> None:
    """A key that is held down, so that it repeats."""
    for _ in range(times):
        keys.down(key)
    keys.up(key)


def enter(one: Opened) -> None:
    """Name, card and instructions, then the practice."""
    keys = one.page.keyboard
    keys.type("person 7")
    keys.press("Enter")
    held(keys, "ArrowRight", 10)  # which widens the card each time
    keys.press("Enter")
    assert "Sit 86 cm from the screen" in one.text("#words")  # 85.6 mm / 344 px, 60 px a degree
    keys.press("Enter")
    while one.text("#progress") == "Practice":
        keys.press("3" if one.page.locator("#keys button").count() == 5 else "ArrowLeft")
    assert "every answer counts" in one.text("#words")
    keys.press("Enter")


def shown(one: Opened) -> list[str]:
    """Names of the pictures on the stage, from the left; the reference between is left out."""
    found = one.page.evaluate(
        """() => [...document.querySelectorAll('#stage img')].map((image) =>
        Object.keys(sources).find((name) => sources[name] === image.getAttribute('src')))"""
    )
    return [str(name) for name in found]


KEYS = {
    "pairs": ["ArrowLeft", "ArrowRight", "ArrowDown"], "rating": list("12345"),
    "threshold": ["ArrowLeft", "ArrowRight"],
}  # fmt: skip
ANSWERS = {"ArrowLeft": "left", "ArrowRight": "right", "ArrowDown": "tie"}
Given = list[tuple[str, str, str]]


def taken(one: Opened, design: str, path: Path) -> Given:
    """Pictures and answers of a whole test, which is reloaded on the way, and its file."""
    given: Given = []
    page, keys, rng = one.page, one.page.keyboard, np.random.default_rng(0)
    saved: list[Any] = []

    def keep(download: Any) -> None:  # the browser's driver takes no built-in method
        saved.append(download)

    page.on("download", keep)
    while page.locator("#stage").is_visible():
        names = shown(one)
        assert int(one.text("#progress").split()[0]) == len(given) + 1
        key = str(rng.choice(KEYS[design]))
        if design == "threshold" and rng.random() < 0.8:  # mostly right
            changed = names[0] != one.page.evaluate("data.series[0].reference")
            key = "ArrowLeft" if changed else "ArrowRight"
        if design != "rating" and len(given) == 1:
            keys.press("f")  # at one position in turn
            assert page.locator("#stage figure:visible:not(.off)").count() == 1
            keys.press("f")
        given.append((names[0], "" if design == "rating" else names[-1], ANSWERS.get(key, key)))
        if len(given) == 4:
            page.wait_for_timeout(100)  # the browser keeps what it was given a moment later
            page.reload()
            page.wait_for_selector("html[data-ready=yes]")
            assert "3 answers" in one.text("#words")
            keys.press("Enter")
            assert shown(one) == names
        held(keys, key, 3)
    page.wait_for_timeout(200)
    assert one.said == []
    assert [url for url in one.asked if not url.startswith(("data:", "blob:", "file:"))] == []
    (download,) = saved
    download.save_as(path)
    return given


@pytest.mark.parametrize("design", list(STEPS))
def test_a_test_is_taken_by_the_keyboard_and_goes_on_after_a_reload(
    tests: Path, design: str, run: Run, tmp_path: Path
) -> None:
    with opened(tests / design / "ask.html") as one:
        enter(one)
        given = taken(one, design, tmp_path / "person-7.json")
    record = json.loads((tmp_path / "person-7.json").read_text())
    assert [(t["first"], t["second"], t["answer"]) for t in record["trials"]] == given
    assert (record["rater"], record["complete"], record["simulated"]) == ("person 7", True, False)
    assert record["screen"]["pixel_mm"] == pytest.approx(85.6 / 344)
    check = {"pairs": check_pairs, "rating": check_ratings, "threshold": check_levels}[design]
    check(given, json.loads((tests / design / "test.json").read_text()))
    done = run("opinions", "person-7.json", "--test", tests / design, "--format", "csv")
    assert "one rater" in done.stderr
    assert len(done.stdout.splitlines()) > 1


def check_pairs(given: Given, test: dict[str, Any]) -> None:
    """Every pair, as often one way round as the other."""
    assert {frozenset(pair) for pair in test["pairs"]} == {frozenset(one[:2]) for one in given}
    assert sorted(pair[:2] for pair in given) == sorted(pair[1::-1] for pair in given)


def check_ratings(given: Given, test: dict[str, Any]) -> None:
    assert sorted(first for first, _, _ in given) == sorted(s["name"] for s in test["stimuli"])


def check_levels(given: Given, test: dict[str, Any]) -> None:
    """Each level is the core's own choice after the answers before it."""
    rms = {s["name"]: s["rms"] for s in test["stimuli"]}
    levels = sorted(value for value in rms.values() if value)
    told: list[int] = []
    right: list[bool] = []
    for first, second, answer in given:
        level = levels.index(max(rms[first], rms[second]))
        assert level == next_level(levels, told, right)
        told.append(level)
        right.append((answer == "left") == (rms[first] > 0))


def test_the_page_is_blind_and_accessible(tests: Path) -> None:
    for design in STEPS:
        text = (tests / design / "ask.html").read_text()
        plain = re.sub(r"base64,[\w+/=]+", "", text)
        for word in ("gaussian-noise", "24dn", "one.png", '"one"', "condition"):
            assert word not in plain, (design, word)
    with opened(tests / "rating" / "ask.html") as one:
        assert accessible(one) == []
        enter(one)
        assert accessible(one) == []
        image = one.page.locator("#stage img").bounding_box()
        assert (image["width"], image["height"]) == (64, 48)
