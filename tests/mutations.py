"""Whether the tests would notice: small faults put into modules, one at a time, and which of them
the tests of their package find.

`make mutations OF=core/url/origins.py` prints how many were found, and each that was not; a folder
may be named, too. A copy of the tree is kept in `.mutations/`: what was found once is not tried
again until its function changes. Only tests that call the code in their own process see a fault.
"""

from __future__ import annotations

import functools
import gc
import json
import os
import re
import shutil
import subprocess
import sys
from collections import Counter
from pathlib import Path
from typing import Any

import libcst as cst

ROOT = Path(__file__).resolve().parents[1]
COPY = ROOT / ".mutations"
EXAMPLES = "25"
"""Of each property, a fault."""
MOST_SECONDS = 3.0
"""Of tests, a fault: the fastest come first."""

SETTINGS = """
[tool.mutmut]
source_paths = ["src"]
only_mutate = [{modules}]
pytest_add_cli_args = ["-p", "mutations", "-p", "no:cacheprovider", "-p", "no:xdist"]
pytest_add_cli_args_test_selection = [{tests}]
also_copy = ["tests", "docs", "README.md", "CHANGELOG.md"]
timeout_multiplier = 1.0
timeout_constant = 15.0
track_dependencies = false
"""
STARTS_THE_PROGRAM = {"bare", "open_museum", "museum"}
"""Fixtures; in another process no fault is seen."""
STATES = {0: "not found", 1: "found", 3: "found", 5: "no tests", 33: "no tests"} | dict.fromkeys(
    (-24, 24, 36, 152, 255, -9, -11), "found"
)
"""Exit codes of a run: also those of one that never ends, or dies."""


def pytest_collection_modifyitems(config: Any, items: list[Any]) -> None:
    """As a plugin of the runs: no tests that start the program, those first that name the module's
    folder, then the fastest, and only as many as there is time for.
    """
    items[:] = [item for item in items if not STARTS_THE_PROGRAM & set(item.fixturenames)]
    stats = Path("mutmut-stats.json")
    fault = os.environ.get("MUTANT_UNDER_TEST", "stats")
    if not stats.exists() or fault in {"", "stats", "fail"}:
        return
    folder = fault.split(".")[-3]
    taken = json.loads(stats.read_text(encoding="utf-8"))["duration_by_test"]
    items.sort(key=lambda item: (folder not in item.nodeid, taken.get(item.nodeid, 0.0)))
    left, kept = MOST_SECONDS, 0
    while kept < len(items) and left > 0:
        left -= taken.get(items[kept].nodeid, 0.0)
        kept += 1
    del items[kept:]


def pytest_sessionstart() -> None:
    """As a plugin of the runs: a fork forgets what functions and objects remember of the sound
    program.
    """
    for held in gc.get_objects():
        if isinstance(held, functools._lru_cache_wrapper):
            held.cache_clear()
        elif str(type(held).__module__).startswith("upright_ledger") and hasattr(held, "__dict__"):
            for name, value in vars(type(held)).items():
                if isinstance(value, functools.cached_property):
                    held.__dict__.pop(name, None)


def main() -> None:
    modules = [m for name in sys.argv[1:] for m in _modules(name)]
    tests = sorted({_tests_of(m) for m in modules})
    _lay_out(modules, [t for t in tests if not any(t.startswith(f"{u}/") for u in tests)])
    _forget_what_was_not_found()
    environment = os.environ | {
        "UPRIGHT_EXAMPLES": EXAMPLES,
        "PYTHONPATH": f"{COPY / 'tests'}{os.pathsep}{COPY / 'src'}",
        "PYTHONHASHSEED": "0",
    }
    words = [str(Path(sys.executable).with_name("mutmut"))]
    with (COPY / "run.txt").open("wb") as log:
        done = subprocess.run(
            [*words, "run"], cwd=COPY, env=environment, stdout=log, stderr=log, check=False
        )
    if done.returncode:
        print((COPY / "run.txt").read_text(encoding="utf-8", errors="replace")[-3000:])
        sys.exit(f"the run ended with {done.returncode}; see {COPY / 'run.txt'}")
    _tell(modules)


