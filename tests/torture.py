"""Commands that are killed, run out of room, or meet broken disks, at chosen calls of the system; and what must hold after each.

`python tests/torture.py kills 1000 sqlite` does what `make torture` does, and prints figures. After each fault: the database is sound and stands
before the command, behind it, or behind one of its whole steps; no traceback, no exit code 0 or 1 unless all was done; the files that a command writes are
the old ones or the new ones; the next command works, and the same command, done again, leads to where an undisturbed one leads, with nothing left behind.
"""

from __future__ import annotations

import hashlib
import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, chdir, closing, contextmanager, nullcontext, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from clusters import cluster
from conftest import NEW, OLD, Outcome
from upright_ledger.app.gather import gather
from upright_ledger.ledger.schema import metadata
from upright_ledger.ledger.store import open_ledger
from upright_ledger.web.standin import Served, serve_whole

_DERIVED = frozenset(["runs", "traces", "builds", "migrations", "reported", "outbox", "followed"])
_PASSING = frozenset(
    ["time", "since", "created", "started", "finished", "applied", "author"]
)  # columns that differ from run to run
_LEFTOVERS = ("**/.upright-[0-9]*", "**/upright-[0-9]*", "**/.upright.toml*")
State = str


@dataclass(frozen=True)
class Case:
    """A command that writes. parts: the same command with fewer files, whose steps may stand alone. out: files and folders that it writes. again: whether
    it leads to the same when it is done twice.
    """

    name: str
    arguments: tuple[str, ...]
    parts: tuple[tuple[str, ...] | Callable[[], None], ...] = ()
    out: tuple[str, ...] = ()
    again: bool = True
    works: bool = False


SITE = "http://{site}/"
"""Stands for a server that answers everything."""
ANOTHER = "{another}"
"""Stands for an empty database of its own."""


def _gather_failing() -> None:
    """What `triage` does first with a list of failing addresses."""
    ledger = open_ledger(Path())
    gather(ledger, ["errors.csv"], failing=True)
    ledger.end()


CASES = (
    Case("gather a list", ("gather", "more.txt")),
    Case("gather a log", ("gather", "access.log")),
    Case(
        "gather three",
        ("gather", "more.txt", "export.csv", "access.log"),
        (("gather", "more.txt"), ("gather", "more.txt", "export.csv")),
    ),
    Case("stock", ("stock", "more-pages.csv")),
    Case("match", ("match", "--max-error", "5%"), works=True),
    Case("decide one", ("decide", "/page/3", "--gone")),
    Case("decide many", ("decide", "--from", "pairs.csv")),
    Case("mend", ("check", "--fix"), works=True),
    Case("review", ("review", "--in", "review.csv"), works=True),
    Case("fold", ("fold", "--case", "exact")),
    Case("retire", ("retire", "--unused-for", "30", "--accept"), works=True),
    Case("undo", ("undo",), again=False),
    Case("undo three", ("undo", "3"), again=False),
    Case("build", ("build", "--for", "nginx", "--out", "rules"), out=("rules",)),
    Case("build anew", ("build", "--for", "haproxy", "--out", "fresh"), out=("fresh",)),
    Case(
        "build into", ("build", "--for", "nginx", "--out", "rules", "--into", "site.conf"), out=("rules", "site.conf")
    ),
    Case("go back", ("build", "--roll-back", "--out", "rules"), out=("rules",), again=False),
    Case("go live", ("handover", "rules", "--live", "--at", "2026-05-02T10:00Z")),
    Case("replay", ("replay", "pages.txt", "--at", SITE, "--out", "asked.csv")),
    Case("survey", ("survey", SITE, "--most", "10")),
    Case("rehearse", ("rehearse", "access.log", "--out", "rows.csv"), out=("rows.csv",)),
    Case(
        "watch",
        ("triage", "--new", "access.log", "--message", "news.json"),
        (("gather", "access.log"),),
        out=("news.json",),
    ),
    Case("triage", ("triage", "errors.csv", "--out", "failing.xlsx"), (_gather_failing,), works=True),
    Case("list", ("entries", "--csv", "list.csv"), out=("list.csv",)),
    Case("sheet", ("review", "--out", "sheet.xlsx"), out=()),
    Case("open", ("open", "another", "--old", OLD, "--new", NEW)),
    Case("open a team's", ("open", "another", "--old", OLD, "--new", NEW, "--database", ANOTHER)),
)


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
        told = {"UPRIGHT_FAULT_COUNT": str(count), "UPRIGHT_FAULT_WITHIN": str(within), "LD_PRELOAD": str(self.library)}
        if self.how:
            told |= {"UPRIGHT_FAULT": self.how, "UPRIGHT_FAULT_AT": str(self.at)}
        return told | ({"UPRIGHT_FAULT_SENT": "1"} if self.sent else {})


