"""The command line: one module per command, each a thin layer over the library."""

from __future__ import annotations

import gc
import os
import signal
from typing import Any

__all__ = ["main"]

#: One thread of linear algebra, so that sums have the same order on any machine; the program's
#: own loops have threads of their own. Read when NumPy is first imported.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

#: Nearly all that start-up creates stays: looking for garbage among it again and again takes time.
gc.set_threshold(100_000, 50, 100)


def _leave(*_: Any) -> None:
    """An interruption while the program is still being loaded: there is nothing to tidy up."""
    os.write(2, b"magnetite: interrupted\n")
    os._exit(130)


def main() -> None:
    """Run the program."""
    if signal.getsignal(signal.SIGINT) is not signal.SIG_IGN:
        signal.signal(signal.SIGINT, _leave)
    from magnetite.cli.main import main as run

    run()
