"""Documents of word processors: addresses in text, behind words, in fields and in tables."""

from __future__ import annotations

import io
import zipfile

OLD = "http://www.quillhaven.example"
_NAMES = (
    'xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main" '
    'xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"'
)
_OPEN = (
    'xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" '
    'xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" '
    'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" '
    'xmlns:xlink="http://www.w3.org/1999/xlink"'
)


def packed(**files: str) -> bytes:
    """A ZIP archive of these files."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, told in files.items():
            archive.writestr(name, told)
    return out.getvalue()


def _paragraph(*runs: str) -> str:
    return f"<w:p>{''.join(runs)}</w:p>"


def _run(text: str) -> str:
    return f"<w:r><w:t>{text}</w:t></w:r>"


def _row(*cells: str) -> str:
    return f"<w:tr>{''.join(f'<w:tc>{_paragraph(_run(c))}</w:tc>' for c in cells)}</w:tr>"


def document(body: str, links: str = "") -> bytes:
    """A document with a body."""
    return packed(
        **{
            "[Content_Types].xml": "<Types/>",
            "word/document.xml": f"<w:document {_NAMES}><w:body>{body}</w:body></w:document>",
            "word/_rels/document.xml.rels": f"<Relationships>{links}</Relationships>",
        }
    )


def text_document() -> bytes:
    """In two runs, behind words, and in a field."""
    return document(
        _paragraph(_run("Pages to keep"))
        + _paragraph(_run(OLD), _run("/visit/room.html"))
        + _paragraph(_run("See "), f'<w:hyperlink r:id="r1">{_run("it")}</w:hyperlink>', _run("!"))
        + _paragraph(f'<w:r><w:instrText> HYPERLINK "{OLD}/guide/tide?id=7" </w:instrText></w:r>',
            _run("tide")),
        f'<Relationship Id="r1" Target="{OLD}/shop/bell-tower" TargetMode="External"/>',
    )  # fmt: skip


def table_document() -> bytes:
    """A table with figures."""
    rows = [("/visit/room.html", "1"), ("/shop/bell-tower", "2"), ("/guide/tide?id=7", "3")]
    told = "".join(_row(OLD + page, count) for page, count in rows)
    return document(f"<w:tbl>{_row('Page', 'Hits')}{told}</w:tbl>")


def open_document() -> bytes:
    """The same in the open format: a list, a link, a table whose links stand behind words."""

    def cell(text: str) -> str:
        return f"<table:table-cell><text:p>{text}</text:p></table:table-cell>"

    def link(page: str) -> str:
        return f'<text:a xlink:href="{OLD}{page}">a <text:span>page</text:span></text:a>'

    rows = [("/visit/room.html", 1), ("/shop/bell-tower", 2), ("/guide/tide?id=7", 3)]
    told = [("Page", "Hits"), *((link(page), str(n)) for page, n in rows)]
    table = "".join(f"<table:table-row>{cell(a)}{cell(b)}</table:table-row>" for a, b in told)
    content = (
        f"<office:document-content {_OPEN}><office:body><office:text><text:h>Pages</text:h>"
        f"<table:table>{table}</table:table></office:text></office:body></office:document-content>"
    )
    return packed(**{"mimetype": "application/vnd.oasis.opendocument.text", "content.xml": content})
