"""Number of threads of the heavy loops, work on them, and the progress callback."""

from __future__ import annotations

import builtins
import os
import sys
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from contextlib import contextmanager
from contextvars import copy_context
from dataclasses import dataclass, field
from itertools import islice
from threading import Lock, RLock
from types import FrameType
from typing import Any, TypeVar

Job = TypeVar("Job")
Result = TypeVar("Result")
#: Takes the parts done, all parts, and the name of the part that was done last.
Listener = Callable[[int, int, str], None]


def cores() -> int:
    """Cores that this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


@dataclass
class _State:
    threads: int = field(default_factory=cores)
    listener: Listener | None = None
    #: Threads that wait for work: starting one takes longer than a small job.
    pool: ThreadPoolExecutor | None = None
    #: Held by whoever uses them.
    used: Lock = field(default_factory=Lock)
    #: Pools at work, and the lock of their imports.
    pools: int = 0
    imports: Any = field(default_factory=RLock)


_state = _State()


_plain_import = builtins.__import__


def _import_alone(*arguments: Any, **settings: Any) -> Any:
    lock = _state.imports
    if not lock.acquire(blocking=False):
        if _is_importing():
            return _plain_import(*arguments, **settings)
        lock.acquire()
    try:
        return _plain_import(*arguments, **settings)
    finally:
        lock.release()


def _is_importing() -> bool:
    """Whether this thread is inside an import that began before imports were serialised.

    It holds locks of modules for which the thread that imports alone may wait: it waits for none.
    """
    frame: FrameType | None = sys._getframe(2)
    while frame is not None and frame.f_code.co_filename != "<frozen importlib._bootstrap>":
        frame = frame.f_back
    return frame is not None


@contextmanager
def _imports_serialised() -> Iterator[None]:
    """Let only one thread of this process import at a time, while threads work.

    Modules of SciPy import one another in cycles. Where two threads enter such a cycle at once,
    Python resolves the deadlock of their import locks with a partially initialised module, and
    an import may fail on a loaded machine (`KeyError: 'scipy'`). Deferred imports keep start-up
    fast, so they are serialised instead of moved. Where work fails they stay serialised: jobs
    that run are not waited for.
    """
    with _state.imports:
        _state.pools += 1
        builtins.__import__ = _import_alone
    yield
    with _state.imports:
        _state.pools -= 1
        if _state.pools == 0 and builtins.__import__ is _import_alone:
            builtins.__import__ = _plain_import


def _forget_threads() -> None:
    """A forked process has none of its parent's threads."""
    _state.pool, _state.used = None, Lock()
    _state.pools, _state.imports = 0, RLock()


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_forget_threads)


def threads() -> int:
    """Threads that a loop may take: all cores of this process unless `use_threads` said less."""
    return _state.threads


def use_threads(count: int) -> None:
    """Let loops use the given number of threads from now on; no result depends on it.

    Raises
    ------
    ValueError
        If it is less than 1.
    """
    if count < 1:
        raise ValueError(f"{count} threads cannot work; 1 or more can")
    _state.threads = count
    with _state.used:
        if _state.pool is not None:
            _state.pool.shutdown()
        _state.pool = None


@contextmanager
def _workers(count: int | None = None) -> Iterator[ThreadPoolExecutor]:
    """Threads that wait; new ones for another number, or where those are in use.

    Where work fails, or the user interrupts, running jobs are not waited for.
    """
    with _imports_serialised():
        if count not in (None, _state.threads) or not _state.used.acquire(blocking=False):
            pool, done = ThreadPoolExecutor(count or _state.threads), False
            try:
                yield pool
                done = True
            finally:
                pool.shutdown(wait=done, cancel_futures=True)
            return
        try:
            _state.pool = _state.pool or ThreadPoolExecutor(_state.threads)
            yield _state.pool
        finally:
            _state.used.release()


@contextmanager
def listening(listener: Listener) -> Iterator[None]:
    """Tell a listener of every part that `each` has done, meanwhile."""
    before, _state.listener = _state.listener, listener
    try:
        yield
    finally:
        _state.listener = before


def spread(work: Callable[[Job], Result], jobs: Iterable[Job]) -> list[Result]:
    """Results of `work` for every job, in the order of the jobs.

    Jobs must not follow from the number of threads, or results would depend on it.
    """
    waiting = list(jobs)
    if len(waiting) < 2 or _state.threads == 1:
        return [work(job) for job in waiting]
    with _workers() as pool:
        return list(pool.map(_in_context(work), waiting))


def _in_context(work: Callable[[Job], Result]) -> Callable[[Job], Result]:
    """The work with the context variables of the calling thread."""
    context = copy_context()
    return lambda job: context.copy().run(work, job)


def stream(
    work: Callable[[Job], Result], jobs: Iterable[Job], workers: int
) -> Iterator[tuple[Job, Result]]:
    """Jobs and their results, as they are done; the number in flight is bounded.

    Where a job fails, or the caller stops listening, those that have not begun are given up.
    """
    waiting: dict[Future[Result], Job] = {}
    left, own = iter(jobs), _in_context(work)
    pool = ThreadPoolExecutor(workers)
    with _imports_serialised():
        try:
            while True:
                for job in islice(left, workers + 1 - len(waiting)):
                    waiting[pool.submit(own, job)] = job
                if not waiting:
                    return
                for future in wait(waiting, return_when=FIRST_COMPLETED).done:
                    yield waiting.pop(future), future.result()
        finally:
            pool.shutdown(wait=False, cancel_futures=True)


def each(
    work: Callable[[Job], Result],
    jobs: Iterable[Job],
    *,
    workers: int | None = None,
    name: Callable[[Job], str] = lambda job: "",
) -> list[Result]:
    """The same for long jobs, with a progress callback for each.

    Parameters
    ----------
    work : function
    jobs : iterable
    workers : int, optional
        Jobs done at a time; as many as there are threads if left out.
    name : function
        Name of a job, for the callback. Where a job fails, or the user interrupts, those that
        have not begun are given up.
    """
    waiting = list(jobs)
    results: list[Result] = []
    if len(waiting) == 1 and _state.listener is None:
        return [work(waiting[0])]
    with _workers(workers) as pool:
        for job, result in zip(waiting, pool.map(_in_context(work), waiting), strict=True):
            results.append(result)
            if _state.listener is not None:
                _state.listener(len(results), len(waiting), name(job))
    return results
