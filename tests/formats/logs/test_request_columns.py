"""Logs whose fields stand in whatever order, between whatever signs, as programs are told to write
them.
"""

from __future__ import annotations

import random
from collections import Counter
from datetime import UTC, datetime, timedelta

import pytest

from conftest import OLD, Program

PERSON = (
    "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) "
    "Chrome/126.0 Safari/537.36"
)
PATHS = ["/clocks/tall.html", "/visit/hours?lang=de", "/shop/item.php?id=7", "/gone/old.html"]
SIGNS = {"words": " ", "tabs": "\t", "bars": "|", "spaced bars": " | ", "semicolons": ";"}
HEADINGS = {
    "": {},
    "de": {
        "ip": "Client-IP", "time": "Zeit", "method": "Methode", "path": "Pfad", "user": "Benutzer",
        "status": "Status", "agent": "Programm", "referrer": "Herkunft", "bytes": "Menge",
    },
    "ja": {
        "ip": "\u30a2\u30c9\u30ec\u30b9", "time": "\u65e5\u6642", "path": "\u30d1\u30b9",
        "method": "\u30e1\u30bd\u30c3\u30c9", "user": "\u30e6\u30fc\u30b6\u30fc",
        "status": "\u72b6\u614b", "referrer": "\u53c2\u7167\u5143", "bytes": "\u5bb9\u91cf",
        "agent": "\u30a8\u30fc\u30b8\u30a7\u30f3\u30c8",
    },
}  # fmt: skip
TIMES = ["[%d/%b/%Y:%H:%M:%S +0000]", "%Y-%m-%dT%H:%M:%SZ", "%d.%m.%Y %H:%M:%S"]


def requests() -> list[dict[str, str]]:
    """A day and a half of them; pages of the site itself led to some."""
    found = []
    for n in range(36):
        led = (f"{OLD}/visit/" if n % 2 else "https://search.example/") if n % 7 else "-"
        found.append({
            "ip": f"203.0.113.{n % 9 + 1}", "hour": str(n), "method": "GET", "user": "-",
            "path": PATHS[n % 4], "status": "404" if n % 4 == 3 else "200", "bytes": str(512 + n),
            "referrer": led, "agent": PERSON,
        })  # fmt: skip
    return found


@pytest.mark.parametrize("seed", range(12))
@pytest.mark.parametrize("sign", SIGNS)
def test_requests_are_found_whatever_the_order_of_fields(
    sign: str, seed: int, museum: Program
) -> None:
    draw = random.Random(f"{sign} {seed}")
    fields = ["time", "method", "path", "status", "agent", "referrer", "bytes"]
    fields += draw.sample(["ip", "user"], draw.randint(0, 2))
    draw.shuffle(fields)
    form, between = draw.choice(TIMES), SIGNS[sign]
    names = HEADINGS[draw.choice([*HEADINGS])] if sign != "words" else {}
    lines = [between.join(names[f] for f in fields)] if names else []
    for told in requests():
        moment = datetime(2026, 5, 13, tzinfo=UTC) + timedelta(hours=int(told["hour"]))
        cells = [told[f] if f != "time" else moment.strftime(form) for f in fields]
        if sign == "words":
            cells = [f'"{c}"' if " " in c and c[:1] != "[" else c for c in cells]
        lines.append(between.join(cells))
    museum.write("access.log", "\n".join(lines) + "\n")
    museum("gather", "access.log")
    told_of = {e["legacy_url"]: e["hits"] for e in museum.json("entries")["entries"]}
    asked = Counter(r["path"] for r in requests())
    assert told_of == {f"{OLD}{path}": n for path, n in asked.items()}
    days = {e["last_seen"] for e in museum.json("entries")["entries"]}
    assert days == {"2026-05-14"}
