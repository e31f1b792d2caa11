"""Every command, script and file in the documents works as it stands there."""

from __future__ import annotations

import contextlib
import io
import os
import re
import shlex
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

import magnetite
from conftest import as_in_a_new_process
from documents import Block, blocks, lines_of
from magnetite.cli.main import execute
from magnetite.synthetic.catalogue import SCENES

ROOT = Path(__file__).parents[1]
PAGES = [
    ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md")),
    *sorted((ROOT / "docs" / "howto").glob("*.md")),
]  # fmt: skip
WITH_COMMANDS = [page for page in PAGES if blocks(page)]
#: Runs on clusters have tests of their own; most lines of these others stand in other pages too.
LONG = {
    "accept-reject", "best", "camera", "camera-noise", "chart", "clusters", "denoiser",
    "experiments", "gates", "guarantee", "own-codec", "people", "report", "reproduce", "stack",
    "tutorial", "views", "which-quality",
}  # fmt: skip
#: Stands in pages for what only their reader has.
SCHEDULER = "tcp://10.0.0.1:8786"
#: Curves without a sweep, and slow yardsticks, have tests of their own; plans run on fewer samples.
QUICKER = {
    "--codec wavelet --codec dct --codec jpeg2000": "--codec 'dct step=4%,8%'",
    "avif --aim": "jpeg --aim",
    "magnetite run plan.toml": "magnetite run plan.toml --workers 1",
    "--workers 1 --cluster": "--cluster",
    "--size 640x448": "--size 160x112",
}


def test_the_pages_are_found() -> None:
    names = {page.name for page in WITH_COMMANDS}
    assert {"README.md", "tutorial.md", "experiments.md", "stack.md", "python.md"} <= names
    assert len([page for page in WITH_COMMANDS if page.parent.name == "howto"]) == 14


@pytest.mark.parametrize(
    "page",
    [
        pytest.param(page, id=page.stem, marks=[pytest.mark.long] * (page.stem in LONG))
        for page in WITH_COMMANDS
    ],
)
def test_what_a_page_says_works(
    page: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("PATH", f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}")
    with prepared(page.name, tmp_path) as address:
        for block in blocks(page):
            if block.kind == "file":
                (tmp_path / block.name).write_text(block.text, "utf-8")
            elif block.kind == "python" and page.name not in ("commands.md", "architecture.md"):
                (tmp_path / "halver.py").write_text(block.text)
                if "sys.argv" not in block.text:
                    run_script(block.text)
            elif block.kind == "shell":
                for line in lines_of(block):
                    run_line(line.replace(SCHEDULER, address), page.name)
                    smaller_plan(tmp_path)


def run_script(text: str) -> None:
    out = io.StringIO()
    with contextlib.redirect_stdout(out), as_in_a_new_process():
        exec(compile(text, "script.py", "exec"), {"__name__": "__main__"})
    if "compress" in text and "trays" in text:
        assert re.search(r"\n\d+\.\d+ 320x224 gray, 16 bits\n", out.getvalue())


def run_line(line: str, page: str) -> None:
    """One command in this process; a loop in a shell."""
    if line.lstrip().startswith(("mkdir", "for", "cp")):
        subprocess.run(["bash", "-ec", line], check=True, capture_output=True)
        return
    if page == "tutorial.md":  # its edges need more samples
        line = line.replace("640x448", "512x384")
    for slow, quick in QUICKER.items():
        line = line.replace(slow, quick)
    words = shlex.split(line, comments=True)
    if "scenes" in words and "--size" not in words:
        words += ["--size", "160x112"]
    target = None
    if ">" in words:
        target = words[words.index(">") + 1]
        words = words[: words.index(">")]
    words = [name for word in words[1:] for name in spread(word)]
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err), as_in_a_new_process():
        status, told = execute(words), err.getvalue()
    allowed = (0, 1) if words[:2] == ["gate", "check"] else (0,)
    assert status in allowed, f"{page}: {line}\n{told}"
    if target is not None:
        Path(target).write_text(out.getvalue())


