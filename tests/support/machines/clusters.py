"""Temporary servers of PostgreSQL."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

_FOLDERS = sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True)
BINARIES = next((f for f in _FOLDERS if (f / "initdb").exists()), None)
PORT = 31_000 + os.getpid() % 1_700
"""One that no outgoing connection is given: such a one would keep the server from starting."""


def _as_its_user(*command: str) -> list[str]:
    """PostgreSQL refuses to run as root."""
    return ["runuser", "-u", "postgres", "--", *command] if os.geteuid() == 0 else list(command)


@contextmanager
def cluster() -> Iterator[str]:
    """A temporary cluster; yields the address of its server, without a database."""
    assert BINARIES is not None
    folder = Path(tempfile.mkdtemp(prefix="upright-cluster-"))
    if os.geteuid() == 0:
        shutil.chown(folder, "postgres")
    data = str(folder / "data")

    def do(program: str, *arguments: str) -> None:
        subprocess.run(
            _as_its_user(str(BINARIES / program), "-D", data, *arguments),
            check=True,
            capture_output=True,
        )

    do("initdb", "-U", "upright", "-A", "trust", "-E", "UTF8")
    options = f"-p {PORT} -k {folder} -c listen_addresses=127.0.0.1 -c fsync=off"
    do("pg_ctl", "-w", "-o", options, "-l", str(folder / "log"), "start")
    try:
        yield f"postgresql+psycopg://upright@127.0.0.1:{PORT}/"
    finally:
        do("pg_ctl", "-m", "immediate", "stop")
        shutil.rmtree(folder)
