"""Work for other processes that goes wrong in every way."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Callable
from typing import Any

from upright_ledger.errors import InputError


def work(put: Callable[[Any], None], how: str, things: int) -> None:
    """Hand over some things, and end in a way."""
    for n in range(things):
        put(n)
    match how:
        case "killed":
            os.kill(os.getpid(), signal.SIGKILL)
        case "exit":
            os._exit(0)
        case "left":
            raise SystemExit(0)
        case "raises":
            raise ValueError("what nobody foresaw")
        case "end of file":
            raise EOFError
        case "broken pipe":
            raise BrokenPipeError
        case "memory":
            raise MemoryError
        case "cannot be sent":
            put(lambda: None)
        case "told":
            raise InputError("no such file", "name another")
        case "waits":
            time.sleep(60)
