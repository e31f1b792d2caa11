"""Random generators that depend on what is drawn for, never on when or where.

The generator of a step follows from the seed, the reference's content and the step's place
in its chain, so a result is the same in any order of work, on any number of workers.
"""

from __future__ import annotations

import numpy as np

from magnetite.core.errors import InputError


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
