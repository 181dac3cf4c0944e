"""Requests of a made-up day's traffic, written as logs of every kind, and what a ledger has counted
of them.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Sequence
from pathlib import Path
from types import SimpleNamespace
from typing import Any, NamedTuple

from hypothesis import strategies as st

from conftest import OLD, Program
from upright_ledger.app.collect.gather import gather
from upright_ledger.core.inventory.packed import unpack_days
from upright_ledger.core.inventory.units import SOUGHT
from upright_ledger.ledger.store import Ledger

PERSON, BOT, CURL = "Mozilla/5.0 (X11; Linux)", "FernCrawler/1 bot", "curl/8.0"
WHO = {PERSON: "people", BOT: "bots", CURL: "libraries", "-": "bots"}
OLDS = [OLD, "http://quillhaven.example"]
MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun")


class Asked(NamedTuple):
    """One request. day: of May 2026."""

    target: str
    status: int = 200
    agent: str = PERSON
    day: int = 3
    host: str = ""
    referrer: str = "-"


PATHS = [
    "/",
    "/page",
    "/page/",
    "/PAGE",
    "/list.php",
    "/index.php",
    "/s.css",
    "/backup.sql",
    "/xK9q2ZpL7v",
    "/caf%C3%A9",
    "/a/./b",
    "/admin/",
    "/old",
    "/img/tower.png",
    "/robots.txt",
    "/img/logo.gif",
]
QUERIES = [
    "",
    "", "?fbclid={n}", "?utm_source=a&gclid={n}", "?v={n}", "?token={n}", "?id=1&token={n}",
    "?cat=../../etc/passwd",
    "?id={m}", "?PHPSESSID={n}&id={m}", "?id={m}&id={n}", "?mail=a{n}@b.example", "?x=<script>{n}",
]  # fmt: skip
TARGETS = st.builds(
    lambda path, query, n, m: path + query.format(n=n, m=m),
    st.sampled_from(PATHS), st.sampled_from(QUERIES),
    st.integers(1, 40), st.integers(1, 2),
)  # fmt: skip
REQUESTS = st.builds(
    Asked,
    TARGETS,
    st.sampled_from([200, 200, 206, 301, 304, 403, 404, 404, 410, 500]),
    st.sampled_from([PERSON, PERSON, PERSON, BOT, CURL, "-"]),
    st.sampled_from([3, 3, 4, 9]),
    st.sampled_from(["", "", "", "quillhaven.example", "elsewhere.example"]),
    st.sampled_from(["-", "http://partner.example/p", "http://www.quillhaven.example/page"]),
)


def _clock(n: int) -> str:
    return f"{10 + n // 3600:02}:{n // 60 % 60:02}:{n % 60:02}"


def combined(asked: Sequence[Asked]) -> list[str]:
    return [
        f"198.51.{n // 250}.{n % 250} - - [{a.day:02}/May/2026:{_clock(n)} +0000] "
        f'"GET {a.target} HTTP/1.1" '
        f'{a.status} 5 "{a.referrer}" "{a.agent}"'
        for n, a in enumerate(asked)
    ]


def by_host(asked: Sequence[Asked]) -> list[str]:
    named = (a.host or OLD.removeprefix("http://") for a in asked)
    return [f"{host} {one}" for host, one in zip(named, combined(asked), strict=True)]


def common(asked: Sequence[Asked]) -> list[str]:
    return [
        one.partition(' "' + a.referrer + '" "')[0]
        for one, a in zip(combined(asked), asked, strict=True)
    ]


def w3c(asked: Sequence[Asked]) -> list[str]:
    rows = []
    for n, a in enumerate(asked):
        stem, _, query = a.target.partition("?")
        agent = a.agent.replace(" ", "+")
        rows.append(
            f"2026-05-{a.day:02} {_clock(n)} {a.host or '-'} GET {stem} {query or '-'} {a.status} "
            f"{agent} {a.referrer}"
        )
    return rows


W3C_HEAD = (
    "#Fields: date time cs-host cs-method cs-uri-stem cs-uri-query sc-status cs(User-Agent) "
    "cs(Referer)"
)


def as_json(asked: Sequence[Asked]) -> list[str]:
    return [
        json.dumps({
            "time": f"2026-05-{a.day:02}T{_clock(n)}Z", "host": a.host, "method": "GET",
            "request_uri": a.target, "status": a.status,
            "user_agent": a.agent, "referer": a.referrer,
        })
        for n, a in enumerate(asked)
    ]  # fmt: skip


WRITERS = {"combined": combined, "by host": by_host, "common": common, "w3c": w3c, "json": as_json}


def write_log(path: Path, kind: str, lines: Iterable[str], end: str = "\n") -> Path:
    text = "".join(f"{line}{end}" for line in [*([W3C_HEAD] if kind == "w3c" else []), *lines])
    path.write_text(text, newline="")
    return path


class Counted(NamedTuple):
    """What a ledger holds. entries: key → (day, class, agent) → requests; aside: (class, spelling)
    → the same. sources: lines, and those set aside and rejected, of all sources.
    """

    entries: dict[tuple[str, str], Counter[tuple[str, str, str]]]
    aside: dict[tuple[str, str], Counter[tuple[str, str, str]]]

    @property
    def total(self) -> Counter[tuple[str, str, str]]:
        """Requests by day, class of status, and who asked."""
        return requests(*self.entries.values(), *self.aside.values())


def requests(*counted: Counter[tuple[str, str, str]]) -> Counter[tuple[str, str, str]]:
    """What was counted of requests alone."""
    found: Counter[tuple[str, str, str]] = Counter()
    for counts in counted:
        found.update({k: n for k, n in counts.items() if k[0]})
    return found


_ALL = """
SELECT p.site, p.spelling, p.aside, e.site AS its_site, e.key, v.unit, v.status_class, v.agent,
    v.days, v.amount
