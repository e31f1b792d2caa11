"""`magnetite gate`: fit a rule that accepts or rejects pictures, and ask it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import FullScaleOption, load, note, protect, stated_share
from magnetite.cli.output import print_table, say, say_done
from magnetite.core.errors import InputError
from magnetite.core.quantities import significant
from magnetite.core.table import Table

if TYPE_CHECKING:
    from magnetite.core.gate.fit import Fitted
    from magnetite.core.gate.gate import Gate, Verdict
    from magnetite.core.picture import Picture

app = typer.Typer(no_args_is_help=True, rich_markup_mode="rich")
#: Exit status where a picture is rejected.
REJECTED = 1


@app.command("fit")
def fit_command(
    table: Annotated[
        Path | None, typer.Argument(metavar="[TABLE.csv]", help="Figures from score, gauge or run.")
    ] = None,
    label: Annotated[
        str | None,
        typer.Option(help="Column of labels: accepted and rejected, or scores.", metavar="COLUMN"),
    ] = None,
    labels: Annotated[
        Path | None,
        typer.Option(help="Table of pictures and labels, if TABLE has none.", metavar="CSV"),
    ] = None,
    accepted: Annotated[
        Path | None, typer.Option(help="Folder of accepted pictures.", metavar="FOLDER")
    ] = None,
    rejected: Annotated[
        Path | None, typer.Option(help="Folder of rejected pictures.", metavar="FOLDER")
    ] = None,
    metrics: Annotated[
        str | None, typer.Option(help="Figures to take; all that are there if left out.")
    ] = None,
    group: Annotated[
        str | None,
        typer.Option(
            help="Column that names the references; of folders, a regular expression that finds "
            "the reference in a picture's name, as in '^\\[a-z]+'.",
            metavar="COLUMN",
        ),
    ] = None,
    false_accepts: Annotated[
        str | None,
        typer.Option(
            help="Largest share of the rejected pictures of new references that passes; 5% if "
            "left out.",
            metavar="SHARE",
        ),
    ] = None,
    confidence: Annotated[
        str | None,
        typer.Option(help="Confidence of that promise; 90% if left out.", metavar="SHARE"),
    ] = None,
    least: Annotated[
        float | None, typer.Option(help="Predicted score from which on to accept.", metavar="SCORE")
    ] = None,
    out: Annotated[Path, typer.Option(help="Gate to write, a JSON file.", metavar="GATE")] = Path(
        "gate.json"
    ),
) -> None:
    """Fit a gate to labelled pictures: a table with labels, or two folders."""
    from magnetite.experiment.gating import check_gate_path, fit_gate, save_gate

    protect([path for path in (table, labels) if path is not None], [out])
    check_gate_path(out)
    fitted = fit_gate(
        table, label=label, labels=labels, accepted=accepted, rejected=rejected, metrics=metrics,
        group=group, false_accepts=stated_share("--false-accepts", false_accepts),
        confidence=stated_share("--confidence", confidence), least=least,
    )  # fmt: skip
    for remark in fitted.remarks:
        note(remark)
    _print_fit(fitted)
    save_gate(fitted, out)
    say_done(f"wrote {out}")


def _print_fit(fitted: Fitted) -> None:
    if fitted.singles:
        print_table(Table.of(
            ["figure alone", "accepts", "area", "95 % from", "to", "threshold", "false accepts %",
             "false rejects %"],
            [[*s[:6], 100 * s.false_accepts, 100 * s.false_rejects] for s in fitted.singles],
            "area under the ROC curve; rates on the pictures that the thresholds were set on",
        ))  # fmt: skip
        say()
    gate = fitted.gate
    print_table(
        Table.of(
            ["rule of", "weight per sd", "mean", "sd"],
            [[f.name, f.weight, f.mean, f.sd] for f in gate.features],
            f"accepts from {significant(gate.threshold, 4)} on; {gate.facts['pictures']} pictures "
            f"of {gate.facts['references']} references",
        )
    )
    say()
    print_table(
        Table.of(
            ["rule, on references it had not seen", "value", "95 % from", "to"],
            [[name, *found] for name, found in fitted.results.items()],
            "" if fitted.promise is None else f"the gate {fitted.promise.words}",
        )
    )


@app.command("check")
def check_command(
    gate: Annotated[Path, typer.Argument(metavar="GATE", help="Gate, from gate fit.")],
    pictures: Annotated[
        list[Path],
        typer.Argument(
            metavar="PICTURE…", help="Pictures to accept or reject, or folders of them."
        ),
    ],
    reference: Annotated[
        list[Path] | None,
        typer.Option(
            help="Clean picture that metrics compare with: one for all, or one for each, in their "
            "order.",
            metavar="REF",
        ),
    ] = None,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> int:
    """Accept or reject pictures; exit status 0 where all pass, 1 where one does not."""
    from magnetite import __version__
    from magnetite.core.gate.gate import Verdict
    from magnetite.experiment.gating import check_files, read_gate
    from magnetite.files.pairs import pictures_in

    rule = read_gate(gate)
    check_files(rule)
    paths = [p for path in pictures for p in (pictures_in(path) if path.is_dir() else [path])]
    if not paths:
        raise InputError(f"{pictures[0]}: the folder holds no picture")
    references = _references(rule, paths, reference or [])
    remarks: dict[str, None] = {}
    judged = []
    for path, clean in zip(paths, references, strict=True):
        picture = load(path, full_scale)
        remarks |= dict.fromkeys(rule.remarks_on(picture, __version__))
        judged.append(_verdict(rule, picture, clean, full_scale))
    _print_verdicts(list(zip(paths, judged, strict=True)), format)
    for remark in remarks:
        note(remark)
    for path, verdict in zip(paths, judged, strict=True):
        if isinstance(verdict, str):
            note(f"{path} is not judged: {verdict}")
    passed = all(isinstance(verdict, Verdict) and verdict.accepted for verdict in judged)
    return 0 if passed else REJECTED


def _references(
    rule: Gate, pictures: list[Path], references: list[Path]
) -> list[Path] | list[None]:
    needed = [feature.name for feature in rule.features if feature.kind == "metric"]
    if not needed:
        return [None] * len(pictures)
    if len(references) not in (1, len(pictures)):
        raise InputError(
            f"the gate compares by {', '.join(needed)}: name one --reference, or one for each of "
            f"the {len(pictures)} pictures"
        )
    return references * (len(pictures) if len(references) == 1 else 1)


def _verdict(
    rule: Gate, picture: Picture, reference: Path | None, full_scale: float | None
) -> Verdict | str:
    """The verdict on a picture, or the reason for which it has none."""
    from magnetite.core.errors import PictureError
    from magnetite.core.gate.judging import judge
    from magnetite.files.resources import DiskFiles

    try:
        clean = None if reference is None else load(reference, full_scale)
        return judge(rule, picture, clean, DiskFiles())
    except (PictureError, InputError) as error:
        return str(error)


def _print_verdicts(verdicts: list[tuple[Path, Verdict | str]], format: OutputFormat) -> None:
    titles = ["picture", "verdict", "value", "threshold", "decided by", "outside"]
    rows: list[list[Any]] = [
        [str(path), "not judged", None, None, "", ""] if isinstance(v, str) else
        [str(path), "accepted" if v.accepted else "rejected", v.value, v.threshold, v.decided,
         ", ".join(v.outside)]
        for path, v in verdicts
    ]  # fmt: skip
    records = [
        {"picture": str(path), "accepted": None, "reason": v} if isinstance(v, str) else
        {
            "picture": str(path), "accepted": v.accepted, "value": v.value,
            "threshold": v.threshold, "margin": v.margin, "contributions": v.contributions,
            "outside": list(v.outside),
        }
        for path, v in verdicts
    ]  # fmt: skip
    caption = "outside: beyond the range that the gate was fitted on, where its rates do not hold"
    emit(format, Output([Table.of(titles, rows, caption)], {"rows": records}))
