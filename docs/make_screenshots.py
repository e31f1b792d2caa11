"""Make the pictures of docs/screenshots from the demo's data: make screenshots."""

from __future__ import annotations

import argparse
import os
import pty
import shutil
import subprocess
import sys
import tempfile
import textwrap
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import matplotlib as mpl
from PIL import Image, ImageDraw, ImageFont
from rich.console import Console
from rich.text import Text

COLUMNS = 124
SIZE = 15
INK, PAPER, PROMPT = (214, 219, 226), (22, 26, 33), (126, 231, 135)
ANSI = [
    (72, 79, 88), (255, 123, 114), (126, 231, 135), (227, 179, 65),
    (121, 192, 255), (210, 168, 255), (118, 227, 234), (201, 209, 217),
]  # fmt: skip
CHAIN = "gaussian-blur sigma=1.2 + gaussian-noise sd=8dn + quantize bits=5"
PROGRAM = Path(sys.executable).with_name("magnetite")


def run_in_terminal(arguments: list[str], folder: Path) -> str:
    """Standard output of a command on a terminal, with its colours."""
    master, slave = pty.openpty()
    environment = os.environ | {"COLUMNS": str(COLUMNS), "TERM": "xterm-256color"}
    environment.pop("NO_COLOR", None)
    process = subprocess.Popen(
        [PROGRAM, *arguments], stdout=slave, stderr=subprocess.DEVNULL, cwd=folder, env=environment
    )
    os.close(slave)
    chunks = []
    while True:
        try:
            chunk = os.read(master, 65536)
        except OSError:  # the other end is closed
            break
        if not chunk:
            break
        chunks.append(chunk)
    if process.wait() not in ((0, 1) if arguments[0] == "gate" else (0,)):
        raise SystemExit(f"{arguments} ended with status {process.returncode}")
    return b"".join(chunks).decode().replace("\r\n", "\n")


def draw_terminal(commands: list[tuple[list[str], str]], path: Path) -> None:
    """Draw commands and their output as a terminal window."""
    fonts = Path(mpl.get_data_path()) / "fonts" / "ttf"
    regular = ImageFont.truetype(str(fonts / "DejaVuSansMono.ttf"), SIZE)
    bold = ImageFont.truetype(str(fonts / "DejaVuSansMono-Bold.ttf"), SIZE)
    advance, line_height = regular.getlength("m"), SIZE + 5
    lines: list[list[tuple[str, tuple[int, int, int], bool]]] = []
    for arguments, output in commands:
        command = " ".join(f"'{a}'" if " " in a else a for a in arguments)
        first, *rest = textwrap.wrap(f"magnetite {command}", COLUMNS - 6, break_long_words=False)
        lines.append([("$ ", PROMPT, True), (first + " \\" * bool(rest), INK, True)])
        lines.extend([("      " + more, INK, True)] for more in rest)
        lines.extend(_runs(line) for line in output.rstrip("\n").split("\n"))
        lines.append([])
    width = int(advance * COLUMNS) + 40
    image = Image.new("RGB", (width, line_height * len(lines) + 20), PAPER)
    pen = ImageDraw.Draw(image)
    for row, runs in enumerate(lines):
        column = 0
        for text, colour, strong in runs:
            for character in text:
                position = (20 + column * advance, 14 + row * line_height)
                pen.text(position, character, font=bold if strong else regular, fill=colour)
                column += 1
    image.save(path)


