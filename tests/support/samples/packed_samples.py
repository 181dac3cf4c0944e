"""Files that hold files, and workbooks: packed, mailed, archived."""

from __future__ import annotations

import base64
import gzip
import io
import quopri
import tarfile
from collections.abc import Callable
from typing import Any

import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq

from document_samples import open_document, packed, table_document, text_document

OLD = "http://www.quillhaven.example"
PATHS = ("/visit/room.html", "/shop/bell-tower", "/guide/tide?id=7")
PAGES = [OLD + path for path in PATHS]
COUNTED = {path: float(n) for n, path in enumerate(PATHS, 1)}
LISTED: dict[str, None] = dict.fromkeys(PATHS)
EXPORT = "url,hits\n" + "".join(f"{u},{n}\n" for n, u in enumerate(PAGES, 1))
LONG = "/a-long-path/" + "that-goes-on-" * 8 + "to-its-end"
HEAD = "From: a@fern.example\nTo: b@quillhaven.example\nSubject: pages\nMIME-Version: 1.0\n"
QUOTED = "Content-Transfer-Encoding: quoted-printable\n\n"


def book(fill: Callable[[Any], None]) -> bytes:
    made, out = openpyxl.Workbook(), io.BytesIO()
    fill(made)
    made.save(out)
    return out.getvalue()


def plain(made: Any) -> None:
    made.active.append(["url", "hits"])
    for n, page in enumerate(PAGES, 1):
        made.active.append([page, n])


def linked(made: Any) -> None:
    made.active.append(["Page", "Hits"])
    for n, page in enumerate(PAGES, 1):
        made.active.append([f"Page {n}", n])
        made.active.cell(n + 1, 1).hyperlink = page


def by_formula(made: Any) -> None:
    made.active.append(["Page", "Hits"])
    for n, page in enumerate(PAGES, 1):
        made.active.append([f'=HYPERLINK("{page}","Page {n}")', n])


def second(made: Any) -> None:
    made.active.append(["Made for you"])
    sheet = made.create_sheet("Data")
    sheet.append(["url", "hits"])
    for n, page in enumerate(PAGES, 1):
        sheet.append([page, n])


def hidden(made: Any) -> None:
    plain(made)
    sheet = made.create_sheet("Old", 0)
    sheet.sheet_state = "hidden"
    for n in range(9):
        sheet.append([f"{OLD}/gone-{n}", 1])


def open_sheet() -> bytes:
    told = [("url", "hits"), *((page, str(n)) for n, page in enumerate(PAGES, 1))]
    cell = '<table:table-cell office:value-type="string"><text:p>{}</text:p></table:table-cell>'
    rows = "".join(
        f"<table:table-row>{''.join(map(cell.format, row))}</table:table-row>" for row in told
    )
    spaces = " ".join(
        f'xmlns:{name}="urn:oasis:names:tc:opendocument:xmlns:{name}:1.0"'
        for name in ("office", "table", "text")
    )
    content = (
        f'<?xml version="1.0"?><office:document-content {spaces}><office:body><office:spreadsheet>'
        f'<table:table table:name="Data">{rows}</table:table>'
        "</office:spreadsheet></office:body></office:document-content>"
    )
    return packed(
        mimetype="application/vnd.oasis.opendocument.spreadsheet",
        **{"META-INF/manifest.xml": "<manifest/>", "content.xml": content},
    )


def in_columns(*, parquet: bool) -> bytes:
    figures, out = [{"hits": n} for n in COUNTED.values()], io.BytesIO()
    made = pa.table({"url": PAGES, "figures": figures})
    if parquet:
        pq.write_table(made, out)
    else:
        with pa.ipc.new_file(out, made.schema) as writer:
            writer.write_table(made)
    return out.getvalue()


def taped(mode: str) -> bytes:
    out, data = io.BytesIO(), EXPORT.encode()
    with tarfile.open(fileobj=out, mode=mode) as archive:  # type: ignore[call-overload]
        info = tarfile.TarInfo("export.csv")
        info.size = len(data)
        archive.addfile(info, io.BytesIO(data))
    return out.getvalue()


