"""Compile all loops ahead, so that no later command waits for it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress

import numpy as np

from magnetite.core.compute.threads import each
from magnetite.core.errors import MagnetiteError
from magnetite.core.methods.catalogue import every
from magnetite.core.methods.declarations import Method
from magnetite.core.picture import Picture, as_picture
from magnetite.core.verbs.compress import compress
from magnetite.core.verbs.degrade import degrade
from magnetite.core.verbs.gauge import gauge
from magnetite.core.verbs.restore import restore
from magnetite.core.verbs.score import score

#: Figures take their compiled route only from this size on.
_LARGE, _SMALL = (376, 384), (72, 88)


#: Settings that lead to loops which a method's example does not use.
_MORE = {"quantize": ("quantize bits=3 dither=error-diffusion",)}


def prepare() -> int:
    """Run every method once on small pictures; the number of methods.

    What is compiled is kept in the user's cache folder, which the environment variable
    `NUMBA_CACHE_DIR` names. A listener of `threads.told` hears of every method.
    """
    methods = [method for method in every() if method.kind in _VERBS]
    each(_run, methods, workers=1, name=lambda method: method.name)
    return len(methods)


def _run(method: Method) -> None:
    for picture in _pictures(figure=method.kind in ("metric", "gauge")):
        for step in (method.example, *_MORE.get(method.name, ())):
            with suppress(MagnetiteError):  # the picture does not suit the method
                _VERBS[method.kind](picture, step)


def _pictures(*, figure: bool) -> Iterator[Picture]:
    """Gray and colour of 8 and 16 bits, and float: they lead to all types of the compiled loops."""
    rng = np.random.default_rng(0)
    height, width = _LARGE if figure else _SMALL
    y, x = np.mgrid[:height, :width]
    smooth = 0.5 + 0.4 * np.sin(x / 11) * np.cos(y / 7) + rng.normal(0, 0.02, (height, width))
    plane = smooth.clip(0, 1)
    for scale, dtype in ((255, np.uint8), (65535, np.uint16)):
        samples = np.rint(plane * scale).astype(dtype)
        yield as_picture(samples)
        yield as_picture(np.repeat(samples[..., np.newaxis], 3, axis=2))
    yield as_picture(plane)


_VERBS: dict[str, Callable[[Picture, str], object]] = {
    "degradation": degrade,
    "codec": lambda picture, step: compress(picture, step).picture,
    "restoration": lambda picture, step: restore(picture, step, reference=picture),
    "metric": lambda picture, step: score(picture, as_picture(picture.samples[::-1]), step),
    "gauge": gauge,
}
