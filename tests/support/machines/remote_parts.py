"""Parts that lie elsewhere: a scheduler with workers, and a bucket in object storage."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from urllib.request import Request, urlopen

KEYS = {"AWS_ACCESS_KEY_ID": "upright", "AWS_SECRET_ACCESS_KEY": "upright", "AWS_REGION": "eu"}


def free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        port: int = found.getsockname()[1]
        return port


@dataclass
class Dask:
    """A scheduler and its workers, each a process without a guard that would start it anew."""

    address: str
    scheduler: subprocess.Popen[bytes]
    workers: list[subprocess.Popen[bytes]]

    def end(self) -> None:
        for process in (*self.workers, self.scheduler):
            process.kill()
            process.wait()


def started(*words: str, folder: Path, **environment: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", *words],
        cwd=folder,
        env={**os.environ, **environment},
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )


@contextmanager
def dask(
    folder: Path, workers: int = 2, *options: str, scheme: str = "tcp", **environment: str
) -> Iterator[Dask]:
    """A scheduler with so many workers. options: of both; environment: what workers find in it."""
    port = free_port()
    address = f"{scheme}://127.0.0.1:{port}"
    quiet = ("--no-dashboard", *options)
    scheduler = started("distributed.cli.dask_scheduler", "--host", address, *quiet, folder=folder)
    found = Dask(address, scheduler, [])
    try:
        wait_for(port)
        for _ in range(workers):
            told = (address, "--no-nanny", "--nthreads", "1", *quiet)
            found.workers.append(
                started("distributed.cli.dask_worker", *told, folder=folder, **environment)
            )
        yield found
    finally:
        found.end()


def wait_for(port: int, seconds: float = 30.0) -> None:
    """Wait until something listens."""
    until = time.monotonic() + seconds
    while True:
        try:
            socket.create_connection(("127.0.0.1", port), 1.0).close()
        except OSError:
            assert time.monotonic() < until
            time.sleep(0.05)
        else:
            return


@contextmanager
def bucket(files: dict[str, Path]) -> Iterator[dict[str, str]]:
    """Files in a bucket called logs; yields the environment in which it is found."""
    import boto3
    from moto.server import ThreadedMotoServer

    port = free_port()
    server = ThreadedMotoServer("127.0.0.1", port, verbose=False)
    server.start()
    try:
        wait_for(port)
        endpoint = f"http://127.0.0.1:{port}"
        # What other buckets of this process held is held still.
        urlopen(Request(f"{endpoint}/moto-api/reset", method="POST")).close()
        told = {**KEYS, "AWS_ENDPOINT_URL": endpoint, "AWS_DEFAULT_REGION": "eu-central-1"}
        client = boto3.client(
            "s3",
            endpoint_url=endpoint,
            region_name="us-east-1",
            aws_access_key_id=KEYS["AWS_ACCESS_KEY_ID"],
            aws_secret_access_key=KEYS["AWS_SECRET_ACCESS_KEY"],
        )
        client.create_bucket(Bucket="logs")
        for key, path in files.items():
            client.upload_file(str(path), "logs", key)
        yield told
    finally:
        server.stop()
