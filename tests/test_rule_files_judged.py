"""Rule files of servers: what is read from them is what the real servers do, or it is named as not
understood.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Iterable
from types import ModuleType

import pytest

import apache_files
import nginx_files
from conftest import needs_server
from rule_judge import Judged, RuleFile, judge, requests_about
from upright_ledger.errors import InputError
from upright_ledger.formats.server_config.rules_read import ServerSetup

FILES = 40
"""Drawn files a server, in a test run; benchmarks/rule_files.py draws more."""
REQUESTS = 40
THERE = ServerSetup(frozenset(["THERE"]))
ALL_KNOWN = ServerSetup(frozenset(["THERE"]), frozenset(["NOT_THERE", "mod_strange.c"]))


def judged(
    language: ModuleType, files: Iterable[tuple[RuleFile, ServerSetup, random.Random | None]]
) -> Counter[str]:
    """What came of files, in requests; fails with the file at the first request that is understood
    and answered otherwise.
    """
    found: Counter[str] = Counter()
    for file, given, rng in files:
        try:
            with language.running(file) as server:
                requests = (
                    language.requests(rng, file, REQUESTS)
                    if rng
                    else requests_about(file, ["www.old.example"])
                )
                result: Judged = judge(file, server, requests, given)
        except InputError:
            found["files that the server refuses"] += 1
            continue
        lines = "\n".join(f"{n}: {line}" for n, line in enumerate(file.text.splitlines(), 1))
        assert not result.different, f"{file.name}\n{lines}\n" + "\n".join(result.different[:5])
        found.update(result.counts)
    return found


def drawn(language: ModuleType, seeds: Iterable[int]) -> Counter[str]:
    """The same for files that are drawn at random."""

    def files() -> Iterable[tuple[RuleFile, ServerSetup, random.Random]]:
        for seed in seeds:
            rng = random.Random(seed)
            yield language.draw(rng), ALL_KNOWN if seed % 2 else THERE, rng

    return judged(language, files())


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
    files = apache_files.manual()
    found = judged(apache_files, ((file, ServerSetup(), None) for file in files))
    assert len(files) - found["files that the server refuses"] > 150
    assert found["answered alike"] > 100


@needs_server("nginx")
@pytest.mark.skipif(
    not nginx_files.EXAMPLES.is_dir(), reason="the package nginx-doc is not installed"
)
def test_the_examples_that_nginx_comes_with_mean_what_the_server_does() -> None:
    files = nginx_files.examples()
    found = judged(nginx_files, ((file, ServerSetup(), None) for file in files))
    assert len(files) - found["files that the server refuses"] >= 2
