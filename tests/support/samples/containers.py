"""A table, written as other programs write tables: the rows are lists of texts, the first one is
the heading.
"""

from __future__ import annotations

import csv
import html
import io
import json
import re
import sqlite3
import tempfile
import unicodedata
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa
import xlsxwriter
from pyarrow import feather, orc, parquet

Rows = Sequence[Sequence[str]]


def value(cell: str) -> str | int:
    return int(cell) if re.fullmatch(r"0|[1-9]\d{0,14}", cell) else cell


def objects(rows: Rows) -> list[dict[str, str | int]]:
    return [dict(zip(rows[0], map(value, row), strict=True)) for row in rows[1:]]


def dumped(told: Any) -> str:
    return json.dumps(told, ensure_ascii=False)


def delimited(sign: str, **how: Any) -> Callable[[Rows], str]:
    def write(rows: Rows) -> str:
        out = io.StringIO()
        csv.writer(out, delimiter=sign, lineterminator="\n", **how).writerows(rows)
        return out.getvalue()

    return write


def wide(text: str) -> int:
    return sum(1 + (unicodedata.east_asian_width(c) in "WF") for c in text)


def padded(rows: Rows) -> tuple[list[list[str]], list[int]]:
    """Rows with blanks behind each cell, and how wide the columns are."""
    widths = [max(map(wide, column)) for column in zip(*rows, strict=True)]
    return [[c + " " * (w - wide(c)) for c, w in zip(r, widths, strict=True)] for r in rows], widths


def apart(rows: Rows, rule: str = "", *, around: bool = False) -> str:
    """Columns that blanks keep apart, perhaps with rules over them."""
    told, widths = padded(rows)
    lines = ["  ".join(cells).rstrip() for cells in told]
    ruled = ["  ".join(rule * w for w in widths)] if rule else []
    first = ruled if around else []
    return "\n".join([*first, lines[0], *ruled, *lines[1:], *first]) + "\n"


def boxed(rows: Rows, bar: str, head: str, between: str = "") -> str:
    """Cells in a box: `head` is drawn around the heading, `between` below each other row."""
    told, widths = padded(rows)
    rules = {sign: head[0] + head[0].join(sign * (w + 2) for w in widths) + head[0] for sign in
             {head[1], between or head[1]}}  # fmt: skip
    lines = [bar + bar.join(f" {cell} " for cell in row) + bar for row in told]
    body = "\n".join(f"{line}\n{rules[between]}" if between else line for line in lines[1:])
    return f"{rules[between or head[1]]}\n{lines[0]}\n{rules[head[1]]}\n{body}\n" + (
        "" if between else rules[head[1]] + "\n"
    )


def named(form: str, before: str, quote: Callable[[str], str] = str) -> Callable[[Rows], str]:
    """A record a row, of lines with a name and its value; {n} is its number."""

    def write(rows: Rows) -> str:
        return "\n".join(
            before.format(n=n) + "".join(form.format(n=h, v=quote(c)) + "\n" for h, c in zip(
                rows[0], row, strict=True))
            for n, row in enumerate(rows[1:], 1)
        )  # fmt: skip

    return write


def yaml(rows: Rows) -> str:
    return "---\npages:\n" + "".join(
        "  - " + "\n    ".join(f"{dumped(h)}: {dumped(v)}" for h, v in row.items()) + "\n"
        for row in objects(rows)
    )


def pairs(sign: str, between: str, quote: Callable[[str], str]) -> Callable[[Rows], str]:
    """A line a row that names each of its values."""

    def write(rows: Rows) -> str:
        told = [zip(rows[0], row, strict=True) for row in rows[1:]]
        return "".join(between.join(f"{h}{sign}{quote(c)}" for h, c in row) + "\n" for row in told)

    return write


def word(cell: str) -> str:
    return '"' + cell.replace('"', '\\"') + '"' if re.search(r"[\s\"=]|\A\Z", cell) else cell


def between(head: tuple[str, str, str], body: tuple[str, str, str], frame: tuple[str, str],
            cell: Callable[[str], str] = str) -> Callable[[Rows], str]:  # fmt: skip
    """Rows between signs: before, between and behind cells."""

    def write(rows: Rows) -> str:
        lines = [
            before + sign.join(map(cell, row)) + behind
            for row, (before, sign, behind) in zip(rows, (head, *[body] * len(rows)), strict=False)
        ]
        return frame[0] + "\n".join(lines) + frame[1]

    return write


def linked(form: str, write: Callable[[Rows], str]) -> Callable[[Rows], str]:
    """Addresses as links with words."""

    def cell(text: str) -> str:
        return form.format(text) if text.startswith("http") else text

    return lambda rows: write([[cell(c) for c in row] for row in rows])


def escaped_for_latex(cell: str) -> str:
    return re.sub(r"([&%$#_{}])", r"\\\1", cell)


