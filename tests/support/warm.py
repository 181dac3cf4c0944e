"""The program, loaded once and run often: each request on standard input is answered by a fork that
runs the real entry point.

Loading takes a second, which is most of what a short command needs. A fork shares nothing with the
next one: it has its own arguments, folder, environment, streams and exit code, as a process that
was started anew.
"""

from __future__ import annotations

import atexit
import gc
import json
import os
import signal
import sys
import traceback
from contextlib import redirect_stderr, redirect_stdout, suppress
from importlib import import_module
from importlib.metadata import entry_points
from io import StringIO
from pathlib import Path
from pkgutil import walk_packages
from tempfile import TemporaryDirectory
from typing import Any

import upright_ledger
from upright_ledger.core.inventory.agents import asker_of

HEAVY = (
    "dateutil.relativedelta",
    "pycurl",
    "xxhash",
    "lxml.html",
    "numpy",
    "pyarrow.compute",
    "rapidfuzz.process",
    "scipy.sparse",
    "scipy.special",
    "rich.progress",
    "tomlkit",
    "sqlalchemy",
    "xlsxwriter",
)

STORY = (
    "open museum --old http://www.quillhaven.example --new https://www.quillhaven.example",
    "gather ../old.csv",
    "stock ../new.csv",
    "match",
    "decide /bells --gone",
    "check",
    "entries",
)
"""What is run before anything is asked, so that all is there that a command makes of its own at
first: expressions, forms of settings, loaders. A third of what a short command takes.
"""
FILES = {
    "old.csv": "url,hits\nhttp://www.quillhaven.example/bells,3\n",
    "new.csv": "url,title\nhttps://www.quillhaven.example/bells/,Bells\n",
}

MOST_SECONDS = 300


def _load_all(main: Any) -> None:
    """Let a command run once, so that all is loaded that is loaded late."""
    held, sys.argv = sys.argv, ["upright", "entries", "--csv", os.devnull]
    with redirect_stdout(StringIO()), suppress(SystemExit):
        main()
    sys.argv = held


def run(request: dict[str, Any], main: Any) -> int:
    """Be the program: only ever called in a fork."""
    signal.alarm(MOST_SECONDS)
    os.chdir(request["folder"])
    os.environ.clear()
    os.environ.update(request["environment"])
    for name, stream in (("out", 1), ("err", 2)):
        os.dup2(os.open(request[name], os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), stream)
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    if user := int(os.environ.pop("UPRIGHT_TEST_USER", "0")):
        _load_all(main)  # this user may not read the program
        os.setgroups([])
        os.setgid(user)
        os.setuid(user)
    sys.argv = ["upright", *request["arguments"]]
    code = 0
    try:
        main()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else int(end.code is not None)
    except BaseException:  # noqa: BLE001 (as the interpreter does it)
        traceback.print_exc()
        code = 1
    atexit._run_exitfuncs()
    sys.stdout.flush()
    sys.stderr.flush()
    return code


def _tell_the_story(main: Any) -> None:
    """Run the commands of the story here, in a folder that goes again. What the program remembers
    of a command it remembers no longer.
    """
    here, held, empty = Path.cwd(), sys.argv, _empty_containers()
    with TemporaryDirectory() as folder:
        os.chdir(folder)
        for name, text in FILES.items():
            Path(name).write_text(text, encoding="utf-8")
        for command in STORY:
            sys.argv = ["upright", *command.split()]
            said = StringIO()
            with redirect_stdout(said), redirect_stderr(said):
                try:
                    main()
                except SystemExit as end:
                    if end.code:
                        raise RuntimeError(f"{command}: {said.getvalue()}") from end
            if command == STORY[0]:
                os.chdir("museum")
        os.chdir(here)
    sys.argv = held
    for container in empty:
        container.clear()


def _empty_containers() -> list[Any]:
    """Of all modules of the program, the variables that something is put into later."""
    modules = [module for name, module in sys.modules.items() if name.startswith("upright_ledger.")]
    found = [value for module in modules for value in vars(module).values()]
    return [value for value in found if isinstance(value, list | dict | set) and not value]


def serve() -> None:
    """Answer requests until standard input ends."""
    for module in walk_packages(upright_ledger.__path__, "upright_ledger."):
        if not module.name.endswith("__main__"):
            import_module(module.name)
    for name in HEAVY:
        import_module(name)
    asker_of("Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0")
    (entry,) = entry_points(group="console_scripts", name="upright")
    main = entry.load()
    _tell_the_story(main)
    # What is there by now stays: no fork looks through it for cycles, and so copies it.
    gc.collect()
    gc.freeze()
    for line in sys.stdin:
        pid = os.fork()
        if pid == 0:
            code = 1
            try:
                code = run(json.loads(line), main)
            finally:
                os._exit(code)
        sys.stdout.write(f"{os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])}\n")
        sys.stdout.flush()


if __name__ == "__main__":
    serve()
