"""Magnetite: calibrated degradation, compression, restoration and scoring of test pictures."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from magnetite.core.resources import read_with

__version__ = "0.1.0"

#: Public name, and the module that holds it; loaded when first used.
_HOMES = {
    "Picture": "magnetite.core.picture",
    "bd_rate": "magnetite.core.curves",
    "compress": "magnetite.core.codecs.stream",
    "curve": "magnetite.core.sweeps",
    "degrade": "magnetite.core.degrade.apply",
    "expand": "magnetite.core.codecs.stream",
    "gauge": "magnetite.core.scoring",
    "read": "magnetite.files.reading",
    "restore": "magnetite.core.restore.apply",
    "score": "magnetite.core.scoring",
    "write": "magnetite.files.writing",
}

__all__ = [  # noqa: RUF022
    "Picture", "read", "write", "degrade", "compress", "expand", "restore",
    "score", "gauge", "curve", "bd_rate",
]  # fmt: skip

if TYPE_CHECKING:
    from magnetite.core.codecs.stream import compress, expand
    from magnetite.core.curves import bd_rate
    from magnetite.core.degrade.apply import degrade
    from magnetite.core.picture import Picture
    from magnetite.core.restore.apply import restore
    from magnetite.core.scoring import gauge, score
    from magnetite.core.sweeps import curve
    from magnetite.files.reading import read
    from magnetite.files.writing import write


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'magnetite' has no attribute {name!r}")
    from importlib import import_module

    return getattr(import_module(_HOMES[name]), name)


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__})


def _read_kernel(name: str) -> Any:
    from magnetite.files.reading import read_kernel

    return read_kernel(name)


def _read_record(name: str) -> dict[str, Any]:
    from pathlib import Path

    from magnetite.files.sidecar import read_json

    return read_json(Path(name))


read_with(_read_kernel, _read_record)
