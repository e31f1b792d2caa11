"""How many threads the heavy loops take, and work done on them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Job = TypeVar("Job")
Result = TypeVar("Result")

_state = {"threads": 2}


def threads() -> int:
    """Threads that a loop may take; 2 unless `use_threads` said otherwise."""
    return _state["threads"]


def use_threads(count: int) -> None:
    """Let loops take so many threads from now on; no result depends on it."""
    if count < 1:
        raise ValueError(f"{count} threads cannot work; 1 or more can")
    _state["threads"] = count


def each(work: Callable[[Job], Result], jobs: Iterable[Job]) -> list[Result]:
    """What `work` makes of every job, in the order of the jobs."""
    with ThreadPoolExecutor(threads()) as pool:
        return list(pool.map(work, jobs))
