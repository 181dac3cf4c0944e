"""Lines of the samples of logs with other values in their places."""

from __future__ import annotations

import random
import re

from asked import AGENT, ESCAPED, FROM, PATH, PLUS, Asked
from log_samples import SAMPLES

AGENTS = [
    AGENT,
    "Mozilla/5.0 (compatible; FernBot/2.1; http://fern.example/bot.html)",
    "curl/8.5.0",
    "Mozilla/5.0 (iPhone; CPU iPhone OS 17_0 like Mac OS X) Version/17.0 Mobile/15E148",
    "-",
]
REFERRERS = [FROM, "-", "https://fern.example/?q=clock", "android-app://com.example.mail/"]
TARGETS = [
    PATH,
    "/a/b-c_d/e.html?id=31",
    "/journal/%C3%A9cran/x?id=4",
    "/200?id=5",
    "/shop/404.html?id=6&b=2",
]
CLIENTS = ["192.0.2.1", "2001:db8::7", "198.51.100.77"]
STATUSES = ["404", "200", "301", "500", "410"]
METHODS = ["GET", "HEAD", "POST"]
IN_WORDS = {
    "nginx's error log",
    "no route, in words",
    "not found, in words",
    "parameters as an object",
    "an agent without quotes",
}
"""They tell no statuses, stop telling of a request where the words are others, tell the query in
parts, or agents that can only be known where they begin as browsers do.
"""
ONCE = [name for name, (_, asked) in SAMPLES.items() if len(asked) == 1 and name not in IN_WORDS]
_STATUS = re.compile(r"(?<![\d.])404(?!\d)")


def varied(text: str, asked: Asked, draw: random.Random) -> tuple[str, Asked]:
    """A line (or the lines of one request) with other values in their places, and what it tells."""
    agent, led, client = draw.choice(AGENTS), draw.choice(REFERRERS), draw.choice(CLIENTS)
    target, status, method = draw.choice(TARGETS), draw.choice(STATUSES), draw.choice(METHODS)
    path, query = target.split("?")
    if "GET" not in text:
        method = asked.method
    put = {
        PATH: target,
        "/visit/room.html": path,
        "visit/room.html": path[1:],
        "id=3": query,
        r"id\=3": query.replace("=", r"\="),
        PLUS: agent.replace(" ", "+"),
        ESCAPED: agent.replace(" ", "%20"),
        AGENT: agent,
        FROM: led,
        "192.0.2.1": client,
        "GET": method,
    }
    text = _STATUS.sub("\0", text)
    for number, old in enumerate(put, 1):
        text = text.replace(old, f"\0{number}\0")
    for number, new in enumerate(put.values(), 1):
        text = text.replace(f"\0{number}\0", new)
    told = asked._replace(
        status=status,
        agent=None if asked.agent is None else agent,
        referrer="" if not asked.referrer or led == "-" else led,
        target=asked.target.replace(PATH, target),
        method=method,
    )
    return text.replace("\0", status), told


def in_two(text: str) -> tuple[str, str]:
    """The heading of a sample, and its request."""
    lines = text.rstrip("\n").split("\n")
    first = next(n for n, line in enumerate(lines) if "visit/room.html" in line)
    return "".join(f"{line}\n" for line in lines[:first]), "\n".join(lines[first:])
