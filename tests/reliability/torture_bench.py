"""One ledger that is laid out once and copied for each fault, and the program with a library that
disturbs it; see torture.py.
"""

from __future__ import annotations

import hashlib
import os
import re
import shutil
import sqlite3
import subprocess
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from clusters import cluster
from conftest import NEW, OLD, Outcome, Warm
from upright_ledger.ledger.db.schema import metadata
from upright_ledger.web.local.stand_in import Served, serve_whole

_DERIVED = frozenset(
    [
        "runs", "traces", "builds", "migrations", "reported", "outbox", "followed", "silent",
        "lent",
        "kept",  # what the last check found: worked out anew where a full disk did not take it
    ]
)  # fmt: skip
_PASSING = frozenset(
    ["time", "since", "created", "started", "finished", "applied", "author"]
)  # columns that differ from run to run
_TIME = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ")  # within before-images
LEFTOVERS = ("**/.upright-[0-9]*", "**/upright-[0-9]*", "**/.upright.toml*")
State = str

SITE = "http://{site}/"
"""Stands for a server that answers everything."""
ANOTHER = "{another}"
"""Stands for an empty database of its own."""


class WrongError(AssertionError):
    """Something that was promised did not hold."""


@dataclass
class Faults:
    """How a command is to be disturbed. how: see faults.c; sent: calls over sockets count, too."""

    library: Path
    how: str = ""
    at: int = 0
    sent: bool = False

    def environment(self, count: Path, within: Path) -> dict[str, str]:
        count.write_bytes(bytes(8))
        told = {
            "UPRIGHT_FAULT_COUNT": str(count),
            "UPRIGHT_FAULT_WITHIN": str(within),
            "LD_PRELOAD": str(self.library),
        }
        if self.how:
            told |= {"UPRIGHT_FAULT": self.how, "UPRIGHT_FAULT_AT": str(self.at)}
        return told | ({"UPRIGHT_FAULT_SENT": "1"} if self.sent else {})


def compiled(folder: Path) -> Path:
    """The library that disturbs."""
    library = folder / "faults.so"
    source = Path(__file__).with_name("faults.c")
    subprocess.run(["cc", "-shared", "-fPIC", "-O1", "-o", library, source, "-ldl"], check=True)
    return library


