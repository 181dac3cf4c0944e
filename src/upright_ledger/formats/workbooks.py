"""Writing workbooks: one sheet that people sort, filter and fill in."""

from __future__ import annotations

import io
from collections.abc import Iterable, Mapping, Sequence

MOST_LINKS = 60_000
"""A sheet holds no more links than some 65,000; further addresses are plain text."""

_LONGEST_LINK = 2000
_WIDTHS = {
    "legacy_url": 60,
    "destination": 60,
    "choice_2": 40,
    "choice_3": 40,
    "reason": 50,
    "note": 30,
    "section": 14,
    "site": 22,
}


def workbook_bytes(
    header: Sequence[str],
    rows: Iterable[Sequence[object]],
    *,
    links: Sequence[str] = (),
    shares: Sequence[str] = (),
    choices: Mapping[str, Sequence[str]] | None = None,
) -> bytes:
    """A workbook (Office Open XML) of one sheet, its header frozen and with filters.

    links: columns of addresses to click on. shares: columns of figures from 0 to 1, coloured by size. choices: column →
    the values it may take. No text is ever run as a formula.
    """
    import xlsxwriter

    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    sheet = book.add_worksheet("review")
    bold = book.add_format({"bold": True, "bottom": 1})
    link = book.add_format({"font_color": "#1F4E79", "underline": 1})
    sheet.write_row(0, 0, header, bold)
    last, linked = 0, 0
    for last, row in enumerate(rows, 1):
        for column, (name, value) in enumerate(zip(header, row, strict=True)):
            if value is None or value == "":
                continue
            if isinstance(value, str):
                if (
                    name in links
                    and linked < MOST_LINKS
                    and value.startswith(("http://", "https://"))
                    and len(value) < _LONGEST_LINK
                ):
                    sheet.write_url(last, column, value, link, value)
                    linked += 1
                else:
                    sheet.write_string(last, column, value[:32_000])
            else:
                sheet.write(last, column, value)
    sheet.freeze_panes(1, 0)
    sheet.autofilter(0, 0, max(last, 1), len(header) - 1)
    for column, name in enumerate(header):
        sheet.set_column(column, column, _WIDTHS.get(name, 11))
        if name in shares and last:
            scale = {"type": "2_color_scale", "min_type": "num", "max_type": "num", "min_value": 0, "max_value": 1}
            sheet.conditional_format(1, column, last, column, {**scale, "min_color": "#FFFFFF", "max_color": "#9DC3B5"})
        if choices and name in choices and last:
            rule = {"validate": "list", "source": list(choices[name]), "error_title": f"No {name}"}
            sheet.data_validation(
                1, column, last, column, {**rule, "error_message": f"One of: {', '.join(choices[name])}"}
            )
    book.close()
    return out.getvalue()
