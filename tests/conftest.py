"""What all tests share: the installed program, a fresh ledger, the sample, and a real nginx."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from upright_ledger.demo.sample import Sample, write_sample
from upright_ledger.servers import load_server
from upright_ledger.web.local.real_nginx import find_nginx
from upright_ledger.web.local.real_servers import find_program

# Where tests run in the background, these are ignored, and so they would be by what tests start.
for _number, _handler in (
    (signal.SIGINT, signal.default_int_handler),
    (signal.SIGHUP, signal.SIG_DFL),
):
    if signal.getsignal(_number) == signal.SIG_IGN:
        signal.signal(_number, _handler)

# Machines that run tests are shared: how long a drawn case takes there tells nothing.
# The same cases are drawn in each run, so that what fails is what was changed; `make properties`
# draws others.
settings.register_profile(
    "shared",
    deadline=None,
    max_examples=50,
    derandomize="UPRIGHT_EXAMPLES" not in os.environ,
    suppress_health_check=[HealthCheck.too_slow],
)
settings.load_profile("shared")

PROGRAM = Path(sys.executable).with_name("upright")
OLD = "http://www.quillhaven.example"
NEW = "https://www.quillhaven.example"

needs_nginx = pytest.mark.skipif(
    not find_nginx(), reason="nginx is not installed: apt-get install nginx-light"
)


def needs_server(name: str) -> pytest.MarkDecorator:
    """Skips a test where a web server is missing, with the reason."""
    reason = f"{name} is not installed: apt-get install {load_server(name).launch.package}"
    return pytest.mark.skipif(not find_program(load_server(name).launch.program), reason=reason)


@dataclass(frozen=True)
class Outcome:
    """What a run of the program gave."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


def _run(arguments: list[str], folder: Path, environment: dict[str, str]) -> Outcome:
    """Run the installed program: in a fork of one that is loaded (see warm.py), or started anew
    where there are no forks.
    """
    if not hasattr(os, "fork"):
        done = subprocess.run(
            [PROGRAM, *arguments],
            cwd=folder,
            env=environment,
            check=False,
            capture_output=True,
            encoding="utf-8",
            timeout=120,
        )
        return Outcome(done.returncode, done.stdout, done.stderr)
    return _warm().run(arguments, folder, environment)


class Warm:
    """The program in forks of one that is loaded (see warm.py). environment: of that one."""

    def __init__(self, environment: dict[str, str] | None = None) -> None:
        words = [sys.executable, str(Path(__file__).parent / "support/warm.py")]
        pipe = subprocess.PIPE
        self._process = subprocess.Popen(
            words, stdin=pipe, stdout=pipe, encoding="utf-8", env=environment
        )

    def run(self, arguments: list[str], folder: Path, environment: dict[str, str]) -> Outcome:
        """Run the program once. environment: all of it."""
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        with tempfile.TemporaryDirectory() as held:
            out, err = Path(held) / "out", Path(held) / "err"
            request = {
                "arguments": arguments,
                "folder": str(folder),
                "environment": environment,
                "out": str(out),
                "err": str(err),
            }
            self._process.stdin.write(json.dumps(request) + "\n")
            self._process.stdin.flush()
            code = int(self._process.stdout.readline())
            return Outcome(code, out.read_text(encoding="utf-8"), err.read_text(encoding="utf-8"))

    def end(self) -> None:
        """End the one that is loaded."""
        self._process.kill()
        self._process.wait()


_WARM: dict[int, Warm] = {}
"""One for each process: a fork of the tests has its own."""


def _warm() -> Warm:
    if os.getpid() not in _WARM:
        _WARM[os.getpid()] = Warm()
    return _WARM[os.getpid()]


LONGEST = (
    "test_cluster.py", "test_sample.py", "test_conformance.py", "test_machine.py",
    "test_torture_postgresql.py", "test_torture.py", "test_side_by_side.py", "test_launch.py",
    "test_reading_back.py", "test_old_ledgers.py", "test_team.py",
)  # fmt: skip


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes longest begins first, so that no process is left with it at the end."""
    order = {name: n for n, name in enumerate(LONGEST)}
    items.sort(key=lambda item: order.get(item.path.name, len(order)))


def pytest_sessionfinish() -> None:
    if warm := _WARM.pop(os.getpid(), None):
        warm.end()


@dataclass(frozen=True)
class Program:
    """The installed `upright`, run in a folder."""

    folder: Path

    def __call__(self, *arguments: object, code: int | None = 0, **environment: str) -> Outcome:
        """Run the program; unless `code` is None its exit code must be that one."""
        whole = {
            **os.environ,
            "NO_COLOR": "1",
            "COLUMNS": "100",
            "UPRIGHT_AUTHOR": "tester",
            **environment,
        }
        done = _run([str(a) for a in arguments], self.folder, whole)
        assert "Traceback" not in done.err, done.err
        if code is not None:
            assert done.code == code, f"exit {done.code}: {done.out}{done.err}"
        return done

    def json(self, *arguments: object, code: int | None = 0) -> Any:
        return self(*arguments, "--json", code=code).json

    def write(self, name: str, text: str | bytes) -> Path:
        path = self.folder / name
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        return path

    def pairs(self, *rows: str, name: str = "pairs.csv") -> Path:
        """A sheet of pairs; rows are "old,new,status"."""
        return self.write(name, "old,new,status\n" + "\n".join(rows) + "\n")


@pytest.fixture
def bare(tmp_path: Path) -> Program:
    """The program in an empty folder."""
    return Program(tmp_path)


@pytest.fixture
def museum(open_museum: Callable[..., Program]) -> Program:
    """The program in a fresh ledger's folder."""
    return open_museum(
        "--old", OLD, "--old", "http://quillhaven.example", "--new", NEW, name="museum"
    )


@pytest.fixture
def open_museum(tmp_path: Path) -> Callable[..., Program]:
    """Make a ledger with options of one's own."""

    def make(*options: str, name: str = "own") -> Program:
        return opened(tmp_path / name, *options)

    return make


def opened(folder: Path, *options: str) -> Program:
    """The program in the folder of a new ledger: made once with these options and copied often,
    which is faster.
    """
    return Program(Path(shutil.copytree(_made(folder.name, options), folder)))


@cache
def _made(name: str, options: tuple[str, ...]) -> Path:
    folder = Path(tempfile.mkdtemp(dir=_kept().name))
    Program(folder)("open", name, *options)
    return folder / name


@cache
def _kept() -> tempfile.TemporaryDirectory[str]:
    return tempfile.TemporaryDirectory()


@pytest.fixture(scope="session")
def sample(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Sample]:
    """The sample's files, and the sample."""
    folder = tmp_path_factory.mktemp("sample")
    return folder, write_sample(folder)


@pytest.fixture
def answered(museum: Program) -> Program:
    """A ledger with one answer of each kind."""
    museum.write("stock.csv", f"url,status\n{NEW}/goal/,200\n{NEW}/kept/,200\n{NEW}/moving/,301\n")
    museum("stock", "stock.csv")
    museum(
        "decide",
        "--from",
        museum.pairs(
            "/a,/goal/,",
            "/gone,,410",
            "/kept/,,keep",
            "/noise,,ignore",
            "/c,/a,",
            "/slow,/goal/,302",
            "/dead,/nowhere/,",
            "/m,/moving/,",
        ),
        "--as-given",
    )
    return museum
