"""`magnetite prepare`."""

from __future__ import annotations

import time

from magnetite.cli.output import say
from magnetite.cli.progress import parts_done
from magnetite.core.compute.threads import threads


def run() -> None:
    """Without it, each loop is compiled when it is first used. The result is kept per user."""
    from magnetite.core.operations.prepare import prepare

    start = time.perf_counter()
    with parts_done("compiling") as listener:
        count = prepare(workers=threads(), listener=listener)
    say(f"{count} methods are ready, in {time.perf_counter() - start:.0f} s")