def _runs(line: str) -> list[tuple[str, tuple[int, int, int], bool]]:
    """Pieces of a line that share colour and weight."""
    console = Console(width=10 * COLUMNS)
    runs = []
    for segment in Text.from_ansi(line).render(console):
        style = segment.style
        colour = INK
        if style is not None and style.color is not None and style.color.number is not None:
            colour = ANSI[style.color.number % 8]
        if style is not None and style.dim:
            colour = tuple((c + p) // 2 for c, p in zip(colour, PAPER, strict=True))
        runs.append((segment.text.rstrip("\n"), colour, bool(style and style.bold)))
    return runs


def main(target: Path) -> None:
    target.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)

        def shot(name: str, *commands: list[str]) -> None:
            printed = [(arguments, run_in_terminal(arguments, folder)) for arguments in commands]
            draw_terminal(printed, target / f"{name}.png")

        shot("demo", ["demo", "tray"])
        reference = "tray/references/veined-breccia.png"
        shot(
            "degrade-score",
            ["degrade", reference, "degraded.png", *CHAIN.split()],
            ["compress", reference, "tile.mgt", "dct", "step=24dn"],
            ["restore", "degraded.png", "restored.png", "bm3d", "sd=8dn", "--reference", reference],
            ["score", reference, "degraded.png", "restored.png", "tile.mgt"],
        )
        chart = "tray/references/chart-plate.png"
        camera = ["sensor-noise", "full-well=9000e", "read=15e"]
        for seed in "12":
            run_in_terminal(["degrade", chart, f"frame{seed}.png", *camera, "--seed", seed], folder)
        soft = ["gaussian-blur", "sigma=1.7", "+", "gaussian-noise", "sd=1%"]
        run_in_terminal(["degrade", chart, "soft.png", *soft], folder)
        shot(
            "calibrate",
            ["calibrate", "noise", "frame1.png", "frame2.png"],
            ["calibrate", "blur", "soft.png"],
            ["degrade", chart, "aimed.png", "gaussian-blur", "sigma=auto", "--aim", "ssim=0.80"],
        )
        run_in_terminal(["degrade", reference, "noisy.png", "gaussian-noise", "sd=8dn"], folder)
        for words in (["noise", reference, "noisy.png"], ["sharpness", chart]):
            run_in_terminal(["view", *words], folder)
        for name in ("noise", "sharpness", "photon-transfer"):
            shutil.copy(folder / f"{name}.png", target / f"{name}.png")
        _photograph_chart(folder, target, run_in_terminal)
        run_in_terminal(["score", reference, "tile.mgt", "--maps", "maps"], folder)
        shutil.copy(folder / "maps/tile-maps.png", target / "maps.png")
        codecs = [w for name in ("wavelet", "dct", "jpeg2000", "jpeg") for w in ("--codec", name)]
        run_in_terminal(["curve", reference, *codecs, "--out", "curves"], folder)
        shutil.copy(folder / "curves/curve.png", target / "curve.png")
        sweep = ["view", "sweep", reference, "dct", "step=5dn,10dn,20dn,40dn,80dn,160dn", "--curve"]
        run_in_terminal(sweep, folder)
        shutil.copy(folder / "sweep.png", target / "sweep.png")
        draw_report(folder / "tray/report.html", target)
        shutil.copytree(folder / "tray/references", folder / "trays")
        run_in_terminal(["run", "--starter", "plan.toml"], folder)
        shot(
            "experiment",
            ["run", "plan.toml", "--dry"],
            ["run", "plan.toml"],
            ["summarize", "plan", "--table", "ranking"],
            ["summarize", "plan", "--table", "noticed"],
        )
        _label_pictures(folder, run_in_terminal)
        shot(
            "gate",
            ["gate", "fit", "--accepted", "good", "--rejected", "bad"],
            ["gate", "check", "gate.json", "next/sharp.png", "next/soft.png"],
        )
        shutil.copy(folder / "tray/sheets/references.png", target / "scenes.png")
        _ask(folder, target, run_in_terminal)


def _photograph_chart(folder: Path, target: Path, run: Callable[[list[str], Path], str]) -> None:
    """The test chart, and the made-up cheap camera measured from it."""
    run(["chart", "test-chart.png"], folder)
    run(["convert", "test-chart.png", "eight.png", "depth", "bits=8"], folder)
    run(["degrade", "eight.png", "shot.png", "pocket-camera", "--seed", "1"], folder)
    run(["calibrate", "chart", "shot.png", "--chart", "test-chart.json"], folder)
    shutil.copy(folder / "camera.png", target / "camera.png")
    with Image.open(folder / "test-chart.png") as chart:
        chart.convert("RGB").resize((1200, 800), Image.Resampling.LANCZOS).save(
            target / "chart.png", optimize=True
        )


