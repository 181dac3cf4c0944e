"""The rules behind local ports, for a browser."""

from __future__ import annotations

import http.client
import socket
import struct
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager

from conftest import NEW, OLD, PROGRAM, Program


def free_ports(count: int) -> int:
    """The first of some ports that follow on each other."""
    for port in range(21000, 30000, count):
        try:
            for n in range(count):
                socket.create_server(("127.0.0.1", port + n)).close()
        except OSError:
            continue
        return port
    raise AssertionError("no ports")


ENDED: list[bytes] = []
"""What each server that was started had to complain of."""


@contextmanager
def serving(program: Program, *options: str) -> Iterator[int]:
    port = free_ports(3)
    run = subprocess.Popen(
        [PROGRAM, "serve", "--port", str(port), *options],
        cwd=program.folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    try:
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            try:
                socket.create_connection(("127.0.0.1", port), timeout=1).close()
                break
            except OSError:
                time.sleep(0.05)
        yield port
    finally:
        run.terminate()
        ENDED.append(
            run.communicate(timeout=30)[1].replace(
                b"upright: stopped. What was complete is kept.\n", b""
            )
        )


def get(port: int, target: str) -> tuple[int, str, str]:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=10)
    connection.putrequest("GET", target, skip_host=False)
    connection.endheaders()
    answer = connection.getresponse()
    return answer.status, answer.headers.get("Location", ""), answer.read().decode()


def test_old_addresses_lead_to_stand_in_pages(museum: Program) -> None:
    museum.write(
        "pages.csv", f"url,title,status\n{NEW}/tower/,The <b>tower</b>,200\n{NEW}/late/,Later,404\n"
    )
    museum("stock", "pages.csv")
    museum("decide", "--from", museum.pairs("/old.html,/tower/,301", "/gone.html,,410"))
    with serving(museum) as port:
        assert get(port, "/old.html")[:2] == (301, f"http://127.0.0.1:{port}/tower/")
        status, _, page = get(port, "/tower/")
        assert (status, "&lt;b&gt;tower&lt;/b&gt;" in page, "<b>tower" in page) == (
            200,
            True,
            False,
        )
        assert get(port, "/late/")[0] == 404
        assert get(port, "/gone.html")[0] == 410
        status, _, page = get(port, "/none/<script>")
        assert (status, "<script>" in page) == (404, False)
        assert f"{OLD}/old.html" in get(port, "/.upright/")[2]
        assert get(port, "/.upright/try?url=%2Fold.html")[:2] == (
            302,
            f"http://127.0.0.1:{port}/old.html",
        )
        assert "cannot be used" in museum("serve", "--port", port, code=3).err
    with serving(museum, "--as-sent") as port:
        assert get(port, "/old.html")[:2] == (301, f"{NEW}/tower/")


def test_relative_destinations_of_imported_rules_lead_where_a_browser_goes(museum: Program) -> None:
    museum.write(
        ".htaccess",
        "RewriteEngine On\nRewriteBase /\nRewriteRule ^d$ ?x=1 [R=301,L]\nRedirectMatch 301 ^/c$ "
        "//elsewhere.example/y\n",
    )
    museum("gather", ".htaccess")
    with serving(museum) as port:
        assert get(port, "/d")[:2] == (301, f"http://127.0.0.1:{port}/?x=1")
        assert get(port, "/c")[1].endswith("elsewhere.example/y")


def raw(port: int, text: str) -> bytes:
    with socket.create_connection(("127.0.0.1", port), timeout=20) as connection:
        connection.sendall(text.encode())
        connection.shutdown(socket.SHUT_WR)
        data = b""
        while chunk := connection.recv(65536):
            data += chunk
        return data


def test_a_name_that_was_made_to_lead_here_is_answered_nothing(museum: Program) -> None:
    museum("decide", "/a", "--to", f"{NEW}/x")
    with serving(museum) as port:
        told = raw(
            port, "GET /.upright/ HTTP/1.1\r\nHost: elsewhere.example\r\nConnection: close\r\n\r\n"
        )
        assert told.startswith(b"HTTP/1.1 421 ")
        assert b"old address" not in told.lower()
        for host in ("localhost", f"127.0.0.1:{port}", "www.quillhaven.example"):
            assert raw(
                port, f"GET /a HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n"
            ).startswith(b"HTTP/1.1 301 ")


def test_what_is_sent_with_a_form_is_no_further_request(museum: Program) -> None:
    museum("decide", "/a", "--to", f"{NEW}/x")
    inner = "GET /smuggled HTTP/1.1\r\nHost: localhost\r\n\r\n"
    with serving(museum) as port:
        told = raw(
            port,
            f"POST /a HTTP/1.1\r\nHost: localhost\r\nContent-Length: {len(inner)}\r\n\r\n{inner}",
        )
        assert told.count(b"HTTP/1.1 ") == 1
        told = raw(
            port, f"POST /a HTTP/1.1\r\nHost: localhost\r\nContent-Length: \u00b2\r\n\r\n{inner}"
        )
        assert told.count(b"HTTP/1.1 ") == 1


def test_many_at_once_are_all_answered_and_those_who_leave_are_not_told_of(museum: Program) -> None:
    museum("decide", "/a", "--to", f"{NEW}/x")
    request = b"GET /a HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n"
    with serving(museum) as port:
        clients = [socket.create_connection(("127.0.0.1", port), timeout=60) for _ in range(400)]
        for client in clients:
            client.sendall(request)
        for client in clients[:50]:
            client.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
            client.close()
        assert all(client.recv(12) == b"HTTP/1.1 301" for client in clients[50:])
        for client in clients[50:]:
            client.close()
    assert ENDED[-1] == b""
