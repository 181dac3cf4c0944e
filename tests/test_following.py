"""triage --new: growing and rotated logs, each line once; news said once, by file, e-mail and
post.
"""

from __future__ import annotations

import gzip
import json
import os
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from email.message import Message
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import NEW, OLD, PROGRAM, Program, needs_nginx, opened
from upright_ledger.app.collect.log_follower import gather_new
from upright_ledger.ledger.store import open_ledger
from upright_ledger.web.local.real_nginx import run_nginx
from upright_ledger.web.local.real_servers import free_port
from upright_ledger.web.local.stand_in import Served, serve_whole

AGENT = "Mozilla/5.0 (X11; Linux x86_64) ExampleBrowser/1.0"


def line(path: str, status: int = 404, day: int = 1, client: str = "198.51.100.7") -> str:
    return (
        f'{client} - - [{day:02}/May/2026:10:00:00 +0000] "GET {path} HTTP/1.1" {status} 5 "-" '
        f'"{AGENT}"\n'
    )


def counted(program: Program) -> dict[str, float]:
    entries = program.json("entries", "--limit", "0")["entries"]
    return {e["legacy_url"].removeprefix(OLD): e["hits"] for e in entries}


ACTIONS = st.lists(
    st.one_of(
        st.tuples(st.just("write"), st.integers(1, 9)),
        st.tuples(st.just("begin a line"), st.integers(1, 40)),
        st.tuples(
            st.sampled_from(["look", "rotate", "copy and truncate", "pack", "gather by hand"]),
            st.just(0),
        ),
    ),
    min_size=4,
    max_size=14,
)


