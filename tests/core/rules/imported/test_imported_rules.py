"""Imported rules do what the servers did that they were written for, as it was recorded."""

from __future__ import annotations

import pytest

from recorded_servers import LANGUAGES, recordings
from rule_judge import judge

PARTS = 8


@pytest.mark.parametrize("server", LANGUAGES)
@pytest.mark.parametrize("part", range(PARTS))
def test_a_rule_file_means_what_its_server_did(server: str, part: int) -> None:
    for told in list(recordings(server))[part::PARTS]:
        found = judge(told.file, told.server, told.requests, told.given)
        assert not found.different, told.file.text
        assert found.counts["answered alike"] == told.alike
