"""News of triage --new: said once, by every channel, and kept where none takes it."""

from __future__ import annotations

import json
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from email.message import Message
from email.utils import parsedate_to_datetime
from typing import Any

import pytest
from aiosmtpd.controller import Controller

from conftest import NEW, OLD, PROGRAM, Program
from counting import hits_by_path, log_line
from upright_ledger.web.local.real_servers import free_port
from upright_ledger.web.local.stand_in import Served, serve_whole


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
        log.write_text(log_line("/lost.html") * 3)
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
    log.write_text(log_line("/lost.html"))
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
    (museum.folder / "access.log").write_text(log_line("/lost.html"))
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
    "wrong", ['server = "kein server.example"', 'ca = "/nowhere.pem"', 'server = "ü.example"']
)
def test_settings_that_no_mail_can_go_by_are_one_sentence(
    museum: Program, notified: Callable[[str], None], wrong: str
) -> None:
    (museum.folder / "access.log").write_text(log_line("/lost.html"))
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
            file.writelines(log_line(f"/lost-{round_}-{n}.html") for n in range(400))
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
    assert set(hits_by_path(museum).values()) == {1}
    assert len(set(said)) == 2400


def test_live_answers_are_asked_for_and_said_once_when_they_are_wrong(museum: Program) -> None:
    museum(
        "decide", "--from", museum.pairs("/a.html,/a/,301", "/b.html,/b/,301", "/c.html,/c/,301")
    )
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "--live")
    (museum.folder / "access.log").write_text(log_line("/home/", status=200))
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
    log.write_text(log_line("/a.html", day=1))

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
            file.write(log_line("/a.html", status=301, day=5))
        assert [n["kind"] for n in museum.json(*look)["news"]] == ["is mended"]
        assert museum.json(*look)["news"] == []
