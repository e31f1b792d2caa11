"""Signals that interrupt the program, and the time that it may take to stop."""

from __future__ import annotations

import _thread
import atexit
import os
import signal
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from types import FrameType
from typing import NoReturn

from magnetite.cli.streams import flush_or_give_up

#: Exit status after an interruption, and after other signals: 128 and the signal's number.
INTERRUPTED = 130
#: An interruption takes effect after so long at the latest, s.
_PATIENCE = 2.5
#: Parts of names of files whose functions are not interrupted.
_UNBROKEN = ("<frozen importlib", "popen_spawn")
#: A signal during an import is sent again after so long, s.
_AGAIN = 0.02


def watch() -> None:
    """Turn signals into exceptions, so that open files are tidied up; then stop in any case."""
    # For processes that this one starts: semaphores of one that is stopped are removed in silence.
    sys.warnoptions.append("ignore:resource_tracker:UserWarning")
    for name, handler in (("SIGINT", _interrupt), ("SIGTERM", _end), ("SIGHUP", _end)):
        number = getattr(signal, name, None)
        # A signal that is ignored, as under nohup, stays so.
        if number is not None and signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, handler)


def _interrupt(number: int, frame: FrameType | None) -> None:
    _stop_soon(INTERRUPTED)
    if not _postponed(number, frame):
        raise KeyboardInterrupt


def _end(number: int, frame: FrameType | None) -> None:
    _stop_soon(128 + number)
    if not _postponed(number, frame):
        raise SystemExit(128 + number)


def _postponed(number: int, frame: FrameType | None) -> bool:
    """Send a signal again a little later while a module is imported or a process started.

    An extension module that is interrupted while it sets itself up can crash, and a process that
    gets half of its data prints a traceback.
    """
    while frame is not None:
        if any(part in frame.f_code.co_filename for part in _UNBROKEN):
            _later(_AGAIN, lambda: signal.raise_signal(number))
            return True
        frame = frame.f_back
    return False


def leave(status: int) -> NoReturn:
    """End as the interpreter does, but for tearing down modules.

    An extension module whose import was cut short crashes in that. Threads and worker processes
    are waited for as usual, for a while. Whatever goes wrong in that, the exit status stays.
    """
    try:
        flush_or_give_up()
        threading._shutdown()  # type: ignore[attr-defined]
        atexit._run_exitfuncs()
    finally:
        os._exit(status)


def stopping() -> int | None:
    """Exit status of the signal that has come; None where none has."""
    return _come[-1] if _come else None


#: Exit statuses of the signals that have come.
_come: list[int] = []


def _stop_soon(status: int) -> None:
    """End the program even where loops in other threads go on, or the exception is lost."""
    _come.append(status)
    if len(_come) > 1:
        return

    def stop() -> None:
        with suppress(OSError):  # standard error may be closed
            os.write(2, b"magnetite: interrupted\n")
        os._exit(status)

    _later(_PATIENCE, stop)


def _later(seconds: float, action: Callable[[], object]) -> None:
    """Carry out an action after a while, in a thread of its own.

    Threads of `threading` take locks as they start, which the main thread may have held when the
    signal came: it would wait for itself.
    """

    def work() -> None:
        time.sleep(seconds)
        action()

    _thread.start_new_thread(work, ())
