"""Random generators that depend on seed and purpose, never on time or thread.

The generator of a step follows from the seed, the reference's content and the step's position
in its chain, so a result is the same in any order of work, on any number of workers.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

import numpy as np

from magnetite.core.arrays import Float32, Samples
from magnetite.core.compute.bands import bands
from magnetite.core.compute.threads import spread
from magnetite.core.errors import InputError

#: Samples that one child generator draws; part of the meaning of a seed, so never changed lightly.
CHUNK = 2**18
#: Fills an array from a generator.
Sampler = Callable[[np.random.Generator, Float32], object]


def step_generator(seed: int, digest: bytes, position: int) -> np.random.Generator:
    """Generator of one step.

    Parameters
    ----------
    seed : int
        The user's seed, 0 or larger.
    digest : bytes
        The reference's content (`Picture.digest`).
    position : int
        The step's position in the chain, from 0.

    Raises
    ------
    InputError
        If the seed is negative.
    """
    if seed < 0:
        raise InputError(f"a seed is 0 or larger, not {seed}")
    content = np.frombuffer(digest, dtype="<u4").tolist()
    return np.random.Generator(np.random.PCG64(np.random.SeedSequence([seed, position, *content])))


class BandGenerator(np.random.Generator):
    """Draws, for a band of rows, the part of the numbers that the whole picture would get."""

    def __init__(
        self, bits: np.random.BitGenerator, first: int = 0, count: int = 0, total: int = 0
    ) -> None:
        super().__init__(bits)
        self._seeds = cast(np.random.SeedSequence, bits.seed_seq)
        #: First row of the band, its rows, and those of the whole picture.
        self.first, self.count, self.total = first, count, total

    def seeds(self, count: int) -> list[np.random.SeedSequence]:
        """Seeds of the next children, as `spawn` gives them."""
        return self._seeds.spawn(count)


def band_generator(
    seed: int, digest: bytes, position: int, *, first: int, count: int, total: int
) -> BandGenerator:
    """`step_generator` for a band that begins with the row `first` of `total`."""
    return BandGenerator(step_generator(seed, digest, position).bit_generator, first, count, total)


def rows_of(rng: np.random.Generator, like: np.random.Generator) -> np.random.Generator:
    """A generator for the rows of a picture that `like` draws for."""
    if not isinstance(like, BandGenerator):
        return rng
    return BandGenerator(rng.bit_generator, like.first, like.count, like.total)


def rows_of_chunk(samples: int) -> int:
    """Rows above and below a sample that may lie in its chunk, of `samples` each."""
    return -(-CHUNK // samples)


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
    if isinstance(rng, BandGenerator):
        _fill_band(rng, arrays, sampler)
        return
    pieces = [[array[part] for array in arrays] for part in bands(len(arrays[0]), CHUNK)]
    generators = rng.spawn(len(pieces))
    spread(lambda job: sampler(job[0], *job[1]), zip(generators, pieces, strict=True))


def _fill_band(rng: BandGenerator, arrays: list[Samples], sampler: Callable[..., object]) -> None:
    """The same for arrays that hold the rows of a band.

    A piece that reaches beyond the band is drawn whole, on stand-ins. Where the numbers depend on
    the samples, the samples of such a piece are not those of the whole picture: a band needs
    `rows_of_chunk` around it.
    """
    each = len(arrays[0]) // rng.count
    start, stop = rng.first * each, (rng.first + rng.count) * each
    seeds = rng.seeds(-(-rng.total * each // CHUNK))

    def work(number: int) -> None:
        child = np.random.Generator(np.random.PCG64(seeds[number]))
        low, high = number * CHUNK, min((number + 1) * CHUNK, rng.total * each)
        inside = slice(max(low, start) - low, min(high, stop) - low)
        position = slice(low + inside.start - start, low + inside.stop - start)
        stand_ins = [np.zeros((high - low, *array.shape[1:]), array.dtype) for array in arrays]
        for whole, array in zip(stand_ins, arrays, strict=True):
            whole[inside] = array[position]
        sampler(child, *stand_ins)
        for whole, array in zip(stand_ins, arrays, strict=True):
            array[position] = whole[inside]

    spread(work, range(start // CHUNK, -(-stop // CHUNK)))


def normal(rng: np.random.Generator, out: Float32) -> None:
    """Fill an array of any shape with standard normal numbers."""
    rng.standard_normal(out=out, dtype=np.float32)


def uniform(rng: np.random.Generator, out: Float32) -> None:
    """Fill an array of any shape with numbers evenly distributed on 0 to 1."""
    rng.random(out=out, dtype=np.float32)
