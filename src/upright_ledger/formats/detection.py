"""The kind of a file, by its content."""

from __future__ import annotations

import csv
import re
from collections import Counter
from pathlib import Path

from upright_ledger.core.word import Word
from upright_ledger.errors import NoAddressesError
from upright_ledger.formats.files.compressed import HEAD_BYTES, read_head
from upright_ledger.formats.files.json_text import read_json
from upright_ledger.formats.files.text import guess_encoding, with_line_feeds
from upright_ledger.formats.logs.log_formats import is_log
from upright_ledger.formats.logs.log_line import most
from upright_ledger.formats.logs.log_text import is_document, sample_of
from upright_ledger.formats.tables.cells import looks_like_address
from upright_ledger.formats.tables.rows.drawn_tables import gap_between_cells, is_drawn
from upright_ledger.formats.tables.rows.sql_rows import is_dump


class FileKind(Word):
    """What a file is read as."""

    TEXT = "text"
    TABLE = "table"
    SHEET = "sheet"
    JSON = "json"
    XML = "xml"
    SQL = "sql"
    WARC = "warc"
    SITEMAP = "sitemap"
    FEED = "feed"
    ROBOTS = "robots"
    PAGE = "page"
    PAGE_TABLE = "page-table"
    ACCESS_LOG = "access-log"
    ARCHIVE_INDEX = "archive-index"
    HAR = "har"
    RULES = "rules"


OF_ROWS = (
    FileKind.TABLE,
    FileKind.SHEET,
    FileKind.JSON,
    FileKind.XML,
    FileKind.SQL,
    FileKind.PAGE_TABLE,
)
"""Kinds that are read as rows of cells."""
_MAGIC = (
    (b"%PDF", "a PDF", "export the list as CSV or text"),
    (b"SQLite format 3", "a database", "export the table as CSV"),
    (b"Rar!", "an archive of several files", "unpack it and gather the folder"),
    (b"7z\xbc\xaf", "an archive of several files", "unpack it and gather the folder"),
)
OLD_WORKBOOK = b"\xd0\xcf\x11\xe0"
"""With which files of Office begin that are older than XLSX."""
_OPEN_SHEET = b"mimetypeapplication/vnd.oasis.opendocument.spreadsheet"
_TABLE_CELL = re.compile(r"<td\b[^>]{0,500}>\s*(?:https?://|/)[^<\s]*\s*</?t", re.IGNORECASE)
_LINK = re.compile(r"<a\s[^>]{0,2000}href", re.IGNORECASE)
_CONTROLS = bytes(
    b for b in range(32) if b not in b"\t\n\r\f\x1b"
)  # hardly any of these is in a text
_CDX_LINE = re.compile(r"^\S+ \d{14} (?:https?:|\{)")
_CDX_JSON = re.compile(r'^\[\s*\[\s*"urlkey"|^\[\s*"urlkey"')
_JSON = re.compile(r'\s*(?:\[\s*(?:\[\s*["\[{\d-]|[{"\]]|$)|\{\s*(?:["}]|$))')
_APACHE_RULE = re.compile(
    r"^[^\S\n]*(?:Redirect(?:Match|Permanent|Temp)?\s+(?:\d{3}\s+|permanent\s+|temp\s+|"
    r"gone\s+)?[\"']?[/^]|Rewrite(?:Engine\s+o|Rule\s+\S+\s+\S|Cond\s+%))",
    re.MULTILINE | re.IGNORECASE,
)
_NGINX_RULE = re.compile(
    r"^[^\S\n]*(?:(?:server|location\s[^\n{]*|map\s+\$\w+\s+\$\w+)\s*\{|rewrite\s+\S+\s+\S[^\n]*;|"
    r"return\s+30[12378]\s+\S+;)",
    re.MULTILINE,
)
CADDY_RULE = re.compile(
    r"^[^\S\n]*redir[^\S\n]+(?P<old>\S+)(?:[^\S\n]+(?P<new>[^\s{]+))?"
    r"(?:[^\S\n]+(?P<code>permanent|temporary|html|\d{3}))?[^\S\n]*$",
    re.MULTILINE,
)
"""A redirect in a Caddyfile."""
_TAG = re.compile(r"<[A-Za-z_!?/]")
"""With which markup begins; lines of logs may begin with arrows, or with a priority (RFC 5424,
section 6.2.1).
"""
_PLACE = r"(?:https?://[^\s/;]+|/)[^\s;]*"
FROM_TO = re.compile(
    rf"\s*(?:(?P<first>30[12378])[ \t]+)?(?P<old>{_PLACE})[ \t]+"
    r"(?P<how>(?:-+>|=+>|\u2192|\u21d2)[ \t]*|)"
    rf"(?P<new>{_PLACE})(?:[ \t]+(?P<status>30[12378]|permanent|temporary))?[ \t]*;?\s*\Z",
    re.IGNORECASE,
)
"""An old address and where it goes, with or without an arrow or a status."""
_DELIMITERS = ",;\t|"
MAX_COLUMNS = 1000
"""Of a table: exports have some hundreds at most, and a line of more is prose, or made to be
slow.
"""
_BARE_URL = re.compile(r"^\s*(?:https?://|/)\S*$")


