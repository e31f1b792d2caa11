"""Values that can be compared: columns and rows that are set aside, with their reasons."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import pandas as pd
import pytest

from magnetite.experiment.common import complete
from magnetite.experiment.guarantee import Need, guarantee
from magnetite.experiment.interactions import interactions
from magnetite.experiment.rates import rate_curves
from magnetite.experiment.results import RunRows
from magnetite.experiment.summary import cost, noticed, unlike_rates
from magnetite.pages.answer import _uncoded

INFINITE, MISSING = math.inf, math.nan


def frame(**columns: list[float]) -> pd.DataFrame:
    count = len(next(iter(columns.values())))
    return pd.DataFrame(columns, index=pd.Index([f"p{k}" for k in range(count)]))


def test_columns_and_rows_are_set_aside_with_their_reasons() -> None:
    values = frame(
        a=[1.0, 2, 3, 4, 5], best=[INFINITE] * 5, worst=[-INFINITE] * 5, none=[MISSING] * 5,
        some=[1, INFINITE, MISSING, MISSING, 5],
    )  # fmt: skip
    found = complete(values, {("p3", "some"), ("p0", "never")})
    assert found.aside == {
        "best": "∞ on all its 5 rows", "worst": "−∞ on all its 5 rows", "none": "it has no value",
        "never": "all its rows failed",
    }  # fmt: skip
    assert found.infinite == {"best": INFINITE, "worst": -INFINITE}
    assert found.values.to_dict("list") == {"a": [1, 5], "some": [1, 5]}
    assert found.notes("pictures")[0] == (
        "compared on 2 of 5 pictures; left out: 1 (“some” is infinite), "
        "1 (“some” has no value), 1 (“some” failed)"
    )
    alone = complete(frame(a=[1.0], b=[INFINITE]))
    assert alone.aside == {"b": "∞ on its only row"}
    # Infinite of both signs, or not everywhere, is no value of the whole column.
    assert not complete(frame(a=[1.0, 2, 3], b=[INFINITE, -INFINITE, 3])).infinite


def test_of_columns_that_share_no_row_that_of_the_fewest_values_goes() -> None:
    apart = "it shares no row with all the others"
    few = frame(few=[MISSING] * 3 + [1.0, 2], many=[1.0, 2, 3, MISSING, MISSING])
    assert complete(few).aside == {"few": apart}
    even = frame(first=[MISSING] * 2 + [1.0, 2], last=[1.0, 2, MISSING, MISSING])
    assert complete(even).aside == {"last": apart}
    assert len(complete(even).values) == 2


#: References: the rate of the first is five times that of the others, and its time too.
HEAVY = {"r0": 5.0, "r1": 1.0, "r2": 1.0}
NOISES = [f"gaussian-noise sd={sd}dn" for sd in (1, 2)]


def partial_run(missing: set[tuple[str, str]], failed: bool) -> RunRows:
    """Rows of two strengths of noise and five settings of a codec, some of them without a result.

    `missing` has pairs of a reference and a treatment or a degradation.
    """
    rows: list[dict[str, Any]] = []
    chains = [("plain", "nothing"), ("smooth", "mean"),
              *(("coded", f"dct step={s}%") for s in (2, 4, 8, 16, 32))]  # fmt: skip
    for reference, heavy in HEAVY.items():
        for level, degradation in enumerate(NOISES):
            for k, (name, chain) in enumerate(chains):
                gone = {(reference, chain), (reference, degradation)} & missing
                lost = {"psnr": math.nan, "bpp": math.nan, "status": "failed"} if failed else {
                    "psnr": math.inf}  # fmt: skip
                rows.append({
                    "reference": reference, "degradation": degradation, "degradation name": "noise",
                    "repeat": 0, "treatment": chain, "treatment name": name, "status": "done",
                    "bpp": heavy * 8 / 2**k if name == "coded" else math.nan,
                    "psnr": 30 + 2 * heavy - 3 * level - k, "seconds treat": heavy * (k + 1),
                    "width": 1000, "height": 1000, "bits": 8, "reference activity": 1.0,
                } | (lost if gone else {}))  # fmt: skip
    return RunRows.of(pd.DataFrame(rows), ["psnr"])


def test_rates_and_times_are_compared_on_the_pictures_that_all_settings_have() -> None:
    """The finest setting fails on the heavy picture, and has the lowest mean of the others."""
    run = partial_run({("r0", "dct step=2%"), ("r0", "mean")}, failed=True)
    table = guarantee(run, Need.of("psnr>=1", 0.5, 0.5)).frame
    coded = table[(table["degradation"] == NOISES[0]) & table["bpp"].notna()]
    assert coded["bpp"].tolist() == pytest.approx([2, 1, 0.5, 0.25, 0.125])
    assert coded["passed"].tolist() == [2, 3, 3, 3, 3]
    taken = cost(run)
    assert taken.frame["s per megapixel"].tolist() == [2, 3, 4, 5, 6, 7]
    assert "compared on 4 of 6 degraded pictures" in taken.notes[0]
    assert rate_curves(run, "psnr").uncoded == pytest.approx({"plain": 30.5, "smooth": 29.5})
    (words,) = _uncoded(run, "psnr")
    assert "“smooth” (29.50 dB); mean psnr over 4 degraded pictures" in words
    apart = partial_run({("r0", "mean"), ("r1", "mean"), ("r2", "nothing")}, failed=False)
    assert "“smooth” (no value in common)" in _uncoded(apart, "psnr")[0]


@pytest.mark.parametrize("failed", [True, False])
def test_levels_are_compared_on_the_pictures_that_have_all_of_them(failed: bool) -> None:
    """The heavy picture changes by as much as the others, but from another score."""
    found = noticed(partial_run({("r0", NOISES[0])}, failed=failed))
    assert found is not None
    (row,) = found.frame.to_dict("records")
    assert (row["change per level"], row["references"]) == (-3, 2)
    reason = "failed" if failed else "is infinite"
    assert found.notes == (
        f"noise, psnr: compared on 2 of 3 pictures; left out: 1 (“{NOISES[0]}” {reason})",
    )
    every = {(name, NOISES[0]) for name in HEAVY}
    none = noticed(partial_run(every, failed=False))
    assert none is not None
    assert none.frame.empty
    assert none.notes == (f"noise, psnr: not compared: “{NOISES[0]}”: ∞ on all its 3 rows",)


def test_failed_rows_do_not_change_the_order_of_the_plan() -> None:
    """All of the first reference fails with the first treatments, and at the first level."""
    run = partial_run({("r0", NOISES[0]), ("r0", "nothing"), ("r0", "dct step=2%")}, failed=True)
    assert [key for key, _ in run.split(["degradation"])] == [(level,) for level in NOISES]
    names = [key[0] for key, _ in run.split(["treatment name"])]
    assert names == ["plain", "smooth", "coded"]
    assert [key for key, _ in run.split(["reference"])] == [("r0",), ("r1",), ("r2",)]
    every = partial_run(set(), failed=False).frame
    coded = every[every["treatment name"] == "coded"]
    again = coded.assign(**{"treatment name": "again", "bpp": coded["bpp"] / 2})
    lost = coded.assign(status=["failed" if r == "r0" else "done" for r in coded["reference"]])
    both = pd.concat([lost, again]).sort_index(kind="stable").reset_index(drop=True)
    assert list(rate_curves(RunRows.of(both, ["psnr"]), "psnr").curves) == ["coded", "again"]
    assert interactions(run, "psnr").frame["group"].tolist()[:2] == ["noise (1)", "noise (2)"]


def test_mean_rates_over_unlike_channels_are_said() -> None:
    """Rates of gray and of colour pictures in one mean; other rows do not matter."""
    run = partial_run(set(), failed=False)
    colour = run.frame["reference"].eq("r0")
    coded = run.frame["bpp"].notna()
    for chosen, words in ((colour, "over references of 1 and 3 channels"), (colour & ~coded, "")):
        frame = run.frame.assign(channels=chosen.map({True: 3, False: 1}))
        said = unlike_rates(replace(run, frame=frame))
        assert len(said) == bool(words)
        assert all(words in one for one in said)
