"""Work in processes of its own, so that other cores do it while this one goes on."""

from __future__ import annotations

import multiprocessing
import pickle
import queue
import signal
import threading
import time
import traceback
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from multiprocessing.connection import Connection
from multiprocessing.context import SpawnProcess
from pathlib import Path
from types import TracebackType
from typing import Any, Generic, TypeVar

from upright_ledger.errors import InputError, UprightError

T = TypeVar("T")
Put = Callable[[Any], None]

_SECONDS_TO_END = 5.0

_END_OF_JOB = b""
_END = b"."


class WorkerDiedError(InputError):
    """A process ended before its work was done. What it had handed over can be relied on; what it
    had not is missing.
    """


class WorkerProcess(Generic[T]):
    """A function that runs in other processes, job by job, and hands over what it finds.

    work: a function of a module, called with `put` (which hands one thing over) and the arguments
    of a job; all of them can be pickled. What it raises is raised here by `next`: an UprightError
    as it is, all else, and the death of a process that was at a job, as WorkerDiedError. The
    processes start at once, to be ready when there is something to do. Should this one die, they
    end with the next thing that they hand over.
    """

    def __init__(
        self, work: Callable[..., None], processes: int = 1, *, parent: bool = False
    ) -> None:
        """parent: the function uses such processes itself."""
        self._come: queue.SimpleQueue[tuple[int, bytes]] = queue.SimpleQueue()
        self._busy = [0] * processes  # jobs that each has begun or been sent
        self._stopped = False
        self._processes: list[SpawnProcess] = []
        self._pipes: list[Connection] = []
        self._pumps: list[threading.Thread] = []
        # Fresh processes rather than forks: this one may hold connections and threads.
        context = multiprocessing.get_context("spawn")
        for number in range(processes):
            ours, theirs = context.Pipe()
            process = context.Process(target=_run, args=(theirs, work), daemon=not parent)
            process.start()
            theirs.close()
            pump = threading.Thread(target=_receive, args=(number, ours, self._come), daemon=True)
            pump.start()
            self._processes.append(process)
            self._pipes.append(ours)
            self._pumps.append(pump)

    def __enter__(self) -> WorkerProcess[T]:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.stop()

    @property
    def processes(self) -> int:
        """How many there are."""
        return len(self._processes)

    @property
    def ended(self) -> bool:
        """Whether the jobs have handed over all that they found, or were stopped and all that they
        had handed over was taken up.
        """
        return not any(self._busy)

    @property
    def ready(self) -> bool:
        """Whether `next` has something at once, if only the end of a job."""
        return not self._come.empty()

    def begin(self, jobs: Sequence[tuple[Any, ...]]) -> None:
        """Start jobs, one a process at most: the arguments of each. A process that is still at one
        does the next after it.
        """
        for number, (pipe, arguments) in enumerate(zip(self._pipes, jobs, strict=False)):
            self._busy[number] += 1
            try:
                pipe.send_bytes(pickle.dumps(arguments, pickle.HIGHEST_PROTOCOL))
            except OSError:  # it has died, and may have been found dead before: `next` says so
                self._come.put((number, _END))

    def next(self, seconds: float) -> T | None:
        """The next thing, or None where nothing came in time, or a job ended. Raises
        WorkerDiedError where one will never end.
        """
        if self.ended:
            return None
        try:
            number, data = self._come.get(timeout=seconds)
        except queue.Empty:
            return None
        if data == _END:
            owed, self._busy[number] = self._busy[number], 0
            if owed and not self._stopped:
                raise WorkerDiedError(
                    "a process that works for this one ended before its work was "
                    f"done{self._why(number)}"
                )
            return None
        if data == _END_OF_JOB:
            self._busy[number] -= 1
            return None
        found = pickle.loads(data)  # noqa: S301 (our own process wrote it)
        if isinstance(found, UprightError):
            raise found
        return found  # type: ignore[no-any-return]

    def stop(self) -> None:
        """End the processes: each finishes what it has begun, if that takes no more than a moment
        (`is_ending`). What was handed over can still be taken up with `next`.
        """
        self._stopped = True
        for process in self._processes:
            process.terminate()
        until = time.monotonic() + _SECONDS_TO_END
        for process in self._processes:
            process.join(max(0.0, until - time.monotonic()))
            process.kill()
            process.join()
        for pump in self._pumps:
            pump.join()

    def _why(self, number: int) -> str:
        """How a process ended that did not say why."""
        self._processes[number].join(1.0)
        code = self._processes[number].exitcode
        if code is None or code >= 0:
            return "" if code is None else f" (exit code {code})"
        return (
            " (killed by signal "
            f"{-code}{', for want of memory, it may be' if code == -signal.SIGKILL else ''})"
        )


class Few(Generic[T]):
    """Things that a process hands over a few at a time: so many, or what there is after a while."""

    def __init__(self, put: Put, most: int, seconds: float) -> None:
        self._put, self._most, self._seconds = put, most, seconds
        self.found: list[T] = []
        self._since = time.monotonic()

    def hand_over(self) -> None:
        """Hand over what there is, where it is enough or waited long enough."""
        now = time.monotonic()
        if self.found and (len(self.found) >= self._most or now - self._since > self._seconds):
            self._put(self.found)
            self.found.clear()
            self._since = now


def _receive(number: int, ours: Connection, come: queue.SimpleQueue[tuple[int, bytes]]) -> None:
    """Take in what comes, so that the other process need not wait for this one."""
    with suppress(EOFError, OSError):
        while True:
            come.put((number, ours.recv_bytes()))
    come.put((number, _END))


@dataclass
class _State:
    """Of a process that works for another. busy: at a job; ending: asked to end."""

    busy: bool = False
    ending: bool = False


_state = _State()


def is_ending() -> bool:
    """Whether this process was asked to end while it is at a job: what is not begun is left."""
    return _state.ending


def _asked_to_end(_number: int, _frame: object) -> None:
    if not _state.busy:
        raise SystemExit
    _state.ending = True


def _run(theirs: Connection, work: Callable[..., None]) -> None:
    """What another process does. Ctrl-C is for the one that a person started, which ends this one
    with a signal.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, _asked_to_end)

    def send(data: bytes) -> None:
        try:
            theirs.send_bytes(data)
        except OSError:  # nobody is there any more
            raise SystemExit from None

    def put(thing: Any) -> None:
        send(pickle.dumps(thing, pickle.HIGHEST_PROTOCOL))

    while True:
        try:
            arguments = pickle.loads(theirs.recv_bytes())  # noqa: S301 (our own process wrote it)
        except (EOFError, OSError):
            return
        _state.busy = True
        try:
            work(put, *arguments)
        except UprightError as error:
            put(error)
        except Exception as error:  # noqa: BLE001 (whatever it is, its work is not done)
            put(_told(error))
        if _state.ending:  # what it was to do may not be done
            return
        _state.busy = False
        send(_END_OF_JOB)


def _told(error: Exception) -> WorkerDiedError:
    """An error that nobody foresaw, with the place that raised it."""
    at = traceback.extract_tb(error.__traceback__)[-1]
    what = "".join(traceback.format_exception_only(error)).strip()
    return WorkerDiedError(
        f"work in a process of its own failed: {what} ({Path(at.filename).name}, line {at.lineno})"
    )
