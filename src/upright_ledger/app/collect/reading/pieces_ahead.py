"""Logs that workers read: the pieces of those to come are begun while one is posted."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from upright_ledger.app.collect.reading.inputs import Input
from upright_ledger.errors import InputError
from upright_ledger.formats.logs.pieces.piece import PieceSource
from upright_ledger.formats.logs.pieces.pieced_log import begin_reading, read_pieces, sources_of
from upright_ledger.formats.records import Reading, ReadOptions
from upright_ledger.web.cluster import Cluster

PIECE = 64 << 20  # bytes of a log that is cut
_AHEAD = 3  # pieces a worker that are not read yet
_HELD = 4  # times as many that are held


@dataclass
class _Begun:
    options: ReadOptions
    sources: list[PieceSource]
    tasks: list[Any]


class PiecesAhead:
    """Has workers read logs, in the order in which they are wanted. progress: told what is under
    way.
    """

    def __init__(self, workers: Cluster, progress: Callable[[str], None]) -> None:
        self._workers, self._progress = workers, progress
        self._coming: OrderedDict[Input, None] = OrderedDict()
        self._begun: dict[Input, _Begun] = {}

    def expect(self, files: Iterable[Input]) -> None:
        """Name the logs that will be asked for, in their order."""
        self._coming.update(dict.fromkeys(filter(self.takes, files)))

    def takes(self, file: Input) -> bool:
        """Whether workers can read a file."""
        return self._workers.is_local or not file.is_ours

    def read(self, file: Input, options: ReadOptions) -> Reading:
        """What a log says. It is read anew where it was begun with other options. Raises
        InputError.
        """
        told = replace(options, known_lines=ReadOptions().known_lines)
        for other in [one for one in self._begun if one != file and one not in self._coming]:
            del self._begun[other]  # it was posted: nobody needs its pieces any more
        if file in self._coming:
            while self._coming.popitem(last=False)[0] != file:
                pass  # nobody asks for those before it any more
        if file not in self._begun or self._begun[file].options != told:
            self._begin(file, told)
        self._begin_more(told)
        found = self._begun[file]

        def say(done: int, every: int) -> None:
            self._begin_more(told)
            self._progress(f"{file.name}: {done:,} of {every:,} pieces")

        return read_pieces(found.sources, found.tasks, options, self._workers, say)

    def _begin(self, file: Input, options: ReadOptions) -> None:
        path = file.path.absolute() if isinstance(file.path, Path) else file.path
        sources = sources_of(path, options, PIECE)
        self._begun[file] = _Begun(options, sources, begin_reading(sources, self._workers))

    def _begin_more(self, options: ReadOptions) -> None:
        """Begin with logs to come, as long as workers would have nothing else to do, and hold no
        more than they can.
        """
        most = _AHEAD * max(1, self._workers.workers)
        for file in self._coming:
            held = [task for one in self._begun.values() for task in one.tasks]
            if len(held) >= _HELD * most or sum(not t.done() for t in held) >= most:
                return
            if file not in self._begun:
                try:
                    self._begin(file, options)
                except InputError:
                    continue  # it is said when its turn comes