def _tell(modules: list[str]) -> None:
    """Print what was found of each module, and what was not."""
    os.chdir(COPY)
    from mutmut.mutation.diff_apply import get_diff_for_mutant

    lost = []
    for module in modules:
        path = f"src/upright_ledger/{module}"
        meta = Path(f"mutants/{path}.meta")
        if not meta.exists():
            continue
        held = json.loads(meta.read_text(encoding="utf-8"))
        states = Counter(STATES.get(c, str(c)) for c in held["exit_code_by_key"].values())
        whole, found = states.total(), states["found"]
        rest = ", ".join(f"{state}: {n}" for state, n in states.items() if state != "found")
        share = f", {found / whole:.0%}" if whole else ""
        print(f"{module}: {found} of {whole} found{share}{'; ' * bool(rest)}{rest}")
        codes = held["exit_code_by_key"].items()
        lost += [(name, path) for name, code in codes if STATES.get(code) != "found"]
    for name, path in lost:
        changes = get_diff_for_mutant(name, path=path).splitlines()
        print(f"\n{name}", *(n for n in changes if re.match(r"[+-](?![+-])", n)), sep="\n  ")


def _modules(name: str) -> list[str]:
    """The modules that a name stands for, from the package."""
    package = ROOT / "src/upright_ledger"
    found = sorted((package / name).rglob("*.py")) if (package / name).is_dir() else []
    if not found and not (package / name).is_file():
        sys.exit(f"there is no src/upright_ledger/{name}")
    return [str(f.relative_to(package)) for f in found or [package / name]]


def _tests_of(module: str) -> str:
    """The folder of tests that mirrors the module's package, or the nearest above it."""
    folder = ROOT / "tests" / Path(module).parent
    while not folder.is_dir():
        folder = folder.parent
    return str(folder.relative_to(ROOT))


def _lay_out(modules: list[str], folders: list[str]) -> None:
    """Bring the copy up to date."""
    COPY.mkdir(exist_ok=True)
    for tests_of_before in (COPY / "tests", COPY / "mutants/tests"):
        shutil.rmtree(tests_of_before, ignore_errors=True)
    for part in ("src", "tests", "docs"):
        shutil.copytree(
            ROOT / part,
            COPY / part,
            dirs_exist_ok=True,
            ignore=shutil.ignore_patterns("__pycache__", "screenshots", "*.egg-info"),
        )
    for part in ("README.md", "CHANGELOG.md"):
        shutil.copy(ROOT / part, COPY / part)
    for module in modules:
        file = COPY / "src/upright_ledger" / module
        plain = cst.parse_module(file.read_text(encoding="utf-8")).visit(_Undecorated())
        file.write_text(plain.code, encoding="utf-8")
    settings = SETTINGS.format(
        modules=", ".join(f'"src/upright_ledger/{m}"' for m in modules),
        tests=", ".join(f'"{t}"' for t in folders),
    )
    text = (ROOT / "pyproject.toml").read_text(encoding="utf-8")
    (COPY / "pyproject.toml").write_text(text + settings, encoding="utf-8")


class _Undecorated(cst.CSTTransformer):
    """Functions whose decorator is applied below them: the tool leaves alone what has one."""

    def leave_FunctionDef(  # noqa: N802 (a name of the library's)
        self, original_node: cst.FunctionDef, updated_node: cst.FunctionDef
    ) -> cst.FunctionDef | cst.FlattenSentinel[cst.BaseStatement]:
        del original_node
        if len(updated_node.decorators) != 1:
            return updated_node
        decorator = cst.Module([]).code_for_node(updated_node.decorators[0].decorator)
        if decorator.partition("(")[0] not in {"lru_cache", "cache", "property", "cached_property"}:
            return updated_node
        name = updated_node.name.value
        applied = cst.parse_statement(f"{name} = {decorator}({name})")
        return cst.FlattenSentinel([updated_node.with_changes(decorators=[]), applied])


def _forget_what_was_not_found() -> None:
    """Let the next run try again what the tests did not find: they may have learnt."""
    (COPY / "mutants/mutmut-stats.json").unlink(missing_ok=True)
    for held in COPY.glob("mutants/src/**/*.meta"):
        kept = json.loads(held.read_text(encoding="utf-8"))
        codes = kept["exit_code_by_key"]
        kept["exit_code_by_key"] = {n: code if code == 1 else None for n, code in codes.items()}
        held.write_text(json.dumps(kept), encoding="utf-8")


if __name__ == "__main__":
    main()
