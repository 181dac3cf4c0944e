"""A real nginx in a temporary folder, unprivileged, on a free local port, for as long as it is needed."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from upright_ledger.errors import InputError
from upright_ledger.web.local_servers import free_port

NOBODY = 65534
START_SECONDS = 15.0


def find_nginx() -> str:
    """The nginx program on this machine, or an empty string."""
    return (
        shutil.which("nginx", path=f"{os.environ.get('PATH', '')}{os.pathsep}/usr/sbin{os.pathsep}/usr/local/sbin")
        or ""
    )


@contextmanager
def run_nginx(http_block: Callable[[Path, int], str], files: Iterable[Path] = ()) -> Iterator[str]:
    """Run nginx with a configuration for its http block, given the folder and the port; yields the address.

    files: copied into the folder first, since the unprivileged nginx may not be allowed to read them in place.
    Raises InputError with nginx's own words when it does not start.
    """
    program = find_nginx()
    if not program:
        raise InputError("nginx is not installed", "install it, for example with apt-get install nginx-light")
    with tempfile.TemporaryDirectory(prefix="upright-nginx-") as name:
        folder = Path(name)
        port = free_port()
        for path in files:
            shutil.copy(path, folder / path.name)
        temps = "".join(
            f"{kind}_temp_path {folder}/{kind};" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
        )
        config = folder / "nginx.conf"
        config.write_text(
            f"daemon off; worker_processes 1; pid {folder}/nginx.pid; error_log {folder}/error.log;\n"
            f"events {{}}\nhttp {{ access_log off; {temps}\n{http_block(folder, port)}\n}}\n",
            encoding="utf-8",
            errors="surrogateescape",
        )
        root = os.name == "posix" and os.geteuid() == 0
        if root:
            _hand_over(folder)
        identity = {"user": NOBODY, "group": NOBODY, "extra_groups": []} if root else {}
        command = [program, "-p", str(folder), "-e", str(folder / "error.log"), "-c", str(config)]
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, **identity)  # type: ignore[call-overload]  # noqa: S603
        try:
            _wait_for(process, port, folder)
            yield f"http://127.0.0.1:{port}"
        finally:
            process.terminate()
            process.communicate(timeout=START_SECONDS)


def _hand_over(folder: Path) -> None:
    """Give the folder to the unprivileged user who runs nginx."""
    for path in (folder, *folder.rglob("*")):
        os.chown(path, NOBODY, NOBODY)


def _wait_for(process: subprocess.Popen[bytes], port: int, folder: Path) -> None:
    deadline = time.monotonic() + START_SECONDS
    while time.monotonic() < deadline:
        if process.poll() is not None:
            break
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.02)
    log = folder / "error.log"
    words = log.read_text(errors="replace").strip().splitlines() if log.exists() else []
    raise InputError(
        f"nginx did not start: {words[-1] if words else 'it gave no reason'}", "see what nginx -t says of the files"
    )
