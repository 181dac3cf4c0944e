"""The house itself: small modules, told purposes, true documents."""

from __future__ import annotations

import ast
import re
import tomllib
from pathlib import Path

import pytest

from conftest import Program

ROOT = Path(__file__).parents[1]
MODULES = sorted((ROOT / "src/upright_ledger").rglob("*.py"))


@pytest.mark.parametrize(
    "path", MODULES, ids=lambda p: str(p.relative_to(ROOT / "src/upright_ledger"))
)
def test_a_module_is_small_and_says_what_it_is_for(path: Path) -> None:
    text = path.read_text(encoding="utf-8")
    assert len(text.splitlines()) <= 400
    tree = ast.parse(text)
    assert ast.get_docstring(tree), path
    for node in tree.body:
        if isinstance(node, ast.FunctionDef | ast.ClassDef) and not node.name.startswith("_"):
            assert ast.get_docstring(node), f"{path.name}: {node.name} lacks a docstring"


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
