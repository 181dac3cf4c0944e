"""Hosts as they come: with ports, by number, in other alphabets, with closing dots; and settings
from any editor.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Program, needs_server
from raw_http import ask
from upright_ledger.servers import DIALECTS, load_server
from upright_ledger.web.local.real_servers import run_example

PORTED, NUMBERED, GREEK = (
    "http://old.quillhaven.example:8080",
    "http://192.0.2.7",
    "https://φάρος.example",
)
NEW, OTHER = "https://new.quillhaven.example", "http://127.0.0.1:8080"
ROWS = [
    (f"{PORTED}/caf%C3%A9", f"{NEW}/coffee/", 301),
    (f"{PORTED}/a%20b/c'd%22e", f"{NEW}/x?y=1#z", 302),
    (f"{PORTED}/$1%24{{x}}", f"{NEW}/$1/%7Bx%7D", 301),
    (f"{PORTED}/case?item=Ab", f"{OTHER}/ab", 301),
    (f"{PORTED}/case?item=aB", f"{NEW}/aB", 301),
    (f"{PORTED}/qm%3F?item=Ab", f"{NEW}/qm/ab", 301),
    (f"{PORTED}/qm%3F?item=aB", f"{NEW}/qm/ba", 301),
    (f"{PORTED}/gone|pipe", "", 410),
    (f"{PORTED}/", f"{NEW}/", 301),
    (f"{PORTED}/%25%32%35", f"{NEW}/pc", 301),
    (f"{GREEK}/ξενάγηση?q=ä&b=%20", f"{NEW}/tour/", 301),
    (f"{NUMBERED}/n", f"{NEW}/n", 308),
    (f"{PORTED}/{{slug}}/p{{n|digits}}", f"{NEW}/{{n}}/{{slug}}", 301),
    (f"{PORTED}/q{{?id|digits}}", f"{NEW}/q/{{id}}", 301),
]


@pytest.fixture
def harbour(open_museum: object) -> Program:
    program: Program = open_museum(
        "--old", PORTED, "--old", GREEK, "--old", NUMBERED, "--new", NEW, "--new", OTHER
    )  # type: ignore[operator]
    quoted = lambda text: '"' + text.replace('"', '""') + '"'  # noqa: E731
    kind = lambda old: "exact" if "%24{" in old else ""  # noqa: E731
    rows = "".join(
        f"{quoted(old)},{quoted(new)},{status},{kind(old)}\n" for old, new, status in ROWS
    )
    program.write("pairs.csv", f"old,new,status,kind\n{rows}")
    program("decide", "--from", "pairs.csv")
    return program


def test_hosts_are_named_as_they_are_and_get_what_was_decided_from_every_server(
    harbour: Program,
) -> None:
    for name in DIALECTS:
        built = harbour.json("build", "--for", name, "--out", name, code=None)
        assert built["rules"] == len(ROWS), name
        told = [held["reason"] for held in built["held_back"]]
        assert told == (
            ["spellings in Latin-1 get no answer: Caddy cannot compare bytes that are no UTF-8"]
            if name == "caddy"
            else []
        )


@pytest.mark.parametrize("name", [pytest.param(n, marks=needs_server(n)) for n in DIALECTS])
def test_ports_and_closing_dots_of_hosts_play_their_part(harbour: Program, name: str) -> None:
    harbour("build", "--for", name, "--out", "rules", code=None)
    with run_example(load_server(name).launch, Path(harbour.folder / "rules")) as place:
        found = {
            host: ask(place, host, target)
            for host, target in (
                ("old.quillhaven.example:8080", "/caf%C3%A9"),
                ("OLD.quillhaven.example.:8080", "/caf%C3%A9"),
                ("old.quillhaven.example", "/caf%C3%A9"),
                ("old.quillhaven.example:8081", "/caf%C3%A9"),
                ("192.0.2.7", "/n"),
                ("192.0.2.7.", "/n"),
            )
        }
        ports = ask(place, "old.quillhaven.example:8080", "/case?item=Ab")
        capitals = ask(place, "old.quillhaven.example:8080", "/QM%3F?item=aB")
    assert found == {
        "old.quillhaven.example:8080": (301, f"{NEW}/coffee/"),
        "OLD.quillhaven.example.:8080": (301, f"{NEW}/coffee/"),
        "old.quillhaven.example": (404, ""),
        "old.quillhaven.example:8081": (404, ""),
        "192.0.2.7": (308, f"{NEW}/n"),
        "192.0.2.7.": (308, f"{NEW}/n"),
    }
    assert ports == (301, f"{OTHER}/ab")
    assert capitals == (301, f"{NEW}/qm/ba")


def test_settings_may_begin_with_a_byte_order_mark(museum: Program) -> None:
    settings = museum.folder / "upright.toml"
    settings.write_bytes(b"\xef\xbb\xbf" + settings.read_bytes().replace(b"\n", b"\r\n"))
    museum("gather", museum.write("seen.txt", "/a?print=1\n/a\n"))
    assert museum.json("balance")["entries"] == 1
    settings.write_bytes(settings.read_bytes() + b"[broken\r\n")
    said = museum("balance", code=3).err
    assert "is not valid TOML" in said
    assert "line" in said


def test_a_folder_without_a_ledger_is_said_in_words(tmp_path: Path) -> None:
    assert "there is no ledger in this folder" in Program(tmp_path)("balance", code=2).err