def compiled(folder: Path) -> Path:
    """The library that disturbs."""
    library = folder / "faults.so"
    source = Path(__file__).with_name("faults.c")
    subprocess.run(["cc", "-shared", "-fPIC", "-O1", "-o", library, source, "-ldl"], check=True)
    return library


class Warm:
    """The program in forks of one that is loaded, with the library that disturbs (see warm.py)."""

    def __init__(self, library: Path) -> None:
        whole = {**os.environ, "LD_PRELOAD": str(library)}
        script = Path(__file__).with_name("warm.py")
        pipe = subprocess.PIPE
        self._process = subprocess.Popen([sys.executable, script], stdin=pipe, stdout=pipe, encoding="utf-8", env=whole)

    def run(self, arguments: tuple[str, ...], folder: Path, environment: dict[str, str]) -> Outcome:
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        with tempfile.TemporaryDirectory() as held:
            out, err = Path(held) / "out", Path(held) / "err"
            usual = {"NO_COLOR": "1", "COLUMNS": "100", "UPRIGHT_AUTHOR": "tester", "PATH": os.environ["PATH"]}
            request = {
                "arguments": arguments, "folder": str(folder), "environment": {**usual, **environment}, "out": str(out), "err": str(err),
            }  # fmt: skip
            self._process.stdin.write(json.dumps(request) + "\n")
            self._process.stdin.flush()
            code = int(self._process.stdout.readline())
            return Outcome(code, out.read_text(errors="replace"), err.read_text(errors="replace"))

    def end(self) -> None:
        self._process.kill()
        self._process.wait()