def marked(row: str, cell: str, around: tuple[str, str]) -> Callable[[Rows], str]:
    """Elements: {r} what is in a row, {n} a name, {v} a value, of XML or HTML."""

    def write(rows: Rows) -> str:
        named = [zip(rows[0], told, strict=True) for told in rows[1:]]
        return around[0] + "".join(
            row.format(r="".join(cell.format(
                n=html.escape(n), t=re.sub(r"\W+", "_", n), v=html.escape(v)) for n, v in told))
            for told in named) + around[1]  # fmt: skip

    return write


def with_heading(rows: Rows) -> Rows:
    """The heading as a row of its own, too."""
    return [rows[0], *rows]


def of_html(rows: Rows) -> str:
    table = marked("<tr>{r}</tr>\n", "<td>{v}</td>", ("<table>", "</table>"))
    return f"<!DOCTYPE html><html><h1>Report</h1>{table(with_heading(rows))}</html>"


def of_open_sheet(rows: Rows) -> str:
    names = "office:1.0", "table:1.0", "text:1.0"
    spaces = " ".join(
        f'xmlns:{n.partition(":")[0]}="urn:oasis:names:tc:opendocument:xmlns:{n}"' for n in names
    )
    kind = "application/vnd.oasis.opendocument.spreadsheet"
    head = f'<?xml version="1.0"?><office:document {spaces} office:mimetype="{kind}"><table:table>'
    cell = (
        '<table:table-cell table:number-columns-repeated="1"><text:p>{v}</text:p>'
        "</table:table-cell>"
    )
    write = marked("<table:table-row>{r}</table:table-row>", cell, (
        head, "</table:table></office:document>"))  # fmt: skip
    return write(with_heading(rows))


def of_old_sheet(rows: Rows) -> str:
    space = "urn:schemas-microsoft-com:office:spreadsheet"
    head = f'<?xml version="1.0"?><Workbook xmlns="{space}"><Worksheet><Table>'
    tail = "</Table></Worksheet></Workbook>"
    return marked("<Row>{r}</Row>", "<Cell><Data>{v}</Data></Cell>", (head, tail))(
        with_heading(rows)
    )


def sql(cell: str) -> str:
    return cell if isinstance(value(cell), int) else "'" + cell.replace("'", "''") + "'"


def quoted(rows: Rows) -> str:
    return ", ".join(f'"{name}"' for name in rows[0])


def of_statements(rows: Rows) -> str:
    columns = ",\n".join(f'  "{name}" TEXT' for name in rows[0])
    body = ",\n".join(f"({', '.join(map(sql, row))})" for row in rows[1:])
    return f"CREATE TABLE pages (\n{columns}\n);\nINSERT INTO pages VALUES\n{body};\n"


def of_copies(rows: Rows) -> str:
    body = "".join("\t".join(c or "\\N" for c in row) + "\n" for row in rows[1:])
    return f"COPY public.pages ({quoted(rows)}) FROM stdin;\n{body}\\.\n"


def of_database(rows: Rows) -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "pages.db"
        database = sqlite3.connect(path)
        database.execute("CREATE TABLE visits (day TEXT, n INTEGER)")
        database.execute(f"CREATE TABLE pages ({quoted(rows)})")
        places = ", ".join("?" * len(rows[0]))
        told = [[*map(value, row)] for row in rows[1:]]
        database.executemany(f"INSERT INTO pages VALUES ({places})", told)
        database.commit()
        database.close()
        return path.read_bytes()


def of_columns(write: Callable[[pa.Table, io.BytesIO], Any]) -> Callable[[Rows], bytes]:
    def written(rows: Rows) -> bytes:
        out = io.BytesIO()
        columns = zip(rows[0], zip(*rows[1:], strict=True), strict=True)
        write(pa.table({name: [cell or None for cell in told] for name, told in columns}), out)
        return out.getvalue()

    return written


def of_workbook(rows: Rows) -> bytes:
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out)
    book.add_worksheet("Read me").write(0, 0, "Report of May")
    sheet = book.add_worksheet("Data")
    for n, row in enumerate(rows):
        sheet.write_row(n, 0, [*map(value, row)])
    book.close()
    return out.getvalue()


