"""Packages that a single feature needs and a plain install leaves out."""

from __future__ import annotations

from importlib.util import find_spec

from magnetite.core.errors import InputError


def installed(package: str) -> bool:
    """Whether a package can be imported."""
    return find_spec(package) is not None


def require(package: str, extra: str, feature: str) -> None:
    """Raise `InputError`, with the command that installs it, where a package is missing."""
    if not installed(package):
        raise InputError(f"{feature} needs more packages: pip install 'magnetite[{extra}]'")
