"""What the samples of logs tell of: one request, in many forms."""

from __future__ import annotations

from typing import Any, NamedTuple

AGENT = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
FROM = "https://fern.example/post"
HOST = "www.quillhaven.example"
OTHER = "www.fern.example"
PATH = "/visit/room.html?id=3"


class Asked(NamedTuple):
    """A request: what a log must tell of it."""

    status: str = "404"
    agent: str | None = AGENT
    referrer: str = FROM
    host: str = ""
    target: str = PATH
    method: str = "GET"
    day: str = "2026-05-01"


BARE = Asked(agent=None, referrer="")
TIME = "[01/May/2026:10:00:00 +0000]"
COMBINED = f'192.0.2.1 - - {TIME} "GET {PATH} HTTP/1.1" 404 12 "{FROM}" "{AGENT}"'
REQUEST = f'"GET {PATH} HTTP/1.1"'
REST = f'404 12 "{FROM}" "{AGENT}"'
PLUS, ESCAPED = AGENT.replace(" ", "+"), AGENT.replace(" ", "%20")
AT_HOST = Asked(host=HOST)


def of_site(site: str, scheme: str = "https", **more: Any) -> Asked:
    return Asked(target=f"{scheme}://{site}{PATH}", **more)
