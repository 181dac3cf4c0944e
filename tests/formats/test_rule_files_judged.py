"""Rule files of servers: what is read from them is what the real servers do, or it is named as not
understood.
"""

from __future__ import annotations

import random
from types import ModuleType

import pytest

import apache_files
import nginx_files
from conftest import needs_server
from rule_judge import drawn, judged
from upright_ledger.formats.server_config.rules_read import ServerSetup

FILES = 40
"""Drawn files a server, in a test run; benchmarks/servers/rule_files.py draws more."""


@pytest.mark.parametrize(
    "language",
    [
        pytest.param(apache_files, marks=needs_server("apache"), id="apache"),
        pytest.param(nginx_files, marks=needs_server("nginx"), id="nginx"),
    ],
)
def test_drawn_files_mean_what_the_server_does(language: ModuleType) -> None:
    found = drawn(language, range(FILES))
    assert found["answered alike"] > FILES
    assert found["not understood"] < found["answered alike"] + found["left alike"]


@needs_server("apache")
@pytest.mark.skipif(
    not apache_files.MANUAL.is_dir(), reason="the package apache2-doc is not installed"
)
def test_the_examples_of_the_manual_mean_what_the_server_does() -> None:
    """A sixth of them in each run; which, its seed says."""
    files = apache_files.manual()
    assert len(files) > 150
    files = random.sample(files, len(files) // 6)
    found = judged(apache_files, ((file, ServerSetup(), None) for file in files))
    assert found["files that the server refuses"] < len(files) // 4
    assert found["answered alike"] > 3


@needs_server("nginx")
@pytest.mark.skipif(
    not nginx_files.EXAMPLES.is_dir(), reason="the package nginx-doc is not installed"
)
def test_the_examples_that_nginx_comes_with_mean_what_the_server_does() -> None:
    files = nginx_files.examples()
    found = judged(nginx_files, ((file, ServerSetup(), None) for file in files))
    assert len(files) - found["files that the server refuses"] >= 2
