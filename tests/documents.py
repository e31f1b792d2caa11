"""Commands, scripts and files of a Markdown page, in their order."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

FENCE = re.compile(r"(?:`([\w.-]+\.\w+)`[^\n`]*:\n\n)?```(\w*)\n(.*?)```", re.DOTALL)
INDENTED = re.compile(r"(?:^    .*\n(?:    .*\n|\n(?=    ))*)", re.MULTILINE)
#: First words of lines that are commands.
COMMANDS = ("magnetite", "mkdir", "cp")


@dataclass(frozen=True)
class Block:
    """Shell lines, a script, or a file of a page."""

    position: int
    kind: Literal["shell", "python", "file"]
    text: str
    name: str = ""


def blocks(page: Path) -> list[Block]:
    """What a page tells its reader to type, run or write."""
    text = page.read_text("utf-8")
    found = []
    for fence in FENCE.finditer(text):
        name, language, body = fence.groups()
        if name:
            found.append(Block(fence.start(), "file", body, name))
        elif language in ("sh", "python"):
            found.append(Block(fence.start(), "shell" if language == "sh" else "python", body))
    outside = FENCE.sub(lambda fence: re.sub(r"[^\n]", " ", fence[0]), text)
    for indented in INDENTED.finditer(outside):
        lines = [line.removeprefix("    ") for line in indented[0].splitlines()]
        if lines[0].split(" ")[0] in COMMANDS:
            found.append(Block(indented.start(), "shell", "\n".join(lines)))
    return sorted(found, key=lambda block: block.position)


def lines_of(block: Block) -> list[str]:
    """Commands of a block, each in one line; a block with loops is one command."""
    if re.search(r"^for ", block.text, re.MULTILINE):
        return [block.text]
    joined = re.sub(r"\\\n\s*", "", block.text)
    return [line for line in joined.splitlines() if line.strip()]
