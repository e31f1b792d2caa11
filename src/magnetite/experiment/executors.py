"""Where tasks are done: processes on this machine, or a cluster. An executor only submits."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Protocol

from magnetite.core.compute.processes import WorkerContext, start_worker
from magnetite.core.compute.threads import cores, stream
from magnetite.experiment.tasks import Task
from magnetite.experiment.work import Done, perform


class Lost:
    """In place of the results of a task that was in flight when its worker died."""


#: A task with its results, in the order of completion.
Completed = tuple[Task, list[Done] | Lost]


class Executor(Protocol):
    """Runs each task once; lost ones are tried again by `retrying.completed`."""

    #: Tasks that are done at a time.
    workers: int

    def run(self, tasks: Iterator[Task]) -> Iterator[Completed]:
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

    def run(self, tasks: Iterator[Task]) -> Iterator[Completed]:
        for task in tasks:
            yield task, perform(task)

    def stop(self) -> None:
        """Nothing is under way between two tasks."""


class Threads:
    """Threads of this process: for work that is done before processes would have started."""

    def __init__(self, workers: int) -> None:
        self.workers = workers

    def run(self, tasks: Iterator[Task]) -> Iterator[Completed]:
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
        return ProcessPoolExecutor(self.workers, WorkerContext(), prepare_worker, self._start)

    def run(self, tasks: Iterator[Task]) -> Iterator[Completed]:
        waiting: dict[Future[list[Done]], Task] = {}
        refused: list[Task] = []
        while True:
            while len(waiting) < 2 * self.workers + 1:
                task = refused.pop() if refused else next(tasks, None)
                if task is None:
                    break
                try:
                    waiting[self._pool.submit(perform, task)] = task
                except BrokenProcessPool:
                    refused.append(task)
                    break
            if not waiting and not refused:
                return
            broken = not waiting
            for future in wait(waiting, return_when=FIRST_COMPLETED).done if waiting else ():
                task = waiting.pop(future)
                try:
                    yield task, future.result()
                except BrokenProcessPool:
                    broken = True
                    yield task, Lost()
            if broken:  # a worker died, and all that was in flight with it
                self._pool.shutdown(wait=False, cancel_futures=True)
                self._pool = self._new_pool()
                yield from ((task, Lost()) for task in waiting.values())
                waiting.clear()

    def stop(self) -> None:
        processes = list((self._pool._processes or {}).values())
        self._pool.shutdown(wait=False, cancel_futures=True)
        for process in processes:
            process.kill()


def local(workers: int | None, commands: tuple[Path, ...] = ()) -> Executor:
    """As many processes as asked for, or as there are cores; none for a single one."""
    count = workers or cores()
    return Alone() if count == 1 else Processes(count, commands)
