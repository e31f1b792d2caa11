"""What the documents show works as it stands there."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Run
from magnetite.cli.commands import COMMANDS
from magnetite.cli.main import program
from magnetite.core.methods.catalogue import every

ROOT = Path(__file__).parents[2]
README = (ROOT / "README.md").read_text()
TUTORIAL = (ROOT / "docs" / "tutorial.md").read_text()


def test_every_degradation_has_its_section_and_picture() -> None:
    page = (ROOT / "docs" / "degradations.md").read_text()
    methods = every("degradation")
    assert f"There\nare {len(methods)} [degradations]" in TUTORIAL, "the tutorial counts them"
    for method in methods:
        section = page.split(f"\n## `{method.name}`\n")[1].split("\n## ")[0]
        assert method.summary in section
        for key in method.parameters:
            assert f"| `{key}=` |" in section
        assert (ROOT / "docs" / "degradations" / f"{method.name}.png").is_file(), "run make docs"


def test_every_restoration_and_codec_has_its_section() -> None:
    for kind, name in (("restoration", "restoration"), ("codec", "codecs")):
        page = (ROOT / "docs" / f"{name}.md").read_text()
        own = [m for m in every(kind) if m.function.__module__.startswith("magnetite.core.")]
        for method in own:  # other tests declare methods of their own
            section = page.split(f" `{method.name}`\n", 1)[1].split("\n## ")[0]
            assert method.formula in section, f"{method.name}: run make docs"
            for key in method.parameters:
                assert f"| `{key}=` |" in section
        for picture in re.findall(rf"\(({name}/[^)]+)\)", page):
            assert (ROOT / "docs" / picture).is_file()


def test_every_command_is_in_the_readme() -> None:
    for command in program().commands:
        assert f"`magnetite {command}`" in README, command


def test_every_link_leads_somewhere() -> None:
    for page in [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").rglob("*.md")]:
        for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert os.path.exists(page.parent / target), f"{page.name} links to {target}"


def test_every_test_that_the_documents_name_is_there() -> None:
    sources = [path.read_text() for path in (ROOT / "tests").rglob("test_*.py")]
    there = set(re.findall(r"def (test_\w+)", "\n".join(sources)))
    for page in (ROOT / "docs").rglob("*.md"):
        for name in re.findall(r"`(test_\w+)`", page.read_text()):
            assert name in there, f"{page.name} names {name}"


def test_the_page_of_metrics_is_made_from_the_declarations(tmp_path: Path) -> None:
    subprocess.run([sys.executable, ROOT / "docs" / "make_metrics.py", tmp_path], check=True)
    made = (tmp_path / "metrics.md").read_text()
    assert (ROOT / "docs" / "metrics.md").read_text() == made, "run make docs"


def test_help_shows_the_whole_text_of_every_option(
    run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    """No brackets are taken for markup, and nothing is cut."""
    monkeypatch.setenv("COLUMNS", "200")
    monkeypatch.setenv("TERMINAL_WIDTH", "200")
    for name in COMMANDS:
        command = program(name).commands[name]
        for words, own in [
            ([name], command),
            *(([name, word], inner) for word, inner in getattr(command, "commands", {}).items()),
        ]:
            shown = re.sub(r"[│\s]+", "", run(*words, "--help").stdout)
            for parameter in own.params:
                text = (getattr(parameter, "help", None) or "").replace("\\[", "[")
                assert re.sub(r"\s+", "", text) in shown, (words, parameter.name)
