"""What people wait for loads what it needs: neither figures by columns, nor matching, nor the
formats of logs and tables, each of which takes longer than the question itself.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys

import pytest

from conftest import NEW, Program

HEAVY = (
    "numpy", "scipy", "pyarrow", "duckdb", "pandas", "matplotlib", "lxml", "aiohttp", "openpyxl",
    "sqlalchemy", "psycopg", "rapidfuzz", "upright_ledger.formats.detection",
    "upright_ledger.formats.logs.log_formats", "upright_ledger.core.matching",
)  # fmt: skip


@pytest.fixture
def answered(museum: Program) -> Program:
    museum.write("urls.txt", "/about\n/visit/hours.html\n/tower\n")
    museum("gather", "urls.txt")
    museum("decide", "/about", "--to", f"{NEW}/about/")
    return museum


@pytest.mark.parametrize(
    "question",
    [
        [],
        ["balance"],
        ["entries", "--sort", "value"],
        ["entries", "/about"],
        ["entries", "--sections"],
        ["history"],
        ["runs"],
        ["decide", "/tower", "--to", f"{NEW}/tower/"],
        ["undo"],
        ["review"],
        ["handover"],
        ["survey", "--help"],
    ],
    ids=" ".join,
)
def test_a_question_loads_nothing_heavy(answered: Program, question: list[str]) -> None:
    done = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "upright_ledger", *question],
        cwd=answered.folder,
        check=False,
        env={**os.environ, "UPRIGHT_AUTHOR": "tester"},
        capture_output=True,
        text=True,
        timeout=60,
    )
    loaded = set(re.findall(r"^import time:.*\| +(\S+)$", done.stderr, re.MULTILINE))
    assert "upright_ledger.cli.main" in loaded, done.stderr[-400:]
    assert "Traceback" not in done.stderr
    allowed = {"upright_ledger.formats.detection"} if question[0:1] == ["survey"] else set()
    assert sorted(loaded & set(HEAVY) - allowed) == []