class Bench:
    """One ledger that is laid out once, and copied for each fault. database: a maker of copies on PostgreSQL, or None."""

    def __init__(self, folder: Path, library: Path, site: str, team: Team | None = None) -> None:
        self.folder, self.library, self.site, self.team = folder, library, site, team
        self.warm = Warm(library)
        self.base = folder / "base" / "ledger"
        self.temporary = folder / "temporary"
        self.temporary.mkdir()
        self.count = folder / "count"
        self._lay_out()

    def run(
        self,
        arguments: tuple[str, ...],
        folder: Path,
        faults: Faults | None = None,
        code: int | None = None,
        warm: Warm | None = None,
    ) -> Outcome:
        another = self.team.address("another") if self.team else "sqlite:///another.db"
        arguments = tuple(a.replace(SITE, f"{self.site}/").replace(ANOTHER, another) for a in arguments)
        told = {} if faults is None else faults.environment(self.count, self.folder)
        done = (warm or self.warm).run(arguments, folder, {**told, "TMPDIR": str(self.temporary)})
        if "Traceback" in done.err or "Exception ignored" in done.err:
            raise WrongError(f"{arguments}: a traceback\n{done.err}")
        if code is not None and done.code != code:
            raise WrongError(f"{arguments}: exit code {done.code}, not {code}\n{done.out}{done.err}")
        return done

    def _lay_out(self) -> None:
        self.base.parent.mkdir()
        database = ("--database", self.team.address("base")) if self.team else ()
        if self.team:
            self.team.make("base")
        self.run(("open", str(self.base), "--old", OLD, "--new", NEW, *database), self.base.parent, code=0)
        lay_out_files(self.base)
        settled = (
            ("gather", "pages.txt"), ("gather", "early.log"), ("stock", "new.csv"), ("decide", "/page/1", "--to", "/new/1"), ("decide", "/page/2", "--to", f"{OLD}/page/1"),
            ("decide", "--from", "first.csv"), ("build", "--for", "nginx", "--out", "rules"), ("decide", "/page/9", "--gone"),
            ("build", "--for", "nginx", "--out", "rules"), ("handover", "rules", "--live", "--at", "2026-05-01T00:00Z"), ("review", "--out", "review.csv"),
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
            settings.write_text(settings.read_text().replace(self.team.address("base"), self.team.address(name)))
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
    whole = hashlib.sha256()
    for table in sorted(metadata.tables.values(), key=lambda t: t.name):
        if table.name not in _DERIVED:
            columns = ", ".join(f'"{c.name}"' for c in table.columns if c.name not in _PASSING)
            rows = sorted(map(repr, ask(f"SELECT {columns} FROM {table.name}")))
            whole.update(f"{table.name} {rows}".encode())
    return whole.hexdigest()[:16]


def lay_out_files(folder: Path) -> None:
    """What the commands are given."""
    agent = '"-" "Mozilla/5.0 (X11; Linux x86_64) ExampleBrowser/1.0"'
    line = '198.51.100.{v} - - [{d:02}/May/2026:10:{m:02}:00 +0000] "GET /page/{n}?s={m} HTTP/1.1" {status} 5 {agent}\n'
    texts = {
        "pages.txt": "".join(f"{OLD}/page/{n}\n" for n in range(60)) + f"{OLD}/Page/5\n{OLD}/Other/\n{OLD}/other/\n",
        "more.txt": "".join(f"{OLD}/more/{n}\n" for n in range(40)) + "http://[nonsense\n",
        "none": f"{OLD}/page/0\n",
        "export.csv": "url,title,clicks\n" + "".join(f"/page/{n},Page number {n},{n}\n" for n in range(80)),
        "errors.csv": "url,status\n" + "".join(f"/page/{n},404\n" for n in range(20, 30)),
        "access.log": "".join(
            line.format(v=n % 250, d=1 + n % 9, m=n % 60, n=n % 70, status=404 if n % 3 else 200, agent=agent) for n in range(400)
        ),
        "early.log": "".join(
            f'198.51.100.{n} - - [{1 + n % 28:02}/{month}/2026:09:00:00 +0000] "GET /page/{n} HTTP/1.1" 200 5 {agent}\n'
            for month in ("Feb", "Mar", "Apr") for n in range(40, 60)
        ),
        "new.csv": "url,status,title\n" + "".join(f"{NEW}/new/{n},200,Page number {n}\n" for n in range(50)),
        "more-pages.csv": "url,status,title\n" + "".join(f"{NEW}/more/{n},200,More {n}\n" for n in range(30)),
        "first.csv": "old,new,status\n" + "".join(f"/page/{n},/new/{n},301\n" for n in range(10, 25)),
        "pairs.csv": "old,new,status\n" + "".join(f"/page/{n},/new/{n + 1},301\n" for n in range(20, 45)),
        "site.conf": "server {\n    # upright: rules begin\n    # upright: rules end\n}\n",
    }  # fmt: skip
    for name, text in texts.items():
        (folder / name).write_text(text)


@dataclass
class Reference:
    """What an undisturbed command does. calls: how many can be struck; states: those that may stand; files: what its files hold before and behind it."""

    calls: int
    code: int
    states: list[State]
    files: dict[str, set[str]] = field(default_factory=dict)


def reference(bench: Bench, case: Case, *, sent: bool = False) -> Reference:
    folder = bench.copy("reference")
    states = [bench.state(folder)]
    files = {name: {_told(folder / name)} for name in case.out}
    for part in case.parts:
        if callable(part):
            with chdir(folder):
                part()
        else:
            bench.run(part, folder)
        states.append(bench.state(folder))
    if case.parts:
        folder = bench.copy("reference")
    done = bench.run(case.arguments, folder, Faults(bench.library, sent=sent))
    states.append(bench.state(folder))
    calls = int.from_bytes(bench.count.read_bytes(), sys.byteorder)
    for name in case.out:
        files[name].add(_told(folder / name))
    _nothing_left(bench, folder)
    return Reference(calls, done.code, states, files)


def _told(path: Path) -> str:
    """What a file or a build holds, as far as it does not differ from run to run; raises WrongError for a build that is not whole."""
    if path.is_dir():
        told = json.loads((path / "manifest.json").read_text())
        for name, due in told["sums"].items():
            if hashlib.sha256((path / name).read_bytes()).hexdigest() != due:
                raise WrongError(f"{path.name}: {name} is not the one of its manifest")
        return f"{told['digest']} {_told(path / 'previous') if (path / 'previous').exists() else ''}"
    if not path.exists():
        return "missing"
    text = path.read_bytes()
    if path.suffix == ".json":
        return str(json.loads(text)["subject"])
    return hashlib.sha256(text).hexdigest()


def disturbed(bench: Bench, case: Case, undisturbed: Reference, faults: Faults) -> str:
    """Disturb a command, look, and go on; returns what became of it: "before", "after", "between", or "done" where nothing was struck. Raises WrongError."""
    folder = bench.copy("disturbed")
    with bench.team.lost(faults.at) if bench.team and faults.how == GONE else nullcontext():
        done = bench.run(case.arguments, folder, faults if faults.how != GONE else None)
    before, after = undisturbed.states[0], undisturbed.states[-1]
    state = bench.state(folder)
    if state not in undisturbed.states:
        raise WrongError(
            f"between two steps: {state} of {undisturbed.states}; exit code {done.code}\n{done.out}{done.err}"
        )
    for name, due in undisturbed.files.items():
        if (told := _told(folder / name)) not in due:
            raise WrongError(
                f"{name} is neither the old one nor the new one: {told} of {due}; exit code {done.code}\n{done.err}"
            )
    if done.code >= 0:
        if done.code in {0, 1} and (done.code != undisturbed.code or state != after):
            raise WrongError(f"exit code {done.code}, but not all was done\n{done.out}{done.err}")
        if done.code not in {0, 1, 3}:
            raise WrongError(f"exit code {done.code}\n{done.out}{done.err}")
        if done.code == 3 and not done.err.startswith("upright: "):
            raise WrongError(f"exit code 3 without a sentence\n{done.out}{done.err}")
    where = (
        "done"
        if done.code == undisturbed.code
        else "before"
        if state == before
        else "after"
        if state == after
        else "between"
    )
    _goes_on(bench, case, undisturbed, folder, state)
    return where


def _goes_on(bench: Bench, case: Case, undisturbed: Reference, folder: Path, state: State) -> None:
    """The next command works, and the same one leads to where it should."""
    json.loads(bench.run(("balance", "--json"), folder, code=0).out)
    done = bench.run(case.arguments, folder)
    refused = case.name.startswith("open") and done.code == 2  # it was made
    if done.code not in {undisturbed.code, 0} and not refused:
        raise WrongError(f"done again: exit code {done.code}\n{done.out}{done.err}")
    if (case.again or state == undisturbed.states[0]) and bench.state(folder) != undisturbed.states[-1]:
        raise WrongError(f"done again, it leads elsewhere\n{done.out}{done.err}")
    for name, due in undisturbed.files.items():
        if case.again and _told(folder / name) not in due:
            raise WrongError(f"done again, {name} is another one")
    if case.name.startswith("open"):
        bench.run(("balance",), folder / "another", code=0)
    _nothing_left(bench, folder)


def _nothing_left(bench: Bench, folder: Path) -> None:
    left = [str(p) for pattern in _LEFTOVERS for p in folder.glob(pattern)] + [
        str(p) for p in bench.temporary.iterdir()
    ]
    if left:
        raise WrongError(f"left behind: {left}")


class Team:
    """Copies of a database on PostgreSQL."""

    def __init__(self, server: str) -> None:
        """server: its address, without a database."""
        self.server = server

    def address(self, name: str) -> str:
        return f"{self.server}torture_{name}"

    def make(self, name: str, template: str = "") -> None:
        import psycopg

        with psycopg.connect(self._plain("postgres"), autocommit=True) as connection:
            connection.execute(f"DROP DATABASE IF EXISTS torture_{name} WITH (FORCE)")
            connection.execute(
                f"CREATE DATABASE torture_{name}" + (f" TEMPLATE torture_{template}" if template else "")
            )

    def state(self, name: str) -> State:
        import psycopg

        with psycopg.connect(self._plain(f"torture_{name}")) as connection:
            return digest(lambda query: connection.execute(query).fetchall(), sound=False)

    @contextmanager
    def lost(self, at: int) -> Iterator[None]:
        """Let all connections to the disturbed database be closed by the server, now and then, from so many hundredths of a second on."""
        import psycopg

        ended = threading.Event()

        def close() -> None:
            ended.wait(at / 100)
            with psycopg.connect(self._plain("postgres"), autocommit=True) as connection:
                connection.execute(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = 'torture_disturbed'"
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


GONE = "gone"
"""The server closes the connections."""
_HUNDREDTHS = 40  # of a second, in which most commands are done
KILLS, ERRORS = ("kill", "after", "torn"), ("ENOSPC", "EIO", "full")


def torture(
    bench: Bench, how: tuple[str, ...], times: int, seed: int, *, sent: bool = False, cases: tuple[Case, ...] = CASES
) -> tuple[Counter[str], list[str]]:
    """Disturb commands so many times, at drawn calls; what became of them, and what was wrong."""
    rng = random.Random(seed)
    known: dict[str, Reference] = {}
    counts, wrong = Counter[str](), list[str]()
    for number in range(times):
        case = cases[number % len(cases)]
        try:
            if case.name not in known:
                known[case.name] = reference(bench, case, sent=sent)
            undisturbed = known[case.name]
            chosen = rng.choice(how)
            places = _HUNDREDTHS if chosen == GONE else max(1, undisturbed.calls)
            faults = Faults(bench.library, chosen, rng.randint(1, places), sent)
            counts[disturbed(bench, case, undisturbed, faults)] += 1
        except Exception as error:  # noqa: BLE001 (all of them are told at the end)
            at = faults if case.name in known else "undisturbed"
            text = str(error) if isinstance(error, WrongError) else traceback.format_exc()
            wrong.append(f"{case.name}, {at}: {text}")
            counts["wrong"] += 1
        if sys.stderr.isatty() or (number + 1) % 100 == 0:
            print(f"{number + 1} of {times}, {len(wrong)} wrong", file=sys.stderr, flush=True)
    return counts, wrong


def paired(bench: Bench, times: int, seed: int) -> tuple[Counter[str], list[str]]:
    """Two commands at once, every one with every other: nobody dies, and what stands is what one after the other leads to, or somebody says what it left alone."""
    rng = random.Random(seed)
    pairs = [(a, b) for n, a in enumerate(CASES) for b in CASES[n:]]
    rng.shuffle(pairs)
    counts, wrong = Counter[str](), list[str]()
    second = Warm(bench.library)
    for a, b in pairs[:times]:
        try:
            counts[_at_once(bench, second, a, b)] += 1
        except WrongError as error:
            wrong.append(f"{a.name} and {b.name}: {error}")
    second.end()
    return counts, wrong


_MEANWHILE = ("meanwhile", "somebody else")


def _at_once(bench: Bench, second: Warm, a: Case, b: Case) -> str:
    serial = set()
    for order in ((a, b), (b, a)):
        folder = bench.copy("reference")
        for case in order:
            bench.run(case.arguments, folder)
        serial.add(bench.state(folder))
    folder = bench.copy("disturbed")
    with ThreadPoolExecutor(2) as both:
        running = [
            both.submit(bench.run, a.arguments, folder),
            both.submit(bench.run, b.arguments, folder, warm=second),
        ]
        done = [r.result() for r in running]
    told = "\n".join(d.err for d in done)
    if any(d.code not in {0, 1, 2} for d in done):
        raise WrongError(f"exit codes {[d.code for d in done]}\n{told}")
    state = bench.state(folder)
    for name in {*a.out, *b.out}:
        _told(folder / name)
    bench.run(("balance", "--json"), folder, code=0)
    _nothing_left(bench, folder)
    if state in serial:
        return "as one after the other"
    if any(word in told for word in _MEANWHILE):
        return "left alone, or refused, and said"
    if any(d.code == 2 for d in done):
        return "refused"
    if a.works or b.works:
        return "each by what it had read"
    if a.parts or b.parts:
        return "steps of one between those of the other"
    raise WrongError(
        f"neither one after the other nor the other way round: {state} of {serial}\n{told}{done[0].out}{done[1].out}"
    )


def crowded(bench: Bench, seconds: int, seed: int) -> tuple[Counter[str], list[str]]:
    """Eight writers and two long readers on one ledger for so many seconds: what each did stands once, and nobody dies."""
    folder = bench.copy("disturbed")
    until = time.monotonic() + seconds
    counts, wrong = Counter[str](), list[str]()
    done: list[tuple[str, str]] = []  # what must stand: address, answer

    def write(who: int) -> None:
        rng, warm = random.Random(seed + who), Warm(bench.library)
        number = 0
        while time.monotonic() < until:
            number += 1
            name = f"/by/{who}/{number}"
            kind = rng.choice(("decide", "decide", "gather", "several", "log"))
            if kind == "decide":
                command: tuple[str, ...] = ("decide", name, "--gone")
                due = [(name, "gone")]
            elif kind == "gather":
                (folder / f"{who}-{number}.txt").write_text("".join(f"{OLD}{name}/{n}\n" for n in range(50)))
                command, due = ("gather", f"{who}-{number}.txt"), [(f"{name}/{n}", "open") for n in range(50)]
            elif kind == "several":
                rows = "".join(f"{name}/{n},/new/{n},301\n" for n in range(30))
                (folder / f"{who}-{number}.csv").write_text(f"old,new,status\n{rows}")
                command, due = ("decide", "--from", f"{who}-{number}.csv"), [(f"{name}/{n}", "move") for n in range(30)]
            else:
                line = '198.51.100.9 - - [03/May/2026:10:{m:02}:{s:02} +0000] "GET {name}/{n} HTTP/1.1" 200 5 "-" "Mozilla/5.0 ExampleBrowser/1.0"\n'
                lines = (line.format(m=number % 60, s=n, name=name, n=n) for n in range(40))
                (folder / f"{who}-{number}.log").write_text("".join(lines))
                command, due = ("gather", f"{who}-{number}.log"), [(f"{name}/{n}", "open") for n in range(40)]
            _note(command, warm, kind)
            done.extend(due)
        warm.end()

    def read() -> None:
        warm = Warm(bench.library)
        while time.monotonic() < until:
            _note(("entries", "--json", "--limit", "0"), warm, "list")
            _note(("check",), warm, "check")
        warm.end()

    def _note(command: tuple[str, ...], warm: Warm, kind: str) -> None:
        try:
            told = bench.run(command, folder, warm=warm)
        except WrongError as error:
            wrong.append(str(error))
            return
        counts[kind] += 1
        counts["said for whom it waits"] += told.err.count("waiting for")
        if told.code not in {0, 1}:
            wrong.append(f"{command}: exit code {told.code}: {told.out}{told.err}")

    threads = [threading.Thread(target=write, args=(who,)) for who in range(8)] + [
        threading.Thread(target=read) for _ in range(2)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    entries = json.loads(bench.run(("entries", "--json", "--limit", "0"), folder, code=0).out)["entries"]
    found = Counter((e["legacy_url"].removeprefix(OLD), e["answer"]) for e in entries if "/by/" in e["legacy_url"])
    if found != Counter(done):
        wrong.append(
            f"lost or doubled: {list((Counter(done) - found).items())[:5]}, {list((found - Counter(done)).items())[:5]}"
        )
    if any(e["hits"] not in {0, 1} for e in entries if "/by/" in e["legacy_url"]):
        wrong.append("a request counts twice")
    steps = json.loads(bench.run(("history", "--json"), folder, code=0).out)["steps"]
    ours = sum(counts[kind] for kind in ("decide", "gather", "several", "log"))
    if len(steps) - len(_steps_before(bench)) != ours:
        wrong.append(f"{len(steps)} steps, but {ours} commands")
    bench.state(folder)
    return counts, wrong


def _steps_before(bench: Bench) -> list[Any]:
    return list(json.loads(bench.run(("history", "--json"), bench.base, code=0).out)["steps"])


READING = (
    ("balance", "--json"), ("entries", "--json", "--limit", "0"), ("entries", "--families"), ("check",), ("fold",), ("history",), ("runs",), ("handover",), (),
    ("build", "--for", "nginx", "--out", "rules"), ("rehearse",), ("match",), ("decide", "/page/3", "--gone"), ("undo",), ("triage",), ("gather", "more.txt"), ("retire", "--unused-for", "30"), ("review", "--out", "sheet.csv"), ("stock", "more-pages.csv"),
    ("decide", "--from", "pairs.csv"), ("fold", "--case", "exact"),
)  # fmt: skip


def damaged(bench: Bench, times: int, seed: int) -> tuple[Counter[str], list[str]]:
    """Commands on ledgers whose file was damaged: they work, or say in a sentence that they cannot. What is damaged and unnoticed is counted, too."""
    rng = random.Random(seed)
    counts, wrong = Counter[str](), list[str]()
    sound = (bench.base / "ledger.db").read_bytes()
    for number in range(times):
        folder = bench.copy("disturbed")
        path = folder / "ledger.db"
        how, data = _damage(rng, sound)
        path.write_bytes(data)
        for name in ("ledger.db-wal", "ledger.db-shm"):
            (folder / name).unlink(missing_ok=True)
        command = READING[number % len(READING)]
        try:
            done = bench.run(command, folder)
        except WrongError as error:
            wrong.append(f"{number}, {how}, {command}: {error}")
            continue
        due = {3} if how in {"cut", "emptied", "zeroed head"} else {0, 1, 2, 3}
        if done.code not in due or (done.code == 3 and not done.err.startswith("upright: ")):
            wrong.append(f"{number}, {how}, {command}: exit code {done.code}: {done.out}{done.err}")
        counts[f"{how}: {'told' if done.code == 3 else 'unnoticed' if data != sound else 'nothing changed'}"] += 1
    return counts, wrong


def _damage(rng: random.Random, sound: bytes) -> tuple[str, bytes]:
    """A file with some damage, and what it is called."""
    how = rng.choice(
        (
            "flipped bits",
            "flipped bits",
            "another byte",
            "letters",
            "zeroed page",
            "cut",
            "emptied",
            "zeroed head",
            "swapped pages",
        )
    )
    data = bytearray(sound)
    pages = len(data) // 4096
    if how == "flipped bits":
        for _ in range(rng.choice((1, 3, 30))):
            data[rng.randrange(100, len(data))] ^= 1 << rng.randrange(8)
    elif how == "another byte":
        for _ in range(rng.choice((1, 5, 200))):
            data[rng.randrange(100, len(data))] = rng.randrange(256)
    elif how == "letters":  # of stored addresses and texts, so that the file itself is sound
        for _ in range(rng.choice((1, 10, 60))):
            at = data.find(
                rng.choice((b"http://", b"/page/", b"move", b"301", b"gone", b"2026", b'{"')), rng.randrange(len(data))
            )
            if at >= 0:
                data[at + rng.randrange(3)] = rng.choice(b"\x00\xff[]%:/ az09{")
    elif how == "zeroed page":
        at = 4096 * rng.randrange(1, pages)
        data[at : at + 4096] = bytes(4096)
    elif how == "swapped pages":
        a, b = (4096 * rng.randrange(1, pages) for _ in range(2))
        data[a : a + 4096], data[b : b + 4096] = data[b : b + 4096], data[a : a + 4096]
    elif how == "zeroed head":
        data[:100] = bytes(100)
    elif how == "cut":
        del data[rng.randrange(1, len(data) - 4096) :]
    else:
        data.clear()
    return how, bytes(data)


def main() -> None:
    kind, times, database = sys.argv[1], int(sys.argv[2]), sys.argv[3]
    seed = int(sys.argv[4]) if len(sys.argv) > 4 else 1
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    with bench_on(database) as bench, suppress(KeyboardInterrupt):
        whole = {"damages": damaged, "pairs": paired, "crowd": crowded}
        if kind in whole:
            counts, wrong = whole[kind](bench, times, seed)
        else:
            how = {"kills": KILLS, "errors": ERRORS, "losses": (GONE,)}[kind]
            counts, wrong = torture(bench, how, times, seed, sent=database != "sqlite" and kind == "kills")
    for text in wrong:
        print(text, "\n")
    print(f"{kind} on {database}: {dict(counts)}")
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
