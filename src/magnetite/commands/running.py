"""Run a command on a file, in a folder of its own, for a limited time."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from magnetite.core.errors import CommandError


@dataclass(frozen=True)
class Command:
    """The words of a command with placeholders, and how long it may take, in s."""

    name: str
    words: Sequence[str]
    here: Path
    seconds: float

    def run(self, source: bytes, names: tuple[str, str], values: Mapping[str, str]) -> bytes:
        """Bytes of the output file that the command makes from an input file of those bytes.

        `names` are the names of both files in the temporary folder that the command runs in;
        `values` replace placeholders beside `{input}`, `{output}` and `{here}`.

        Raises
        ------
        CommandError
            If it cannot be started, takes too long, fails, or leaves no output.
        """
        with tempfile.TemporaryDirectory(prefix="magnetite-") as folder:
            paths = [Path(folder) / name for name in names]
            paths[0].write_bytes(source)
            known = dict(values, input=str(paths[0]), output=str(paths[1]), here=str(self.here))
            self._run([_filled(word, known) for word in self.words], folder)
            try:
                made = paths[1].read_bytes()
            except OSError:
                raise CommandError(f"{self.name}: its command wrote no {{output}}") from None
        if not made:
            raise CommandError(f"{self.name}: its command wrote an empty {{output}}")
        return made

    def _run(self, words: list[str], folder: str) -> None:
        try:
            process = subprocess.Popen(
                words, cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE, start_new_session=True,
            )  # fmt: skip
        except OSError as error:
            raise CommandError(
                f"{self.name}: {words[0]} cannot be run ({error.strerror})"
            ) from None
        try:
            _, said = process.communicate(timeout=self.seconds)
        except subprocess.TimeoutExpired:
            raise CommandError(
                f"{self.name}: its command was stopped after {self.seconds:g} s; "
                "give it more with seconds ="
            ) from None
        finally:
            # The whole session goes: also what the command itself has started.
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        if process.returncode:
            last = said.decode(errors="replace").strip().splitlines()[-1:] or ["it said nothing"]
            raise CommandError(
                f"{self.name}: its command ended with status {process.returncode} ({last[0]})"
            )


def _filled(word: str, values: Mapping[str, str]) -> str:
    for key, value in values.items():
        word = word.replace(f"{{{key}}}", value)
    return word
