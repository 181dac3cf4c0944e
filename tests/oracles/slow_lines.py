"""What a line of an entry must say, worked out of the facts by dictionaries and loops."""

from __future__ import annotations

import json
from collections import Counter, defaultdict
from collections.abc import Callable, Mapping
from datetime import date
from itertools import chain
from typing import Any

from sqlalchemy import create_engine, text
from sqlalchemy.pool import NullPool

Row = dict[str, Any]
Line = dict[str, Any]
PER_PERIOD = {"hits", "visits", "clicks", "impressions"}


def days_of(source: Row) -> set[int]:
    """The days of a source's period as ordinals."""
    if not (source["period_start"] and source["period_end"]):
        return set()
    ends = (date.fromisoformat(source[f"period_{end}"]).toordinal() for end in ("start", "end"))
    first, last = ends
    return set(range(first, last + 1))


def lines_of(tables: Mapping[str, list[Row]], weights: Mapping[str, float]) -> dict[int, Line]:
    """Entry → what its line must say. tables: the rows of each table by column."""
    sources = {s["id"]: s for s in tables["sources"] if not s["withdrawn"]}
    entry_of = {p["id"]: p["entry"] for p in tables["spellings"] if p["entry"] is not None}
    answers = {a["entry"]: a for a in tables["answers"]}
    said: dict[int, list[Row]] = defaultdict(list)
    for v in tables["evidence"]:
        if v["source"] in sources and v["spelling"] in entry_of:
            said[entry_of[v["spelling"]]].append(v)
    words: dict[int, list[Row]] = defaultdict(list)
    for o in sorted(tables["observations"], key=lambda o: (o["source"], o["spelling"])):
        if o["source"] in sources and o["spelling"] in entry_of:
            words[entry_of[o["spelling"]]].append(o)
    logs = {v["source"] for v in chain(*said.values()) if v["unit"] == "hits" and v["agent"]}
    log_days = len(set().union(*(days_of(sources[s]) for s in logs)))
    shown = _variants(tables, sources)
    return {
        entry: _line(said[entry], words[entry], sources, log_days, weights)
        | {"variants": len(shown[entry]), **_answer(answers.get(entry))}
        for entry in said.keys() | answers.keys()
    }


def _variants(tables: Mapping[str, list[Row]], sources: Mapping[int, Row]) -> dict[int, set[str]]:
    """Entry → its variants, but for those that only withdrawn sources name."""
    counts: dict[int, set[bool]] = defaultdict(set)
    for v in tables["evidence"]:
        counts[v["spelling"]].add(v["source"] in sources)
    found: dict[int, set[str]] = defaultdict(set)
    for p in tables["spellings"]:
        if p["entry"] is not None and counts[p["id"]] != {False}:
            found[p["entry"]].add(p["variant"])
    return found


def _line(
    said: list[Row],
    words: list[Row],
    sources: Mapping[int, Row],
    log_days: int,
    weights: Mapping[str, float],
) -> Line:
    in_logs = [v for v in said if v["unit"] == "hits" and v["agent"]]
    people = sum(v["amount"] for v in in_logs if v["agent"] == "people")
    bots = sum(v["amount"] for v in in_logs if v["agent"] != "people")
    exported: dict[tuple[str, int], float] = defaultdict(float)
    for v in said:
        if v not in in_logs:
            exported[v["unit"], v["source"]] += v["amount"]

    def most(unit: str, each: Callable[[float, int], float]) -> float:
        return max((each(n, s) for (u, s), n in exported.items() if u == unit), default=0.0)

    def rate(unit: str) -> float:
        def each(amount: float, source: int) -> float:
            days = len(days_of(sources[source]))
            return amount * 30.0 / days if unit in PER_PERIOD and days else amount

        return most(unit, each)

    def total(unit: str) -> float:
        return most(unit, lambda amount, _: amount)

    logged = people * 30.0 / log_days if log_days else people
    domains, pages = total("linking domains"), total("linking pages")
    worth = weights["traffic"] * max(logged, rate("hits"), rate("visits"), rate("clicks"))
    worth += (
        weights["linking_domains"] * domains if domains else weights["linking_pages"] * pages
    ) + weights["impressions"] * rate("impressions")
    codes: dict[str, float] = defaultdict(float)
    for v in in_logs:
        codes[v["status_class"]] += v["amount"]
    days = sorted(d for v in in_logs for d in (v["first_day"], v["last_day"]) if d)
    return {
        "value": round(worth, 6),
        "hits": people or total("hits"),
        "bots": bots,
        "visits": total("visits"),
        "clicks": total("clicks"),
        "impressions": total("impressions"),
        "links": domains or pages,
        "first_seen": days[0] if days else "",
        "last_seen": max([*days, *(o["last_seen"] for o in words)], default=""),
        "statuses": dict(codes),
        "title": next((o["title"] for o in words if o["title"]), ""),
        "language": next((o["language"] for o in words if o["language"]), ""),
        "sources": {v["source"] for v in said},
    }


