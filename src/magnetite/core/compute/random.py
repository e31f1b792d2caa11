"""Random generators that depend on what is drawn for, never on when or where.

The generator of a step follows from the seed, the reference's content and the step's place
in its chain, so a result is the same in any order of work, on any number of workers.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from magnetite.core.arrays import Float32, Samples
from magnetite.core.compute.bands import bands
from magnetite.core.compute.threads import spread
from magnetite.core.errors import InputError

#: Samples that one child generator draws; part of what a seed means, so never changed lightly.
CHUNK = 2**18
#: Fills an array from a generator.
Sampler = Callable[[np.random.Generator, Float32], object]


def step_generator(seed: int, digest: bytes, place: int) -> np.random.Generator:
    """Generator of one step.

    Parameters
    ----------
    seed : int
        The user's seed, 0 or larger.
    digest : bytes
        The reference's content (`Picture.digest`).
    place : int
        The step's place in the chain, from 0.

    Raises
    ------
    InputError
        If the seed is negative.
    """
    if seed < 0:
        raise InputError(f"a seed is 0 or larger, not {seed}")
    content = np.frombuffer(digest, dtype="<u4").tolist()
    return np.random.Generator(np.random.PCG64(np.random.SeedSequence([seed, place, *content])))


def draw(rng: np.random.Generator, shape: tuple[int, ...], sampler: Sampler) -> Float32:
    """Array of random numbers, drawn in chunks by children of `rng` on two threads.

    Which child draws which samples depends on the shape alone, so the numbers do not depend
    on the number of threads.

    Parameters
    ----------
    rng : numpy.random.Generator
        Its state moves on: a second call draws other numbers.
    shape : tuple of int
    sampler : function (generator, out)
        Fills the float32 array `out`, one-dimensional and contiguous.

    Returns
    -------
    float32 array of that shape.
    """
    out = np.empty(shape, dtype=np.float32)
    fill(rng, [out.reshape(-1)], sampler)
    return out


def fill(rng: np.random.Generator, arrays: list[Samples], sampler: Callable[..., object]) -> None:
    """Call `sampler(generator, *pieces)` on pieces of equally long arrays, as `draw` does.

    For noise that depends on the signal: the sampler reads one piece and writes into another.
    Arrays are cut along their first axis.
    """
    pieces = [[array[part] for array in arrays] for part in bands(len(arrays[0]), CHUNK)]
    generators = rng.spawn(len(pieces))
    spread(lambda job: sampler(job[0], *job[1]), zip(generators, pieces, strict=True))


def normal(rng: np.random.Generator, out: Float32) -> None:
    """Standard normal numbers."""
    rng.standard_normal(out=out, dtype=np.float32)


def uniform(rng: np.random.Generator, out: Float32) -> None:
    """Numbers evenly distributed on 0 to 1."""
    rng.random(out=out, dtype=np.float32)
