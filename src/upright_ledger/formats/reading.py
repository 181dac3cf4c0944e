"""Opening what users hand over: recognising the kind, decoding, and clear words for what cannot be read."""

from __future__ import annotations

import codecs
import csv
import hashlib
import io
import re
from collections.abc import Iterator
from pathlib import Path

from upright_ledger.errors import InputError

HEAD_BYTES = 65536
MAX_LINE = 1 << 20  # characters; longer lines are no list of URLs

TEXT = "text"
TABLE = "table"
SITEMAP = "sitemap"
ACCESS_LOG = "access-log"

_MAGIC = (
    (b"\x1f\x8b", "a gzip archive", "unpack it first"),
    (b"BZh", "a bzip2 archive", "unpack it first"),
    (b"\xfd7zXZ", "an xz archive", "unpack it first"),
    (b"\x28\xb5\x2f\xfd", "a zstd archive", "unpack it first"),
    (b"PK\x03\x04", "a zip archive or a spreadsheet workbook", "save the sheet as CSV"),
    (b"%PDF", "a PDF", "export the list as CSV or text"),
    (b"SQLite format 3", "a database", "export the table as CSV"),
    (b"\xd0\xcf\x11\xe0", "an old workbook", "save the sheet as CSV"),
)
_LOG_START = re.compile(r'^(?:\S+ ){3,4}\[\d{2}/[A-Z][a-z]{2}/\d{4}:[\d:]+ [+-]\d{4}\] "')
_DELIMITERS = ",;\t|"


def read_head(path: Path) -> bytes:
    """The first bytes of a file. Raises InputError when it is missing, unreadable, empty or binary."""
    try:
        if path.is_dir():
            raise InputError(f"{path} is a folder", "name the files in it")
        with path.open("rb") as file:
            head = file.read(HEAD_BYTES)
    except OSError as error:
        raise InputError(
            f"{path} cannot be read: {error.strerror or error}", "check the name and the permissions"
        ) from None
    if not head.strip():
        raise InputError(f"{path} is empty", "export it again, or leave it out")
    for magic, what, remedy in _MAGIC:
        if head.startswith(magic):
            raise InputError(f"{path} is {what}, not a text file", remedy)
    if b"\0" in head and not head.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        raise InputError(f"{path} is binary, not a text file", "export the list as CSV or text")
    return head


def recognise(path: Path) -> str:
    """The kind of a file, by its content."""
    head = read_head(path)
    text = head.decode(_encoding_of(head) or "utf-8", "replace")
    start = text.lstrip("\ufeff \t\r\n")
    if start.startswith("<"):
        if re.search(r"<(?:\w+:)?(?:urlset|sitemapindex)\b", start):
            return SITEMAP
        raise InputError(f"{path} is a page or an XML file that is no sitemap", "export the list as CSV or text")
    lines = [line for line in text.splitlines() if line.strip()]
    if len(head) == HEAD_BYTES and len(lines) > 1:
        lines.pop()
    sample = lines[:200]
    if sum(1 for line in sample if _LOG_START.match(line)) * 2 >= len(sample):
        return ACCESS_LOG
    return TABLE if delimiter_of(sample[:20]) else TEXT


def delimiter_of(lines: list[str]) -> str:
    """The character that splits most lines into the same number of two or more cells, or an empty string."""
    best, most = "", 0
    for delimiter in _DELIMITERS:
        try:
            widths = [len(row) for row in csv.reader(lines, delimiter=delimiter)]
        except csv.Error:
            continue
        width = widths[0] if widths else 0
        alike = sum(1 for w in widths if w == width)
        if width >= 2 and alike * 2 > len(widths) and alike * width > most:
            best, most = delimiter, alike * width
    if best and all(re.match(r"^\s*(?:https?://|/)\S*$", line) for line in lines):
        return ""  # a bare list of URLs that happen to hold commas or semicolons
    return best


def read_text(path: Path, encoding: str = "") -> str:
    """The whole text of a list or table. Raises InputError with the place of a byte that does not fit."""
    head = read_head(path)
    name = encoding or _encoding_of(head) or "utf-8-sig"
    try:
        data = path.read_bytes()
        return data.decode(name)
    except LookupError:
        raise InputError(f"no encoding is called {encoding!r}", "try --encoding utf-8 or --encoding cp1252") from None
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise InputError(
            f"{path} is not in {name.removesuffix('-sig').upper()}: line {line:,} holds the byte 0x{data[error.start]:02X}",
            "save it as UTF-8, or name its encoding, such as --encoding cp1252",
        ) from None
    except OSError as error:
        raise InputError(
            f"{path} cannot be read: {error.strerror or error}", "check the name and the permissions"
        ) from None


def _encoding_of(head: bytes) -> str:
    return "utf-16" if head.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)) else ""


def log_lines(path: Path) -> Iterator[tuple[int, str]]:
    """Numbered lines of a log; bytes that are no UTF-8 are kept as surrogates, over-long lines cut."""
    read_head(path)
    with path.open("rb") as file:
        for number, raw in enumerate(iter(lambda: file.readline(MAX_LINE), b""), 1):
            yield number, raw.decode("utf-8", "surrogateescape").rstrip("\r\n")


def text_lines(text: str) -> Iterator[tuple[int, str]]:
    """Numbered lines of a text."""
    for number, line in enumerate(io.StringIO(text), 1):
        yield number, line.rstrip("\r\n")


def digest_of(path: Path) -> tuple[str, int]:
    """SHA-256 and size in bytes of a file's content."""
    state, size = hashlib.sha256(), 0
    try:
        with path.open("rb") as file:
            while chunk := file.read(1 << 20):
                state.update(chunk)
                size += len(chunk)
    except OSError as error:
        raise InputError(
            f"{path} cannot be read: {error.strerror or error}", "check the name and the permissions"
        ) from None
    return state.hexdigest(), size
