"""The sample's access log: a month of visits, bots, probes, page furniture and some broken
lines.
"""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta
from pathlib import Path

from upright_ledger.demo.faults import EarlierMove
from upright_ledger.demo.site import OLD, Museum
from upright_ledger.formats.files.atomic import write_whole

LINES = 104_000
BROKEN = 60
DAYS = 31
_START = datetime(2026, 5, 1, tzinfo=UTC)

_PEOPLE = (
    "Mozilla/5.0 (X11; Linux x86_64) ExampleBrowser/118.0",
    "Mozilla/5.0 (Windows NT 10.0; Win64; x64) ExampleBrowser/120.1",
    "Mozilla/5.0 (Macintosh) ExampleBrowser/119.4",
    "Mozilla/5.0 (Mobile) ExampleBrowser/121.0",
)
_BOTS = (
    "SlateBot/2.1 (+https://slate.example/bot)",
    "Mozilla/5.0 (compatible; FernCrawler/1.0; +https://fern.example)",
    "uptime-monitor/3",
    "curl/8.5.0",
)
_PROBES = (
    "/wp-login.php",
    "/.env",
    "/.git/config",
    "/phpmyadmin/index.php",
    "/backup.zip",
    "/xmlrpc.php",
    "/wp-admin/setup-config.php",
    "/vendor/phpunit/x.php",
)
_FURNITURE = ("/styles/main.css", "/scripts/menu.js", "/favicon.ico", "/fonts/serif.woff2")
_NETS = ("192.0.2", "198.51.100", "203.0.113")
_CAMPAIGNS = (
    "utm_source=newsletter&utm_medium=email",
    "gclid=EAIaIQ{n}",
    "fbclid=IwAR{n}",
    "utm_campaign=spring&utm_source=poster",
)


def write_access_log(
    path: Path,
    museum: Museum,
    earlier: EarlierMove,
    variants: list[tuple[str, str]],
    words: random.Random,
) -> None:
    """Write the log in the Combined Log Format, in the order of time."""
    pages = [p for p in museum.old if p.url.startswith(OLD)]
    known = {p.url: p.fame for p in pages}
    targets = [(p.url.removeprefix(OLD), p.fame, 200) for p in pages]
    targets += [
        (u.removeprefix(OLD), known[plain] / 8, 200)
        for u, plain in variants
        if plain in known and u.startswith(OLD)
    ]
    targets += [(old, 0.6, 301) for old in dict.fromkeys(rule[0] for rule in earlier.rules)]
    names, weights, statuses = zip(*targets, strict=True)
    moments = sorted(words.uniform(0, DAYS * 86400) for _ in range(LINES))
    picks = words.choices(range(len(names)), weights, k=LINES)
    broken = set(words.sample(range(LINES), BROKEN))
    lines = []
    for n, (moment, pick) in enumerate(zip(moments, picks, strict=True)):
        when = (_START + timedelta(seconds=moment)).strftime("%d/%b/%Y:%H:%M:%S +0000")
        line = _line(words, when, names[pick], statuses[pick])
        lines.append(_break(line, words) if n in broken else line)
    write_whole(path, ("\n".join(lines) + "\n").encode("utf-8", "surrogateescape"))


def _line(words: random.Random, when: str, target: str, status: int) -> str:
    client = f"{words.choice(_NETS)}.{words.randrange(1, 255)}"
    roll = words.random()
    agent, referrer, size = words.choice(_PEOPLE), "-", words.randrange(900, 60000)
    if roll < 0.16:
        target, status, referrer = words.choice(_FURNITURE), 200, f"{OLD}/"
    elif roll < 0.20:
        target, status, agent = words.choice(_PROBES), 404, "-"
    elif roll < 0.45:
        agent = words.choice(_BOTS)
    elif roll < 0.50 and "?" not in target:
        target += "?" + words.choice(_CAMPAIGNS).replace("{n}", str(words.randrange(10**6)))
    elif roll < 0.70:
        referrer = words.choice(
            (f"{OLD}/", "https://search.example/", "https://daytrips-7.example/post/12")
        )
    return f'{client} - - [{when}] "GET {target} HTTP/1.1" {status} {size} "{referrer}" "{agent}"'


def _break(line: str, words: random.Random) -> str:
    """Damage a line as logs are damaged: cut off, garbled by a full disk, or with a handshake in
    it.
    """
    kind = words.randrange(3)
    if kind == 0:
        return line[: words.randrange(5, 40)]
    if kind == 1:
        head, _, tail = line.partition('"GET ')
        return f'{head}"\\x16\\x03\\x01\\x02" 400 0 "-" "-"' if tail else line[:10]
    return f"{line[:30]} \x00\x00 {line[60:90]}"
