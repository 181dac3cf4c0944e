"""Web archives (WARC, ISO 28500): what was once answered, and when."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.core.url.repair import mend
from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import open_bytes
from upright_ledger.formats.records import Aside, Item, Reading, ReadOptions, Record
from upright_ledger.formats.tables.cells import status_code
from upright_ledger.formats.tables.meanings.days import day_of

_ANSWERS = frozenset({"response", "revisit", "resource"})


def read_web_archive(path: Path, options: ReadOptions) -> Reading:
    """The addresses whose answers an archive holds, each with its status and day. Records are
    counted as lines.
    """
    del options
    return Reading(_items(path))


def _items(path: Path) -> Iterator[Item]:
    from warcio.archiveiterator import ArchiveIterator
    from warcio.exceptions import ArchiveLoadFailed

    with open_bytes(path) as file:
        number = 0
        try:
            for number, record in enumerate(ArchiveIterator(file), 1):
                told = record.rec_headers.get_header("WARC-Target-URI") or ""
                address = told.strip().removeprefix("<").removesuffix(">")
                if record.rec_type not in _ANSWERS or not address.startswith(("http:", "https:")):
                    yield Aside(number, AsideClass.BLANK, address[:500])
                    continue
                answer = record.http_headers
                url = mend(address)
                yield Record(
                    number,
                    url.text,
                    figures=[Figure(LISTED, 1.0)],
                    status=status_code(answer.get_statuscode() or "") if answer else 0,
                    day=day_of((record.rec_headers.get_header("WARC-Date") or "")[:10]),
                    mends=url.mends,
                )
        except (ArchiveLoadFailed, ValueError) as error:
            raise InputError(
                f"{path} is damaged behind its record {number:,}: {error}", "fetch it again"
            ) from None
