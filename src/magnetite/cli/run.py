"""`magnetite run`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import limits, note
from magnetite.cli.output import print_table, say, say_done
from magnetite.cli.progress import cells_done
from magnetite.core.errors import InputError
from magnetite.core.quantities import counted
from magnetite.core.table import Table

#: Exit status of a run with failed rows.
FAILED = 3


def run(
    plan: Annotated[
        Path | None, typer.Argument(metavar="[PLAN.toml]", help="The experiment, as a TOML file.")
    ] = None,
    into: Annotated[
        Path | None,
        typer.Option(
            help="Folder of the run; the plan's name without its ending if left out. What it holds "
            "already is not computed again.",
            metavar="FOLDER",
        ),
    ] = None,
    workers: Annotated[
        int | None, typer.Option(help="Processes; one for each core if left out.", min=1, max=256)
    ] = None,
    cluster: Annotated[
        str | None,
        typer.Option(help="Scheduler of a Dask cluster that does the work.", metavar="ADDRESS"),
    ] = None,
    dry: Annotated[
        bool, typer.Option("--dry", help="Say how large the experiment is, and compute nothing.")
    ] = False,
    status: Annotated[
        Path | None,
        typer.Option(help="Say how far the run in a folder is, and stop.", metavar="FOLDER"),
    ] = None,
    starter: Annotated[
        Path | None,
        typer.Option(help="Write a plan to begin with, with remarks, and stop.", metavar="PLAN"),
    ] = None,
) -> int:
    given = [name for name, value in (("PLAN.toml", plan), ("--status", status),
                                      ("--starter", starter)) if value is not None]  # fmt: skip
    if len(given) != 1:
        raise InputError(f"name one of PLAN.toml, --status and --starter, not {len(given)}")
    if status is not None:
        return _say_status(status)
    if starter is not None:
        return _write_starter(starter)
    assert plan is not None
    return _run(plan, into, workers, cluster, dry)


def _run(plan: Path, into: Path | None, workers: int | None, cluster: str | None, dry: bool) -> int:
    from magnetite.experiment.export import exported
    from magnetite.experiment.front import run as carry_out
    from magnetite.experiment.plan import PlanError
    from magnetite.experiment.plan_reading import read_plan

    try:
        if dry:
            from magnetite.experiment.sizing import size_of

            for line in size_of(read_plan(plan), plan.parent).lines():
                say(line)
            return 0
        with cells_done(plan.name) as listener:
            done = carry_out(
                plan, into, workers=workers, cluster=cluster, commands=limits.commands,
                listener=listener,
            )  # fmt: skip
    except PlanError as error:
        for line in error.lines[:-1]:
            note(line)
        raise InputError(error.lines[-1]) from None
    folder = done.folder
    for text in done.notes:
        note(text)
    say(
        f"{counted(done.cells, 'row')}: {done.computed} computed, {done.reused} taken from before, "
        f"{done.failed} failed; {done.seconds:.1f} s"
    )
    if done.failed:
        _say_failures(folder)
    say_done(f"wrote {' and '.join(map(str, exported(folder)))}")
    say(f"next: magnetite summarize {folder}")
    return FAILED if done.failed else 0


def _say_status(folder: Path) -> int:
    from magnetite.experiment.runner import status_of

    cells, done, failed, _ = status_of(folder)
    missing = cells - done - failed
    say(f"{folder}: {counted(cells, 'row')}, {done} done, {failed} failed, {missing} missing")
    if failed:
        _say_failures(folder)
    return FAILED if failed else 0


def _say_failures(folder: Path) -> None:
    from magnetite.experiment.runner import status_of

    failures = status_of(folder)[3]
    reasons: dict[str, list[str]] = {}
    for reference, degradation, treatment, reason in failures:
        reasons.setdefault(reason, []).append(f"{reference}, {degradation}, {treatment}")
    print_table(
        Table.of(
            ["rows", "reason", "such as"],
            [[len(rows), reason, rows[0]] for reason, rows in reasons.items()],
        )
    )


def _write_starter(path: Path) -> int:
    from magnetite.experiment.starter import STARTER
    from magnetite.files.atomic import write_bytes

    if path.exists():
        raise InputError(f"{path}: exists already; name a new file")
    write_bytes(path, STARTER.encode())
    say_done(f"wrote {path}; it takes the pictures in trays/: magnetite scenes trays")
    say(f"next: magnetite run {path} --dry")
    return 0
