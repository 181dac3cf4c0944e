"""Rehearse and replay: verdicts, hops and hostile servers."""

from __future__ import annotations

import csv
import gzip
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

from conftest import NEW, OLD, Program
from upright_ledger.web.local.stand_in import serve


def test_rehearse_gives_every_verdict_by_count_and_by_hits(answered: Program) -> None:
    line = '192.0.2.1 - - [03/May/2026:10:00:00 +0000] "GET {} HTTP/1.1" 200 1 "-" "{}"\n'
    people, bot = "Mozilla/5.0 (X11)", "SlateBot/1"
    asked = (
        ["/a"] * 5
        + ["/a/?utm_source=x"] * 2
        + ["/gone", "/kept/", "/noise", "/c", "/slow", "/none", "/none", "/dead"]
    )
    answered.write(
        "access.log",
        "".join(line.format(t, people) for t in asked)
        + line.format("/none", bot) * 9
        + line.format("/style.css", people),
    )
    run = answered.json("rehearse", "access.log", "--out", "run.csv", code=1)
    assert run["counts"] == {"unanswered": 1, "chain": 1, "ok": 7}
    assert run["counts_by_hits"] == {"unanswered": 2, "chain": 1, "ok": 12}
    assert run["left_out"] == {"furniture": 1}
    rows = {
        r["url"].removeprefix(OLD): r for r in csv.DictReader((answered.folder / "run.csv").open())
    }
    assert (
        rows["/a"]["status"],
        rows["/a"]["location"],
        rows["/a"]["final_status"],
        rows["/a"]["hits"],
    ) == ("301", f"{NEW}/goal/", "200", "5")
    # A log repeats one page with every campaign parameter there is; a list names what it wants to
    # know.
    assert run["counted_without"]["tracking parameter"] == 2
    assert rows["/a/"]["hits"] == "2"
    answered.write("urls.txt", f"{OLD}/a/?utm_source=x\n")
    answered("rehearse", "urls.txt", "--out", "one.csv")
    assert (
        next(csv.DictReader((answered.folder / "one.csv").open()))["location"]
        == f"{NEW}/goal/?utm_source=x"
    )
    assert (rows["/c"]["hops"], rows["/c"]["final_url"]) == ("2", f"{NEW}/goal/")
    assert rows["/gone"]["expected"] == "410"
    assert rows["/dead"]["final_status"] == ""
    assert "chain" in answered("rehearse", "access.log", code=1).out


def test_rehearse_needs_requests_of_its_own_sites(answered: Program) -> None:
    answered.write("urls.txt", "https://elsewhere.example/x\n")
    assert "no request for this ledger" in answered("rehearse", "urls.txt", code=3).err