class Bench:
    """One ledger that is laid out once, and copied for each fault. database: a maker of copies on
    PostgreSQL, or None.
    """

    def __init__(self, folder: Path, library: Path, site: str, team: Team | None = None) -> None:
        self.folder, self.library, self.site, self.team = folder, library, site, team
        self.warm = self.another_program()
        self.base = folder / "base" / "ledger"
        self.temporary = folder / "temporary"
        self.temporary.mkdir()
        self.count = folder / "count"
        self._lay_out()

    def another_program(self) -> Warm:
        """The program, loaded with the library that disturbs."""
        return Warm({**os.environ, "LD_PRELOAD": str(self.library)})

    def run(
        self,
        arguments: tuple[str, ...],
        folder: Path,
        faults: Faults | None = None,
        code: int | None = None,
        warm: Warm | None = None,
    ) -> Outcome:
        another = self.team.address("another") if self.team else "sqlite:///another.db"
        arguments = tuple(
            a.replace(SITE, f"{self.site}/").replace(ANOTHER, another) for a in arguments
        )
        told = {} if faults is None else faults.environment(self.count, self.folder)
        usual = {
            "NO_COLOR": "1",
            "COLUMNS": "100",
            "UPRIGHT_AUTHOR": "tester",
            "PATH": os.environ["PATH"],
        }
        done = (warm or self.warm).run(
            list(arguments), folder, {**usual, **told, "TMPDIR": str(self.temporary)}
        )
        if "Traceback" in done.err or "Exception ignored" in done.err:
            raise WrongError(f"{arguments}: a traceback\n{done.err}")
        if code is not None and done.code != code:
            raise WrongError(
                f"{arguments}: exit code {done.code}, not {code}\n{done.out}{done.err}"
            )
        return done

    def _lay_out(self) -> None:
        self.base.parent.mkdir()
        database = ("--database", self.team.address("base")) if self.team else ()
        if self.team:
            self.team.make("base")
        self.run(
            ("open", str(self.base), "--old", OLD, "--new", NEW, *database),
            self.base.parent,
            code=0,
        )
        lay_out_files(self.base)
        settled = (
            ("gather", "pages.txt"), ("gather", "early.log"), ("stock", "new.csv"),
            ("decide", "/page/1", "--to", "/new/1"),
            ("decide", "/page/2", "--to", f"{OLD}/page/1", "--as-given"),
            ("decide", "--from", "first.csv"), ("build", "--for", "nginx", "--out", "rules"),
            ("decide", "/page/9", "--gone"),
            ("build", "--for", "nginx", "--out", "rules"),
            ("handover", "rules", "--live", "--at", "2026-05-01T00:00Z"),
            ("review", "--out", "review.csv"),
        )  # fmt: skip
        for arguments in settled:
            self.run(arguments, self.base, code=0)
        sheet = self.base / "review.csv"
        sheet.write_text(sheet.read_text().replace(",open,", ",gone,"))

    def copy(self, name: str) -> Path:
        """A fresh copy of the ledger."""
        target = self.folder / name / "ledger"
        shutil.rmtree(target.parent, ignore_errors=True)
        shutil.copytree(self.base, target)
        for left in self.temporary.iterdir():
            shutil.rmtree(left) if left.is_dir() else left.unlink()
        if self.team:
            self.team.make(name, "base")
            self.team.make("another")
            settings = target / "upright.toml"
            settings.write_text(
                settings.read_text().replace(self.team.address("base"), self.team.address(name))
            )
        return target

    def state(self, folder: Path) -> State:
        """What stands in a ledger, and whether its database is sound."""
        if self.team:
            return self.team.state(folder.parent.name)
        path = folder / "ledger.db"
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as database:
            return digest(lambda query: database.execute(query).fetchall(), sound=True)

    def end(self) -> None:
        self.warm.end()


def digest(ask: Callable[[str], list[Any]], *, sound: bool) -> State:
    """One text for all that the journal keeps. sound: ask SQLite whether the file is."""
    if sound:
        for question in ("PRAGMA integrity_check", "PRAGMA foreign_key_check"):
            if (told := ask(question)) not in ([("ok",)], []):
                raise WrongError(f"{question}: {told}")
    told = []
    for table in sorted(metadata.tables.values(), key=lambda t: t.name):
        if table.name not in _DERIVED:
            columns = ", ".join(f'"{c.name}"' for c in table.columns if c.name not in _PASSING)
            rows = sorted(
                _TIME.sub("", repr(row)) for row in ask(f"SELECT {columns} FROM {table.name}")
            )
            told.append(f"{table.name}:{hashlib.sha256(repr(rows).encode()).hexdigest()[:12]}")
    return " ".join(told)


def different(state: State, other: State) -> str:
    """The tables in which two states differ."""
    pairs = zip(state.split(), other.split(), strict=True)
    return " ".join(one.partition(":")[0] for one, another in pairs if one != another)


