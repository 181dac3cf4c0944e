"""The kind of a file, by its content."""

from __future__ import annotations

import html
import re
from collections.abc import Sequence
from pathlib import Path

from upright_ledger.core.word import Word
from upright_ledger.errors import InputError, NoAddressesError
from upright_ledger.formats.delimiters import (
    BARE_URL,
    FIGURE,
    are_words,
    columns_behind,
    delimiter_of,
    is_bare_list,
)
from upright_ledger.formats.files.compressed import HEAD_BYTES, ZIP, read_head
from upright_ledger.formats.files.documents import is_text_document
from upright_ledger.formats.files.json_text import read_json
from upright_ledger.formats.files.text import guess_encoding, with_line_feeds
from upright_ledger.formats.from_to import are_pairs
from upright_ledger.formats.logs.forms.json_lines import JSON_LINES
from upright_ledger.formats.logs.log_formats import is_log
from upright_ledger.formats.logs.log_line import Likeness, most
from upright_ledger.formats.logs.log_text import is_document, sample_of
from upright_ledger.formats.tables.cells import tells_address
from upright_ledger.formats.tables.column_names import is_heading
from upright_ledger.formats.tables.lines.drawn_tables import is_ruled, parting_of, with_plain_bars
from upright_ledger.formats.tables.lines.markup_rows import are_markup_rows
from upright_ledger.formats.tables.rows.named_rows import are_loose_objects, are_named_rows
from upright_ledger.formats.tables.rows.sql_rows import is_dump


class FileKind(Word):
    """What a file is read as."""

    TEXT = "text"
    TABLE = "table"
    SHEET = "sheet"
    COLUMNS = "columns"
    RECORDS = "records"
    JSON = "json"
    XML = "xml"
    SQL = "sql"
    DATABASE = "database"
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
    FileKind.COLUMNS,
    FileKind.RECORDS,
    FileKind.JSON,
    FileKind.XML,
    FileKind.SQL,
    FileKind.DATABASE,
    FileKind.PAGE_TABLE,
)
"""Kinds that are read as rows of cells."""
_MAGIC = (
    (b"%PDF", "a PDF", "export the list as CSV or text"),
    (b"Rar!", "an archive of several files", "unpack it and gather the folder"),
    (b"7z\xbc\xaf", "an archive of several files", "unpack it and gather the folder"),
)
OLD_WORKBOOK = b"\xd0\xcf\x11\xe0"
"""With which files of Office begin that are older than XLSX."""
IN_COLUMNS = (b"PAR1", b"ARROW1", b"ORC")
"""With which files of columns begin: Parquet, Arrow and ORC."""
DATABASE = b"SQLite format 3\0"
"""With which databases begin that are a file of their own."""
_PROPERTY_LIST = b"bplist00"
_OPEN_SHEET = b"mimetypeapplication/vnd.oasis.opendocument.spreadsheet"
_TABLE_CELL = re.compile(
    r"<td\b[^>]{0,500}>\s*(?:[A-Z]{3,9} (?=[^<\s]*\sHTTP/))?(?:https?://|/)[^<\s]*"
    r"(?:\sHTTP/[\d.]+)?\s*</?t",
    re.IGNORECASE,
)
_CELL = re.compile(r"<t[hd]\b[^>]{0,500}>(.{0,500}?)</t[hd]", re.IGNORECASE | re.DOTALL)
_LONGEST_ROW = 20_000  # characters
_ANY_TAG = re.compile(r"<[^>]{0,500}>")
_LINK = re.compile(r"<a\s[^>]{0,2000}href", re.IGNORECASE)
_CONTROLS = bytes(
    b for b in range(32) if b not in b"\t\n\r\f\x1b"
)  # hardly any of these is in a text
_CDX_LINE = re.compile(r"^\S+ \d{14} (?:https?:|\{)")
_CDX_JSON = re.compile(r'^\[\s*(?:\[\s*)?"urlkey"[^\]\n]*\]\s*,?[^\S\n]*(?:\n|\Z)')
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
_TAG = re.compile(r"<(?!https?:|mailto:)[A-Za-z_!?/]")
"""With which markup begins; lines of logs may begin with arrows, or with a priority (RFC 5424,
section 6.2.1), and those of lists with an address in brackets.
"""
_ENOUGH = 3  # lines by which a doubt is told from a chance


