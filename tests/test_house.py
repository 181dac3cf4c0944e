"""The house itself: small modules, told purposes, true documents."""

from __future__ import annotations

import ast
import graphlib
import re
import tomllib
from collections import Counter
from collections.abc import Mapping
from pathlib import Path

import pytest

from conftest import Program

ROOT = Path(__file__).parents[1]
MODULES = sorted((ROOT / "src/upright_ledger").rglob("*.py"))
SOURCES = sorted(
    p for part in ("src", "tests", "benchmarks", "docs") for p in (ROOT / part).rglob("*.py")
)


@pytest.mark.parametrize(
    "path", MODULES, ids=lambda p: str(p.relative_to(ROOT / "src/upright_ledger"))
)
def test_a_module_says_what_it_is_for(path: Path) -> None:
    tree = ast.parse(path.read_text(encoding="utf-8"))
    assert ast.get_docstring(tree), path
    for node in tree.body:
        if isinstance(node, ast.FunctionDef | ast.ClassDef) and not node.name.startswith("_"):
            assert ast.get_docstring(node), f"{path.name}: {node.name} lacks a docstring"


def test_no_module_is_longer_than_400_and_no_line_than_100() -> None:
    for path in SOURCES:
        lines = path.read_text(encoding="utf-8").split("\n")
        assert len(lines) <= 401, path
        assert [n for n, line in enumerate(lines, 1) if len(line) > 100] == [], path


def test_no_room_has_more_than_fourteen_modules() -> None:
    rooms = Counter(path.parent for path in SOURCES if path.name != "__init__.py")
    assert {str(room): n for room, n in rooms.items() if n > 14} == {}


def test_no_long_function_has_many_parameters() -> None:
    """But commands, whose options make them."""
    for path in MODULES:
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.FunctionDef) and node.name != "command":
                given = node.args
                count = len([*given.posonlyargs, *given.args, *given.kwonlyargs])
                lines = (node.end_lineno or 0) - node.lineno + 1
                assert count <= 8 or lines <= 60, f"{path.name}: {node.name}"


def test_no_imports_go_round_in_a_circle() -> None:
    names = {_module(path): path for path in MODULES}
    graph = {name: _imports(path, names) for name, path in names.items()}
    assert list(graphlib.TopologicalSorter(graph).static_order())


def _module(path: Path) -> str:
    dotted = ".".join(path.relative_to(ROOT / "src").with_suffix("").parts)
    return dotted.removesuffix(".__init__")


def _imports(path: Path, names: Mapping[str, Path]) -> set[str]:
    """The modules of ours that a module imports, at its head or later."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module:
            inner = {f"{node.module}.{a.name}" for a in node.names} & names.keys()
            found |= inner or ({node.module} & names.keys())
    return found - {_module(path)}


def test_the_readme_and_its_links_are_true() -> None:
    text = (ROOT / "README.md").read_text(encoding="utf-8")
    assert "make demo" in text
    assert "make test" in text
    for document in (
        text,
        (ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8"),
        *(p.read_text(encoding="utf-8") for p in (ROOT / "docs").glob("*.md")),
    ):
        for link in re.findall(r"\]\(([^)#]+)\)", document):
            assert "://" in link or (ROOT / link).exists() or (ROOT / "docs" / link).exists(), link
    assert len(list((ROOT / "docs/screenshots").glob("*.png"))) < 20


def test_the_version_is_one(bare: Program) -> None:
    version = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["version"]
    assert bare("--version").out.strip() == f"upright {version}"
    assert f"## {version}" in (ROOT / "CHANGELOG.md").read_text()


def test_the_documented_json_keys_are_there(museum: Program) -> None:
    """Every key that docs/json.md names for a command is in that command's output, and the other
    way about.
    """
    museum.write("urls.txt", "/a\n/b\n")
    museum.write("stock.csv", "url,title,status\n/a/,A,200\n")
    outputs = {
        "gather": museum.json("gather", "urls.txt"),
        "fold": museum.json("fold"),
        "entries": museum.json("entries"),
        "stock": museum.json("stock", "stock.csv"),
        "match": museum.json("match"),
        "decide": museum.json("decide", "/b", "--gone"),
        "balance": museum.json("balance"),
        "check": museum.json("check"),
        "build": museum.json("build", "--for", "nginx", "--out", "rules"),
        "rehearse": museum.json("rehearse", "urls.txt"),
        "history": museum.json("history"),
        "undo": museum.json("undo"),
    }
    text = (ROOT / "docs/json.md").read_text(encoding="utf-8")
    for command, output in outputs.items():
        section = text.split(f"\n## {command}\n")[1].split("\n## ")[0]
        named = set(re.findall(r"^- `([a-z_]+)`", section, re.MULTILINE))
        assert named == set(output), command
