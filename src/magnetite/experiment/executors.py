"""Where tasks are done: processes on this machine, or a cluster. An executor only submits."""

from __future__ import annotations

import logging
import multiprocessing
from collections.abc import Iterator
from concurrent.futures import (
    FIRST_COMPLETED,
    CancelledError,
    Future,
    ProcessPoolExecutor,
    wait,
)
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Any, Protocol

from magnetite.core.compute.processes import start_worker
from magnetite.core.compute.threads import cores, stream, use_threads
from magnetite.core.errors import InputError
from magnetite.core.extras import require
from magnetite.experiment.tasks import Task
from magnetite.experiment.work import Done, perform
from magnetite.files.opening import read_bytes

#: A task whose worker dies is tried again so often.
_TRIES = 3
#: Worker processes may die this often in a row before the run is given up.
_MOST_BREAKS = 10


class Executor(Protocol):
    """Runs tasks; results are given in the order of completion."""

    #: Tasks that are done at a time.
    workers: int

    def run(self, tasks: Iterator[Task]) -> Iterator[tuple[Task, list[Done]]]:
        """Results as they come; the number of tasks in flight is bounded."""
        ...

    def stop(self) -> None:
        """Abandon the tasks in flight, at once."""
        ...


def prepare_worker(threads: int, commands: tuple[Path, ...]) -> None:
    """Give a worker process its threads and the user's own commands."""
    start_worker(threads)
    for path in commands:
        from magnetite.external import declare

        declare(path)


class Alone:
    """In this process, one task after the other."""

    workers = 1

    def run(self, tasks: Iterator[Task]) -> Iterator[tuple[Task, list[Done]]]:
        for task in tasks:
            yield task, perform(task)

    def stop(self) -> None:
        """Nothing is under way between two tasks."""


class Threads:
    """Threads of this process: for work that is done before processes would have started."""

    def __init__(self, workers: int) -> None:
        self.workers = workers

    def run(self, tasks: Iterator[Task]) -> Iterator[tuple[Task, list[Done]]]:
        return stream(perform, tasks, self.workers)

    def stop(self) -> None:
        """Tasks in flight end with the program."""


class Processes:
    """Processes on this machine, each with its share of the cores."""

    def __init__(self, workers: int, commands: tuple[Path, ...] = ()) -> None:
        self.workers = workers
        self._start = (max(1, cores() // workers), commands)
        self._pool = self._new_pool()

    def _new_pool(self) -> ProcessPoolExecutor:
        return ProcessPoolExecutor(
            self.workers, multiprocessing.get_context("spawn"), prepare_worker, self._start
        )

    def run(self, tasks: Iterator[Task]) -> Iterator[tuple[Task, list[Done]]]:
        waiting: dict[Future[list[Done]], Task] = {}
        tries: dict[str, int] = {}
        again: list[Task] = []
        breaks = 0  # since a task was last done
        while True:
            while len(waiting) < 2 * self.workers + 1:
                task = again.pop() if again else next(tasks, None)
                if task is None:
                    break
                try:
                    waiting[self._pool.submit(perform, task)] = task
                except BrokenProcessPool:
                    again.append(task)
                    break
            if not waiting and not again:
                return
            broken = not waiting
            for future in wait(waiting, return_when=FIRST_COMPLETED).done if waiting else ():
                task = waiting.pop(future)
                try:
                    result = future.result()
                    breaks = 0
                    yield task, result
                except BrokenProcessPool:
                    broken = True
                    tries[task.key] = tries.get(task.key, 0) + 1
                    if tries[task.key] < _TRIES:
                        again.append(task)
                    else:
                        yield task, _lost(task)
            if broken:  # a worker died, and all that was under way with it
                breaks += 1
                if breaks > _MOST_BREAKS:
                    raise InputError(
                        "worker processes end as soon as they begin; --workers 1 shows why"
                    )
                again += waiting.values()
                waiting.clear()
                self._pool.shutdown(wait=False, cancel_futures=True)
                self._pool = self._new_pool()

    def stop(self) -> None:
        processes = list((self._pool._processes or {}).values())
        self._pool.shutdown(wait=False, cancel_futures=True)
        for process in processes:
            process.kill()


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

    def run(self, tasks: Iterator[Task]) -> Iterator[tuple[Task, list[Done]]]:
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
                    perform_with, task, self._commands, key=task.key, pure=False, retries=_TRIES
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
                yield task, _lost(task) if future.status == "error" else future.result()
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


def perform_with(task: Task, commands: tuple[Path, ...]) -> list[Done]:
    """A task on a worker of a cluster, which may not have seen the user's commands yet.

    Its loops take one thread: how many tasks a worker does at a time is the worker's own setting.
    """
    use_threads(1)
    _declare_once(commands)
    return perform(task)


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


def _lost(task: Task) -> list[Done]:
    reason = f"its worker died {_TRIES} times: out of memory, or a method that crashes"
    return [Done(work.cell.key, reason) for work in task.works]


def local(workers: int | None, commands: tuple[Path, ...] = ()) -> Executor:
    """As many processes as asked for, or as there are cores; none for a single one."""
    count = workers or cores()
    return Alone() if count == 1 else Processes(count, commands)
