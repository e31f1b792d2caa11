"""A picture judged by a gate."""

from __future__ import annotations

from magnetite.core.arrays import Samples
from magnetite.core.gate.gate import Gate, Verdict
from magnetite.core.methods.context import Files
from magnetite.core.operations.gauge import gauge
from magnetite.core.operations.score import score
from magnetite.core.picture import Picture


def judge(
    rule: Gate,
    picture: Picture | Samples,
    reference: Picture | Samples | None = None,
    files: Files | None = None,
) -> Verdict:
    """The verdict of a gate on a picture.

    Parameters
    ----------
    rule : Gate
    picture : Picture or array
    reference : Picture or array, optional
        The clean picture, for gates with metrics.
    files : Files, optional
        Reads files that settings name.

    Raises
    ------
    PictureError
        If the picture does not suit a figure of the gate.
    InputError
        If the gate has metrics and no reference is given.
    """
    names = {
        kind: ",".join(f.name for f in rule.features if f.kind == kind)
        for kind in ("gauge", "metric")
    }
    figures: dict[str, float] = {}
    if names["gauge"]:
        figures |= gauge(picture, names["gauge"], files=files)
    if names["metric"] and reference is not None:
        figures |= score(reference, picture, names["metric"], files=files)
    return rule.judge(figures)
