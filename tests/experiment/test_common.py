"""Values that can be compared: columns and rows that are set aside, with their reasons."""

from __future__ import annotations

import math

import pandas as pd

from magnetite.experiment.common import complete

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
