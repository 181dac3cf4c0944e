"""Reading the pages of a crawl: large ones in a process of its own where there is a core for it, so that the next ones are asked for meanwhile.

Small ones are read in less time than it takes to hand them over.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from itertools import count

from upright_ledger.app.apart import Apart, Put
from upright_ledger.core.surveying import Facts
from upright_ledger.formats.page_facts import read_facts
from upright_ledger.web.crawler import Reader

_AT_ONCE = 16  # pages that are sent together
_AT_ONCE_BYTES = 1 << 18
_LARGE = 1 << 14  # bytes

Then = Callable[[Facts], None]
_Body = tuple[int, bytes, str, str]


@contextmanager
def page_reader(work: Callable[..., None] | None = None) -> Iterator[Reader]:
    """A reader that suits the machine. work: what reads bodies in a process of its own; see `read_bodies`."""
    if (os.cpu_count() or 1) < 2 and work is None:
        yield ReadHere()
        return
    reader = _ReadApart(work or read_bodies, 0 if work else _LARGE)
    try:
        yield reader
    finally:
        reader.stop()


class ReadHere:
    """Reads each body at once."""

    waiting = 0

    def read(self, body: bytes, kind: str, url: str, then: Then) -> None:
        """Read a body, and call `then`."""
        then(read_facts(body, kind, url))

    def collect(self) -> None:
        """Nothing is left over."""


class _ReadApart:
    """Sends bodies to another process. Should one of them be its end, that one is left unread, and the others are read by a new process."""

    def __init__(self, work: Callable[..., None], large: int) -> None:
        """large: bytes from which on a body is sent."""
        self.waiting = 0
        self._work, self._large = work, large
        self._reading: Apart[list[tuple[int, Facts]]] | None = None  # started with the first body that is sent
        self._numbers = count()
        self._held: dict[int, tuple[_Body, Then]] = {}  # in the order in which they were sent
        self._batch: list[_Body] = []
        self._size = 0
        self._singly = False

    def read(self, body: bytes, kind: str, url: str, then: Then) -> None:
        if len(body) < self._large:
            then(read_facts(body, kind, url))
            return
        whole = next(self._numbers), body, kind, url
        self._held[whole[0]] = whole, then
        self.waiting += len(body) + 1
        self._batch.append(whole)
        self._size += len(body)
        if len(self._batch) >= _AT_ONCE or self._size > _AT_ONCE_BYTES:
            self._send()

    def collect(self) -> None:
        self._send()
        reading = self._reading
        while reading is not None and reading.ready:
            for number, facts in reading.next(0) or ():
                self._hand_over(number, facts)
        if self._held and reading is not None and reading.died:
            self._begin_anew(reading)

    def stop(self) -> None:
        if self._reading is not None:
            self._reading.stop()

    def _hand_over(self, number: int, facts: Facts) -> None:
        (_, body, _, _), then = self._held.pop(number)
        self.waiting -= len(body) + 1
        then(facts)

    def _send(self) -> None:
        if self._batch:
            batch, self._batch, self._size, self._singly = self._batch, [], 0, False
            if self._reading is None:
                self._reading = Apart(self._work)
            with suppress(BrokenPipeError, ConnectionResetError):  # it has ended, as `collect` will see
                self._reading.begin([(batch,)])

    def _begin_anew(self, died: Apart[list[tuple[int, Facts]]]) -> None:
        """The process has died: where each body was sent by itself, of the first that it owes."""
        died.stop()
        self._reading = reading = Apart[list[tuple[int, Facts]]](self._work)
        if self._singly:
            self._hand_over(next(iter(self._held)), Facts())
        self._batch, self._size, self._singly = [], 0, True
        for whole, _ in list(self._held.values()):
            reading.begin([([whole],)])


def read_bodies(put: Put, bodies: list[_Body]) -> None:
    """Read bodies, numbered."""
    put([(number, read_facts(body, kind, url)) for number, body, kind, url in bodies])
