"""Plans and their tables, as a library user calls them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from magnetite.core.errors import FileError, InputError
from magnetite.core.operations.aim import Target
from magnetite.core.picture import Picture
from magnetite.experiment.cluster import Cluster
from magnetite.experiment.executors import local
from magnetite.experiment.guarantee import GUARANTEE, need_of
from magnetite.experiment.ledger import NAME, Ledger
from magnetite.experiment.plan_reading import kept_text, read_plan
from magnetite.experiment.prediction import NewPicture, known_pictures, predicted_rates
from magnetite.experiment.results import RunTable, read_rows
from magnetite.experiment.runner import Listener, Outcome
from magnetite.experiment.runner import run as carry_out
from magnetite.experiment.summary import chosen_tables
from magnetite.experiment.tasks import PlanJob
from magnetite.experiment.two_runs import compared
from magnetite.files.atomic import inside, write_bytes
from magnetite.files.opening import read_text

#: The copy of the plan in the folder of its run.
KEPT = "plan.toml"
#: Groups of the tables unless others are named.
_GROUPS = "degradation,treatment"


def run(
    plan: Path | str,
    into: Path | str | None = None,
    *,
    workers: int | None = None,
    cluster: str | None = None,
    commands: tuple[Path, ...] = (),
    listener: Listener = lambda done, total, failed: None,
) -> Outcome:
    """Carry out a plan into a folder; rows that are done already are reused.

    Parameters
    ----------
    plan : path
        Of the plan, a TOML file.
    into : path, optional
        Folder of the run; that named after the plan if left out, and the plan's own where it is the
        copy that a run has kept.
    workers : int, optional
        Processes; one for each core if left out, none for 1. They run a script that declares
        methods of its own once more, which then calls this below `if __name__ == "__main__":`.
    cluster : str, optional
        Address of a Dask scheduler, instead of processes.
    commands : tuple of Path
        Files of the user's own commands, for the workers.
    listener : function
        Called with the number of rows done, that of all, and that of failed ones.

    Returns
    -------
    Outcome
        Counts of rows computed, reused and failed; the rows are in the ledger.

    Raises
    ------
    PlanError
        If the plan cannot be carried out.
    FileError
        If a file is missing or cannot be written.

    Examples
    --------
    >>> import magnetite
    >>> from pathlib import Path
    >>> _ = magnetite.write(magnetite.scenes((96, 72))["clay-core"], "core.png")
    >>> _ = Path("plan.toml").write_text('''
    ... references.files = ["core.png"]
    ... degradations.noisy = "gaussian-noise sd=4%"
    ... treatments.nothing = "nothing"
    ... treatments.median = "median size=3"
    ... ''')
    >>> magnetite.run("plan.toml", workers=1).computed
    2
    >>> magnetite.run("plan.toml", workers=1).reused
    2
    """
    plan = Path(plan)
    folder = folder_of(plan) if into is None else Path(into)
    wanted = read_plan(plan)
    job = PlanJob.of(wanted, plan.parent)
    if cluster is not None and workers is not None:
        raise InputError("--workers are processes of this machine; a cluster has its own")
    executor = local(workers, commands) if cluster is None else Cluster(cluster, commands)
    is_copy = plan.resolve() == (folder / KEPT).resolve()
    kept = None if is_copy else kept_text(plan, wanted.base, folder)
    done = carry_out(job, read_text(plan), folder, executor, listener)
    if kept is not None:
        write_bytes(inside(folder, KEPT), kept.encode())
    return done


def folder_of(plan: Path) -> Path:
    """The folder of a plan's run: its own where it is the copy that a run has kept.

    Raises
    ------
    FileError
        If the path has no name, as that of a folder.
    """
    if not plan.name:
        raise FileError(f"{plan} is a folder: name the file of a plan")
    if plan.name == KEPT and (plan.parent / NAME).is_file():
        return plan.parent
    return plan.with_suffix("")


def predict(
    folder: Path | str, pictures: Sequence[Picture], need: str, *, confidence: float = 0.9
) -> RunTable:
    """The rate that new pictures need, from the pictures of a run, with an interval.

    Parameters
    ----------
    folder : path
        Of a run that sweeps a codec.
    pictures : sequence of Picture
        Clean ones, taken and converted as the run's references were.
    need : str
        A metric with its bound, such as `ssim>=0.95`.
    confidence : float
        Of the interval, 0.5 to 1.

    Returns
    -------
    RunTable
        A row for each picture, degradation and treatment; notes on missing rates.

    Raises
    ------
    FileError
        If the folder holds no run.
    InputError
        If the run has no references like a picture, or no curves for the need.

    Examples
    --------
    >>> import magnetite
    >>> from pathlib import Path
    >>> for k in range(4):
    ...     core = magnetite.scenes((96, 72), seed=k)["clay-core"]
    ...     _ = magnetite.write(core, f"core-{k}.png")
    >>> _ = Path("plan.toml").write_text('''
    ... references.files = ["core-1.png", "core-2.png", "core-3.png"]
    ... treatments.coded = "dct step=2%,4%,8%,16%"
    ... scores.metrics = "psnr"
    ... ''')
    >>> _ = magnetite.run("plan.toml", workers=1)
    >>> made = magnetite.predict("plan", ["core-0.png"], "psnr>=36")
    >>> made.frame[["treatment", "references"]].values.tolist()
    [['coded', 3]]
    """
    if not 0.5 <= confidence < 1:
        raise InputError(f"confidence {100 * confidence:g} %: 50 % or more, below 100 %")
    new = list(map(NewPicture.of, pictures))
    made = predicted_rates(read_rows(Path(folder)), Target.parse(need), new, confidence)
    ledger = Ledger(Path(folder), writable=False)
    try:
        known = known_pictures(new, ledger.digests())
        return replace(made, notes=(*made.notes, *known))
    finally:
        ledger.close()


def summarize(
    folder: Path | str, table: str | None = None, *, by: str = _GROUPS,
    metric: str | None = None, need: str | Sequence[str] = (), share: float | None = None,
    confidence: float | None = None, other: Path | str | None = None,
) -> list[RunTable]:  # fmt: skip
    """The tables of a run: means, ranking, rates, agreement, references, cost, noticed.

    The table `guarantee` is made on demand: of the settings at which the next picture meets a need.

    Parameters
    ----------
    folder : path
        Of the run.
    table : str, optional
        Name of a single table; all if left out.
    by : str
        Groups of means and rankings, separated by commas.
    metric : str, optional
        Of ranking and rates; the run's first if left out.
    need : str or sequence of str
        Of the guarantee: figures with a bound, such as `ssim>=0.95`; all are to be met.
    share, confidence : float, optional
        Of the guarantee: share of new references that meet the need, and the confidence in it;
        0.95 and 0.9 if left out.
    other : path, optional
        Of another run: the one table is that of paired differences, other less this one.

    Returns
    -------
    list of RunTable
        Each with a pandas data frame, a caption and notes.

    Raises
    ------
    FileError
        If the folder holds no run.
    InputError
        If a group or the table is unknown, no rows suit the table, or an argument does not go
        with it.

    Examples
    --------
    >>> import magnetite
    >>> from pathlib import Path
    >>> _ = magnetite.write(magnetite.scenes((96, 72))["clay-core"], "core.png")
    >>> _ = Path("plan.toml").write_text('''
    ... references.files = ["core.png"]
    ... degradations.noisy = "gaussian-noise sd=4%"
    ... treatments.nothing = "nothing"
    ... treatments.median = "median size=3"
    ... ''')
    >>> _ = magnetite.run("plan.toml", workers=1)
    >>> [table.name for table in magnetite.summarize("plan")]
    ['means', 'ranking', 'references', 'cost']
    """
    asked = table == GUARANTEE and other is None
    wanted = need_of(need, share, confidence, asked=asked, where=f"--table {GUARANTEE}")
    if other is not None:
        if table is not None or metric is not None or by != _GROUPS:
            raise InputError(
                "--table, --metric and --by are of one run; two have a table of differences"
            )
        return [compared(Path(folder), Path(other))]
    return chosen_tables(read_rows(Path(folder)), by.split(","), metric, table, wanted)
