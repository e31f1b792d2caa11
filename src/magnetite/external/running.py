"""Run a command on a file, in a folder of its own, for a limited time."""

from __future__ import annotations

import contextlib
import functools
import os
import shutil
import signal
import stat
import subprocess
import tempfile
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from magnetite.core.errors import CommandError

#: Bytes of a command's output that are read at most, and of its standard error.
LARGEST_OUTPUT, _MOST_SAID = 2**31, 4096


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
        `values` replace placeholders besides `{input}`, `{output}` and `{here}`.

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
            made = self._read(paths[1])
        if not made:
            raise CommandError(f"{self.name}: its command wrote an empty {{output}}")
        return made

    def _read(self, path: Path) -> bytes:
        try:
            found = path.lstat()
        except OSError:
            raise CommandError(f"{self.name}: its command wrote no {{output}}") from None
        if not stat.S_ISREG(found.st_mode):
            raise CommandError(f"{self.name}: its command's {{output}} is not a plain file")
        if found.st_size > LARGEST_OUTPUT:
            raise CommandError(
                f"{self.name}: its command's {{output}} has {found.st_size} bytes; at most "
                f"{LARGEST_OUTPUT} are read"
            )
        return path.read_bytes()

    def _run(self, words: list[str], folder: str) -> None:
        if shutil.which(words[0]) is None:
            raise CommandError(f"{self.name}: {words[0]!r} cannot be run (no such program)")
        mark = uuid.uuid4().hex
        with tempfile.TemporaryFile() as said:
            try:
                process = subprocess.Popen(
                    [*_until_parent_ends(), *words], cwd=folder, stdin=subprocess.DEVNULL,
                    stdout=subprocess.DEVNULL, stderr=said, start_new_session=True,
                    env=os.environ | {_MARK: mark},
                )  # fmt: skip
            except (OSError, ValueError) as error:
                reason = getattr(error, "strerror", None) or error
                raise CommandError(f"{self.name}: {words[0]!r} cannot be run ({reason})") from None
            try:
                process.wait(timeout=self.seconds)
            except subprocess.TimeoutExpired:
                raise CommandError(
                    f"{self.name}: its command was stopped after {self.seconds:g} s; "
                    "give it more with seconds ="
                ) from None
            finally:
                _end_all(process, mark)
            if process.returncode:
                raise CommandError(
                    f"{self.name}: its command ended with status {process.returncode} "
                    f"({_last_line(said)})"
                )


#: Environment variable by which the processes that a command starts are known again.
_MARK = "MAGNETITE_COMMAND"


@functools.cache
def _until_parent_ends() -> tuple[str, ...]:
    """Words that let the system end a command where this program is killed, if there are such."""
    setpriv = shutil.which("setpriv")
    return (setpriv, "--pdeathsig", "KILL", "--") if setpriv else ()


def _end_all(process: subprocess.Popen[bytes], mark: str) -> None:
    """End the command and all its descendants, also those that left its session."""
    with contextlib.suppress(ProcessLookupError, PermissionError):
        if hasattr(os, "killpg"):
            os.killpg(process.pid, signal.SIGKILL)
        else:
            process.kill()
    process.wait()
    wanted = f"{_MARK}={mark}".encode()
    for entry in Path("/proc").glob("[0-9]*/environ"):
        with contextlib.suppress(OSError):
            if wanted in entry.read_bytes():
                os.kill(int(entry.parent.name), signal.SIGKILL)


def _last_line(said: IO[bytes]) -> str:
    size = said.seek(0, os.SEEK_END)
    said.seek(max(0, size - _MOST_SAID))
    lines = said.read().decode(errors="replace").strip().splitlines()
    return lines[-1] if lines else "it said nothing"


def _filled(word: str, values: Mapping[str, str]) -> str:
    for key, value in values.items():
        word = word.replace(f"{{{key}}}", value)
    return word