def spread(word: str) -> list[str]:
    """The files that a pattern names, as a shell gives them."""
    return sorted(map(str, Path().glob(word))) if "/*" in word else [word]


#: The starter plan takes fewer rows of smaller parts of the pictures, so that a page takes seconds.
SMALLER = {
    "width=256 height=192": "width=96 height=72",
    "repeats = 2": "repeats = 1",
    "3%,6%": "6%",
}


def smaller_plan(folder: Path) -> None:
    plan = folder / "plan.toml"
    if plan.is_file():
        text = plan.read_text()
        for whole, part in SMALLER.items():
            text = text.replace(whole, part)
        plan.write_text(text)


@contextlib.contextmanager
def prepared(page: str, folder: Path) -> Iterator[str]:
    """What a page takes for granted: pictures that people have judged, a scheduler, scenes."""
    if page == "python.md":
        execute(["scenes", "trays", "--size", "320x224"])
    if page == "clusters.md":
        execute(["scenes", "trays", "--size", "96x72"])
        execute(["run", "--starter", "plan.toml"])
        smaller_plan(folder)
        from distributed import LocalCluster

        with LocalCluster(n_workers=1, threads_per_worker=1, dashboard_address=None) as cluster:
            yield cluster.scheduler_address
        return
    if page == "gates.md":
        judged(folder)
    if page == "commands.md":
        picture = SCENES[0].picture(64, 48, 0)
        magnetite.write(picture, folder / "picture.png")
        own = blocks(ROOT / "docs" / "howto" / "own-codec.md")
        script = next(block for block in own if "sys.argv" in block.text).text
        last = "np.repeat(kept, 2, axis=0)[:height]"
        script = script.replace("np.load(source)", "np.asarray(Image.open(source))")
        script = script.replace(f"np.save(target, {last})", f"Image.fromarray({last}).save(target)")
        (folder / "halver.py").write_text("from PIL import Image\n" + script)
        # The page shows the file after the command that names it.
        files = [block for block in blocks(ROOT / "docs" / page) if block.kind == "file"]
        for block in files:
            (folder / block.name).write_text(block.text)
    yield SCHEDULER


def judged(folder: Path) -> None:
    """Accepted and rejected pictures, a table of their labels, and the next one."""
    (folder / "good").mkdir()
    (folder / "bad").mkdir()
    labels = ["picture,verdict"]
    for seed in range(6):
        for scene in (SCENES[0], SCENES[1], SCENES[3]):
            picture = scene.picture(96, 72, seed)
            for kind, sigma in (("good", 0.4), ("bad", 2.5)):
                name = f"{scene.name}-{seed}-{kind}.png"
                worn = magnetite.degrade(picture, f"gaussian-blur sigma={sigma}").picture
                magnetite.write(worn, folder / kind / name)
                labels.append(f"{name},{'accepted' if kind == 'good' else 'rejected'}")
    (folder / "labels.csv").write_text("\n".join(labels) + "\n")
    magnetite.write(SCENES[0].picture(96, 72, 9), folder / "next.png")


def test_a_block_is_found_whatever_its_form(tmp_path: Path) -> None:
    (tmp_path / "p.md").write_text(
        "Text\n\n    magnetite a \\\n        b\n    magnetite c\n\nThe file `x.toml`:\n\n"
        "```toml\nk = 1\n```\n\n```sh\nfor x in y; do\n  z\ndone\n```\n\n"
        "    gaussian-blur sigma=1\n"
    )
    found = blocks(tmp_path / "p.md")
    assert [block.kind for block in found] == ["shell", "file", "shell"]
    assert lines_of(found[0]) == ["magnetite a b", "magnetite c"]
    assert found[1] == Block(found[1].position, "file", "k = 1\n", "x.toml")
    assert len(lines_of(found[2])) == 1