_ROOT_OF_OTHERS = re.compile(
    r"(?:<!--.{0,2000}?-->\s*|<!DOCTYPE\s+(?!html)[^<>]{0,500}>\s*)*+"
    r"<(?!(?:html|head|body|title|meta|link|style|script|base|main|header|footer|nav|section|"
    r"article|aside|h[1-6]|a|p|div|span|table|tbody|tr|ul|ol|li|dl|menu|form|img|picture|figure|"
    r"iframe|center|font|b|i|em|strong|br|hr|pre|blockquote|details|template|noscript|svg)\b|!)"
    r"[A-Za-z_][\w.:-]*[\s>/]",
    re.IGNORECASE | re.DOTALL,
)
"""A document whose outermost element is none of HTML's."""
_OF_PAGES = re.compile(r"<(?:!doctype html|html|head|body|a|p|div|table|ul)\b", re.IGNORECASE)
_JSON_TEXT = re.compile(r'"((?:[^"\\]|\\.)*+)(?:"|\\?\Z)', re.DOTALL)
_BETWEEN_WORDS = re.compile(r"\S(?:\s|\\n)+\S|\]\(")


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
    if head.startswith(IN_COLUMNS) and not guess_encoding(head):
        return FileKind.COLUMNS
    if head.startswith(DATABASE):
        return FileKind.DATABASE
    if head.startswith(ZIP):
        if is_text_document(head):
            raise NoAddressesError(
                f"{path} is a document of a word processor", "save it as text, or as HTML"
            )
        if b"xl/" in head or _OPEN_SHEET in head or b"[Content_Types].xml" in head:
            return FileKind.SHEET
        raise NoAddressesError(f"{path} is a zip archive", "unpack it and gather the folder")
    if head[257:262] == b"ustar":
        raise NoAddressesError(
            f"{path} is an archive of several files", "unpack it and gather the folder"
        )
    if head.startswith(_PROPERTY_LIST):
        return FileKind.JSON  # which says the same
    if head.startswith(b"WARC/"):
        return FileKind.WARC
    encoding = guess_encoding(head)
    odd = len(head) - len(head.translate(None, _CONTROLS))
    if not encoding and odd * 20 > len(head) and odd > head.count(b"\x01") + head.count(b"\x1f"):
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
    if re.search(r"<plist\b[^<>]{0,200}>\s*<", text):
        return FileKind.JSON
    if re.search(r"<(?:rss|(?:\w+:)?feed|rdf:RDF)\b", text):
        return FileKind.FEED
    if text.startswith("<?xml") and not re.search(r"<(?:!doctype )?html\b", text, re.IGNORECASE):
        return FileKind.XML
    if len(_TABLE_CELL.findall(text)) > len(_LINK.findall(text)) or _heads_a_table(text):
        return FileKind.PAGE_TABLE
    if _ROOT_OF_OTHERS.match(text) or not _OF_PAGES.search(text):
        return FileKind.XML
    return FileKind.PAGE


def _heads_a_table(text: str) -> bool:
    """Whether the first row of a page's first table is the heading of a table of addresses."""
    low = text.lower()
    at = low.find("<table")
    start = low.find("<tr", at) if at >= 0 else -1
    row = text[start : start + _LONGEST_ROW].partition("</tr")[0] if start >= 0 else ""
    cells = _CELL.findall(row)
    return is_heading([html.unescape(_ANY_TAG.sub("", cell)).strip() for cell in cells])


