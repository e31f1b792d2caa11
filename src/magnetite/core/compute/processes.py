"""Worker processes, and their start."""

from __future__ import annotations

import multiprocessing
import os
import signal
import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from contextlib import contextmanager
from multiprocessing.context import SpawnContext, SpawnProcess
from types import ModuleType
from typing import Any

from magnetite.core.compute.threads import use_threads


class _Worker(SpawnProcess):
    """A process that does not run the script of the leading process again.

    Python would, for the sake of objects that the script defines; tasks are of this package.
    """

    @staticmethod
    def _Popen(process: Any) -> Any:
        with _without_script():
            return SpawnProcess._Popen(process)


class WorkerContext(SpawnContext):
    """Starts workers: new processes on every system, with any script as the leading one."""

    Process = _Worker


@contextmanager
def _without_script() -> Iterator[None]:
    """Hide the script meanwhile, unless it has declared a method of its own."""
    script = sys.modules["__main__"]
    if any(hasattr(value, "method") for value in vars(script).values()):
        yield
        return
    sys.modules["__main__"] = ModuleType("__main__")
    try:
        yield
    finally:
        sys.modules["__main__"] = script


def start_worker(threads: int = 1) -> None:
    """Give a worker its threads; interruptions are left to the leading process.

    It ends with that process, however that ends.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with_parent, daemon=True).start()
    use_threads(threads)


def each_done(
    work: Callable[..., object], jobs: Sequence[tuple[Any, ...]], workers: int
) -> Iterator[tuple[Any, ...]]:
    """Jobs, arguments of a function, as worker processes end them; one worker is this process."""
    if workers == 1:
        for job in jobs:
            work(*job)
            yield job
        return
    with ProcessPoolExecutor(workers, WorkerContext(), start_worker) as pool:
        waiting = {pool.submit(work, *job): job for job in jobs}
        for future in as_completed(waiting):
            future.result()
            yield waiting[future]


def _end_with_parent() -> None:
    parent = multiprocessing.parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)
