"""Sheets whose columns may stand the other way round."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from upright_ledger.app.decide.decide import read_old
from upright_ledger.core.inventory.normalisation import fold
from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.core.url.written_address import as_written
from upright_ledger.errors import InputError
from upright_ledger.formats.tables.pairs import Pairs
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.entries import find_number

_SAMPLE = 200  # rows


def refuse_turned(ledger: Ledger, path: Path, pairs: Pairs) -> None:
    """Raises InputError where nothing in a sheet tells old addresses from new ones, and those that
    were taken for the new ones are the ledger's entries.
    """
    if not pairs.in_order:
        return
    sample = [p for p in pairs.rows if p.new][:_SAMPLE]
    old = _known(ledger, (p.old for p in sample))
    new = _known(ledger, (p.new for p in sample))
    if new > 2 * old and 2 * new >= len(sample):
        raise InputError(
            f"{path} has the old addresses on the right, it seems: {new:,} of the first "
            f"{len(sample):,} there are entries, and {old:,} of those on the left",
            "write old and new above the columns, or name them: --column old='…'",
        )


def _known(ledger: Ledger, texts: Iterable[str]) -> int:
    """How many of these addresses, as people write them, are entries."""
    sites, policy = ledger.settings.sites, ledger.settings.policy
    found = 0
    with ledger.reading() as connection:
        for text in texts:
            try:
                address, site = read_old(ledger, as_written(text, sites.old_origins))
            except NotAnAddressError:
                continue
            found += bool(find_number(connection, site, fold(address, policy).key))
    return found
