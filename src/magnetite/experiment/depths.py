"""References of unlike depth in one experiment."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from magnetite.core.chain.step import Chain
from magnetite.core.quantities import abbreviated
from magnetite.experiment.tasks import Job, Reference, chains_of


def unlike_depths(bits: Iterable[int | None], chains: Iterable[Chain | None]) -> list[str]:
    """A sentence on chains that change references of unlike depth by unlike amounts, or none.

    A digital number is 1/255 of full scale in 8 bits and 1/65535 in 16: means over references of
    both are over unlike strengths.

    Parameters
    ----------
    bits : iterable of int or None
        Depths of the references; None of float samples, which have no digital numbers.
    chains : iterable of Chain or None
    """
    depths = sorted({depth for depth in bits if depth is not None})
    named = [f"“{chain}”" for chain in dict.fromkeys(chains) if chain and chain.follows_depth]
    if len(depths) < 2 or not named:
        return []
    of = f"{', '.join(map(str, depths[:-1]))} and {depths[-1]} bits"
    differ = "differs" if len(named) == 1 else "differ"
    return [
        f"references of {of}: a dn is another share of full scale in each, so that "
        f"{abbreviated(named)} {differ} in strength between them; amplitudes in % do not"
    ]


def unlike_depths_of(job: Job, references: Sequence[Reference]) -> list[str]:
    """The same sentence on the chains of a job."""
    return unlike_depths((one.facts.bits for one in references), chains_of(job, references))
