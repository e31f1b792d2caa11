"""Tasks whose worker died are tried again, whatever executor ran them."""

from __future__ import annotations

from collections.abc import Iterator

from magnetite.core.errors import InputError
from magnetite.experiment.executors import Executor, Lost
from magnetite.experiment.tasks import Task
from magnetite.experiment.work import Done

#: A task whose worker dies is tried so often.
TRIES = 3
#: Workers may die this often in a row, each with all that it has in flight, before the run is
#: given up.
_MOST_DEATHS = 10


def completed(executor: Executor, tasks: Iterator[Task]) -> Iterator[tuple[Task, list[Done]]]:
    """The results of all tasks, in the order of completion.

    A lost task is tried again alone, so that others in flight do not count as lost with it; one
    that is lost `TRIES` times fails.

    Raises
    ------
    InputError
        If workers die as soon as they begin.
    """
    lost: list[Task] = []
    in_a_row, most = 0, _MOST_DEATHS * (2 * executor.workers + 1)

    def run(tasks: Iterator[Task]) -> Iterator[tuple[Task, list[Done]]]:
        nonlocal in_a_row
        for task, found in executor.run(tasks):
            if not isinstance(found, Lost):
                in_a_row = 0
                yield task, found
                continue
            lost.append(task)
            in_a_row += 1
            if in_a_row > most:
                raise InputError("workers end as soon as they begin; --workers 1 shows why")

    yield from run(tasks)
    for task in list(lost):
        for _ in range(TRIES - 1):
            lost.clear()
            yield from run(iter([task]))
            if not lost:
                break
        else:
            yield task, _failed(task)


def _failed(task: Task) -> list[Done]:
    reason = f"its worker died {TRIES} times: out of memory, or a method that crashes"
    return [Done(work.cell.key, reason) for work in task.works]
