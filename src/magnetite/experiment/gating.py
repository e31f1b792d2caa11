"""Gates fitted to labelled files, and asked about pictures."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from magnetite import __version__
from magnetite.core.chain.notation import parse_step
from magnetite.core.errors import InputError
from magnetite.core.gate.fit import CONFIDENCE, FALSE_ACCEPTS, Fitted, fit_classes, fit_scores
from magnetite.core.gate.gate import Gate, Verdict
from magnetite.core.gate.judging import judge
from magnetite.core.picture import Picture
from magnetite.experiment.labels import Labelled, gauge_folders, read_labelled
from magnetite.files.opening import read_bytes
from magnetite.files.reading import read
from magnetite.files.resources import MISSING, DiskFiles
from magnetite.files.sidecar import read_json, write_json

#: Fact of a gate: digests of the files that its figures name.
_FILES = "files"
#: Gauges that distinguish two folders unless others are named.
GAUGES = "laplacian-variance,edge-width,noise-wavelet,blockiness"


def fit_gate(
    table: Path | str | None = None,
    *,
    label: str | None = None,
    labels: Path | str | None = None,
    accepted: Path | str | None = None,
    rejected: Path | str | None = None,
    metrics: str | None = None,
    group: str | None = None,
    false_accepts: float | None = None,
    confidence: float | None = None,
    least: float | None = None,
) -> Fitted:
    """Fit a rule that accepts or rejects pictures, from a table with labels or two folders.

    Parameters
    ----------
    table : path, optional
        CSV of figures, from score, gauge or run.
    label : str, optional
        Its column of labels: accepted and rejected, or scores.
    labels : path, optional
        Table of pictures and labels, if `table` has none.
    accepted, rejected : path, optional
        Folders of pictures, which are gauged, in place of a table.
    metrics : str, optional
        Figures to take; all that are there, or four gauges of folders, if left out.
    group : str, optional
        Column that names the references; of folders, a regular expression that finds the
        reference in a picture's name.
    false_accepts, confidence : float, optional
        Of labels accepted and rejected: largest share of the rejected pictures of new references
        that passes, and the confidence of that promise; 0.05 and 0.9 if left out.
    least : float, optional
        Predicted score from which on to accept, for labels that are scores.

    Returns
    -------
    Fitted
        Its gate is written by `save`.

    Raises
    ------
    InputError
        If there are neither a table nor two folders, the labels cannot be used, or an argument
        does not go with them.
    FileError
        If a file is missing or damaged.

    Examples
    --------
    >>> from pathlib import Path
    >>> import magnetite
    >>> for k in range(6):
    ...     clean = magnetite.scenes((160, 128), seed=k)["clay-core"]
    ...     for folder, sd in (("good", 0.5 + k / 20), ("bad", 3 + k)):
    ...         Path(folder).mkdir(exist_ok=True)
    ...         noisy = magnetite.degrade(clean, f"gaussian-noise sd={sd}%", seed=k).picture
    ...         _ = magnetite.write(noisy, f"{folder}/{k}.png")
    >>> fitted = magnetite.gate.fit(accepted="good", rejected="bad", metrics="noise-blocks")
    >>> magnetite.gate.save(fitted, "gate.json")
    >>> magnetite.gate.check("gate.json", "bad/5.png").accepted
    False
    """
    paths = [None if one is None else Path(one) for one in (table, labels, accepted, rejected)]
    data = _labelled(paths[0], label, paths[1], paths[2], paths[3], metrics, group)
    fitted = _fitted(data, false_accepts, confidence, least)
    gate = replace(fitted.gate, facts=fitted.gate.facts | {_FILES: _digests(fitted.gate)})
    return replace(fitted, gate=gate, remarks=(*data.remarks, *fitted.remarks))


def check_gate(
    rule: Gate | Path | str,
    picture: Picture | Path | str,
    reference: Picture | Path | str | None = None,
) -> Verdict:
    """Accept or reject a picture by a gate.

    Parameters
    ----------
    rule : Gate or path
        A fitted gate, or its file.
    picture : Picture or path
    reference : Picture or path, optional
        The clean picture, for gates with metrics.

    Returns
    -------
    Verdict
        Whether it is accepted, with its value, threshold and the figure that decided; remarks
        where program or picture are unlike those of the fit.

    Raises
    ------
    FileError
        If a file is missing or damaged.
    InputError
        If the gate has metrics and no reference is given, or a file that its figures name, such
        as a model, has changed.
    """
    gate = rule if isinstance(rule, Gate) else read_gate(Path(rule))
    check_files(gate)
    shown, clean = _picture(picture), None if reference is None else _picture(reference)
    verdict = judge(gate, shown, clean, DiskFiles())
    return replace(verdict, remarks=gate.remarks_on(shown, __version__))


def read_gate(path: Path) -> Gate:
    """A gate from its file; `FileError` or `InputError` where that holds none."""
    return Gate.of_record(read_json(path))


def check_files(gate: Gate) -> None:
    """Raise `InputError` where a file that a gate's figures name is not that of its fit.

    `FileError` where it cannot be read.
    """
    fitted = gate.facts.get(_FILES)
    for name, digest in _digests(gate).items():
        if digest == MISSING:
            read_bytes(Path(name))
        if isinstance(fitted, dict) and fitted.get(name) != digest:
            raise InputError(
                f"{name}: has changed since the gate was fitted, so that its figures differ; "
                "restore the file, or fit the gate again"
            )


def _digests(gate: Gate) -> dict[str, str]:
    """Digests of the files that a gate's figures name."""
    files = DiskFiles()
    steps = [parse_step(feature.name, feature.kind) for feature in gate.features]
    return {name: files.digest(name) for step in steps for name in step.files}