def recognise(path: Path) -> str:
    """The kind of a file. Raises InputError when it is missing or unreadable, NoAddressesError when
    it is of a kind that holds no URLs.
    """
    head = read_head(path)
    for magic, what, remedy in _MAGIC:
        if head.startswith(magic):
            raise NoAddressesError(f"{path} is {what}, not a text file", remedy)
    if head.startswith(OLD_WORKBOOK):
        return FileKind.SHEET
    if head.startswith(b"PK\x03\x04"):
        if b"xl/" in head or _OPEN_SHEET in head or b"[Content_Types].xml" in head:
            return FileKind.SHEET
        raise NoAddressesError(f"{path} is a zip archive", "unpack it and gather the folder")
    if head[257:262] == b"ustar":
        raise NoAddressesError(
            f"{path} is an archive of several files", "unpack it and gather the folder"
        )
    if head.startswith(b"WARC/"):
        return FileKind.WARC
    encoding = guess_encoding(head)
    if not encoding and len(head.translate(None, _CONTROLS)) * 20 < len(head) * 19:
        raise NoAddressesError(
            f"{path} is binary, not a text file", "export the list as CSV or text"
        )
    text = with_line_feeds(head.decode(encoding or "utf-8", "replace")).lstrip("\ufeff \t\n")
    if not _TAG.match(text) or text.startswith("<?php"):
        return _kind_of_text(text, whole=len(head) < HEAD_BYTES)
    return FileKind.RULES if is_rule_file(text) else _markup(text)


def _markup(text: str) -> str:
    if re.search(r"<(?:\w+:)?(?:urlset|sitemapindex)\b", text):
        return FileKind.SITEMAP
    if re.search(r"<(?:rss|(?:\w+:)?feed|rdf:RDF)\b", text):
        return FileKind.FEED
    if text.startswith("<?xml") and not re.search(r"<(?:!doctype )?html\b", text, re.IGNORECASE):
        return FileKind.XML
    if len(_TABLE_CELL.findall(text)) > len(_LINK.findall(text)):
        return FileKind.PAGE_TABLE
    if re.search(r"<(?:!doctype html|html|head|body|a|p|div|table|ul)\b", text, re.IGNORECASE):
        return FileKind.PAGE
    return FileKind.XML


