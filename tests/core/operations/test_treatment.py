"""Treatments that begin alike: what they share is done once, and counts in the time of each."""

from __future__ import annotations

import time

import numpy as np
import pytest

import magnetite
from conftest import texture
from magnetite.core.chain.notation import parse_chain
from magnetite.core.codecs.layers.transform import CosineTransform
from magnetite.core.operations import treatment
from magnetite.core.operations.treatment import Kept, treat
from magnetite.core.picture import as_picture


def test_shared_steps_count_in_the_time_of_each_treatment(monkeypatch: pytest.MonkeyPatch) -> None:
    """A clock that only a restoration, for 5 s, and a transform, for 3 s a plane, move on."""
    clock, calls = [0.0], []

    def slow(work, name: str, seconds: float):
        def worked(*words):
            clock[0] += seconds
            calls.append(name)
            return work(*words)

        return worked

    monkeypatch.setattr(time, "perf_counter", lambda: clock[0])
    monkeypatch.setattr(treatment, "run", slow(treatment.run, "restore", 5.0))
    transform = slow(CosineTransform.forward, "transform", 3.0)
    monkeypatch.setattr(CosineTransform, "forward", transform)
    picture = as_picture((texture(40, 48) * 255).astype(np.uint8))
    kept = Kept()
    chains = (
        "median size=3", "median size=3 + dct step=4% block=8",
        "median size=3 + dct step=8% block=8", "gaussian sigma=1", "dct step=4% block=8",
    )  # fmt: skip
    parsed = [parse_chain(text, "restoration", "codec") for text in chains]
    shared = [treat(picture, chain, kept=kept) for chain in parsed]
    assert [made.seconds for made in shared] == [5.0, 8.0, 8.0, 5.0, 3.0]
    assert calls == ["restore", "transform", "restore", "transform"]
    for chain, made in zip(parsed, shared, strict=True):
        alone = treat(picture, chain)
        assert alone[1:] == made[1:]
        assert np.array_equal(alone.picture.samples, made.picture.samples)


def test_a_treatment_is_its_steps_in_a_row() -> None:
    """Restorations in a row as one chain, on float samples; each codec from its file."""
    picture = as_picture((texture(40, 48) * 255).astype(np.uint8))
    text = "median size=3 + gaussian sigma=1 + dct step=8% + deblock step=8% + mean size=3"
    first = magnetite.restore(picture, "median size=3 + gaussian sigma=1").picture
    coded = magnetite.compress(first, "dct step=8%")
    last = magnetite.restore(coded.picture, "deblock step=8% + mean size=3").picture
    made = treat(picture, parse_chain(text, "restoration", "codec"))
    assert made.picture.same_samples(last)
    assert made.size == coded.size
    twice = treat(picture, parse_chain("dct step=8% + dct step=4%", "restoration", "codec"))
    coded = magnetite.compress(magnetite.compress(picture, "dct step=8%").picture, "dct step=4%")
    assert twice.picture.same_samples(coded.picture)
    assert twice.size == coded.size