def _ask(folder: Path, target: Path, run: Callable[[list[str], Path], str]) -> None:
    """A pair of a blind test, opinions of simulated raters, and the demo's guarantee."""
    references = [f"tray/references/{name}.png" for name in ("veined-breccia", "clay-core")]
    steps = ["--steps", "jpeg quality=5,10,20,40,80", "--steps", "gaussian-noise sd=2dn,6dn,12dn"]
    shown = ["--with-reference", "--size", "380x300"]
    for design, more in (("pairs", shown), ("rating", [])):
        run(["ask", *references, "--design", design, *steps, *more, "--out", design], folder)
    run(["raters", "rating", "simulated", "--random", "1"], folder)
    run(["opinions", "simulated", "--test", "rating", "--metrics", "psnr,ssim,ms-ssim"], folder)
    shutil.copy(folder / "opinions.png", target / "opinions.png")
    need = ["--need", "ssim>=0.9", "--share", "90%", "--out", "guarantee.html"]
    run(["report", "tray/trays", *need], folder)

    with opened_page(folder / "pairs/ask.html") as opened:
        opened.keyboard.type("rater 7")
        for _ in range(3):
            opened.keyboard.press("Enter")
        while opened.inner_text("#progress") == "Practice":
            opened.keyboard.press("ArrowRight")
        opened.keyboard.press("Enter")
        opened.wait_for_timeout(400)
        opened.screenshot(path=target / "ask.png")
    with opened_page(folder / "guarantee.html") as opened:
        opened.click("nav a[href='#guarantee']")
        opened.wait_for_timeout(400)
        opened.screenshot(path=target / "guarantee.png")


@contextmanager
def opened_page(page: Path) -> Iterator[Any]:
    """A page in a headless browser, once it is ready."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox", "--disable-gpu"]
        )
        opened = browser.new_page(viewport={"width": 1280, "height": 800})
        opened.goto(page.resolve().as_uri())
        opened.wait_for_selector("html[data-ready=yes]")
        yield opened
        browser.close()


def draw_report(page: Path, target: Path) -> None:
    """The top of the demo's report, and its pictures under a wipe."""
    with opened_page(page) as opened:
        opened.screenshot(path=target / "report.png")
        opened.evaluate("document.getElementById('compare').scrollIntoView()")
        opened.wait_for_function("() => page.stageState.loaded.length > 1")
        opened.select_option("#compare-reference", "veined-breccia")
        opened.wait_for_function("() => page.stageState.loaded[1]?.reference === 'veined-breccia'")
        boxes = opened.locator("#choices input")
        boxes.nth(0).uncheck()
        boxes.nth(boxes.count() - 5).check()
        opened.wait_for_function("() => page.stageState.loaded[0].kind === 'treated'")
        opened.check('input[name="mode"][value="wipe"]')
        opened.click("#zoom-in")
        opened.wait_for_timeout(300)
        opened.screenshot(path=target / "compare.png")


def _label_pictures(folder: Path, run: Callable[[list[str], Path], str]) -> None:
    """Folders of sharp and blurred scenes, and one of each that is in neither."""
    for name in ("good", "bad", "next"):
        (folder / name).mkdir()
    for seed in range(1, 5):
        run(["scenes", f"s{seed}", "--seed", str(seed), "--size", "320x224"], folder)
        for path in sorted((folder / f"s{seed}").glob("*.png")):
            if path.stem == "chart-plate":  # the same for every seed
                continue
            good, bad = f"good/{path.stem}-{seed}.png", f"bad/{path.stem}-{seed}.png"
            if (path.stem, seed) == ("veined-breccia", 4):
                good, bad = "next/sharp.png", "next/soft.png"
            shutil.copy(path, folder / good)
            blur = ["gaussian-blur", f"sigma={1 + seed / 4}px"]
            run(["degrade", str(path), bad, *blur], folder)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("target", type=Path, help="folder of the pictures")
    main(parser.parse_args().target)
