"""Scores as a table, JSON or CSV."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from magnetite.cli.formats import Output, OutputFormat, emit
from magnetite.cli.options import note
from magnetite.cli.output import print_table, say
from magnetite.core.quantities import abbreviated, figure
from magnetite.core.quantities import figures as as_texts
from magnetite.core.table import Column, Table

if TYPE_CHECKING:
    from magnetite.core.analysis.repeats import Summary
    from magnetite.core.chain.step import Step
    from magnetite.core.methods.declarations import Method
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
    #: Other restrictions of the scores, such as `luma`.
    only: tuple[str, ...] = ()

    @property
    def scored(self) -> str | None:
        """The restrictions of the scores in words; None where all samples count as they are."""
        region = () if self.part is None else (f"region {self.part}",)
        return ", ".join((*region, *self.only)) or None

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
    from magnetite.core.operations.selection import score_column

    _say_left_out([(str(row.test), row.scores.left_out) for row in rows])
    colour = any(row.frame.channels > 1 for row in rows)
    figures = {
        column: step
        for step in steps
        for column in [score_column(step, within="scores", colour=colour)]
        if any(column.name in row.scores for row in rows)
    }
    table, repeats = _table(rows, list(figures)), _repeats(summaries)

    def people() -> None:
        print_table(_for_people(rows, figures, mark=not summaries and _alike(rows)))
        for reference, summary in summaries.items():
            _print_summary(reference, list(figures), summary)

    document: dict[str, Any] = {"rows": table.records()}
    if summaries:
        document["repeats"] = [
            {"reference": name, "scores": {k: asdict(v) for k, v in summary.items()}}
            for name, summary in summaries.items()
        ]
    emit(format, Output([repeats] if summaries else [table], document, people))


def _alike(rows: list[Row]) -> bool:
    """Whether all tests are scored on one part: each shift that was undone leaves its own."""
    shifts = [row.scores.shift for row in rows]
    return len({shift and (round(shift.right), round(shift.down)) for shift in shifts}) == 1


def _table(rows: list[Row], figures: list[Column]) -> Table:
    """A row for each test."""
    columns = [
        Column("reference"), Column("test"), *figures,
        Column("identical"), Column("peak"),
        *(Column(name, "px", None, "shift", True) for name in ("right", "down")),
        Column("error", "px", None, "shift", True, flat="shift error"),
        Column("bytes", optional=True), Column("bpp", optional=True),
        Column("measured_part", optional=True, flat="measured part"),
        Column("left_out", optional=True, flat="left out"),
    ]  # fmt: skip
    lines = [
        [
            str(row.reference), str(row.test), *(row.scores.get(one.name) for one in figures),
            row.scores.identical, row.frame.full_scale, *(row.scores.shift or (None,) * 3),
            row.bytes, row.bpp, row.scored, row.scores.left_out or None,
        ]
        for row in rows
    ]  # fmt: skip
    return Table.of(columns, lines)


def _repeats(summaries: Summaries) -> Table:
    """Of repeats a row for each metric."""
    return Table.of(
        ["reference", "metric", "number", "mean", "sd", "low", "high"],
        [
            [name, label, *asdict(summary).values()]
            for name, by_label in summaries.items()
            for label, summary in by_label.items()
        ],
    )


def _for_people(rows: list[Row], figures: Mapping[Column, Step], *, mark: bool) -> Table:
    """A row for each test; where the metrics are many, a row for each of them instead."""
    from magnetite.core.methods.declarations import ColourPolicy

    references = list(dict.fromkeys(row.reference for row in rows))
    cells = [
        [
            cell
            for reference in references
            for cell in _marked(
                [row.scores.get(column.name) for row in rows if row.reference == reference],
                higher=column.direction == "higher",
                mark=mark,
            )
        ]
        for column in figures
    ]
    methods = [step.method for step in figures.values()]
    colours = any(method.colour is ColourPolicy.RGB for method in methods)
    caption = _caption(rows) + ("; colours taken as sRGB, white D65" if colours else "")
    caption += "; * the best" if any("*" in text for own in cells for text in own) else ""
    rated = any(row.bytes is not None for row in rows)
    caption += "; bpp and bytes of the whole file" if rated and rows[0].part is not None else ""
    rates, sizes = [row.bpp for row in rows], [row.bytes for row in rows]
    if len(figures) <= MOST_COLUMNS:
        marks = [["identical" if row.scores.identical else "" for row in rows]]
        columns = zip(*cells, *([rates, sizes] if rated else []), *marks, strict=True)
        lines = [[str(row.test), *line] for row, line in zip(rows, columns, strict=True)]
        return Table.of(["test", *figures, *["bpp", "bytes"] * rated, ""], lines, caption)
    lines = [[one.heading, *line] for one, line in zip(figures, cells, strict=True)]
    if rated:
        lines += [["bpp", *as_texts(rates)], ["bytes", *as_texts(sizes)]]
    heads = ["metric", *(str(row.test) for row in rows)]
    return Table.of(heads, lines, caption, families=families_of(methods))


def families_of(methods: Sequence[Method]) -> dict[int, str]:
    """Names of families by the number of their first method; none where there is one family."""
    names = [one.function.__module__.rpartition(".")[2].replace("_", " ") for one in methods]
    first = {k: name for k, name in enumerate(names) if k == 0 or names[k - 1] != name}
    return first if len(first) > 1 else {}


def _caption(rows: list[Row]) -> str:
    first = rows[0]
    words = f"reference {first.reference} ({first.frame.describe()}"
    if len({row.reference for row in rows}) > 1:
        words = f"references of the same names in {first.reference.parent} (the first "
        words += first.frame.describe()
    if first.scored is not None:
        words += f", {first.scored}"
    peaks = sorted({row.frame.full_scale for row in rows})
    peak = f"peak{'s' * (len(peaks) > 1)} {' and '.join(f'{one:g}' for one in peaks)}"
    return f"{words}); {peak}; dn are those of 8 bits; ↑ more is better, ↓ less"


def _marked(values: list[float | None], *, higher: bool, mark: bool) -> list[str]:
    """Figures as text; if asked, the best of several with a star."""
    known = [value for value in values if value is not None]
    best = (max if higher else min)(known, default=None)
    tells = mark and len(known) > 1 and any(value != best for value in known)
    texts = as_texts(values)
    if not tells:
        return texts
    return [f"{text}{'*' if v == best else ' '}" for text, v in zip(texts, values, strict=True)]


def _print_summary(reference: str, figures: list[Column], summary: Mapping[str, Summary]) -> None:
    from magnetite.core.analysis.repeats import ALL_REFERENCES

    lines = [
        [column.heading, one.mean, one.sd, one.low, one.high]
        for column in figures
        if (one := summary.get(column.name)) is not None
    ]
    number = next(iter(summary.values())).number
    of = f"{number} repeats of {reference}"
    if reference == ALL_REFERENCES:
        of = f"means of {number} references"
    say()
    caption = f"{of}; the interval is that of the mean (Student)"
    print_table(Table.of(["repeats", "mean", "sd", "95 % from", "to"], lines, caption))


def _say_left_out(left_out: Sequence[tuple[str, Mapping[str, str]]]) -> None:
    """Say why figures are missing: once where that holds of all pictures, else with their names."""
    found: dict[tuple[str, str], list[str]] = {}
    for name, reasons in left_out:
        for label, reason in reasons.items():
            found.setdefault((label, reason), []).append(name)
    for (label, reason), names in found.items():
        of = "" if len(names) == len(left_out) else f" of {abbreviated(names)}"
        note(f"{label}{of} left out: {reason}")


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
