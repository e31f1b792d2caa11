"""`magnetite completion`, and the answers to a shell that completes a line."""

from __future__ import annotations

import os
from enum import StrEnum
from typing import Annotated

import typer

#: Environment variable by which the script of a shell asks for the words that fit.
VARIABLE = "_MAGNETITE_COMPLETE"


class Shell(StrEnum):
    """Shells that have a script."""

    bash = "bash"
    zsh = "zsh"
    fish = "fish"


def run(
    shell: Annotated[Shell, typer.Argument(help="The shell.", metavar="bash|zsh|fish")],
) -> None:
    """For bash: `eval "$(magnetite completion bash)"`, in ~/.bashrc; the same for zsh.

    For fish: `magnetite completion fish | source`, in config.fish.
    """
    from typer.completion import get_completion_script  # type: ignore[attr-defined]

    print(get_completion_script(prog_name="magnetite", complete_var=VARIABLE, shell=shell.value))


def line_to_complete() -> list[str] | None:
    """The words after the program's name of the line that a shell completes; None without one."""
    if VARIABLE not in os.environ:
        return None
    from typer.completion import completion_init  # type: ignore[attr-defined]

    completion_init()
    line = os.environ.get("COMP_WORDS") or os.environ.get("_TYPER_COMPLETE_ARGS", "")
    return line.split()[1:]
