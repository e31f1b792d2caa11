"""Every executor keeps the same promises; what is lost is tried again, whoever ran it."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest

import magnetite
from magnetite.core.chain.notation import parse_chain
from magnetite.core.errors import InputError
from magnetite.core.operations.selection import NONE, Selection
from magnetite.core.picture import as_picture
from magnetite.experiment.cluster import Cluster
from magnetite.experiment.executors import Alone, Executor, Lost, Processes, Threads
from magnetite.experiment.retrying import TRIES, completed
from magnetite.experiment.tasks import Cell, Source, Task, Work
from magnetite.external import declare
from magnetite.synthetic.catalogue import SCENES
from small_runs import PLAN, picture_at

MSE = Selection.named("metric", "mse")
#: A restoration that kills the worker that runs it.
COMMANDS = f"""
[restoration.dies]
run = ["{sys.executable}", "-c", "import os; os.kill(os.getppid(), 9)", "{{input}}", "{{output}}"]
"""


@pytest.fixture
def source(tmp_path: Path) -> Source:
    """A small reference."""
    path = tmp_path / "r.png"
    magnetite.write(as_picture(np.full((16, 16), 100, np.uint8)), path)
    return Source(str(path))


def tasks_of(source: Source, *treatments: str) -> list[Task]:
    """A task for each treatment of noise with a seed of its own."""
    digest = source.load().digest().hex()
    noise = parse_chain("gaussian-noise sd=5dn", "degradation")
    made = []
    for seed, text in enumerate(treatments):
        cell = Cell("r", digest, "noise", str(noise), 0, seed, text, text)
        work = Work(cell, parse_chain(text, "restoration"), MSE, NONE)
        made.append(Task(source, noise, seed, (work,)))
    return made


@pytest.fixture(scope="module")
def scheduler() -> Iterator[str]:
    """Address of a scheduler with two workers."""
    distributed = pytest.importorskip("distributed")
    with distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, dashboard_address=":0"
    ) as cluster:
        yield cluster.scheduler_address


@pytest.fixture(params=["alone", "threads", "processes", "cluster"])
def make(request: pytest.FixtureRequest) -> Callable[[], Executor]:
    """An executor of each kind."""
    if request.param == "cluster":
        address = request.getfixturevalue("scheduler")
        return lambda: Cluster(address)
    return {"alone": Alone, "threads": lambda: Threads(2), "processes": lambda: Processes(2)}[
        request.param
    ]


class TestEveryExecutor:
    """What the runner relies on."""

    def test_every_task_is_done_once_with_the_results_of_one_process(
        self, make: Callable[[], Executor], source: Source
    ) -> None:
        tasks = tasks_of(source, *["median size=3", "gaussian sigma=1"] * 5)
        wanted = {task.key: found for task, found in Alone().run(iter(tasks))}
        executor = make()
        found = list(executor.run(iter(tasks)))
        executor.stop()
        assert len(found) == len(wanted)
        for task, (done,) in found:
            assert done.scores == wanted[task.key][0].scores
            assert done.scores["mse"] > 0

    def test_a_task_that_fails_is_a_result(
        self, make: Callable[[], Executor], source: Source
    ) -> None:
        tasks = tasks_of(source, "median size=3", "gaussian sigma=1")
        spoiled = tasks[0].works[0].cell
        wrong = Task(Source(source.path + "x"), None, 0, tasks[0].works)
        executor = make()
        found = {task.key: done for task, done in executor.run(iter([wrong, tasks[1]]))}
        executor.stop()
        assert "no such file" in found[wrong.key][0].reason
        assert found[wrong.key][0].key == spoiled.key
        assert found[tasks[1].key][0].reason is None

    def test_tasks_are_drawn_as_they_are_needed(
        self, make: Callable[[], Executor], source: Source
    ) -> None:
        drawn = 0

        def tasks() -> Iterator[Task]:
            nonlocal drawn
            for task in tasks_of(source, *["median size=3"] * 40):
                drawn += 1
                yield task

        executor = make()
        results = executor.run(tasks())
        next(results)
        assert drawn <= 4 * executor.workers + 6
        assert len(list(results)) == 39
        executor.stop()


class Fragile(Alone):
    """Loses tasks of some seeds so many times."""

    def __init__(self, losses: dict[int, int]) -> None:
        self.losses, self.runs = losses, []

    def run(self, tasks: Iterator[Task]) -> Iterator[tuple[Task, object]]:
        self.runs.append(0)
        for task in tasks:
            self.runs[-1] += 1
            if self.losses.get(task.seed, 0) > 0:
                self.losses[task.seed] -= 1
                yield task, Lost()
            else:
                yield from super().run(iter([task]))


def test_lost_tasks_are_tried_again_alone_and_fail_in_the_end(source: Source) -> None:
    tasks = tasks_of(source, *["median size=3"] * 6)
    executor = Fragile({1: 1, 3: TRIES, 4: TRIES - 1})
    found = {task.seed: done for task, (done,) in completed(executor, iter(tasks))}
    assert sorted(found) == [0, 1, 2, 3, 4, 5]
    assert {seed for seed, done in found.items() if done.reason} == {3}
    assert found[3].reason == (
        f"its worker died {TRIES} times: out of memory, or a method that crashes"
    )
    assert executor.runs == [6, 1, 1, 1, 1, 1]


def test_a_run_whose_workers_die_at_once_is_given_up(source: Source) -> None:
    tasks = tasks_of(source, *["median size=3"] * 60)
    with pytest.raises(InputError, match="workers end as soon as they begin"):
        list(completed(Fragile(dict.fromkeys(range(60), 9)), iter(tasks)))


def test_a_worker_process_that_dies_loses_its_task_and_no_other(
    source: Source, tmp_path: Path
) -> None:
    commands = tmp_path / "commands.toml"
    commands.write_text(COMMANDS)
    declare(commands)
    executor = Processes(2, (commands,))
    tasks = tasks_of(source, *["median size=3"] * 4, "dies", "gaussian sigma=1")
    found = {task.seed: done for task, (done,) in completed(executor, iter(tasks))}
    executor.stop()
    assert "its worker died 3 times" in found.pop(4).reason
    assert all(done.reason is None for done in found.values())
    assert len(found) == 5


def test_a_stopped_pool_ends_at_once(source: Source) -> None:
    executor = Processes(2)
    results = executor.run(iter(tasks_of(source, *["median size=3"] * 3)))
    next(results)
    start = time.monotonic()
    executor.stop()
    assert time.monotonic() - start < 30


def test_a_cluster_has_workers_of_its_own(tmp_path: Path) -> None:
    picture_at(tmp_path / "refs" / "0.png", 0)
    (tmp_path / "plan.toml").write_text(PLAN)
    with pytest.raises(InputError, match="a cluster has its own"):
        magnetite.run(tmp_path / "plan.toml", workers=2, cluster="tcp://localhost:1")
    assert not (tmp_path / "plan").exists()


@pytest.mark.long
def test_workers_do_not_run_the_script_again_but_for_methods_of_its_own(tmp_path: Path) -> None:
    magnetite.write(SCENES[0].picture(40, 32, 0), tmp_path / "a.png")
    (tmp_path / "plan.toml").write_text(
        "[references]\nfiles = ['a.png']\n[degradations]\nn = 'gaussian-noise sd=4%,8%'\n"
        "[treatments]\nm = 'median size=3,5'\n"
    )
    plain = (
        "import magnetite\nprint('begun')\nprint(magnetite.run('plan.toml', workers=2).failed)\n"
    )
    own = (
        "import magnetite\n"
        "from magnetite.core.methods.catalogue import ColourPolicy, restoration\n"
        "@restoration('darker', summary='Halve.', colour=ColourPolicy.JOINT, source='own')\n"
        "def darker(pixels):\n    return pixels / 2\n"
        "if __name__ == '__main__':\n"
        "    text = open('plan.toml').read().replace('median size=3,5', 'darker')\n"
        "    open('own.toml', 'w').write(text)\n"
        "    print('begun')\n    print(magnetite.run('own.toml', workers=2).failed)\n"
    )
    for script in (plain, own):
        (tmp_path / "script.py").write_text(script)
        done = subprocess.run(
            [sys.executable, "script.py"], cwd=tmp_path, capture_output=True, text=True
        )
        assert (done.stdout, done.stderr) == ("begun\n0\n", "")