def save_gate(fitted: Fitted, path: Path | str) -> None:
    """Write a fitted gate as JSON.

    Raises
    ------
    InputError
        If the name does not end in `.json`.
    FileError
        If the file cannot be written.
    """
    path = Path(path)
    check_gate_path(path)
    write_json(path, fitted.gate.as_record())


def check_gate_path(path: Path) -> None:
    """Raise `InputError` early if a gate cannot have that name."""
    if path.suffix.lower() != ".json":
        raise InputError(f"{path}: a gate is a JSON file; name one that ends in .json")


def _picture(source: Picture | Path | str) -> Picture:
    return source if isinstance(source, Picture) else read(Path(source))


def _labelled(
    table: Path | None, label: str | None, labels: Path | None, accepted: Path | None,
    rejected: Path | None, metrics: str | None, group: str | None,
) -> Labelled:  # fmt: skip
    if accepted is not None and rejected is not None and table is None:
        if label is not None or labels is not None:
            raise InputError("--label and --labels go with a table; the two folders are the labels")
        return gauge_folders(accepted, rejected, metrics or GAUGES, group)
    if table is None or accepted is not None or rejected is not None:
        raise InputError("name a table with labels, or --accepted and --rejected folders")
    return read_labelled(table, label, labels, metrics, group)


def _fitted(
    data: Labelled, false_accepts: float | None, confidence: float | None, least: float | None
) -> Fitted:
    if data.of_classes:
        if least is not None:
            raise InputError("--least goes with scores; the labels are accepted and rejected")
        return fit_classes(
            data.figures, [bool(value) for value in data.labels], data.groups, __version__,
            FALSE_ACCEPTS if false_accepts is None else false_accepts,
            CONFIDENCE if confidence is None else confidence, data.pictures, data.frames,
        )  # fmt: skip
    if false_accepts is not None or confidence is not None:
        raise InputError(
            "--false-accepts and --confidence promise a share of rejected pictures, and the labels "
            "are scores: label pictures accepted and rejected"
        )
    if least is None:
        raise InputError("the labels are scores: name the score to accept from, as in --least 3.5")
    scores = list(map(float, data.labels))
    return fit_scores(
        data.figures, scores, data.groups, __version__, least, data.pictures, data.frames
    )