def answers(*pages: str, around: str = "{}") -> bytes:
    """A web archive of these pages."""
    out = b""
    for n, page in enumerate(pages):
        body = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n\r\n<a href='/other'>x</a>"
        head = (
            f"WARC/1.0\r\nWARC-Type: response\r\nWARC-Target-URI: {around.format(page)}\r\n"
            f"WARC-Date: 2026-05-01T10:00:00Z\r\nWARC-Record-ID: <urn:uuid:{n:032}>\r\n"
            "Content-Type: application/http; msgtype=response\r\n"
            f"Content-Length: {len(body)}\r\n\r\n"
        )
        out += head.encode() + body + b"\r\n\r\n"
    return out


LETTER = "".join(f"{page}\n" for page in [*PAGES[:2], OLD + LONG])
MAIL = (
    HEAD
    + "Content-Type: text/plain; charset=utf-8\n"
    + QUOTED
    + (quopri.encodestring(LETTER.encode()).decode())
)
WITH_EXPORT = (
    f"{HEAD}Content-Type: multipart/mixed; boundary=XX\n\n--XX\nContent-Type: text/plain\n\n"
    "see the file\n--XX\nContent-Type: text/csv\nContent-Disposition: attachment; filename=e.csv\n"
    f"Content-Transfer-Encoding: base64\n\n{base64.encodebytes(EXPORT.encode()).decode()}--XX--\n"
)
IN_TWO_FORMS = (
    f"{HEAD}Content-Type: multipart/alternative; boundary=XX\n\n--XX\nContent-Type: text/plain\n\n"
    "see the links\n--XX\nContent-Type: text/html\n\n<html>"
    + "".join(f"<a href='{page}'>x</a>" for page in PAGES)
    + "</html>\n--XX--\n"
)
LINKS = "<html>" + "".join(f'<a href="{page}">x</a>\n' for page in PAGES) + "</html>"
SAVED = (
    f"From: <Saved>\nSnapshot-Content-Location: {OLD}/saved\nSubject: x\nMIME-Version: 1.0\n"
    'Content-Type: multipart/related; type="text/html"; boundary="B"\n\n--B\n'
    f"Content-Type: text/html\n{QUOTED}{quopri.encodestring(LINKS.encode()).decode()}\n--B--\n"
)

Told = dict[str, float] | dict[str, None]
PACKED: dict[str, tuple[str, bytes, Told]] = {
    "a workbook": ("a.xlsx", book(plain), COUNTED),
    "links behind words": ("a.xlsx", book(linked), COUNTED),
    "links by formulas": ("a.xlsx", book(by_formula), COUNTED),
    "a second sheet": ("a.xlsx", book(second), COUNTED),
    "a hidden sheet": ("a.xlsx", book(hidden), COUNTED),
    "a document": ("a.docx", text_document(), LISTED),
    "a document with a table": ("a.docx", table_document(), COUNTED),
    "an open document": ("a.odt", open_document(), COUNTED),
    "an open workbook": ("a.ods", open_sheet(), COUNTED),
    "Parquet": ("a.parquet", in_columns(parquet=True), COUNTED),
    "Arrow": ("a.arrow", in_columns(parquet=False), COUNTED),
    "zip": ("a.zip", packed(**{"export.csv": EXPORT}), COUNTED),
    "zip of many": (
        "a.zip",
        packed(**{"Queries.csv": "query,clicks\ntide,4\n", "d/Pages.csv": EXPORT, "a.bin": "\0\1"}),
        COUNTED,
    ),
    "tar": ("a.tar", taped("w"), COUNTED),
    "tar, compressed": ("a.tar.gz", taped("w:gz"), COUNTED),
    "gzip": ("a.csv.gz", gzip.compress(EXPORT.encode()), COUNTED),
    "a mail": ("a.eml", MAIL.encode(), dict.fromkeys([*PATHS[:2], LONG])),
    "a mail with an export": ("a.eml", WITH_EXPORT.encode(), COUNTED),
    "a mail in two forms": ("a.eml", IN_TWO_FORMS.encode(), LISTED),
    "a mail, lines of the network": ("a.eml", MAIL.replace("\n", "\r\n").encode(),
        dict.fromkeys([*PATHS[:2], LONG])),
    "a saved page": ("a.mhtml", SAVED.encode(), LISTED),
    "a web archive": ("a.warc", answers(*PAGES), LISTED),
    "a web archive, record by record": (
        "a.warc.gz", b"".join(gzip.compress(answers(page)) for page in PAGES), LISTED),
    "a web archive, its addresses in brackets": ("a.warc", answers(*PAGES, around="<{}>"), LISTED),
}  # fmt: skip