def _kind_of_text(text: str, *, whole: bool) -> str:
    lines = [line for line in text.splitlines() if line.strip()]
    if not whole and len(lines) > 1:
        lines.pop()
    sample = lines[:200]
    if is_log(sample_of(text) if is_document(text) else sample):
        return FileKind.ACCESS_LOG
    if _CDX_JSON.match(text) or text.startswith("CDX ") or most(sample, _CDX_LINE.match):
        return FileKind.ARCHIVE_INDEX
    if text.startswith("{") and re.match(r'\{\s*"log"\s*:\s*\{', text):
        return FileKind.HAR
    if _JSON.match(text) and (not whole or most(sample[:20], _JSON.match) or _is_json(text)):
        return FileKind.JSON
    if is_rule_file(text):
        return FileKind.RULES
    if is_dump(text):
        return FileKind.SQL
    if re.search(r"^[^\S\n]*user-agent\s*:", text, re.IGNORECASE | re.MULTILINE) and re.search(
        r"^[^\S\n]*(?:disallow|allow|sitemap)\s*:", text, re.IGNORECASE | re.MULTILINE
    ):
        return FileKind.ROBOTS
    if _are_pairs(sample):
        return FileKind.RULES
    few = sample[:60]
    delimiter = delimiter_of(few)
    if delimiter and not _are_words(few, delimiter):
        return FileKind.TABLE
    return FileKind.TABLE if gap_between_cells(few) else FileKind.TEXT


def _is_json(text: str) -> bool:
    try:
        read_json(text)
    except ValueError:
        return False
    return True


def is_rule_file(text: str) -> bool:
    """Whether a text holds redirect rules of Apache, nginx or Caddy, by words that hardly stand so
    anywhere else.
    """
    found = _APACHE_RULE.search(text) or _NGINX_RULE.search(text) or CADDY_RULE.search(text)
    return found is not None


def _are_words(lines: list[str], delimiter: str) -> bool:
    """Whether lines are words with addresses amid them, or addresses in one line, rather than
    cells.
    """
    cells = [cell.strip() for row in csv.reader(lines, delimiter=delimiter) for cell in row]
    if len(lines) == 1 and all(map(looks_like_address, filter(None, cells))):
        return True
    return not any(map(looks_like_address, cells)) and any("://" in line for line in lines)


def _are_pairs(lines: list[str]) -> bool:
    """Whether nearly every line is an old path and where it goes now: another path, or a page of
    one of two hosts at most. Pages that link to a path are of many.
    """
    told = [line for line in lines if not line.lstrip().startswith(("#", ";"))]
    found = [match for line in told if (match := FROM_TO.match(line))]
    if not found or len(found) < 0.9 * len(told):
        return False
    hosts = {m["new"].split("/")[2] for m in found if "://" in m["new"]}
    return len(hosts) <= 2 and all(m["old"].startswith("/") or m["how"] for m in found)


def _is_punctuation(delimiter: str, lines: list[str]) -> bool:
    """Whether a sign stands before a blank or a line's end, as in sentences, rather than between
    cells.
    """
    marks = sum(line.count(delimiter) for line in lines)
    loose = sum(line.count(f"{delimiter} ") + line.endswith(delimiter) for line in lines)
    return delimiter in ",;" and loose * 2 > marks


def _widths(lines: list[str], delimiter: str) -> Counter[int]:
    """Cells of a row → in how many lines; a cell may go on over several."""
    found: Counter[int] = Counter()
    reader, before = csv.reader(lines, delimiter=delimiter), 0
    for row in reader:
        found[len(row)] += reader.line_num - before
        before = reader.line_num
    return found


def delimiter_of(lines: list[str]) -> str:
    """The character that splits most lines into the same number of two or more cells, or an empty
    string.

    Words above a table and totals below it may be of other widths.
    """
    best, most = "", 0
    lines = [line for line in lines if not line.startswith("#") and not is_drawn(line)]
    for delimiter in _DELIMITERS:
        if _is_punctuation(delimiter, lines):
            continue
        try:
            widths = _widths(lines, delimiter)
        except csv.Error:
            continue
        width, alike = max(
            ((w, n) for w, n in widths.items() if 2 <= w <= MAX_COLUMNS),
            key=lambda x: x[1],
            default=(0, 0),
        )
        if alike * 2 > len(lines) and alike * width > most:
            best, most = delimiter, alike * width
    if best and all(_BARE_URL.match(line) for line in lines):
        pairs = sum(line.count("://") > 1 for line in lines)
        if pairs * 2 < len(lines):
            return ""  # a bare list of URLs that happen to hold commas or semicolons
    return best
