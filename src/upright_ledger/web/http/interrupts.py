"""Ctrl-C while requests are under way."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

SECONDS_TO_END = 3.0
"""How long answers are waited for where no more is to be asked."""


@contextmanager
def interrupts() -> Iterator[Callable[[], bool]]:
    """Keeps Ctrl-C for a moment that suits: raised within a callback of a library it would be lost.
    Yields whether it came.
    """
    ignored = signal.getsignal(signal.SIGINT) == signal.SIG_IGN  # another process heeds it
    if ignored or threading.current_thread() is not threading.main_thread():
        yield lambda: False
        return
    came = threading.Event()
    before = signal.signal(signal.SIGINT, lambda *_: came.set())
    try:
        yield came.is_set
    finally:
        signal.signal(signal.SIGINT, before)