RESPONSES = {
    "/loop1": "301\r\nLocation: /loop1",
    "/loop2": "301\r\nLocation: /loop2b",
    "/loop2b": "302\r\nLocation: /loop2",
    "/ever": "301\r\nLocation: /ever?n={n}",
    "/nowhere": "301\r\nX-None: 1",
    "/relative": "301\r\nLocation: goal/",
    "/blank": "301\r\nLocation:   /goal/  ",
    "/umlaut": "301\r\nLocation: /gö al/",
    "/mail": "301\r\nLocation: mailto:x@y.example",
    "/script": "301\r\nLocation: javascript:alert(1)",
    "/file": "301\r\nLocation: file:///etc/passwd",
    "/outside": "301\r\nLocation: https://elsewhere.example/x",
    "/schemeless": "301\r\nLocation: //elsewhere.example/x",
    "/goal/": "200\r\nContent-Type: text/html",
    "/soft": "200\r\nContent-Type: text/html\r\nX-Title: Page not found",
    "/hidden": "200\r\nContent-Type: text/html\r\nX-Robots-Tag: noindex",
    "/reset": "reset",
    "/error": "500\r\nX: y",
    "/busy": "429\r\nRetry-After: 1",
    "/endless": "endless",
    "/refresh": (
        "200\r\nContent-Type: text/html\r\nX-Body: <meta http-equiv=refresh content='0; "
        "url=/goal/'>"
    ),
    "/header-refresh": "200\r\nContent-Type: text/html\r\nRefresh: 1;URL=/goal/",
    "/late-refresh": "200\r\nContent-Type: text/html\r\nRefresh: 300",
    "/other-canonical": (
        "200\r\nContent-Type: text/html\r\nX-Body: <link rel=canonical href=/goal/>"
    ),
    "/drip": "drip",
    "/drip-body": "raw HTTP/1.1 200 OK\r\nContent-Length: 99\r\n\r\n<title>x",
    "/short": (
        "raw-end HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: "
        "999\r\n\r\n<title>x</title>"
    ),
    "/half-header": "raw-end HTTP/1.1 301 Mov",
    "/old-http": "raw-end HTTP/1.0 301 Moved\r\nLocation: /goal/\r\n\r\n",
    "/nonsense": "raw-end SSH-2.0-x\r\n\r\n",
    "/early": (
        "raw-end HTTP/1.1 103 Early Hints\r\nLink: </x>\r\n\r\nHTTP/1.1 301 Moved\r\nLocation: "
        "/goal/\r\nContent-Length: 0\r\n\r\n"
    ),
    "/continue": (
        "raw-end HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 301 Moved\r\nLocation: "
        "/goal/\r\nContent-Length: 0\r\n\r\n"
    ),
    "/long-headers": "301\r\nLocation: /goal/\r\nX-Long: " + "x" * 60_000,
    "/longest-headers": "301\r\n" + "X-Long: " + "x" * 60_000 + "\r\nX-Longer: " + "x" * 90_000,
    "/bomb": "bomb",
    "/doubled": "301\r\nLocation: //goal/",
    "/latin": "301\r\nLocation: /g\xf6al/",
    "/tripled": "301\r\nLocation: ///elsewhere.example/x",
    "/packed": "packed",
    "/packed-badly": (
        "raw-end HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: 3\r\n\r\nxyz"
    ),
    "/noscript": (
        "200\r\nContent-Type: text/html\r\nX-Body: <noscript><meta http-equiv=refresh content='0; "
        "url=/none/'></noscript>"
    ),
    "/second-status": (
        "raw-end HTTP/1.1 301 Moved\r\nHTTP/1.1 200: OK\r\nLocation: /goal/\r\nContent-Length: "
        "0\r\n\r\n"
    ),
    "/choices": "300\r\nX: y",
    "/unmodified": "304\r\nX: y",
    "/odd": "399\r\nLocation: /goal/",
    "/wait": "429\r\nRetry-After: \u00b2",
}
RESPONSES |= {f"/ring{n}": f"301\r\nLocation: /ring{(n + 1) % 50}" for n in range(50)}
VERDICTS = {
    "/loop1": "loop",
    "/loop2": "loop",
    "/ever": "loop",
    "/nowhere": "unreachable",
    "/relative": "ok",
    "/blank": "ok",
    "/umlaut": "dead-end",
    "/mail": "unreachable",
    "/script": "unreachable",
    "/file": "unreachable",
    "/outside": "ok",
    "/schemeless": "ok",
    "/goal/": "ok",
    "/soft": "soft-404",
    "/hidden": "off-canonical",
    "/reset": "unreachable",
    "/error": "server-error",
    "/busy": "blocked",
    "/endless": "ok",
    "/ring0": "loop",
    "/refresh": "ok",
    "/header-refresh": "ok",
    "/late-refresh": "ok",
    "/other-canonical": "off-canonical",
    "/drip": "unreachable",
    "/drip-body": "ok",
    "/short": "ok",
    "/half-header": "unreachable",
    "/old-http": "ok",
    "/nonsense": "unreachable",
    "/early": "ok",
    "/continue": "ok",
    "/long-headers": "ok",
    "/longest-headers": "unreachable",
    "/bomb": "ok",
    "/doubled": "ok",
    "/tripled": "ok",
    "/packed": "soft-404",
    "/packed-badly": "ok",
    "/noscript": "ok",
    "/second-status": "ok",
    "/choices": "wrong-status",
    "/unmodified": "wrong-status",
    "/odd": "wrong-status",
    "/wait": "blocked",
    "/latin": "dead-end",
    "/unknown": "unanswered",
}


BOMB = gzip.compress(bytes(50_000_000), 1)


