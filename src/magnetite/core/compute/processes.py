"""The start of a worker process."""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading

from magnetite.core.compute.threads import use_threads


def start_worker(threads: int = 1) -> None:
    """Give a worker its threads; interruptions are left to the leading process.

    It ends with that process, however that ends.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with_parent, daemon=True).start()
    use_threads(threads)


def _end_with_parent() -> None:
    parent = multiprocessing.parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)
