"""What the documents show works as it stands there."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest
import typer

from magnetite.cli.main import app, main
from magnetite.core.methods.catalogue import every

ROOT = Path(__file__).parents[2]
README = (ROOT / "README.md").read_text()


def test_the_lines_of_the_readme_run_in_order(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    lines = re.sub(r"\\\n\s*", "", README).splitlines()
    commands = [
        # Curves without a sweep and slow yardsticks have tests of their own.
        line.replace(
            "--codec wavelet --codec dct --codec jpeg2000", "--codec 'dct step=4%,8%'"
        ).replace("avif --aim", "jpeg --aim")
        for line in lines
        if line.startswith("    magnetite ")
    ]
    assert len(commands) > 10
    monkeypatch.chdir(tmp_path)
    for line in commands:  # in one process, since starting a new one each time takes a while
        monkeypatch.setattr(sys, "argv", shlex.split(line, comments=True))
        with pytest.raises(SystemExit) as ended:
            main()
        assert ended.value.code == 0, f"{line}: {capsys.readouterr().err}"
        if "--starter" in line:  # the same plan on fewer samples
            plan = tmp_path / "plan.toml"
            plan.write_text(plan.read_text().replace("width=256 height=192", "width=96 height=72"))
    (snippet,) = re.findall(r"```python\n(.*?)```", README, re.DOTALL)
    done = subprocess.run(
        [sys.executable, "-c", snippet], cwd=tmp_path, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    assert re.search(r"\n\d+\.\d+ 640x448 gray, 16 bits\n", done.stdout)


def test_every_degradation_has_its_section_and_picture() -> None:
    page = (ROOT / "docs" / "degradations.md").read_text()
    methods = every("degradation")
    assert f"There\nare {len(methods)} [degradations]" in README, "the README counts them"
    for method in methods:
        section = page.split(f"\n## `{method.name}`\n")[1].split("\n## ")[0]
        assert method.summary in section
        for key in method.parameters:
            assert f"| `{key}=` |" in section
        assert (ROOT / "docs" / "degradations" / f"{method.name}.png").is_file(), "run make docs"


def test_every_restoration_and_codec_has_its_section() -> None:
    for kind, name in (("restoration", "restoration"), ("codec", "codecs")):
        page = (ROOT / "docs" / f"{name}.md").read_text()
        for method in every(kind):
            section = page.split(f" `{method.name}`\n", 1)[1].split("\n## ")[0]
            assert method.formula in section, f"{method.name}: run make docs"
            for key in method.parameters:
                assert f"| `{key}=` |" in section
        for picture in re.findall(rf"\(({name}/[^)]+)\)", page):
            assert (ROOT / "docs" / picture).is_file()


def test_every_command_is_in_the_readme() -> None:
    for command in typer.main.get_command(app).commands:
        assert f"magnetite {command}" in README, command


def test_every_link_leads_somewhere() -> None:
    for page in [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").glob("*.md")]:
        for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert os.path.exists(page.parent / target), f"{page.name} links to {target}"


def test_the_page_of_metrics_is_made_from_the_declarations(tmp_path: Path) -> None:
    subprocess.run([sys.executable, ROOT / "docs" / "make_metrics.py", tmp_path], check=True)
    made = (tmp_path / "metrics.md").read_text()
    assert (ROOT / "docs" / "metrics.md").read_text() == made, "run make docs"
