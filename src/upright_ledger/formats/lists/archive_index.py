"""Web-archive indexes (CDX and CDXJ lines, or CDX as JSON) and HAR recordings: what was once seen,
and when.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.core.url.repair import mend
from upright_ledger.formats.files.json_text import read_json
from upright_ledger.formats.files.text import MAX_LINE, open_text, text_lines
from upright_ledger.formats.records import Aside, Item, Reading, ReadOptions, Record, Reject
from upright_ledger.formats.tables.cells import status_code
from upright_ledger.formats.tables.meanings.days import day_of

# The letters of a CDX header line that matter: date, original address, status.
_LETTERS = {"b": "timestamp", "a": "original", "s": "statuscode"}
_USUAL: tuple[str, ...] = (
    "urlkey",
    "timestamp",
    "original",
    "mimetype",
    "statuscode",
    "digest",
    "length",
)
_STAMP = re.compile(r"\d{4,14}\Z")


def read_archive_index(path: Path, options: ReadOptions) -> Reading:
    """The addresses an archive holds, each with the day and the status of its capture."""
    return Reading(_items(path, options))


def _items(path: Path, options: ReadOptions) -> Iterator[Item]:
    names = _USUAL
    with open_text(path, options.encoding) as file:
        for number, line in text_lines(file):
            text = line.strip()
            if not text or text in {"[", "]"}:
                yield Aside(number, AsideClass.BLANK)
            elif len(line) > MAX_LINE:
                yield Reject(number, f"longer than {MAX_LINE:,} characters", text[:500])
            elif text.startswith("CDX "):
                names = tuple(_LETTERS.get(letter, letter) for letter in text.split()[1:])
                yield Aside(number, AsideClass.BLANK, text)
            elif (cells := _cells(text, names)) is None:
                yield Reject(number, "not a line of a web-archive index", text[:2000])
            elif "urlkey" in cells.values() and "original" in cells.values():
                names = tuple(cells.values())
                yield Aside(number, AsideClass.BLANK, text[:500])
            else:
                yield _record(number, cells, text)


def _cells(text: str, names: tuple[str, ...]) -> dict[str, str] | None:
    """Name → cell of a line: blank-separated, a JSON array, or a key, a time and a JSON object."""
    if text.startswith("["):
        text = text.removeprefix("[[").rstrip(",]").lstrip("[")
        found = _loaded(f"[{text}]")
        return dict(zip(names, map(str, found), strict=False)) if isinstance(found, list) else None
    key, _, rest = text.partition(" ")
    stamp, _, body = rest.partition(" ")
    if body.startswith("{"):
        found = _loaded(body)
        if not isinstance(found, dict):
            return None
        told = {
            "timestamp": stamp,
            "original": str(found.get("url", "")),
            "statuscode": str(found.get("status", "")),
        }
        return {"urlkey": key} | told
    cells = text.split(" ")
    return dict(zip(names, cells, strict=False)) if len(cells) >= 3 else None


def _loaded(text: str) -> Any:
    try:
        return read_json(text)
    except ValueError:
        return None


def _record(number: int, cells: dict[str, str], text: str) -> Record | Reject:
    stamp, original = cells.get("timestamp", ""), cells.get("original", "")
    if not _STAMP.match(stamp) or not original:
        return Reject(number, "its time or address is missing", text[:2000])
    url = mend(original)
    status = status_code(cells.get("statuscode", ""))
    return Record(
        number,
        url.text,
        figures=[Figure(LISTED, 1.0)],
        day=day_of(stamp[:8]),
        status=status,
        mends=url.mends,
    )


def read_har(path: Path, options: ReadOptions) -> Reading:
    """The requests of a HAR recording (HTTP Archive 1.2), with their statuses and days."""
    return Reading(_har_items(path, options))


def _har_items(path: Path, options: ReadOptions) -> Iterator[Item]:
    from upright_ledger.formats.files.text import read_text

    log = _part(_loaded(read_text(path, options.encoding)), "log", {})
    for number, entry in enumerate(_part(log, "entries", []), 1):
        url = _part(_part(entry, "request", {}), "url", "")
        if not url:
            yield Reject(number, "this entry has no request", str(entry)[:500])
            continue
        day = day_of(str(_part(entry, "startedDateTime", ""))[:10])
        status = status_code(str(_part(_part(entry, "response", {}), "status", 0)))
        yield Record(number, url, figures=[Figure(LISTED, 1.0)], day=day, status=status)


def _part(whole: Any, name: str, usual: Any) -> Any:
    """What an object holds under a name, where both are of the kind that the standard says."""
    found = whole.get(name, usual) if isinstance(whole, dict) else usual
    return found if isinstance(found, type(usual)) else usual
