"""Scores as a table, JSON or CSV."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from magnetite.cli.options import OutputFormat, note
from magnetite.cli.output import print_csv, print_json, print_table, say
from magnetite.core.quantities import abbreviated, figure, figures
from magnetite.files.tables import Cell

if TYPE_CHECKING:
    from magnetite.core.analysis.repeats import Summary
    from magnetite.core.chain.step import Step
    from magnetite.core.methods.declarations import Figure
    from magnetite.core.operations.score import Scores
    from magnetite.core.picture import Frame
    from magnetite.core.picture.region import Region
    from magnetite.core.picture.rows import Allowance, Rows
    from magnetite.files.reading import CodedFile

#: Tables of more metrics than this are turned on their side.
MOST_COLUMNS = 6

Summaries = Mapping[str, Mapping[str, "Summary"]]


@dataclass(frozen=True)
class Row:
    """One test and its scores."""

    reference: Path
    frame: Frame
    test: Path
    scores: Scores
    #: The part of the picture that was scored; None for all of it.
    part: Region | None = None
    #: Of a compressed test: bytes and rate of its file.
    coded: CodedFile | None = None

    @property
    def bytes(self) -> int | None:
        """Bytes of a compressed test's file."""
        return None if self.coded is None else self.coded.size

    @property
    def bpp(self) -> float | None:
        """Rate of a compressed test's file, bits per pixel of the whole picture."""
        return None if self.coded is None else self.coded.bpp


def print_rows(
    rows: list[Row], steps: list[Step], summaries: Summaries, format: OutputFormat
) -> None:
    """All rows, then the summary of repeats."""
    _say_left_out([(str(row.test), row.scores.left_out) for row in rows])
    steps = [step for step in steps if any(str(step) in row.scores for row in rows)]
    if format is OutputFormat.json:
        print_json(_as_json(rows, summaries))
    elif format is OutputFormat.csv:
        _print_csv(rows, [str(step) for step in steps], summaries)
    else:
        _print_scores(rows, steps, mark=not summaries)
        for reference, summary in summaries.items():
            _print_summary(reference, steps, summary)


def _as_json(rows: list[Row], summaries: Summaries) -> dict[str, Any]:
    content: dict[str, Any] = {
        "rows": [
            {
                "reference": str(row.reference),
                "test": str(row.test),
                "identical": row.scores.identical,
                "peak": row.frame.full_scale,
                **({"shift": row.scores.shift._asdict()} if row.scores.shift else {}),
                **({} if row.bytes is None else {"bytes": row.bytes, "bpp": row.bpp}),
                "scores": dict(row.scores),
                **({"left_out": row.scores.left_out} if row.scores.left_out else {}),
            }
            for row in rows
        ]
    }
    if summaries:
        content["repeats"] = [
            {"reference": name, "scores": {k: asdict(v) for k, v in summary.items()}}
            for name, summary in summaries.items()
        ]
    return content


def _print_csv(rows: list[Row], labels: list[str], summaries: Summaries) -> None:
    """A line for each test; of repeats a line for each metric instead."""
    if summaries:
        titles = ["reference", "metric", "number", "mean", "sd", "low", "high"]
        lines: list[list[Cell]] = [
            [name, label, *asdict(summary).values()]
            for name, by_label in summaries.items()
            for label, summary in by_label.items()
        ]
    else:
        shifted = any(row.scores.shift for row in rows)
        rated = any(row.bytes is not None for row in rows)
        titles = ["reference", "test", *labels, "identical"]
        titles += ["right", "down", "shift error"] * shifted + ["bytes", "bpp"] * rated
        partial = [label for label in labels if any(label not in row.scores for row in rows)]
        titles += ["left out"] * bool(partial)
        lines = [
            [
                str(row.reference), str(row.test), *(row.scores.get(label) for label in labels),
                str(row.scores.identical).lower(), *(row.scores.shift or ()),
                *((row.bytes, row.bpp) if rated else ()),
                *((left_out_words(row.scores.left_out, partial),) if partial else ()),
            ]
            for row in rows
        ]  # fmt: skip
    print_csv(titles, lines)


def _print_scores(rows: list[Row], steps: list[Step], *, mark: bool) -> None:
    """A row for each test; where the metrics are many, a row for each of them instead."""
    from magnetite.core.methods.declarations import ColourPolicy, Figure

    colour = any(row.frame.channels > 1 for row in rows)
    titles = [heading(step.declared(Figure), str(step), colour=colour) for step in steps]
    references = list(dict.fromkeys(row.reference for row in rows))
    cells = [
        [
            cell
            for reference in references
            for cell in _marked(
                step,
                [row.scores.get(str(step)) for row in rows if row.reference == reference],
                mark=mark,
            )
        ]
        for step in steps
    ]
    colours = any(step.method.colour is ColourPolicy.RGB for step in steps)
    caption = _caption(rows) + ("; colours taken as sRGB, white D65" if colours else "")
    caption += "; * the best" if mark and len(rows) > len(references) else ""
    rated = any(row.bytes is not None for row in rows)
    rates, sizes = [row.bpp for row in rows], [row.bytes for row in rows]
    if len(steps) <= MOST_COLUMNS:
        marks = [["identical" if row.scores.identical else "" for row in rows]]
        columns = zip(*cells, *([rates, sizes] if rated else []), *marks, strict=True)
        lines = [[str(row.test), *line] for row, line in zip(rows, columns, strict=True)]
        print_table(["test", *titles, *["bpp", "bytes"] * rated, ""], lines, caption)
    else:
        lines = [[title, *line] for title, line in zip(titles, cells, strict=True)]
        if rated:
            lines += [["bpp", *figures(rates)], ["bytes", *figures(sizes)]]
        print_table(
            ["metric", *(str(row.test) for row in rows)],
            lines,
            caption,
            families=families_of(steps),
        )


