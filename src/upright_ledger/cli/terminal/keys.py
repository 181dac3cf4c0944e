"""Single keys from a terminal, none lost: what is typed while the program works is read next."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager

import click

END = "\x04"
_INTERRUPT = b"\x03"


class Keys:
    """Reads keys as they are pressed. Use it within `held`; while a line is asked for, within
    `released`.
    """

    def __init__(self) -> None:
        self._before: list[object] = []

    @contextmanager
    def held(self) -> Iterator[None]:
        """Keys come one by one and are not shown."""
        self._hold()
        try:
            yield
        finally:
            self._release()

    @contextmanager
    def released(self) -> Iterator[None]:
        """A line can be typed and edited, as everywhere."""
        self._release()
        try:
            yield
        finally:
            self._hold()

    def next(self) -> str:
        """The next key; the rest of a key of several bytes comes with it. END where there will be
        none.
        """
        if sys.platform == "win32":
            try:
                return click.getchar()
            except (KeyboardInterrupt, EOFError):
                return END
        import select

        source = sys.stdin.fileno()
        try:
            # A signal that comes just before a read is noticed after it: so no read waits for long.
            while not select.select([source], [], [], 0.5)[0]:
                pass
            key = os.read(source, 1)
            if key and (key[0] >= 0x80 or key == b"\x1b"):
                while select.select([source], [], [], 0.02)[0]:
                    key += os.read(source, 1)
        except KeyboardInterrupt:
            return END
        return END if key == _INTERRUPT else key.decode("utf-8", "replace") or END

    def _hold(self) -> None:
        if sys.platform != "win32":
            import termios
            import tty

            source = sys.stdin.fileno()
            self._before = termios.tcgetattr(source)
            tty.setcbreak(
                source, termios.TCSADRAIN
            )  # keeps what was typed ahead, unlike the default
            # Ctrl-C comes as a key: as a signal it would be lost when it strikes within a callback
            # of a library.
            mode = termios.tcgetattr(source)
            mode[6][termios.VINTR] = bytes([os.fpathconf(source, "PC_VDISABLE") & 0xFF])
            termios.tcsetattr(source, termios.TCSADRAIN, mode)

    def _release(self) -> None:
        if sys.platform != "win32":
            import termios

            to = sys.stdin.fileno()
            termios.tcsetattr(to, termios.TCSADRAIN, self._before)  # type: ignore[arg-type]
