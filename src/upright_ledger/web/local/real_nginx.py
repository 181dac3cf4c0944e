"""A real nginx in a temporary folder, unprivileged, on a free local port, for as long as it is
needed.
"""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from upright_ledger.errors import InputError
from upright_ledger.web.local.real_servers import find_program, free_port, hand_over, wait_for

START_SECONDS = 15.0


def find_nginx() -> str:
    """The nginx program on this machine, or an empty string."""
    return find_program("nginx")


@contextmanager
def run_nginx(http_block: Callable[[Path, int], str], files: Iterable[Path] = ()) -> Iterator[str]:
    """Run nginx with a configuration for its http block, given the folder and the port; yields the
    address.

    files: copied into the folder first, since the unprivileged nginx may not be allowed to read
    them in place. Raises InputError with nginx's own words when it does not start.
    """
    program = find_nginx()
    if not program:
        raise InputError(
            "nginx is not installed", "install it, for example with apt-get install nginx-light"
        )
    with tempfile.TemporaryDirectory(prefix="upright-nginx-") as name:
        folder = Path(name)
        port = free_port()
        for path in files:
            shutil.copy(path, folder / path.name)
        temps = "".join(
            f"{kind}_temp_path {folder}/{kind};"
            for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
        )
        config = folder / "nginx.conf"
        config.write_text(
            f"daemon off; worker_processes 1; pid {folder}/nginx.pid; error_log "
            f"{folder}/error.log;\n"
            f"events {{}}\nhttp {{ access_log off; {temps}\n{http_block(folder, port)}\n}}\n",
            encoding="utf-8",
            errors="surrogateescape",
        )
        identity = hand_over(folder)
        command = [program, "-p", str(folder), "-e", str(folder / "error.log"), "-c", str(config)]
        process = subprocess.Popen(  # noqa: S603
            command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, **identity
        )
        try:
            wait_for("nginx", process, port, [folder / "error.log"], START_SECONDS)
            yield f"http://127.0.0.1:{port}"
        finally:
            process.terminate()
            process.communicate(timeout=START_SECONDS)