FROM evidence v JOIN sources s ON s.id = v.source JOIN spellings p ON p.id = v.spelling
LEFT JOIN entries e ON e.id = p.entry
WHERE NOT s.withdrawn
"""


def counted(ledger: Ledger) -> Counted:
    """What a ledger holds, by what nobody but SQL and addition says of it."""
    found = Counted({}, {})
    with ledger.reading() as connection:
        cursor = connection.run(_ALL)
        names = [column[0] for column in cursor.description]
        for values in cursor:
            row = SimpleNamespace(**dict(zip(names, values, strict=True)))
            where: dict[Any, Counter[tuple[str, str, str]]] = (
                found.entries if row.key is not None else found.aside
            )
            name = (row.its_site, row.key) if row.key is not None else (row.aside, row.spelling)
            counts = where.setdefault(name, Counter())
            if not row.agent:
                # That an address was sought is a mark of each source, however often it was.
                marked = row.unit == SOUGHT
                amount = 1 if marked else counts["", "", row.unit] + int(row.amount)
                counts["", "", row.unit] = amount
                continue
            assert sum(n for _, n in unpack_days(row.days)) == row.amount
            for day, n in unpack_days(row.days):
                counts[day, row.status_class, row.agent] += int(n)
    return found


def gathered(ledger: Ledger, files: Iterable[Path]) -> list[Any]:
    """Gather files one after the other; what was said of each."""
    return [gather(ledger, [str(file)]).sources[0] for file in files]


KINDS = st.sampled_from(sorted(WRITERS))
LISTS = st.lists(REQUESTS, min_size=1, max_size=40)


AGENT = "Mozilla/5.0 (X11; Linux x86_64) ExampleBrowser/1.0"


def log_line(path: str, status: int = 404, day: int = 1, client: str = "198.51.100.7") -> str:
    """One line of a log in the combined format, of a day in May 2026."""
    return (
        f'{client} - - [{day:02}/May/2026:10:00:00 +0000] "GET {path} HTTP/1.1" {status} 5 "-" '
        f'"{AGENT}"\n'
    )


def hits_by_path(program: Program) -> dict[str, float]:
    """The hits of each entry of a ledger."""
    entries = program.json("entries", "--limit", "0")["entries"]
    return {e["legacy_url"].removeprefix(OLD): e["hits"] for e in entries}


def facts(program: Program, key: str) -> tuple[float, float]:
    entry = program.json("entries", key)
    return entry["hits"], entry["bots"]
