"""The output of the commands is the one that was read and kept: `python tests/transcript.py`."""

from __future__ import annotations

import re

import pytest

from transcript import COMMANDS, KEPT, NUMBER, lines


def by_command(texts: list[str]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for text in texts:
        if text.startswith("$ "):
            found[text] = own = []
        else:
            own.append(text)
    return found


def test_output_is_the_one_that_was_read() -> None:
    """Words are equal, numbers to a thousandth: other libraries round otherwise."""
    kept = by_command(KEPT.read_text().splitlines())
    now = by_command(list(lines()))
    assert list(now) == list(kept) == [f"$ magnetite {c}" for c in COMMANDS.strip().splitlines()]
    for command, texts in kept.items():
        assert len(now[command]) == len(texts), f"{command}: {now[command]}"
        for one, other in zip(now[command], texts, strict=True):
            assert NUMBER.sub("#", one) == NUMBER.sub("#", other), command
            numbers = [list(map(_number, NUMBER.findall(text))) for text in (one, other)]
            assert numbers[0] == pytest.approx(numbers[1], rel=2e-3, abs=1e-6), f"{command}: {one}"


def _number(text: str) -> float:
    return float(re.sub("−", "-", text))
