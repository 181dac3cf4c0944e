"""The files for the same rules stay the same, byte by byte: real servers agreed with these."""

from __future__ import annotations

import pytest

from kept_files import SERVERS, digests, kept


@pytest.mark.parametrize("server", SERVERS)
def test_the_same_rules_give_the_files_that_real_servers_agreed_with(server: str) -> None:
    """What is meant to differ is kept by `make recordings`, after the real servers agreed."""
    now, before = digests(server), kept(server)
    assert {name for name in now | before if now.get(name) != before.get(name)} == set()
