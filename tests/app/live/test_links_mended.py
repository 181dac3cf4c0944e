"""A wrong link of the own site that was mended: no rule is needed, and it comes back when followed.
What is ignored is not called answered.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from conftest import OLD, Program

AGENT = "Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0"
TODAY = datetime.now(UTC)


def asked(path: str, days: int, times: int = 3) -> str:
    day = f"{TODAY + timedelta(days):%d/%b/%Y}"
    return "".join(
        f'198.51.100.{n} - - [{day}:10:00:{n:02} +0000] "GET {path} HTTP/1.1" 404 5 '
        f'"{OLD}/visit/" "{AGENT}"\n'
        for n in range(times)
    )


def states(program: Program, *logs: str) -> dict[str, tuple[str, str]]:
    found = program.json("triage", *logs, code=None)["entries"]
    return {e["legacy_url"].removeprefix(OLD): (e["state"], e["why"]) for e in found}


@pytest.fixture
def failing(museum: Program) -> Program:
    museum.write("before.log", asked("/visit/huors.html", -2) + asked("/old-notice.html", -2))
    said = museum("triage", "before.log", code=1).out
    assert "upright decide ADDRESS --link-mended says so" in said
    return museum


def test_a_link_that_was_mended_reopens_when_it_is_followed_again(failing: Program) -> None:
    failing("decide", "/visit/huors.html", "--link-mended")
    assert failing.json("entries", "/visit/huors.html")["answer"] == "ignore"
    assert states(failing)["/visit/huors.html"] == ("link mended", "")
    assert "a link of the site was mended" in failing("triage", code=1).out
    failing.write("after.log", asked("/visit/huors.html", 2))
    state, why = states(failing, "after.log")["/visit/huors.html"]
    assert state == "recurring"
    assert "its link was mended" in why
    failing("decide", "/visit/huors.html", "--ignore")
    assert states(failing)["/visit/huors.html"][0] == "ignored"


def test_what_is_ignored_is_not_answered(failing: Program) -> None:
    failing("decide", "/old-notice.html", "--ignore")
    assert states(failing)["/old-notice.html"] == ("ignored", "")
    failing.write("after.log", asked("/old-notice.html", 2))
    assert states(failing, "after.log")["/old-notice.html"] == ("ignored", "")


def test_a_link_is_one_address(failing: Program) -> None:
    for wrong in (("/visit/{+rest}",), ("--section", "visit")):
        failed = failing("decide", *wrong, "--link-mended", code=2)
        assert "--link-mended is of one address" in failed.err
