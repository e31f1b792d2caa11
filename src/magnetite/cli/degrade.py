"""`magnetite degrade`."""

from __future__ import annotations

from dataclasses import replace
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import (
    FullScaleOption,
    ReferenceArgument,
    SeedOption,
    StepsArgument,
    limits,
    note,
    protect,
    rows_of,
)
from magnetite.cli.output import print_table, say, say_done
from magnetite.core.quantities import figure, percent, significant
from magnetite.core.table import Table

if TYPE_CHECKING:
    from magnetite.core.operations.certificate import Certificate
    from magnetite.core.operations.degrade import Overflow


class OverflowRule(StrEnum):
    """Treatment of samples outside the range."""

    clip = "clip"
    keep = "keep"
    fail = "fail"


def run(
    ref: ReferenceArgument,
    out: Annotated[Path, typer.Argument(metavar="OUT", help="Degraded picture to write.")],
    steps: StepsArgument,
    seed: SeedOption = 0,
    aim: Annotated[
        str | None,
        typer.Option(
            help="Solve for the setting that is written auto, as in: --aim ssim=0.80; for the "
            "strongest that satisfies 'ssim>=0.80'; of a gauge also a share of that of the clean "
            "picture, as in laplacian-variance=50%.",
            metavar="METRIC=VALUE",
        ),
    ] = None,
    overflow: Annotated[
        OverflowRule | None,
        typer.Option(
            help="Samples beyond the range are clipped (clip); kept in a float TIFF or NPY (keep); "
            "or refused (fail). Left out: digital numbers are clipped, float samples kept.",
            metavar="RULE",
        ),
    ] = None,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Writes OUT and its certificate OUT.cert.json."""
    from magnetite.core.chain.notation import parse_chain
    from magnetite.core.operations.degrade import KINDS, degrading
    from magnetite.files.resources import DiskFiles
    from magnetite.files.sidecar import write_certified
    from magnetite.files.writing import certificate_path, check_output

    sidecar = certificate_path(out)
    chain = parse_chain(steps, *KINDS, auto=aim is not None)
    protect([ref, *map(Path, chain.files)], [out, sidecar])
    source = rows_of(ref, full_scale)
    keeps = overflow is OverflowRule.keep
    check_output(replace(source.frame, bits=None) if keeps else source.frame, out)
    rule: Overflow | None = None if overflow is None else overflow.value
    job = degrading(
        source, chain, seed=seed, overflow=rule, aim=aim, files=DiskFiles(),
        allowance=limits.allowance,
    )  # fmt: skip
    check_output(job.frame, out, banded=job.banded)
    note(job.note)
    messages = write_certified(job, out)
    certificate = job.certificate()
    output = Output(
        [certificate.table()], certificate.as_dict(), lambda: print_certificate(certificate)
    )
    emit(format, output)
    for message in (*_advice(certificate), *messages):
        note(message)
    _say_overflow(certificate)
    if format is OutputFormat.table:
        say_done(f"wrote {out} and {sidecar.name}")


def print_certificate(certificate: Certificate) -> None:
    """The certificate as a table, a row for each finding."""
    titles = ["step", "figure", "unit", "asked", "drawn", "± error", "stored", "verdict"]
    rows: list[list[Any]] = []
    for record in certificate.steps:
        for number, f in enumerate(record.findings):
            step = record.step if number == 0 else ""
            # Figures of different quantities: equal decimal places would hide some.
            numbers = map(figure, (f.asked, f.drawn, f.standard_error, f.stored))
            rows.append([step, f.quantity, f.unit, *numbers, f.verdict])
    caption = f"reference {certificate.reference} ({certificate.picture}), seed {certificate.seed}"
    if certificate.rms_difference is not None:
        size = f"{significant(certificate.rms_difference, 4)} {certificate.amplitude_unit}"
        caption += f"; rms difference as stored {size}"
    print_table(Table.of(titles, rows, caption))
    if (aim := certificate.aim) is not None:
        say(f"aim {aim.metric}{aim.sense}{aim.target:g}: {aim.words}")


def _advice(certificate: Certificate) -> list[str]:
    return [f"{one.step}: {words}" for one in certificate.steps for words in one.advice]


def _say_overflow(certificate: Certificate) -> None:
    clipped = certificate.clipped
    if clipped.low + clipped.high == 0:
        return
    done = "kept outside 0..1" if certificate.overflow == "keep" else "clipped"
    low, high = (percent(count / clipped.total) for count in (clipped.low, clipped.high))
    note(
        f"{percent(clipped.share)} of the samples were {done}: {low} below black, "
        f"{high} above full scale"
    )