def _answer(answer: Row | None) -> Line:
    if answer is None or answer["kind"] == "open":
        return {"own": None}
    return {"own": tuple(answer[c] for c in ("kind", "status", "destination", "by"))}


def named_in(line: Row) -> set[int]:
    """The sources that name the entry of a line."""
    return {int(part) for part in line["sources"].split("|") if part}


def kept_lines(tables: Mapping[str, list[Row]]) -> dict[int, Line]:
    """The lines that a ledger keeps, in the same form. Of an entry without an answer of its own it
    is not said what rules give it.
    """
    answered = {a["entry"] for a in tables["answers"] if a["kind"] != "open"}
    found = {}
    for x in tables["entry_lines"]:
        parts = [p.rpartition(":") for p in x["statuses"].split("|") if p]
        same = (
            "hits", "bots", "visits", "clicks", "impressions", "links", "first_seen", "last_seen",
            "title", "language", "variants",
        )  # fmt: skip
        own = tuple(x[c] for c in ("kind", "status", "destination", "by"))
        found[x["entry"]] = {name: x[name] for name in same} | {
            "value": round(x["value"], 6),
            "statuses": {code: float(amount) for code, _, amount in parts},
            "sources": named_in(x),
            "own": own if x["entry"] in answered else None,
        }
    return found


_TABLES = (
    "sources", "spellings", "evidence", "observations", "answers", "entry_lines", "kept",
)  # fmt: skip
WEIGHTS = {"traffic": 1.0, "linking_domains": 5.0, "linking_pages": 1.0, "impressions": 0.01}


def tables_of(url: str) -> dict[str, list[dict[str, Any]]]:
    """Table → its rows by column, of a database with this address."""
    engine = create_engine(url, poolclass=NullPool)
    with engine.connect() as connection:
        return {
            name: [dict(r) for r in connection.execute(text(f"SELECT * FROM {name}")).mappings()]
            for name in _TABLES
        }


def totals_of(tables: Mapping[str, list[Row]]) -> dict[str, dict[str, int]]:
    """What all lines amount to; hits and value in millionths."""
    found: dict[str, Counter[str]] = {
        name: Counter() for name in ("entries", "hits", "value", "named", "alone")
    }
    for x in tables["entry_lines"]:
        found["entries"][x["kind"]] += 1
        found["hits"][x["kind"]] += round(x["hits"] * 1e6)
        found["value"][x["kind"]] += round(x["value"] * 1e6)
        named = named_in(x)
        for source in named:
            found["named"][str(source)] += 1
            found["alone"][str(source)] += len(named) == 1
    return {name: {k: n for k, n in counts.items() if n} for name, counts in found.items()}


def lines_stand(url: str) -> None:
    """The lines that a ledger keeps are those that its facts amount to."""
    tables = tables_of(url)
    assert kept_lines(tables) == lines_of(tables, WEIGHTS)
    (kept,) = (k["value"] for k in tables["kept"] if k["name"] == "totals")
    told = json.loads(kept) if isinstance(kept, str) else kept
    assert told == totals_of(tables)
