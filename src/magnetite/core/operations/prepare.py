"""Compile loops ahead, so that no later command waits for it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from contextlib import suppress

import numpy as np

from magnetite.core.compute.processes import each_done
from magnetite.core.compute.threads import Listener, threads
from magnetite.core.errors import MagnetiteError
from magnetite.core.methods.catalogue import every, find
from magnetite.core.operations.compress import compress
from magnetite.core.operations.degrade import degrade
from magnetite.core.operations.gauge import gauge
from magnetite.core.operations.restore import restore
from magnetite.core.operations.score import score
from magnetite.core.picture import Picture, as_picture

#: Some take their compiled route only from this size on.
_LARGE, _SMALL = (376, 384), (72, 88)
_LARGE_KINDS = ("metric", "gauge", "degradation")


#: Settings that lead to loops which a method's example does not use.
_MORE = {
    "quantize": ("quantize bits=3 dither=error-diffusion",),
    "median": ("median size=5", "median size=7"),
}


def prepare(
    names: Collection[str] | None = None,
    workers: int | None = None,
    listener: Listener = lambda done, total, name: None,
) -> int:
    """Run methods once on small pictures; the number of methods.

    Processes do this side by side: each compiles other loops, and one that needs a loop which
    another compiles waits for it. The result is kept in the user's cache folder, which the
    environment variable `NUMBA_CACHE_DIR` names.

    Parameters
    ----------
    names : collection of str, optional
        Of the methods; all if left out.
    workers : int, optional
        Processes; one for each core if left out. One alone is this process.
    listener : function
        Called for every method with the number done, that of all, and its name.
    """
    methods = [(method.kind, method.name) for method in every()
               if method.kind in _VERBS and (names is None or method.name in names)]  # fmt: skip
    for number, (_, name) in enumerate(each_done(_run, methods, workers or threads()), 1):
        listener(number, len(methods), name)
    return len(methods)


def _run(kind: str, name: str) -> None:
    # With the compiler loaded, methods take their compiled route for small pictures too.
    import magnetite.core.compute.jit  # noqa: F401

    method = find(kind, name)
    assert method is not None
    for picture in _pictures(large=kind in _LARGE_KINDS):
        for step in (method.example, *_MORE.get(name, ())):
            with suppress(MagnetiteError):  # the picture does not suit the method
                _VERBS[kind](picture, step)


def _pictures(*, large: bool) -> Iterator[Picture]:
    """Gray and colour of 8 and 16 bits, and floats: all types of the compiled loops."""
    rng = np.random.default_rng(0)
    height, width = _LARGE if large else _SMALL
    y, x = np.mgrid[:height, :width]
    smooth = 0.5 + 0.4 * np.sin(x / 11) * np.cos(y / 7) + rng.normal(0, 0.02, (height, width))
    plane = smooth.clip(0, 1)
    for scale, dtype in ((255, np.uint8), (65535, np.uint16)):
        samples = np.rint(plane * scale).astype(dtype)
        yield as_picture(samples)
        yield as_picture(np.repeat(samples[..., np.newaxis], 3, axis=2))
    yield as_picture(plane.astype(np.float32))
    yield as_picture(plane)


_VERBS: dict[str, Callable[[Picture, str], object]] = {
    "degradation": degrade,
    "codec": lambda picture, step: compress(picture, step).picture,
    "restoration": lambda picture, step: restore(picture, step, reference=picture),
    "metric": lambda picture, step: score(picture, as_picture(picture.samples[::-1]), step),
    "gauge": gauge,
}
