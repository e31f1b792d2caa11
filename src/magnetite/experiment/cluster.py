"""An executor that submits to a Dask distributed scheduler."""

from __future__ import annotations

import hashlib
import logging
import platform
from collections.abc import Iterator
from concurrent.futures import CancelledError
from functools import cache
from pathlib import Path
from typing import Any

from magnetite import __version__
from magnetite.core.compute.threads import use_threads
from magnetite.core.errors import InputError
from magnetite.core.extras import require
from magnetite.experiment.executors import Completed, Lost
from magnetite.experiment.provenance import code_digest
from magnetite.experiment.tasks import Task, version_of
from magnetite.experiment.work import Done, perform
from magnetite.files.opening import read_bytes
from magnetite.files.resources import DiskFiles

#: Their messages on a lost scheduler are replaced by one line of the run.
_LOGGERS = ("distributed", "distributed.client", "distributed.utils", "distributed.core",
            "distributed.comm", "tornado.application", "asyncio")  # fmt: skip


class Cluster:
    """A Dask distributed scheduler: its workers may die and join."""

    def __init__(self, address: str, commands: tuple[Path, ...] = ()) -> None:
        require("distributed", "cluster", "--cluster")
        import distributed

        try:
            client: Any = distributed.Client
            self._client = client(address, timeout="10s", set_as_default=False)
        except (OSError, TimeoutError, ValueError) as error:
            raise InputError(f"no scheduler answers at {address} ({error})") from None
        for name in _LOGGERS:
            logging.getLogger(name).setLevel(logging.CRITICAL)
        self._commands, self._address = commands, address
        self.workers = max(1, len(self._client.scheduler_info()["workers"]))

    def run(self, tasks: Iterator[Task]) -> Iterator[Completed]:
        import distributed

        known: dict[str, Task] = {}
        completed: Any = distributed.as_completed
        stream = completed(loop=self._client.loop)

        def submit() -> bool:
            task = next(tasks, None)
            if task is None:
                return False
            known[task.key] = task
            stream.add(
                self._client.submit(
                    perform_with, task, self._commands, code_of(task), key=task.key, pure=False
                )
            )
            return True

        for _ in range(4 * self.workers + 4):
            if not submit():
                break
        try:
            for future in stream:
                task = known.pop(future.key)
                if future.status not in ("error", "finished"):
                    raise OSError("a task was cancelled")
                yield task, Lost() if future.status == "error" else future.result()
                future.release()
                submit()
        except (OSError, TimeoutError, CancelledError) as error:
            raise InputError(
                f"the scheduler at {self._address} is gone ({_first_words(error)}): rows that were "
                "done are kept; start it again and repeat the command to resume"
            ) from None

    def stop(self) -> None:
        self._client.close(timeout=1)


def _first_words(error: BaseException) -> str:
    return next(iter(str(error).splitlines()), "") or type(error).__name__


def perform_with(task: Task, commands: tuple[Path, ...], code: str) -> list[Done]:
    """A task on a worker of a cluster, which may not have seen the user's commands yet.

    Its loops take one thread: how many tasks a worker does at a time is the worker's own setting.
    Rows fail where the worker's `code_of` the task is not that of the leading program: they would
    be taken for results of its version.
    """
    use_threads(1)
    _declare_once(commands)
    if code_of(task) == code:
        return perform(task)
    reason = (
        f"the worker on {platform.node()} has Magnetite {__version__} and other code, methods or "
        "files than the program that leads the run: install the same on both"
    )
    return [Done(work.cell.key, reason) for work in task.works]


def code_of(task: Task) -> str:
    """Digest of the code in this process, and of the files, that a task's results follow from."""
    files = DiskFiles(task.base)
    chains = [task.degradation, *(work.treatment for work in task.works)]
    steps = [step for chain in chains if chain is not None for step in chain.steps]
    steps += [step for work in task.works for step in (*work.metrics, *work.gauges)]
    parts = [_program(), *(version_of(step, files) for step in dict.fromkeys(steps))]
    return hashlib.sha256("\n".join(parts).encode()).hexdigest()


@cache
def _program() -> str:
    return code_digest()


#: Content of the files of commands that this worker has declared.
_declared: dict[Path, bytes] = {}


def _declare_once(commands: tuple[Path, ...]) -> None:
    """Declare the user's commands; again where a file has changed since."""
    from magnetite.external import declare

    for path in commands:
        content = read_bytes(path)
        if _declared.get(path) != content:
            declare(path, again=True)
            _declared[path] = content