@contextmanager
def hostile_server() -> Iterator[tuple[str, list[str]]]:
    """A server that answers as RESPONSES says; yields its address and the hosts that were asked
    for.
    """
    listener = socket.create_server(("127.0.0.1", 0))
    hosts: list[str] = []

    def answer(connection: socket.socket) -> None:
        with connection:
            head = b""
            while b"\r\n\r\n" not in head:
                chunk = connection.recv(65536)
                if not chunk:
                    return
                head += chunk
            lines = head.decode("latin-1").split("\r\n")
            hosts.append(next(line[6:] for line in lines if line.lower().startswith("host: ")))
            path = lines[0].split(" ")[1].partition("?")[0]
            response = RESPONSES.get(path, "404\r\nX: y")
            if response == "reset":
                return
            if response == "endless":
                connection.sendall(
                    b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n\r\n<title>x</title>"
                )
                try:
                    while True:
                        connection.sendall(b"x" * 65536)
                except OSError:
                    return
            if response.startswith("raw"):
                connection.sendall(response.partition(" ")[2].encode("latin-1"))
                if response.startswith("raw "):
                    time.sleep(5)
                return
            if response == "drip":
                try:
                    for byte in b"HTTP/1.1 200 OK\r\nX-Slow: " + b"x" * 60:
                        connection.sendall(bytes((byte,)))
                        time.sleep(0.1)
                except OSError:
                    pass
                return
            if response == "packed":
                body = gzip.compress(b"<title>Page not found</title>")
                head = (
                    "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Encoding: "
                    f"gzip\r\nContent-Length: {len(body)}\r\n\r\n"
                )
                connection.sendall(head.encode() + body)
                return
            if response == "bomb":
                head = (
                    "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Encoding: "
                    f"gzip\r\nContent-Length: {len(BOMB)}\r\n\r\n"
                )
                connection.sendall(head.encode() + BOMB)
                return
            status, _, headers = response.replace("{n}", str(len(hosts))).partition("\r\n")
            more = headers.rpartition("X-Body: ")[2] if "X-Body" in headers else ""
            body = (
                f"<title>{headers.rpartition('X-Title: ')[2] if 'X-Title' in headers else 'Goal'}</"
                f"title>{more}"
            ).encode()
            told = (
                f"HTTP/1.1 {status} X\r\n{headers}\r\nContent-Length: {len(body)}\r\nConnection: "
                "close\r\n\r\n"
            )
            connection.sendall(told.encode("latin-1" if path == "/latin" else "utf-8") + body)

    def accept() -> None:
        while True:
            try:
                connection, _ = listener.accept()
            except OSError:
                return
            threading.Thread(target=answer, args=(connection,), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{listener.getsockname()[1]}", hosts
    finally:
        listener.close()


def test_replay_ends_rightly_whatever_a_server_does(museum: Program) -> None:
    museum.write("urls.txt", "\n".join(VERDICTS))
    with hostile_server() as (address, hosts):
        run = museum.json(
            "replay",
            "urls.txt",
            "--at",
            address,
            "--out",
            "run.csv",
            "--hops",
            "hops.csv",
            "--seconds",
            2,
            code=1,
        )
    rows = {
        r["url"].removeprefix(OLD): r for r in csv.DictReader((museum.folder / "run.csv").open())
    }
    assert {path: rows[path]["verdict"] for path in VERDICTS} == VERDICTS
    assert rows["/relative"]["location"] == f"{OLD}/goal/"
    assert rows["/umlaut"]["location"] == f"{OLD}/g%C3%B6%20al/"
    assert rows["/outside"]["final_url"] == "https://elsewhere.example/x"
    assert rows["/doubled"]["location"] == "http://goal/"
    assert rows["/tripled"]["location"] == "http://elsewhere.example/x"
    assert rows["/latin"]["location"] == f"{OLD}/g%F6al/"
    assert rows["/second-status"]["status"] == "301"
    assert int(rows["/ever"]["hops"]) > 5
    hops = list(csv.DictReader((museum.folder / "hops.csv").open()))
    assert [h["how"] for h in hops if h["trace"] == f"{OLD}/refresh"] == ["refresh", ""]
    assert {h["error"] for h in hops if h["trace"] == f"{OLD}/drip"} == {
        "no answer within 2 seconds"
    }
    assert sum(run["counts"].values()) == len(VERDICTS)
    assert set(hosts) <= {
        "www.quillhaven.example",
        "quillhaven.example",
        address.removeprefix("http://"),
    }


def test_replay_says_when_nothing_answers(museum: Program) -> None:
    museum.write("urls.txt", "/a\n")
    assert (
        "nothing answers at http://127.0.0.1:1"
        in museum("replay", "urls.txt", "--at", "127.0.0.1:1", code=3).err
    )
    assert "cannot be used" in museum("replay", "urls.txt", "--at", "ftp://x", code=2).err


def test_parameters_and_index_files_of_the_settings_are_judged_by(museum: Program) -> None:
    file = museum.folder / "upright.toml"
    text = file.read_text()
    file.write_text(
        text.replace("tracking = [", 'tracking = ["pk_campaign", ').replace(
            "index_files = [", 'index_files = ["start.html", '
        )
    )
    museum("stock", museum.write("new.csv", f"url,status\n{NEW}/goal/,200\n"))
    museum("decide", "/a/start.html", "--to", "/goal/")
    museum.write("urls.txt", f"{OLD}/a/?pk_campaign=x\n{OLD}/a/start.html\n")
    run = museum.json("rehearse", "urls.txt")
    assert run["counts"] == {"ok": 2}


def test_a_file_that_is_no_certificate_is_one_sentence(museum: Program) -> None:
    museum.write("urls.txt", "/a\n")
    museum.write("ca.pem", "this is none\n")
    assert (
        "holds no certificates in PEM form"
        in museum("replay", "urls.txt", "--at", "127.0.0.1:9", "--ca", "ca.pem", code=3).err
    )


def test_a_temporary_redirect_of_what_nobody_answered_is_flagged(museum: Program) -> None:
    museum.write("urls.txt", f"{OLD}/open.html\n{OLD}/lasting.html\n")
    museum("gather", "urls.txt")

    def respond(_: str, target: str) -> tuple[int, str, str]:
        if target == "/goal/":
            return 200, "", "Goal"
        return (302 if "open" in target else 301), f"{NEW}/goal/", ""

    with serve(respond) as place:
        found = museum.json("replay", "--at", place, "--out", "traces.csv", code=1)
    assert [(r["url"], r["verdict"]) for r in found["rows"]] == [
        (f"{OLD}/open.html", "wrong-status")
    ]
    with (museum.folder / "traces.csv").open(newline="") as file:
        told = {r["url"]: r["statuses"] for r in csv.DictReader(file)}
    assert told == {f"{OLD}/open.html": "302 200", f"{OLD}/lasting.html": "301 200"}
