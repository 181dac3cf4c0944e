"""Files elsewhere are read as files here, also where a server cannot send parts of them."""

from __future__ import annotations

import random
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import fsspec
import pytest

from upright_ledger.web.remote import RemotePath

DATA = random.Random(1).randbytes(900_000)
ASKED: list[str] = []


class Whole(BaseHTTPRequestHandler):
    """A server without ranges, which may tell how long its answers are."""

    tells = False

    def do_HEAD(self) -> None:
        self.send_response(200)
        if self.tells:
            self.send_header("Content-Length", str(len(DATA)))
        self.end_headers()

    def do_GET(self) -> None:
        ASKED.append(self.path)
        self.do_HEAD()
        try:
            self.wfile.write(DATA)
        except OSError:
            self.close_connection = True  # who asked has seen enough

    def log_message(self, *_: object) -> None:
        """Say nothing."""


@pytest.fixture(params=["whole", "whole, of a known length", "parts"])
def file(request: pytest.FixtureRequest) -> Iterator[RemotePath]:
    if request.param == "parts":
        fsspec.filesystem("memory").pipe("/a.bin", DATA)
        yield RemotePath("memory://a.bin")
        return
    Whole.tells = "length" in request.param
    with ThreadingHTTPServer(("127.0.0.1", 0), Whole) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield RemotePath(f"http://127.0.0.1:{server.server_port}/a.bin")
        server.shutdown()


def test_any_part_can_be_read_in_any_order(file: RemotePath) -> None:
    rng = random.Random(2)
    with file.open() as stream:
        assert stream.read() == DATA
        for _ in range(10):
            start, length = rng.randrange(len(DATA)), rng.randrange(1, 400_000)
            stream.seek(start)
            assert stream.read(length) == DATA[start : start + length]


def test_how_it_begins_is_asked_once_where_its_length_is_told(file: RemotePath) -> None:
    """Of others nobody knows whether they have grown since."""
    told = []
    for _ in range(5):
        with file.open() as stream:
            assert stream.read(6) == DATA[:6]
            stream.seek(0)
            assert stream.read(65_536) == DATA[:65_536]
        told.append(len(ASKED))
    assert (told[0] == told[-1]) == (Whole.tells or not file.address.startswith("http"))


def test_a_file_that_has_grown_or_was_replaced_is_read_anew() -> None:
    system = fsspec.filesystem("memory")
    for data in (b"one\n", b"one\ntwo\n", b"another\n"):
        system.pipe("/grown.log", data)
        with RemotePath("memory://grown.log").open() as stream:
            assert stream.read() == data