def families_of(steps: Sequence[Step]) -> dict[int, str]:
    """Names of families by the number of their first method; none where there is one family."""
    names = [step.method.function.__module__.rpartition(".")[2].replace("_", " ") for step in steps]
    first = {k: name for k, name in enumerate(names) if k == 0 or names[k - 1] != name}
    return first if len(first) > 1 else {}


def _caption(rows: list[Row]) -> str:
    first = rows[0]
    words = f"reference {first.reference} ({first.frame.describe()}"
    if len({row.reference for row in rows}) > 1:
        words = f"references of the same names in {first.reference.parent} (the first "
        words += first.frame.describe()
    if first.part is not None:
        words += f", region {first.part}"
    return (
        f"{words}); peak {first.frame.full_scale:g}; dn are those of 8 bits; "
        "↑ more is better, ↓ less"
    )


def _marked(step: Step, values: list[float | None], *, mark: bool) -> list[str]:
    """Figures as text; if asked, the best of several with a star."""
    known = [value for value in values if value is not None]
    from magnetite.core.methods.declarations import Metric

    higher = step.declared(Metric).better == "higher"
    best = (max if higher else min)(known, default=None)
    tells = mark and len(known) > 1 and any(value != best for value in known)
    texts = figures(values)
    if not tells:
        return texts
    return [f"{text}{'*' if v == best else ' '}" for text, v in zip(texts, values, strict=True)]


def _print_summary(reference: str, steps: list[Step], summary: Mapping[str, Summary]) -> None:
    from magnetite.core.analysis.repeats import ALL_REFERENCES
    from magnetite.core.methods.declarations import Figure

    lines: list[list[Cell]] = [
        [heading(step.declared(Figure), str(step)), one.mean, one.sd, one.low, one.high]
        for step in steps
        if (one := summary.get(str(step))) is not None
    ]
    number = next(iter(summary.values())).number
    of = f"{number} repeats of {reference}"
    if reference == ALL_REFERENCES:
        of = f"means of {number} references"
    say()
    print_table(
        ["repeats", "mean", "sd", "95 % from", "to"], lines,
        f"{of}; the interval is that of the mean (Student)",
    )  # fmt: skip


def _say_left_out(left_out: Sequence[tuple[str, Mapping[str, str]]]) -> None:
    """Say why figures are missing: once where that holds of all pictures, else with their names."""
    found: dict[tuple[str, str], list[str]] = {}
    for name, reasons in left_out:
        for label, reason in reasons.items():
            found.setdefault((label, reason), []).append(name)
    for (label, reason), names in found.items():
        of = "" if len(names) == len(left_out) else f" of {abbreviated(names)}"
        note(f"{label}{of} left out: {reason}")


def left_out_words(left_out: Mapping[str, str], labels: Sequence[str]) -> str:
    """Reasons of the figures that a row lacks, for one cell."""
    return "; ".join(f"{k}: {reason}" for k, reason in left_out.items() if k in labels)


def heading(method: Figure, label: str | None = None, *, colour: bool = False) -> str:
    """Column title of a metric: label, unit, direction; of colour, the channels scored."""
    from magnetite.core.methods.declarations import ColourPolicy

    unit = f" {method.unit}" if method.unit else ""
    arrow = {"higher": " ↑", "lower": " ↓", None: ""}[method.direction]
    luma = " luma" if colour and method.colour is ColourPolicy.LUMA else ""
    return f"{label or method.name}{unit}{arrow}{luma}"


def score_words(reference: Rows, test: Rows, allowance: Allowance | None = None) -> str:
    """PSNR, and SSIM where its window fits, in words: `PSNR 34.21 dB, SSIM 0.9312`."""
    from magnetite.core.chain.step import Step
    from magnetite.core.operations.score import Pair, score_steps
    from magnetite.core.picture.matching import check_comparable
    from magnetite.core.picture.rows import UNBOUNDED

    check_comparable(reference, test)
    steps = Step("metric", "psnr"), Step("metric", "ssim")
    pair = Pair(reference, test)
    scores = score_steps(pair, steps, strict=False, allowance=allowance or UNBOUNDED)
    if scores.identical:
        return "identical"
    words = [f"PSNR {figure(scores['psnr'])} dB"]
    return ", ".join(words + ([f"SSIM {figure(scores['ssim'])}"] if "ssim" in scores else []))
