"""Chains with a name: a word of a chain that stands for several steps.

    survey-camera full-well=8000e

Settings are words in braces in the steps of the chain, such as `{full-well}`; each has a default or
must be given, and may be a list where the step's own setting may.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from magnetite.core.errors import ChainError
from magnetite.core.methods import catalogue
from magnetite.core.methods.caching import declarations_changed

_SETTING = re.compile(r"\{([a-z][a-z0-9-]*)\}")
_NAME = re.compile(r"[a-z][a-z0-9-]*")


@dataclass(frozen=True)
class NamedChain:
    """A name for steps, and the defaults of its settings."""

    name: str
    summary: str
    #: Chain notation, with settings in braces.
    steps: str
    defaults: Mapping[str, str] = field(default_factory=dict)

    @property
    def settings(self) -> list[str]:
        """Keys of the settings, in the order of the steps."""
        return list(dict.fromkeys(_SETTING.findall(self.steps)))

    def text(self, given: Mapping[str, str]) -> str:
        """The steps with values for all settings; `ChainError` where one is unknown or missing."""
        for key in given:
            if key not in self.settings:
                known = ", ".join(self.settings) or "none"
                raise ChainError(f"{self.name} has no setting {key!r}; known: {known}")
        values = dict(self.defaults) | dict(given)
        for key in self.settings:
            if key not in values:
                raise ChainError(f"{self.name} needs {key}=, which has no default")
        return _SETTING.sub(lambda match: values[match[1]], self.steps)


#: A camera of the core shed, and one that is not made for the purpose. Colours of a sensor are
#: weaker in red and blue, and mixed: the white balance and the matrix undo both.
_CAMERAS = (
    NamedChain(
        "survey-camera",
        "Camera of a core shed: a large sensor, a careful interpolation, no sharpening.",
        "to-linear standard=srgb + gaussian-blur sigma={blur} "
        "+ colour-matrix rows=0.72,0.24,0.04/0.1,0.8,0.1/0.03,0.22,0.75 "
        "+ white-balance red=0.55 blue=0.65 + mosaic "
        "+ sensor-noise full-well={full-well} read=2.5e prnu=0.4% "
        "+ white-balance red=1.818182 blue=1.538462 pattern=rggb + demosaic "
        "+ colour-matrix rows=1.44935,-0.42929,-0.02006/-0.18054,1.35105,-0.17051"
        "/-0.00502,-0.37914,1.38415 + to-encoded standard=srgb",
        {"blur": "0.8px", "full-well": "20000e"},
    ),
    NamedChain(
        "pocket-camera",
        "A cheap camera: a soft lens, a small sensor, plain interpolation, sharpening, JPEG.",
        "to-linear standard=srgb + gaussian-blur sigma={blur} "
        "+ white-balance red=0.5 blue=0.6 + mosaic "
        "+ sensor-noise full-well={full-well} read=4e prnu=1% "
        "+ white-balance red=2 blue=1.666667 pattern=rggb + demosaic method=bilinear "
        "+ to-encoded standard=srgb + sharpen sigma=1px amount=0.6 + jpeg quality={quality}",
        {"blur": "1.1px", "full-well": "4000e", "quality": "88"},
    ),
)
_chains: dict[str, NamedChain] = {chain.name: chain for chain in _CAMERAS}


def find_chain(name: str) -> NamedChain | None:
    """The chain of that name, or None."""
    return _chains.get(name)


def every_chain() -> list[NamedChain]:
    """All chains with a name."""
    return list(_chains.values())


def declare_chain(chain: NamedChain, *, again: bool = False) -> None:
    """Give steps a name.

    Raises
    ------
    ChainError
        If the name is malformed or taken, or a default belongs to no setting.
    """
    if not _NAME.fullmatch(chain.name):
        raise ChainError(f"{chain.name!r}: a name has small letters, digits and hyphens")
    if any(method.name == chain.name for method in catalogue.every()):
        raise ChainError(f"{chain.name}: there is a method of that name already")
    if chain.name in _chains and not again:
        raise ChainError(f"{chain.name}: there is a chain of that name already")
    if unknown := set(chain.defaults) - set(chain.settings):
        key = min(unknown)
        raise ChainError(f"{chain.name}: {key} is not in its steps: write {{{key}}} there")
    _chains[chain.name] = chain
    declarations_changed()


def forget_chain(name: str) -> None:
    """Take a name back."""
    del _chains[name]
    declarations_changed()
