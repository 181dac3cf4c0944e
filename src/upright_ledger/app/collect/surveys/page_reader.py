"""Reading the pages of a crawl: in a process of its own where there is a core for it, so that the
next ones are asked for meanwhile.

What a page says is packed there, and unpacked where it is kept: the crawl itself needs to know only
where to go next.
"""

from __future__ import annotations

import os
import pickle
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from itertools import count

from upright_ledger.app.worker_process import Put, WorkerDiedError, WorkerProcess
from upright_ledger.core.crawl.observation import Facts
from upright_ledger.formats.html.content import read_facts
from upright_ledger.web.http.crawler import BodyReader, Read

_AT_ONCE = 16  # pages that are sent together
_AT_ONCE_BYTES = 1 << 18

Then = Callable[[Read], None]
_Body = tuple[int, bytes, str, str, bool | None]
_Reading = WorkerProcess[list[tuple[int, Read]]]
_UNREAD = Read(pickle.dumps(Facts()))


@contextmanager
def page_reader(work: Callable[..., None] | None = None) -> Iterator[BodyReader]:
    """A reader that suits the machine. work: what reads bodies in a process of its own; see
    `read_bodies`.
    """
    if (os.cpu_count() or 1) < 2 and work is None:
        yield ReadHere()
        return
    reader = _ReadApart(work or read_bodies)
    try:
        yield reader
    finally:
        reader.stop()


def unpacked(read: bytes) -> Facts:
    """What a page says. read: packed by a reader."""
    found: Facts = pickle.loads(read)  # noqa: S301 (our own process wrote it)
    return found


class ReadHere:
    """Reads each body at once."""

    waiting = 0

    def __init__(self) -> None:
        self._told: set[str] = set()

    def read(self, body: bytes, kind: str, url: str, follow: bool | None, then: Then) -> None:
        """Read a body, and call `then`."""
        then(_read(self._told, body, kind, url, follow))

    def collect(self) -> None:
        """Nothing is left over."""


class _ReadApart:
    """Sends bodies to another process. Should one of them be its end, that one is left unread, and
    the others are read by a new process.
    """

    def __init__(self, work: Callable[..., None]) -> None:
        self.waiting = 0
        self._work = work
        self._reading: _Reading = WorkerProcess(work)
        self._numbers = count()
        self._held: dict[int, tuple[_Body, Then]] = {}  # in the order in which they were sent
        self._batch: list[_Body] = []
        self._size = 0
        self._singly = False

    def read(self, body: bytes, kind: str, url: str, follow: bool | None, then: Then) -> None:
        whole = next(self._numbers), body, kind, url, follow
        self._held[whole[0]] = whole, then
        self.waiting += len(body) + 1
        self._batch.append(whole)
        self._size += len(body)
        if len(self._batch) >= _AT_ONCE or self._size > _AT_ONCE_BYTES:
            self._send()

    def collect(self) -> None:
        self._send()
        try:
            while self._reading.ready and not self._reading.ended:
                for number, read in self._reading.next(0) or ():
                    self._hand_over(number, read)
        except WorkerDiedError:
            self._begin_anew()

    def stop(self) -> None:
        self._reading.stop()

    def _hand_over(self, number: int, read: Read) -> None:
        (_, body, *_), then = self._held.pop(number)
        self.waiting -= len(body) + 1
        then(read)

    def _send(self) -> None:
        if self._batch:
            batch, self._batch, self._size, self._singly = self._batch, [], 0, False
            self._reading.begin([(batch,)])

    def _begin_anew(self) -> None:
        """The process has died: where each body was sent by itself, of the first that it owes."""
        self._reading.stop()
        self._reading = WorkerProcess(self._work)
        if self._singly:
            self._hand_over(next(iter(self._held)), _UNREAD)
        self._batch, self._size, self._singly = [], 0, True
        for whole, _ in list(self._held.values()):
            self._reading.begin([([whole],)])


def read_bodies(put: Put, bodies: list[_Body]) -> None:
    """Read bodies, numbered."""
    put(
        [
            (number, _read(_told_here, body, kind, url, follow))
            for number, body, kind, url, follow in bodies
        ]
    )


_told_here: set[str] = set()  # addresses that the process of its own has told already


def _read(told: set[str], body: bytes, kind: str, url: str, follow: bool | None) -> Read:
    """Read a body. told: the addresses to follow that were told before; each is told once. follow:
    as in `BodyReader.read`.
    """
    facts = read_facts(body, kind, url)
    new = []
    if follow or (follow is None and "nofollow" not in facts.robots):
        for link in facts.links:
            if link.target not in told:
                told.add(link.target)
                new.append((link.target, link.kind))
    return Read(pickle.dumps(facts, pickle.HIGHEST_PROTOCOL), facts.refresh, tuple(new))
