"""Logs that need a word of the user: formats, as Apache and nginx have them, and the root of a
site.
"""

from __future__ import annotations

import pytest

from conftest import OLD, Program
from upright_ledger.formats.logs.forms.given_format import given_format
from upright_ledger.formats.logs.log_line import LogLine, NotALineError

TIME, ISO = "[01/May/2026:10:00:00 +0000]", "2026-05-01T10:00:00+00:00"
COMBINED = (
    f'192.0.2.1 - ada {TIME} "GET /a?x=1 HTTP/1.1" 404 12 "http://f.example/" "Mozilla/5 (X)"'
)
FORMS = {
    '%h %l %u %t "%r" %>s %b "%{Referer}i" "%{User-Agent}i"': COMBINED,
    r"%h %l %u %t \"%r\" %>s %b \"%{Referer}i\" \"%{User-Agent}i\"": COMBINED,
    "%h %l %u %t %r %s": f"192.0.2.1 - two words {TIME} GET /a?x=1 HTTP/1.1 404",
    "%v %t %m %U%q %H %>s %D": f"www.a.example {TIME} GET /a?x=1 HTTP/1.1 404 17",
    "%{%Y-%m-%d %H:%M:%S}t %r %>s 100%%": "2026-05-01 10:00:00 GET /a?x=1 HTTP/1.1 404 100%",
    '$remote_addr - $remote_user [$time_local] "$request" $status $body_bytes_sent '
    '"$http_referer" "$http_user_agent"': COMBINED,
    "$time_iso8601|$host|$request_method|$request_uri|$status": f"{ISO}|a.example|GET|/a?x=1|404",
    '{"at":"${time_iso8601}","r":"$request","s":$status}':
        f'{{"at":"{ISO}","r":"GET /a?x=1 HTTP/1.1","s":404}}',
    "$msec $scheme://$host $request $status": "1777629600.123 https://a.example GET /a?x=1 404",
}  # fmt: skip


@pytest.mark.parametrize("form", [f for f in FORMS if "two" not in FORMS[f]])
def test_a_line_is_taken_apart(form: str) -> None:
    told = given_format(form).new_parser([], frozenset())(FORMS[form])
    assert isinstance(told, LogLine)
    method, target, _ = told.request.split(" ")
    assert (method, target, told.status, told.day) == ("GET", "/a?x=1", "404", "2026-05-01")
    if "Referer" in form or "referer" in form:
        assert (told.referrer, told.agent) == ("http://f.example/", "Mozilla/5 (X)")
    if "host" in form or "%v" in form:
        assert told.host in {"a.example", "www.a.example"}


def test_a_line_that_does_not_fit_is_rejected() -> None:
    with pytest.raises(NotALineError):
        given_format("%t %r %s").new_parser([], frozenset())("free words")


@pytest.mark.parametrize(
    "form", ["%h %l", "$status $time_local", "words", "%r %t", "$request $status"]
)
def test_a_format_that_tells_no_requests_is_refused(form: str, museum: Program) -> None:
    museum.write("a.log", f"{COMBINED}\n")
    told = museum("gather", "--log-format", form, "a.log", code=2).err
    assert "the --log-format names no" in told


def test_a_log_is_gathered_as_its_format_says(museum: Program) -> None:
    lines = [f"{status};{ISO};/page-{n};GET" for n, status in enumerate((404, 404, 200))]
    museum.write("odd.txt", "\n".join([*lines, "cut"]) + "\n")
    form = "$status;$time_iso8601;$request_uri;$request_method"
    source = museum.json("gather", "--log-format", form, "odd.txt")["sources"][0]
    assert (source["kind"], source["accepted"], source["rejected"]) == ("access-log", 3, 1)
    found = {e["legacy_url"]: e["hits"] for e in museum.json("entries")["entries"]}
    assert found == {f"{OLD}/page-{n}": 1 for n in range(3)}


ERRORS = """\
[Fri May 01 10:00:00.123456 2026] [core:info] [pid 1:tid 2] [client 192.0.2.1:5000] AH00128: \
File does not exist: /srv/site/visit/room 7.html, referer: http://f.example/
[Fri May 01 10:00:01.123456 2026] [php:error] [pid 1] [client 192.0.2.1:5000] script \
'/srv/site/old.php' not found or unable to stat
[Fri May 01 10:00:02.123456 2026] [authz_core:error] [pid 1:tid 2] [client 192.0.2.1:5000] \
AH01630: client denied by server configuration: /srv/site/inside/
[Fri May 01 10:00:03.123456 2026] [mpm_event:notice] [pid 1:tid 2] AH00489: resuming operations
[Fri May 01 10:00:04.123456 2026] [core:info] [pid 1:tid 2] [client 192.0.2.1:5000] AH00128: \
File does not exist: /srv/other/x.html
"""


def test_an_error_log_needs_the_root_of_its_site(museum: Program) -> None:
    museum.write("error.log", ERRORS)
    assert "--document-root" in museum("gather", "error.log", code=3).err
    told = museum.json("gather", "--document-root", "/srv/site", "error.log")["sources"][0]
    assert (told["accepted"], told["set_aside"], told["rejected"]) == (3, 1, 1)
    found = {e["legacy_url"]: e["hits"] for e in museum.json("entries")["entries"]}
    assert found == {f"{OLD}/visit/room%207.html": 1, f"{OLD}/old.php": 1, f"{OLD}/inside/": 1}