@settings(
    max_examples=30, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(ACTIONS)
def test_no_line_is_counted_twice_or_lost_whatever_becomes_of_the_log(
    tmp_path_factory: pytest.TempPathFactory, actions: list[tuple[str, int]]
) -> None:
    folder = tmp_path_factory.mktemp("rotated")
    museum = opened(folder / "museum", "--old", OLD, "--new", NEW)
    ledger = open_ledger(museum.folder)
    written: list[int] = []
    log, number, begun = museum.folder / "access.log", 0, ""

    def write(text: str) -> None:
        with log.open("a", encoding="utf-8") as file:
            file.write(text)

    def shift() -> Path:
        for n in range(9, 0, -1):
            for ending in ("", ".gz"):
                if (old := log.with_name(f"access.log.{n}{ending}")).exists():
                    old.rename(log.with_name(f"access.log.{n + 1}{ending}"))
        return log.with_name("access.log.1")

    looked: list[bool] = []

    def look() -> None:
        if log.exists() or log.with_name("access.log.1").exists():
            looked.append(True)
            log.touch()
            gather_new(ledger, [str(log)])

    for action, count in [*actions, ("write", 1), ("look", 0)]:
        if action == "write":
            for _ in range(count):
                number += 1
                written.append(number)
                # Every third line is the same as one before it.
                text = line(
                    f"/page/{number - number % 3}/", client=f"198.51.100.{number // 3 % 250}"
                )
                write(text[len(begun) :] if begun and text.startswith(begun) else text)
                begun = ""
        elif action == "begin a line" and not begun:
            text = line(
                f"/page/{number + 1 - (number + 1) % 3}/",
                client=f"198.51.100.{(number + 1) // 3 % 250}",
            )
            begun = text[:count]
            write(begun)
        elif action == "look":
            look()
        elif action == "rotate" and log.exists() and not begun:
            if not looked:
                look()  # what was there before the first look is nobody's affair
            log.rename(shift())
            begun = ""
        elif action == "copy and truncate" and log.exists() and not begun:
            look()
            shutil.copy2(log, shift())
            log.write_text("")
            # A log that begins as the one before it in the same file cannot be told from it.
            number += 2 - number % 3
        elif action == "pack" and log.with_name("access.log.1").exists():
            plain = log.with_name("access.log.1")
            log.with_name("access.log.1.gz").write_bytes(gzip.compress(plain.read_bytes()))
            plain.unlink()
            number += 2 - number % 3  # nor can one that comes to lie in its place on the disk
    wanted: dict[str, int] = {}
    for n in written:
        wanted[f"/page/{n - n % 3}/"] = wanted.get(f"/page/{n - n % 3}/", 0) + 1
    assert counted(museum) == wanted


@pytest.mark.parametrize("packed", [False, True])
@pytest.mark.parametrize(
    "directive", ["", "#Version: 1.0\n#Fields: date time c-ip cs-method cs-uri-stem sc-status\n"]
)
def test_logs_that_are_rotated_several_times_between_two_looks_are_read_whole(
    museum: Program, packed: bool, directive: str
) -> None:
    log = museum.folder / "access.log"

    def write(*pages: str) -> None:
        with log.open("a", encoding="utf-8") as file:
            if directive and not file.tell():
                file.write(directive)
            for page in pages:
                file.write(
                    f"2026-05-01 10:00:00 198.51.100.7 GET {page} 404\n"
                    if directive
                    else line(page)
                )

    def rotate() -> None:
        for number in range(4, 0, -1):
            for ending in ("", ".gz"):
                if (old := log.with_name(f"access.log.{number}{ending}")).exists():
                    old.rename(log.with_name(f"access.log.{number + 1}{ending}"))
        log.rename(log.with_name("access.log.1"))
        if packed:
            subprocess.run(["gzip", "access.log.1"], cwd=museum.folder, check=True)

    write("/before/")
    rotate()  # nobody asked for what was before the first look
    write("/a/")
    museum("triage", "--new", log, code=1)
    write("/a/late/")
    rotate()
    write("/b/")
    rotate()
    write("/c/", "/c/2/")
    rotate()
    write("/d/")
    told = museum("triage", "--new", log, code=1)
    assert told.err == ""
    assert counted(museum) == {f"/{n}/": 1 for n in ("a", "a/late", "b", "c", "c/2", "d")}
    write("/e/")
    for number in range(5):
        rotate()
        write(f"/f/{number}/")
    for path in museum.folder.glob("access.log.[3-9]*"):
        path.unlink()  # with it the one that was read last
    told = museum("triage", "--new", log, code=1)
    assert told.err.count("no longer beside it") == 1
    assert {"/f/2/", "/f/3/", "/f/4/"} <= set(counted(museum))
    assert set(counted(museum).values()) == {1}
    assert museum("triage", "--new", log).err == ""


def test_a_line_that_is_still_being_written_waits(museum: Program) -> None:
    log = museum.folder / "access.log"
    log.write_text(line("/a/") + line("/b/")[:50])
    assert museum.json("triage", "--new", "access.log", code=1)["read"][0]["lines"] == 1
    assert museum("triage", "--new", "access.log").out == ""
    with log.open("a") as file:
        file.write(line("/b/")[50:] + line("/a/"))
    again = museum.json("triage", "--new", "access.log", code=1)
    assert again["read"][0]["lines"] == 2
    assert [(n["kind"], n["url"]) for n in again["news"]] == [("fails newly", f"{OLD}/b/")]
    assert counted(museum) == {"/a/": 2, "/b/": 1}
    assert "no such file" in museum("triage", "--new", "none.log", code=3).err
    assert "needs the logs" in museum("triage", "--new", code=2).err


def test_every_part_of_a_log_knows_its_fields(museum: Program) -> None:
    log = museum.folder / "u_ex2605.log"
    row = "2026-05-03 10:00:0{} GET /page-{}.html 404 Mozilla/5.0+(ExampleBrowser)\n"
    log.write_text(
        "#Version: 1.0\n#Fields: date time cs-method cs-uri-stem sc-status cs(User-Agent)\n"
        + row.format(1, 1)
    )
    museum("triage", "--new", log, code=1)
    with log.open("a") as file:
        file.write(row.format(2, 2))
    found = museum.json("triage", "--new", log, code=1)
    assert [n["url"].removeprefix(OLD) for n in found["news"]] == ["/page-2.html"]
    assert counted(museum) == {"/page-1.html": 1, "/page-2.html": 1}


@needs_nginx
def test_a_log_that_nginx_writes_is_followed_through_its_rotation(museum: Program) -> None:
    folders: list[Path] = []
    with tempfile.TemporaryDirectory() as held:
        Path(held).chmod(0o777)  # nginx runs as somebody else
        log = Path(held) / "access.log"

        def http(folder: Path, port: int) -> str:
            folders.append(folder)
            return (
                f"server {{ listen 127.0.0.1:{port}; access_log {log} combined; location / {{ "
                f"return 404; }} }}"
            )

        def ask(name: str) -> None:
            subprocess.run(
                ["curl", "-s", "-A", AGENT, f"{address}/{name}.html"],
                check=True,
                capture_output=True,
            )

        with run_nginx(http) as address:
            for n in range(3):
                ask(f"old-{n}")
            assert len(museum.json("triage", "--new", log, code=1)["news"]) == 3
            log.rename(log.with_name("access.log.1"))
            ask("late")
            os.kill(int((folders[0] / "nginx.pid").read_text()), signal.SIGUSR1)
            deadline = time.monotonic() + 10
            while not log.exists() and time.monotonic() < deadline:
                time.sleep(0.05)
            ask("new")
            found = museum.json("triage", "--new", log, code=1)
    assert {n["url"].rpartition("/")[2] for n in found["news"]} == {"late.html", "new.html"}
    assert set(counted(museum).values()) == {1}


class Postbox:
    """Takes in mail."""

    def __init__(self) -> None:
        self.mails: list[Message] = []

    async def handle_RCPT(  # noqa: N802
        self, _server: Any, _session: Any, envelope: Any, address: str, _options: Any
    ) -> str:
        if address.startswith("nobody"):
            return "550 no such box"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    # aiosmtpd's name
    async def handle_DATA(self, _server: Any, _session: Any, envelope: Any) -> str:  # noqa: N802
        from email import message_from_bytes

        self.mails.append(message_from_bytes(envelope.content))
        return "250 OK"


@contextmanager
def mail_server() -> Iterator[tuple[int, Postbox]]:
    box = Postbox()
    port = free_port()
    controller = Controller(box, hostname="127.0.0.1", port=port)
    controller.start()
    try:
        yield port, box
    finally:
        controller.stop()


@pytest.fixture
def notified(museum: Program) -> Callable[[str], None]:
    """Puts lines into the [notify] settings."""
    before = (museum.folder / "upright.toml").read_text()

    def put(lines: str) -> None:
        (museum.folder / "upright.toml").write_text(
            before.replace("[notify]", f"[notify]\n{lines}")
        )

    return put


def test_news_goes_out_once_by_every_channel(
    museum: Program, notified: Callable[[str], None]
) -> None:
    log = museum.folder / "access.log"
    posted: list[str] = []
    with (
        mail_server() as (port, box),
        serve_whole(lambda _, target: posted.append(target) or Served(204)) as hook,
    ):
        notified(
            f'to = "ada@quillhaven.example"\nserver = "127.0.0.1"\nport = {port}\ntls = '
            f'"none"\nsender = "upright@quillhaven.example"\npost = "{hook}/in"\n'
        )
        log.write_text(line("/lost.html") * 3)
        told = museum("triage", "--new", "access.log", "--message", "news.json", code=1).out
        assert "1 address fails, and nobody has answered it:" in told
        assert "Sent: mail, post, file." in told
        (mail,) = box.mails
        assert mail["Subject"] == "museum: addresses fail: 1 newly"
        assert mail["To"] == "ada@quillhaven.example"
        assert parsedate_to_datetime(mail["Date"]).year >= 2026
        assert f"{OLD}/lost.html" in mail.get_payload()
        assert json.loads((museum.folder / "news.json").read_text())["id"] in mail["Message-ID"]
        assert posted == ["/in"]
        assert museum("triage", "--new", "access.log", "--message", "news.json").out == ""
        assert (len(box.mails), len(posted)) == (1, 1)


def test_a_message_that_cannot_go_out_waits(
    museum: Program, notified: Callable[[str], None]
) -> None:
    log = museum.folder / "access.log"
    log.write_text(line("/lost.html"))
    notified('to = "ada@quillhaven.example"\nserver = "127.0.0.1"\nport = 1\ntls = "none"')
    assert (
        "could not be handed to 127.0.0.1:1" in museum("triage", "--new", "access.log", code=3).err
    )
    with mail_server() as (port, box):
        notified(
            f'to = "ada@quillhaven.example"\nserver = "127.0.0.1"\nport = {port}\ntls = "none"'
        )
        assert "Sent: mail" in museum("triage", "--new", "access.log").out
        assert museum("triage", "--new", "access.log").out == ""
    assert len(box.mails) == 1
    for wrong in ('tls = "perhaps"', "port = 'x'", 'post = "ftp://x"', 'to = ["a\\nb"]'):
        notified(wrong)
        assert "[notify]" in museum("triage", "--new", "access.log", code=3).err


def test_a_recipient_that_is_refused_is_named(
    museum: Program, notified: Callable[[str], None]
) -> None:
    (museum.folder / "access.log").write_text(line("/lost.html"))
    with mail_server() as (port, box):
        server = f'server = "127.0.0.1"\nport = {port}\ntls = "none"'
        notified(f'to = ["nobody@quillhaven.example"]\n{server}')
        told = museum("triage", "--new", "access.log", code=3).err
        assert "nobody@quillhaven.example: 550 no such box" in told
        assert "{" not in told
        notified(f'to = ["ada@quillhaven.example", "nobody@quillhaven.example"]\n{server}')
        assert (
            "refused nobody@quillhaven.example: 550"
            in museum("triage", "--new", "access.log", code=3).err
        )
        assert museum("triage", "--new", "access.log").out == ""
    assert len(box.mails) == 1


@pytest.mark.parametrize(
    "wrong",
    [
        'server = "kein server.example"',
        'ca = "/nowhere.pem"',
        'server = "ü.example"',
    ],
)
def test_settings_that_no_mail_can_go_by_are_one_sentence(
    museum: Program, notified: Callable[[str], None], wrong: str
) -> None:
    (museum.folder / "access.log").write_text(line("/lost.html"))
    with mail_server() as (port, box):
        usual = {
            "to": '"ada@quillhaven.example"',
            "server": '"127.0.0.1"',
            "port": str(port),
            "tls": '"none"',
        }
        key, _, value = wrong.partition(" = ")
        notified("\n".join(f"{k} = {v}" for k, v in {**usual, key: value}.items()))
        assert "mail could not be handed" in museum("triage", "--new", "access.log", code=3).err
    assert not box.mails


def test_a_look_that_is_killed_loses_no_news_and_no_line(museum: Program) -> None:
    log = museum.folder / "access.log"
    said: list[str] = []
    for round_ in range(6):
        with log.open("a") as file:
            file.writelines(line(f"/lost-{round_}-{n}.html") for n in range(400))
        run = subprocess.Popen(
            [PROGRAM, "triage", "--new", "access.log", "--message", f"news-{round_}.json"],
            cwd=museum.folder,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        time.sleep(0.25 + 0.15 * round_)
        run.send_signal(signal.SIGKILL)
        run.wait()
        museum("triage", "--new", "access.log", "--message", f"after-{round_}.json", code=None)
        for name in (f"news-{round_}.json", f"after-{round_}.json"):
            if (museum.folder / name).exists():
                said += [n["url"] for n in json.loads((museum.folder / name).read_text())["news"]]
    assert set(counted(museum).values()) == {1}
    assert len(set(said)) == 2400


def test_live_answers_are_asked_for_and_said_once_when_they_are_wrong(museum: Program) -> None:
    museum(
        "decide", "--from", museum.pairs("/a.html,/a/,301", "/b.html,/b/,301", "/c.html,/c/,301")
    )
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "--live")
    (museum.folder / "access.log").write_text(line("/home/", status=200))
    rules = {"/a.html": Served(301, "", f"{NEW}/a/"), "/b.html": Served(404)}

    def look(code: int) -> list[tuple[str, str, str]]:
        with serve_whole(
            lambda _, target: rules.get(
                target,
                Served(301, "", f"{NEW}{target.replace('.html', '/')}")
                if "." in target
                else Served(200, "<title>Page</title>"),
            )
        ) as at:
            found = museum.json(
                "triage", "--new", "access.log", "--replay", "0", "--at", at, code=code
            )
        return [(n["kind"], n["url"].removeprefix(OLD), n["why"]) for n in found["news"]]

    assert look(1) == [("answers wrongly", "/b.html", "asked now: unanswered")]
    assert look(0) == []
    del rules["/b.html"]
    assert look(0) == []
    rules["/c.html"] = Served(301, "", f"{NEW}/other/")
    assert look(1) == [("answers wrongly", "/c.html", "asked now: wrong-destination")]
    assert "go with --new" in museum("triage", "--replay", "3", code=2).err


def test_what_is_mended_is_said_though_it_was_asked_for(museum: Program) -> None:
    museum("decide", "--from", museum.pairs("/a.html,/a/,301"))
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "--live", "--at", "2026-05-03T00:00:00+00:00")
    log = museum.folder / "access.log"
    log.write_text(line("/a.html", day=1))

    def answer(_: str, target: str) -> Served:
        return (
            Served(301, "", f"{NEW}/a/")
            if target == "/a.html"
            else Served(200, "<title>Page</title>")
        )

    with serve_whole(answer) as at:
        look = ("triage", "--new", "access.log", "--replay", "0", "--at", at)
        assert museum.json(*look)["news"] == []
        with log.open("a") as file:
            file.write(line("/a.html", status=301, day=5))
        assert [n["kind"] for n in museum.json(*look)["news"]] == ["is mended"]
        assert museum.json(*look)["news"] == []
