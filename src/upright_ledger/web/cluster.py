"""Workers of a Dask cluster, on this machine or on others, that do parts of the work.

They are sent functions of this program and columns, and send columns back. Whoever can reach a
scheduler can have anything done there: keep it within a network of one's own, or have it ask for
certificates (tls://).
"""

from __future__ import annotations

import logging
import os
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import CancelledError
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from typing import Any

from upright_ledger import __version__
from upright_ledger.errors import InputError, NoWorkersError, UsageError

LOCAL = "local"
_SECONDS = 10.0  # in which a scheduler answers, and has workers
_TOGETHER = 16  # results
_POLL = 2.0
_HERE = "of this machine"
_PACKAGE = "upright-ledger"


@dataclass(frozen=True)
class Certificates:
    """Files by which this machine and a scheduler know each other; empty: none are used."""

    authority: str = ""
    certificate: str = ""
    key: str = ""


class Cluster:
    """Workers that answer: what they are asked is done by one of them, and anew by another where
    that one is lost.
    """

    def __init__(self, client: Any, name: str) -> None:
        self._client, self._name = client, name

    @property
    def is_local(self) -> bool:
        """Whether they run on this machine, and see its files."""
        return self._name == _HERE

    @property
    def workers(self) -> int:
        """How many there are now."""
        return len(self._client.scheduler_info(n_workers=-1).get("workers", ()))

    def begin(self, work: Callable[..., Any], *arguments: Any) -> Any:
        """Have something done; returns what stands for its result, also as an argument of other
        work, and tells by `done()` whether it is.
        """
        with self._reached():
            return self._client.submit(work, *arguments, pure=False)

    def send(self, thing: Any) -> Any:
        """Send something to every worker once; returns what stands for it as an argument of
        work.
        """
        with self._reached():
            return self._client.scatter(thing, broadcast=True, hash=False)

    @contextmanager
    def _reached(self) -> Iterator[None]:
        """Tell what fails because the scheduler is gone from all else."""
        try:
            yield
        except Exception:
            if self._is_there():
                raise
            raise self._gone() from None

    def results(self, tasks: Sequence[Any]) -> Iterator[Any]:
        """The results, in the order of the tasks. Raises what the work raised, InputError where it
        cannot be done.
        """
        for start in range(0, len(tasks), _TOGETHER):
            part = list(tasks[start : start + _TOGETHER])
            self._wait(part)
            yield from self._gathered(part)

    def _wait(self, tasks: Sequence[Any]) -> None:
        """Wait for results, as long as there is anybody to work them out."""
        from distributed import wait

        alone_since = 0.0
        while True:
            try:
                wait(tasks, timeout=_POLL)  # type: ignore[no-untyped-call]
            except TimeoutError:
                if not self._is_there():
                    raise self._gone() from None
                now = time.monotonic()
                alone_since = 0.0 if self.workers else alone_since or now
                if alone_since and now - alone_since > _SECONDS:
                    raise NoWorkersError(
                        f"all workers of {self._name} are gone",
                        "start them again; what is not posted yet is read anew then",
                    ) from None
            except CancelledError:
                raise self._gone() from None
            else:
                return

    def _gathered(self, tasks: Sequence[Any]) -> list[Any]:
        from distributed import KilledWorker

        try:
            found: list[Any] = self._client.gather(tasks)
        except KilledWorker:
            raise InputError(
                "several workers ended one after the other at the same piece of work, for want of "
                "memory, it may be",
                "give each worker more memory, or fewer threads",
            ) from None
        except (CancelledError, OSError):
            raise self._gone() from None
        return found

    def _is_there(self) -> bool:
        return bool(self._client.status == "running")

    def _gone(self) -> InputError:
        return NoWorkersError(
            f"the scheduler {self._name} is gone",
            "start it again; what is not posted yet is read anew then",
        )


@contextmanager
def workers_of(address: str, certificates: Certificates) -> Iterator[Cluster]:
    """The workers of a scheduler, or, where the address is LOCAL, one for each core of this
    machine, which end with this command. Raises UsageError where Dask is not installed, InputError
    where nobody answers, or with another version.
    """
    try:
        import distributed  # noqa: F401 (asked for)
    except ImportError:
        raise UsageError(
            "workers need Dask, which is not installed",
            "install it with the package: pip install 'upright-ledger[cluster]'",
        ) from None
    _hush()
    with ExitStack() as held:
        if address == LOCAL:
            folder = held.enter_context(tempfile.TemporaryDirectory(prefix="upright-"))
            client = held.enter_context(_on_this_machine(folder))
        else:
            client = held.enter_context(_at(address, certificates))
        name = _HERE if address == LOCAL else address
        try:
            client.wait_for_workers(1, timeout=_SECONDS)
        except TimeoutError:
            raise InputError(
                f"the scheduler {name} has no workers", f"start some: dask worker {address}"
            ) from None
        _refuse_other_versions(client)
        yield Cluster(client, name)


def _hush() -> None:
    """Let Dask not write to the terminal: what matters is raised."""
    for name in ("distributed", *logging.root.manager.loggerDict):
        if name.partition(".")[0] in {"distributed", "tornado"}:
            logger = logging.getLogger(name)
            logger.handlers.clear()
            logger.setLevel(logging.CRITICAL + 1)


@contextmanager
def _on_this_machine(folder: str) -> Iterator[Any]:
    from distributed import Client, LocalCluster

    with (
        LocalCluster(  # type: ignore[no-untyped-call]
            n_workers=os.cpu_count() or 1,
            threads_per_worker=1,
            dashboard_address="127.0.0.1:0",  # any free port: another one may run here
            host="127.0.0.1",
            local_directory=folder,
            silence_logs=logging.CRITICAL + 1,
        ) as cluster,
        Client(cluster) as client,  # type: ignore[no-untyped-call]
    ):
        yield client


@contextmanager
def _at(address: str, certificates: Certificates) -> Iterator[Any]:
    from distributed import Client, Security

    if not address.startswith(("tcp://", "tls://")):
        raise UsageError(
            f"{address} is no address of a scheduler",
            "write it as tcp://HOST:8786 or tls://HOST:8786, or say local",
        )
    security = None
    if address.startswith("tls://"):
        if not all((certificates.authority, certificates.certificate, certificates.key)):
            raise UsageError(
                f"{address} asks who this is, and no certificates are named",
                "name authority, certificate and key in [cluster] of upright.toml",
            )
        security = Security(  # type: ignore[no-untyped-call]
            tls_ca_file=certificates.authority,
            tls_client_cert=certificates.certificate,
            tls_client_key=certificates.key,
            require_encryption=True,
        )
    told = {"security": security, "timeout": _SECONDS}
    try:
        client = Client(address, **told)  # type: ignore[no-untyped-call]
    except (OSError, TimeoutError, ValueError) as error:
        raise InputError(
            f"no scheduler answers at {address}: {_first_line(error)}",
            "check the address, the network and the certificates of [cluster] in upright.toml",
        ) from None
    with client:
        yield client


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0]


def _refuse_other_versions(client: Any) -> None:
    """Workers must understand what they are sent."""
    mine = _version()
    for worker, theirs in client.run(_version, on_error="return").items():
        if theirs != mine:
            told = f"has version {theirs}" if isinstance(theirs, str) else "does not have it"
            raise InputError(
                f"this is {_PACKAGE} {mine}, and the worker {worker} {told}",
                f"install {_PACKAGE} {mine} on all workers",
            )


def _version() -> str:
    return __version__
