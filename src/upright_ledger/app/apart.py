"""Work in processes of its own, so that other cores do it while this one goes on."""

from __future__ import annotations

import multiprocessing
import pickle
import queue
import signal
import threading
from collections.abc import Callable, Sequence
from contextlib import suppress
from multiprocessing.connection import Connection
from multiprocessing.context import SpawnProcess
from types import TracebackType
from typing import Any, Generic, TypeVar

from upright_ledger.errors import UprightError

T = TypeVar("T")
Put = Callable[[Any], None]

_END_OF_JOB = b""
_END = b"."


class Apart(Generic[T]):
    """A function that runs in other processes, job by job, and hands over what it finds.

    work: a function of a module, called with `put` (which hands one thing over) and the arguments of a job; all of them can be pickled. What
    it raises is raised here by `next`. The processes start at once, to be ready when there is something to do. Should this
    one die, they end with the next thing that they hand over.
    """

    def __init__(self, work: Callable[..., None], processes: int = 1, *, parent: bool = False) -> None:
        """parent: the function uses such processes itself."""
        self._come: queue.SimpleQueue[bytes] = queue.SimpleQueue()
        self._busy = 0
        self._processes: list[SpawnProcess] = []
        self._pipes: list[Connection] = []
        self._pumps: list[threading.Thread] = []
        # Fresh processes rather than forks: this one may hold connections and threads.
        context = multiprocessing.get_context("spawn")
        for _ in range(processes):
            ours, theirs = context.Pipe()
            process = context.Process(target=_run, args=(theirs, work), daemon=not parent)
            process.start()
            theirs.close()
            pump = threading.Thread(target=_receive, args=(ours, self._come), daemon=True)
            pump.start()
            self._processes.append(process)
            self._pipes.append(ours)
            self._pumps.append(pump)

    def __enter__(self) -> Apart[T]:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()

    @property
    def processes(self) -> int:
        """How many there are."""
        return len(self._processes)

    @property
    def ended(self) -> bool:
        """Whether the jobs have handed over all that they found."""
        return not self._busy

    @property
    def ready(self) -> bool:
        """Whether `next` has something at once, if only the end of a job."""
        return not self._come.empty()

    @property
    def died(self) -> bool:
        """Whether no process is left, and all that they handed over was taken up."""
        return not any(pump.is_alive() for pump in self._pumps) and self._come.empty()

    def begin(self, jobs: Sequence[tuple[Any, ...]]) -> None:
        """Start jobs, one a process at most: the arguments of each. A process that is still at one does the next after it."""
        for pipe, arguments in zip(self._pipes, jobs, strict=False):
            pipe.send_bytes(pickle.dumps(arguments, pickle.HIGHEST_PROTOCOL))
            self._busy += 1

    def next(self, seconds: float) -> T | None:
        """The next thing, or None where nothing came in time, or a job ended."""
        if not self._busy:
            return None
        try:
            data = self._come.get(timeout=seconds)
        except queue.Empty:
            return None
        if data in {_END_OF_JOB, _END}:
            self._busy -= 1
            return None
        found = pickle.loads(data)  # noqa: S301 (our own process wrote it)
        if isinstance(found, UprightError):
            raise found
        return found  # type: ignore[no-any-return]

    def stop(self) -> None:
        """End the processes. What was handed over before can still be taken up with `next`."""
        for process in self._processes:
            process.terminate()
            process.join()
        for pump in self._pumps:
            pump.join()


def _receive(ours: Connection, come: queue.SimpleQueue[bytes]) -> None:
    """Take in what comes, so that the other process need not wait for this one."""
    with suppress(EOFError, OSError):
        while True:
            come.put(ours.recv_bytes())
    come.put(_END)


def _run(theirs: Connection, work: Callable[..., None]) -> None:
    """What another process does. Ctrl-C is for the one that a person started."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)

    def put(thing: Any) -> None:
        theirs.send_bytes(pickle.dumps(thing, pickle.HIGHEST_PROTOCOL))

    with suppress(EOFError, BrokenPipeError, ConnectionResetError):  # nobody is there any more
        while True:
            arguments = pickle.loads(theirs.recv_bytes())  # noqa: S301 (our own process wrote it)
            try:
                work(put, *arguments)
            except UprightError as error:
                put(error)
            theirs.send_bytes(_END_OF_JOB)
