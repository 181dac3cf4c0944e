"""Real web servers in a temporary folder, unprivileged, on a free local port: the example of a
build, as it was written.
"""

from __future__ import annotations

import os
import re
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Protocol

from upright_ledger.errors import InputError

NOBODY = 65534
START_SECONDS = 60.0
EXAMPLE_PORT = "8080"
_LISTENS = re.compile(rf"(127\.0\.0\.1:|server\.port = ){EXAMPLE_PORT}\b")
_PLACES = f"{os.pathsep}/usr/sbin{os.pathsep}/usr/local/sbin"


class Launch(Protocol):
    """How a server is started in the foreground; see `servers.protocol.Launch`."""

    @property
    def program(self) -> str: ...
    @property
    def arguments(self) -> tuple[str, ...]: ...
    @property
    def package(self) -> str: ...
    @property
    def example(self) -> str: ...
    @property
    def before(self) -> tuple[tuple[str, ...], ...]: ...


def find_program(name: str) -> str:
    """A server's program on this machine, or an empty string."""
    return shutil.which(name, path=os.environ.get("PATH", "") + _PLACES) or ""


@contextmanager
def run_example(launch: Launch, build: Path) -> Iterator[tuple[str, int]]:
    """Run a server with the example configuration of a build; yields host and port.

    Raises InputError with the server's own words when it does not start.
    """
    program = find_program(launch.program)
    if not program:
        raise InputError(
            f"{launch.program} is not installed",
            f"install it, for example with apt-get install {launch.package}",
        )
    with tempfile.TemporaryDirectory(prefix="upright-server-") as held:
        folder = Path(held) / "build"
        shutil.copytree(build, folder)
        port = free_port()
        example = folder / launch.example
        example.write_text(
            _LISTENS.sub(rf"\g<1>{port}", example.read_text(encoding="utf-8"), count=1),
            encoding="utf-8",
        )
        environment = {
            **os.environ,
            "HOME": held,
            "XDG_DATA_HOME": held,
            "XDG_CONFIG_HOME": held,
            "GOMAXPROCS": "1",
        }
        environment["PATH"] = environment.get("PATH", "") + _PLACES
        for command in launch.before:
            subprocess.run(  # noqa: S603
                command, cwd=folder, env=environment, check=True, capture_output=True
            )
        identity = hand_over(Path(held))
        words = [program, *(a.format(folder=folder) for a in launch.arguments)]
        log = Path(held) / "output.log"
        with log.open("wb") as out:
            process = subprocess.Popen(  # noqa: S603
                words, cwd=folder, env=environment, stdout=out, stderr=out, **identity
            )
        try:
            wait_for(
                launch.program,
                process,
                port,
                [log, folder / "error.log", folder / "example/error.log"],
            )
            yield "127.0.0.1", port
        finally:
            process.terminate()
            process.wait(timeout=START_SECONDS)


def hand_over(folder: Path) -> dict[str, Any]:
    """Give a folder to an unprivileged user, where we are root; returns whom a process is to be run
    as.
    """
    if os.name != "posix" or os.geteuid() != 0:
        return {}
    for path in (folder, *folder.rglob("*")):
        os.chown(path, NOBODY, NOBODY)
    return {"user": NOBODY, "group": NOBODY, "extra_groups": []}


def free_port() -> int:
    """A local port on which nobody listens."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def wait_for(
    name: str,
    process: subprocess.Popen[bytes],
    port: int,
    logs: list[Path],
    seconds: float = START_SECONDS,
) -> None:
    """Wait until a server listens on its port. Raises InputError with the last line of its logs
    where it does not start.
    """
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline and process.poll() is None:
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.02)
    told = [
        line
        for log in logs
        if log.exists()
        for line in log.read_text(errors="replace").strip().splitlines()
    ]
    raise InputError(
        f"{name} did not start: {told[-1] if told else 'it gave no reason'}",
        "see what its own check says of the files",
    )
