"""`magnetite degrade`."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.larger import in_bands_or_whole, larger_than_memory
from magnetite.cli.options import (
    FullScaleOption,
    ReferenceArgument,
    SeedOption,
    StepsArgument,
    limits,
    load,
    note,
    protect,
)
from magnetite.cli.output import print_table, say, say_done
from magnetite.core.quantities import figure
from magnetite.files.tables import Cell

if TYPE_CHECKING:
    from magnetite.core.operations.banded import DegradedRows
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
) -> None:
    """Writes OUT and its certificate OUT.cert.json."""
    from magnetite import degrade
    from magnetite.core.chain.notation import parse_chain
    from magnetite.core.picture import as_picture
    from magnetite.files.sidecar import certificate_path, write_certified, write_certified_rows
    from magnetite.files.writing import check_output

    sidecar = certificate_path(out)
    chain = parse_chain(steps, "degradation", "codec", auto=aim is not None)
    protect([ref, *map(Path, chain.files)], [out, sidecar])
    if aim is None and (job := _in_bands(ref, full_scale, steps, seed, overflow)):
        write_certified_rows(job, out)
        print_certificate(job.certificate())
        _say_overflow(job.certificate())
        say_done(f"wrote {out} and {sidecar.name}")
        return
    reference = load(ref, full_scale)
    keeps = overflow is OverflowRule.keep
    rule: Overflow | None = None if overflow is None else overflow.value
    check_output(as_picture(reference.pixels(), str(ref)) if keeps else reference, out)
    degraded = degrade(reference, " ".join(steps), seed=seed, overflow=rule, aim=aim)
    messages = write_certified(degraded.picture, out, degraded.certificate.as_dict())
    print_certificate(degraded.certificate)
    for message in messages:
        note(message)
    _say_overflow(degraded.certificate)
    say_done(f"wrote {out} and {sidecar.name}")


def _in_bands(
    ref: Path, full_scale: float | None, steps: list[str], seed: int, overflow: OverflowRule | None
) -> DegradedRows | None:
    """The degradation of a file that is larger than the memory allowed, where bands can do it."""
    large = larger_than_memory(ref, full_scale=full_scale)
    if large is None:
        return None
    from magnetite.core.operations.banded import DegradedRows
    from magnetite.files.resources import DiskFiles

    def work() -> DegradedRows:
        return DegradedRows(
            large[0], " ".join(steps), limits.memory, seed=seed,
            overflow=None if overflow is None else overflow.value, files=DiskFiles(),
        )  # fmt: skip

    return in_bands_or_whole(large[0].frame, work)


def print_certificate(certificate: Certificate) -> None:
    """The certificate as a table, a row for each finding."""
    titles = ["step", "figure", "unit", "asked", "drawn", "± error", "stored", "verdict"]
    rows: list[list[Cell]] = []
    for record in certificate.steps:
        for number, f in enumerate(record.findings):
            step = record.step if number == 0 else ""
            # Figures of different quantities: equal decimal places would hide some.
            numbers = map(figure, (f.asked, f.drawn, f.standard_error, f.stored))
            rows.append([step, f.quantity, f.unit, *numbers, f.verdict])
    caption = f"reference {certificate.reference} ({certificate.picture}), seed {certificate.seed}"
    if certificate.rms_difference is not None:
        size = f"{certificate.rms_difference:.4g} {certificate.amplitude_unit}"
        caption += f"; rms difference as stored {size}"
    print_table(titles, rows, caption)
    if (aim := certificate.aim) is not None:
        say(f"aim {aim.metric}{aim.sense}{aim.target:g}: {aim.words}")
    for record in certificate.steps:
        for words in record.advice:
            note(f"{record.step}: {words}")


def _say_overflow(certificate: Certificate) -> None:
    clipped = certificate.clipped
    if clipped.low + clipped.high == 0:
        return
    done = "kept outside 0..1" if certificate.overflow == "keep" else "clipped"
    note(
        f"{clipped.share:.3%} of the samples were {done}: "
        f"{clipped.low / clipped.total:.3%} below black, "
        f"{clipped.high / clipped.total:.3%} above full scale"
    )