def _kind_of_text(text: str, *, whole: bool) -> str:
    lines = [line for line in text.splitlines() if line.strip()]
    if not whole and len(lines) > 1:
        lines.pop()
    sample = lines[:200]
    if re.match(r'\{\s*"log"\s*:\s*\{\s*"(?:version|creator|browser|pages|entries|comment)"', text):
        return FileKind.HAR  # which tells of requests, too: those of somebody who recorded them
    few = [*map(with_plain_bars, sample[:60])]
    if are_markup_rows(lines[:500]) or (is_ruled(few) and parting_of(few)):
        return FileKind.TABLE
    if _are_requests(text, sample, whole=whole):
        return FileKind.ACCESS_LOG
    if _CDX_JSON.match(text) or text.startswith("CDX ") or most(sample, _CDX_LINE.match):
        return FileKind.ARCHIVE_INDEX
    if _JSON.match(text) and (not whole or most(sample[:20], _JSON.match) or _is_json(text)):
        if _has_addresses_amid_words_alone(text):
            return FileKind.TEXT
        return FileKind.RECORDS if are_loose_objects(text) else FileKind.JSON
    if is_rule_file(text):
        return FileKind.RULES
    if is_dump(text):
        return FileKind.SQL
    if re.search(r"^[^\S\n]*user-agent\s*:", text, re.IGNORECASE | re.MULTILINE) and re.search(
        r"^[^\S\n]*(?:disallow|allow|sitemap)\s*:", text, re.IGNORECASE | re.MULTILINE
    ):
        return FileKind.ROBOTS
    if are_pairs(sample):
        return FileKind.RULES
    if are_named_rows(text):
        return FileKind.RECORDS
    delimiter = delimiter_of(few)
    if delimiter and not is_bare_list(few, delimiter) and not are_words(few, delimiter):
        return FileKind.TABLE
    return FileKind.TABLE if parting_of(few) else FileKind.TEXT


def _are_requests(text: str, sample: Sequence[str], *, whole: bool) -> bool:
    """Whether a text is a log. One of JSON is where its objects tell of requests, each by itself:
    rows below the names of their columns are a table of them.
    """
    if is_document(text):
        return is_log(sample_of(text))
    first = text.partition("\n")[0]
    if first[:1] == "[" and _is_json(first):  # a list a line
        return False
    if first[:1] == "{" and first == text.rstrip() and (not whole or _is_json(first)):
        return JSON_LINES.sniff(sample) == Likeness.SURE
    return is_log(sample)


def _has_addresses_amid_words_alone(text: str) -> bool:
    """Whether addresses stand in JSON amid other words, and nowhere by themselves."""
    texts = [told.replace("\\/", "/") for told in _JSON_TEXT.findall(text)]
    amid = any("://" in told and _BETWEEN_WORDS.search(told) for told in texts)
    return amid and not any(map(tells_address, texts))


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


def recognise_surely(path: Path) -> str:
    """The kind of a file. Raises InputError, also for one that may as well be of another kind, with
    what each would read.
    """
    kind = recognise(path)
    if kind == FileKind.TEXT:
        head = read_head(path)
        text = with_line_feeds(head.decode(guess_encoding(head) or "utf-8", "replace"))
        _refuse_doubtful(path, [line.strip() for line in text.splitlines() if line.strip()][:60])
    return kind


def _refuse_doubtful(path: Path, lines: Sequence[str]) -> None:
    """Raises InputError where each address in a list ends in a figure behind a sign that could part
    the two as well.
    """
    if len(lines) < _ENOUGH or not all(map(BARE_URL.match, lines)):
        return
    for delimiter in ",;":
        columns = columns_behind(lines, delimiter)
        if columns and all(all(map(FIGURE.match, cells)) for cells in columns):
            first = lines[0].partition(delimiter)[0]
            raise InputError(
                f"{path} may be a list of addresses or a table: as a list it begins with "
                f"{lines[0][:200]}, as a table with {first[:200]} and a figure",
                f"say which it is: --kind {FileKind.TEXT} or --kind {FileKind.TABLE}",
            )
