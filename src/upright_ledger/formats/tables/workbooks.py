"""Writing workbooks: sheets that people sort, filter and fill in."""

from __future__ import annotations

import io
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

MOST_LINKS = 60_000
"""A sheet holds no more links than some 65,000; further addresses are plain text."""

_LONGEST_LINK = 2000
_WIDTHS = {
    "legacy_url": 60,
    "destination": 60,
    "choice_2": 40,
    "choice_3": 40,
    "reason": 50,
    "title": 40,
    "new_title": 40,
    "note": 30,
    "section": 14,
    "site": 22,
    "url": 60,
    "trace": 60,
    "location": 60,
    "final_url": 60,
    "expected": 60,
    "verdict": 18,
    "verdicts": 24,
    "detail": 40,
    "mend": 60,
    "cache": 40,
}


MOST_ROWS = 1_048_575
"""A sheet holds no more, besides its header."""

_SEVERITIES = (
    "#F4C7B5",
    "#FBE7C9",
    "#FFFFFF",
)  # one scale: what is grave, what is doubtful, what is well


@dataclass(frozen=True)
class Sheet:
    """One sheet: its name, header and rows.

    links: columns of addresses to click on. shares: columns of figures from 0 to 1, coloured by
    size. choices: column → the values it may take. severity: the column by which rows are coloured,
    and the rank of its values: 0 grave, 1 doubtful, 2 well.
    """

    name: str
    header: Sequence[str]
    rows: Iterable[Sequence[object]]
    links: Sequence[str] = ()
    shares: Sequence[str] = ()
    choices: Mapping[str, Sequence[str]] = field(default_factory=dict)
    severity: tuple[str, Mapping[Any, int]] = ("", {})


def workbook_bytes(*sheets: Sheet) -> bytes:
    """A workbook (Office Open XML), the header of each sheet frozen and with filters. No text is
    ever run as a formula.
    """
    import xlsxwriter

    out = io.BytesIO()
    book = xlsxwriter.Workbook(
        out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False}
    )
    for sheet in sheets:
        _write_sheet(book, sheet)
    book.close()
    return out.getvalue()


def _write_sheet(book: Any, content: Sheet) -> None:
    sheet = book.add_worksheet(content.name)
    bold = book.add_format({"bold": True, "bottom": 1})
    link = book.add_format({"font_color": "#1F4E79", "underline": 1})
    shades = [book.add_format({"bg_color": colour}) for colour in _SEVERITIES]
    header = content.header
    sheet.write_row(0, 0, header, bold)
    judged = header.index(content.severity[0]) if content.severity[0] else -1
    last, linked = 0, 0
    for last, row in enumerate(islice(content.rows, MOST_ROWS), 1):
        for column, (name, value) in enumerate(zip(header, row, strict=True)):
            if value is None or value == "":
                continue
            if isinstance(value, str):
                if (
                    name in content.links
                    and linked < MOST_LINKS
                    and value.startswith(("http://", "https://"))
                    and len(value) < _LONGEST_LINK
                ):
                    sheet.write_url(last, column, value, link, value)
                    linked += 1
                elif column == judged:
                    sheet.write_string(
                        last, column, value, shades[content.severity[1].get(value, 2)]
                    )
                else:
                    sheet.write_string(last, column, value[:32_000])
            else:
                sheet.write(last, column, value)
    sheet.freeze_panes(1, 0)
    sheet.autofilter(0, 0, max(last, 1), len(header) - 1)
    for column, name in enumerate(header):
        sheet.set_column(column, column, _WIDTHS.get(name, 11))
        if name in content.shares and last:
            scale = {
                "type": "2_color_scale",
                "min_type": "num",
                "max_type": "num",
                "min_value": 0,
                "max_value": 1,
            }
            sheet.conditional_format(
                1, column, last, column, {**scale, "min_color": "#FFFFFF", "max_color": "#9DC3B5"}
            )
        if name in content.choices and last:
            choices = content.choices[name]
            rule = {"validate": "list", "source": list(choices), "error_title": f"No {name}"}
            sheet.data_validation(
                1, column, last, column, {**rule, "error_message": f"One of: {', '.join(choices)}"}
            )