BARS = ("| ", " | ", " |")
CONTAINERS: dict[str, tuple[str, Callable[[Rows], str | bytes]]] = {
    "tabs": ("a.csv", delimited("\t")),
    "semicolons": ("a.csv", delimited(";")),
    "roofs": ("a.txt", delimited("^")),
    "a control sign": ("a.txt", delimited("\x01")),
    "a backslash before quotes": ("a.csv", delimited(
        ",", quoting=csv.QUOTE_ALL, doublequote=False, escapechar="\\")),
    "single quotes": ("a.csv", between(("'", "','", "'"), ("'", "','", "'"), ("", "\n"),
        lambda cell: cell.replace("'", "\u2019"))),
    "on its side": ("a.csv", lambda rows: delimited(",")([*zip(*rows, strict=True)])),
    "columns": ("a.txt", apart),
    "columns below rules": ("a.txt", lambda rows: apart(rows, "-")),
    "columns between rules": ("a.rst", lambda rows: apart(rows, "=", around=True)),
    "a box": ("a.txt", lambda rows: boxed(rows, "|", "+-")),
    "a drawn box": ("a.txt", lambda rows: boxed(rows, "\u2502", "\u253c\u2500")),
    "a grid": ("a.rst", lambda rows: boxed(rows, "|", "+=", "-")),
    "a list of lists": ("a.rst", between(("   * - ", "\n     - ", ""), ("   * - ", "\n     - ", ""),
        (".. list-table:: Pages\n   :header-rows: 1\n\n", "\n"))),
    "Markdown": ("a.md", lambda rows: boxed(rows, "|", "|-")),
    "Markdown, links": ("a.md", linked("[words]({})", lambda rows: boxed(rows, "|", "|-"))),
    "HTML in cells": ("a.csv", linked('<a href="{}">words</a>', delimited(","))),
    "MediaWiki": ("a.wiki", between(("! ", " !! ", "\n|-"), ("| ", " || ", "\n|-"),
        ('{| class="wikitable"\n|-\n', "\n|}\n"))),
    "MediaWiki, a line a cell": ("a.wiki", linked("[{} words]", between(
        ("! ", "\n! ", "\n|-"), ("| ", "\n| ", "\n|-"), ("{|\n|-\n", "\n|}\n")))),
    "Jira": ("a.txt", linked("[words|{}]", between(
        ("||", "||", "||"), ("|", "|", "|"), ("", "\n"), lambda cell: cell or " "))),
    "DokuWiki": ("a.txt", linked("[[{}|words]]", between(
        ("^ ", " ^ ", " ^"), BARS, ("", "\n")))),
    "AsciiDoc": ("a.adoc", between(("|", " |", "\n"), ("|", " |", ""), ("|===\n", "\n|===\n"))),
    "AsciiDoc, a line a cell": ("a.adoc", linked("{}[words]", between(
        ("|", " |", "\n"), ("|", "\n|", "\n"), ("|===\n", "\n|===\n")))),
    "LaTeX": ("a.tex", between(("", " & ", " \\\\ \\hline"), ("", " & ", " \\\\"),
        ("\\begin{tabular}{lll}\n", "\n\\end{tabular}\n"), escaped_for_latex)),
    "HTML": ("a.html", of_html),
    "objects": ("a.json", lambda rows: dumped(objects(rows))),
    "objects, one a line": ("a.jsonl", lambda rows: "\n".join(map(dumped, objects(rows)))),
    "lists": ("a.json", dumped),
    "names apart": ("a.json", lambda rows: dumped({"columns": rows[0], "rows": rows[1:]})),
    "names and types apart": ("a.json", lambda rows: dumped({
        "schema": {"fields": [{"name": name, "type": "STRING"} for name in rows[0]]},
        "rows": [{"f": [{"v": cell} for cell in row]} for row in rows[1:]]})),
    "columns of values": ("a.json", lambda rows: dumped(
        {name: [*told] for name, *told in zip(*rows, strict=True)})),
    "a script": ("a.js", lambda rows: f"var data = {dumped(objects(rows))};\n"),
    "a call": ("a.js", lambda rows: f"callback({dumped(objects(rows))});\n"),
    "Python": ("a.txt", lambda rows: repr(objects(rows))),
    "elements": ("a.xml", marked("<row>{r}</row>", "<{t}>{v}</{t}>", ("<pages>", "</pages>"))),
    "attributes": ("a.xml", marked("<row{r}/>", ' {t}="{v}"', ("<pages>", "</pages>"))),
    "named elements": ("a.xml", marked("<row>{r}</row>", '<field name="{n}">{v}</field>',
        ('<?xml version="1.0"?><resultset>', "</resultset>"))),
    "an open sheet, unpacked": ("a.fods", of_open_sheet),
    "an old sheet in XML": ("a.xls", of_old_sheet),
    "a workbook, second sheet": ("a.xlsx", of_workbook),
    "YAML": ("a.yml", yaml),
    "TOML": ("a.toml", named("{n} = {v}", "[[page]]\n", lambda cell: dumped(value(cell)))),
    "INI": ("a.ini", named("{n} = {v}", "[page {n}]\n")),
    "records": ("a.txt", named("{n}: {v}", "")),
    "records of a database": ("a.txt", named("{n} | {v}", "-[ RECORD {n} ]-\n")),
    "rows of a database": ("a.txt", named("{n:>20}: {v}", f"{'*' * 27} {{n}}. row {'*' * 27}\n")),
    "names between tabs": ("a.ltsv", pairs(":", "\t", str)),
    "names and words": ("a.log", lambda rows: pairs("=", " ", word)(
        [[re.sub(r"\s", "_", name) for name in rows[0]], *rows[1:]])),
    "statements": ("a.sql", of_statements),
    "a copied table": ("a.sql", of_copies),
    "a database": ("a.db", of_database),
    "Parquet": ("a.parquet", of_columns(parquet.write_table)),
    "Feather": ("a.feather", of_columns(feather.write_feather)),
    "ORC": ("a.orc", of_columns(orc.write_table)),
}  # fmt: skip