def lay_out_files(folder: Path) -> None:
    """What the commands are given."""
    agent = '"-" "Mozilla/5.0 (X11; Linux x86_64) ExampleBrowser/1.0"'
    line = (
        '198.51.100.{v} - - [{d:02}/May/2026:10:{m:02}:00 +0000] "GET /page/{n}?s={m} HTTP/1.1" '
        "{status} 5 {agent}\n"
    )
    texts = {
        "pages.txt": "".join(f"{OLD}/page/{n}\n" for n in range(60)) + (
            f"{OLD}/Page/5\n{OLD}/Other/\n{OLD}/other/\n"
        ),
        "more.txt": "".join(f"{OLD}/more/{n}\n" for n in range(40)) + "http://[nonsense\n",
        "none": f"{OLD}/page/0\n",
        "export.csv": "url,title,clicks\n"
        + "".join(f"/page/{n},Page number {n},{n}\n" for n in range(80)),
        "errors.csv": "url,status\n" + "".join(f"/page/{n},404\n" for n in range(20, 30)),
        "access.log": "".join(
            line.format(v=n % 250, d=1 + n % 9, m=n % 60, n=n % 70, status=404 if n % 3 else 200,
                agent=agent) for n in range(400)
        ),
        "early.log": "".join(
            f'198.51.100.{n} - - [{1 + n % 28:02}/{month}/2026:09:00:00 +0000] "GET /page/{n} '
            f'HTTP/1.1" 200 5 {agent}\n'
            for month in ("Feb", "Mar", "Apr") for n in range(40, 60)
        ),
        "new.csv": "url,status,title\n"
        + "".join(f"{NEW}/new/{n},200,Page number {n}\n" for n in range(50)),
        "more-pages.csv": "url,status,title\n"
        + "".join(f"{NEW}/more/{n},200,More {n}\n" for n in range(30)),
        "first.csv": "old,new,status\n" + "".join(f"/page/{n},/new/{n},301\n" for n in range(10,
            25)),
        "pairs.csv": "old,new,status\n" + "".join(f"/page/{n},/new/{n + 1},301\n" for n in range(20,
            45)),
        "site.conf": "server {\n    # upright: rules begin\n    # upright: rules end\n}\n",
    }  # fmt: skip
    for name, text in texts.items():
        (folder / name).write_text(text)


class Team:
    """Copies of a database on PostgreSQL."""

    def __init__(self, server: str) -> None:
        """server: its address, without a database."""
        self.server = server

    def address(self, name: str) -> str:
        return f"{self.server}torture_{name}?schema=public"

    def make(self, name: str, template: str = "") -> None:
        import psycopg

        with psycopg.connect(self._plain("postgres"), autocommit=True) as connection:
            connection.execute(f"DROP DATABASE IF EXISTS torture_{name} WITH (FORCE)")
            connection.execute(
                f"CREATE DATABASE torture_{name}"
                + (f" TEMPLATE torture_{template}" if template else "")
            )

    def state(self, name: str) -> State:
        import psycopg

        with psycopg.connect(self._plain(f"torture_{name}")) as connection:
            return digest(lambda query: connection.execute(query).fetchall(), sound=False)

    @contextmanager
    def lost(self, at: int) -> Iterator[None]:
        """Let all connections to the disturbed database be closed by the server, now and then, from
        so many hundredths of a second on.
        """
        import psycopg

        ended = threading.Event()

        def close() -> None:
            ended.wait(at / 100)
            with psycopg.connect(self._plain("postgres"), autocommit=True) as connection:
                connection.execute(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = "
                    "'torture_disturbed'"
                )

        closing_them = threading.Thread(target=close)
        closing_them.start()
        try:
            yield
        finally:
            ended.set()
            closing_them.join()

    def _plain(self, name: str) -> str:
        return self.server.replace("+psycopg", "") + name


@contextmanager
def bench_on(database: str) -> Iterator[Bench]:
    """A bench on SQLite, or on a temporary server of PostgreSQL."""
    folder = Path(tempfile.mkdtemp(prefix="torture-"))
    try:
        library = compiled(folder)
        with ExitStack() as held:
            site = held.enter_context(serve_whole(lambda _host, _target: Served(200, "Here")))
            team = Team(held.enter_context(cluster())) if database != "sqlite" else None
            bench = Bench(folder, library, site, team)
            held.callback(bench.end)
            yield bench
    finally:
        shutil.rmtree(folder, ignore_errors=True)
