"""Files that workers read: logs in pieces, others whole. Those to come are begun while one is
posted.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from upright_ledger.app.collect.reading.inputs import Input
from upright_ledger.errors import InputError
from upright_ledger.formats.detection import FileKind
from upright_ledger.formats.logs.pieces.piece import PieceSource
from upright_ledger.formats.logs.pieces.pieced_log import begin_reading, read_pieces, sources_of
from upright_ledger.formats.records import Reading, ReadOptions
from upright_ledger.formats.registry import read_whole
from upright_ledger.web.cluster import Cluster

PIECE = 64 << 20  # bytes of a log that is cut
WHOLE = 64 << 20  # bytes of another file that one worker holds; larger ones are read here, by parts
_AHEAD = 3  # pieces a worker that are not read yet
_HELD = 4  # times as many that are held


@dataclass
class _Begun:
    """A file whose reading was begun. sources: its pieces where it is a log."""

    options: ReadOptions
    sources: list[PieceSource]
    tasks: list[Any]


class PiecesAhead:
    """Has workers read files, in the order in which they are wanted. progress: told what is under
    way.
    """

    def __init__(self, workers: Cluster, progress: Callable[[str], None]) -> None:
        self._workers, self._progress = workers, progress
        self._coming: OrderedDict[Input, str] = OrderedDict()
        self._begun: dict[Input, _Begun] = {}

    def expect(self, files: Iterable[tuple[Input, str]]) -> None:
        """Name the files that will be asked for, in their order, with their kinds."""
        self._coming.update((file, kind) for file, kind in files if self.takes(file, kind))

    def takes(self, file: Input, kind: str) -> bool:
        """Whether workers can read a file of this kind."""
        if file.is_ours and not self._workers.is_local:
            return False
        return kind == FileKind.ACCESS_LOG or (kind != "" and file.path.stat().st_size <= WHOLE)

    def read(self, file: Input, kind: str, options: ReadOptions) -> Reading:
        """What a file says. It is read anew where it was begun with other options. Raises
        InputError.
        """
        told = replace(options, known_lines=ReadOptions().known_lines)
        for other in [one for one in self._begun if one != file and one not in self._coming]:
            del self._begun[other]  # it was posted: nobody needs its pieces any more
        if file in self._coming:
            while self._coming.popitem(last=False)[0] != file:
                pass  # nobody asks for those before it any more
        if file not in self._begun or self._begun[file].options != _for(file, told):
            self._begin(file, kind, told)
        self._begin_more(told)
        found = self._begun[file]
        if not found.sources:
            reading: Reading
            (reading,) = self._workers.results(found.tasks)
            return reading

        def say(done: int, every: int) -> None:
            self._begin_more(told)
            self._progress(f"{file.name}: {done:,} of {every:,} pieces")

        return read_pieces(found.sources, found.tasks, options, self._workers, say)

    def _begin(self, file: Input, kind: str, options: ReadOptions) -> None:
        options = _for(file, options)
        path = file.path.absolute() if isinstance(file.path, Path) else file.path
        if kind == FileKind.ACCESS_LOG:
            sources = sources_of(path, options, PIECE)
            self._begun[file] = _Begun(options, sources, begin_reading(sources, self._workers))
        else:
            task = self._workers.begin(read_whole, path, kind, options)
            self._begun[file] = _Begun(options, [], [task])

    def _begin_more(self, options: ReadOptions) -> None:
        """Begin with files to come, as long as workers would have nothing else to do, and hold no
        more than they can.
        """
        most = _AHEAD * max(1, self._workers.workers)
        for file, kind in self._coming.items():
            held = [task for one in self._begun.values() for task in one.tasks]
            if len(held) >= _HELD * most or sum(not t.done() for t in held) >= most:
                return
            if file not in self._begun:
                try:
                    self._begin(file, kind, options)
                except InputError:
                    continue  # it is said when its turn comes


def _for(file: Input, options: ReadOptions) -> ReadOptions:
    return replace(options, sheet=file.sheet)
