"""`magnetite run`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import limits, note
from magnetite.cli.output import print_table, say, say_done
from magnetite.cli.progress import cells_done
from magnetite.core.errors import InputError

#: Exit status of a run with failed rows.
FAILED = 3
#: Name of the plan that a run keeps in its folder.
KEPT = "plan.toml"


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
    return _run(plan, into or _folder_of(plan), workers, cluster, dry)


def _folder_of(plan: Path) -> Path:
    """The folder of a plan's run: its own where it is the copy that a run has kept."""
    from magnetite.experiment.ledger import NAME

    if plan.name == KEPT and (plan.parent / NAME).is_file():
        return plan.parent
    return plan.with_suffix("")


def _run(plan: Path, folder: Path, workers: int | None, cluster: str | None, dry: bool) -> int:
    from magnetite.experiment.executors import Cluster, local
    from magnetite.experiment.plan import PlanError, kept_text, read_plan
    from magnetite.experiment.runner import run as carry_out
    from magnetite.experiment.tasks import PlanJob
    from magnetite.files.atomic import write_bytes
    from magnetite.files.reading import read_text

    try:
        wanted = read_plan(plan)
    except PlanError as error:
        for line in error.lines[:-1]:
            note(line)
        raise InputError(error.lines[-1]) from None
    if dry:
        from magnetite.experiment.sizing import size_of

        for line in size_of(wanted, plan.parent).lines():
            say(line)
        return 0
    job = PlanJob.of(wanted, plan.parent)
    executor = (
        local(workers, limits.commands) if cluster is None else Cluster(cluster, limits.commands)
    )
    with cells_done(plan.name) as tell:
        done = carry_out(job, read_text(plan), folder, executor, tell)
    if plan.resolve() != (folder / KEPT).resolve():
        text = kept_text(read_text(plan), plan.parent / wanted.base, folder)
        write_bytes(folder / KEPT, text.encode())
    for text in done.notes:
        note(text)
    say(
        f"{done.cells} rows: {done.computed} computed, {done.reused} taken from before, "
        f"{done.failed} failed; {done.seconds:.1f} s"
    )
    if done.failed:
        _say_failures(folder)
    say_done(f"wrote {folder / 'scores.csv'} and {folder / 'scores.parquet'}")
    say(f"next: magnetite summarize {folder}")
    return FAILED if done.failed else 0


def _say_status(folder: Path) -> int:
    from magnetite.experiment.runner import status_of

    cells, done, failed, _ = status_of(folder)
    say(f"{folder}: {cells} rows, {done} done, {failed} failed, {cells - done - failed} missing")
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
        ["rows", "reason", "such as"],
        [[len(rows), reason, rows[0]] for reason, rows in reasons.items()],
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
