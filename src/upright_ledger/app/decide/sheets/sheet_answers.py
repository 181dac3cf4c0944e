"""What the rows of a sheet of pairs decide."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

from upright_ledger.app.decide.decide import Decided, GivenAnswer, destination_of, read_old
from upright_ledger.app.decide.sheets.pair_rows import (
    plainly_written,
    read_answer,
    read_query,
    read_until,
)
from upright_ledger.app.decide.sheets.plain_pairs import PlainPair
from upright_ledger.core.inventory.answer import AnsweredBy, Decision
from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.inventory.normalisation import fold
from upright_ledger.core.inventory.placing.classification import Classified
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.destination import page_key
from upright_ledger.formats.tables.pairs import Pair
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import Posting
from upright_ledger.ledger.tables.observations import Name, PlainSightings, Portion, Sighting


class SheetAnswers:
    """What the rows of a sheet decide: plain ones as they are, and others, each read by itself, as
    are all those that name one entry together.
    """

    def __init__(self, ledger: Ledger, name: str, rows: Sequence[Pair]) -> None:
        self._ledger, self._name, self._rows = ledger, name, rows
        self._read: dict[int, GivenAnswer] = {}
        self._plain: list[PlainPair] = []

    def __len__(self) -> int:
        return len(self._read) + len(self._plain)

    def read(self, at: int, pair: Pair, result: Decided) -> None:
        """Read a row by itself."""
        if (decision := _decision(self._ledger, self._name, pair, result)) is not None:
            self._read[at] = decision

    def take(self, plain: Sequence[PlainPair], result: Decided) -> None:
        """Take plain rows, after all others."""
        named = Counter((p.site, p.key) for p in plain)
        named.update({(d.site, d.folded.key) for d in self._read.values()})
        for p in plain:
            if named[p.site, p.key] == 1:
                self._plain.append(p)
            else:
                self.read(p.at, self._rows[p.at], result)

    def first_and_further(self) -> tuple[list[GivenAnswer], list[GivenAnswer]]:
        """Of those that were read by themselves, in their order: the first for each entry, and
        such as say something else of the same.
        """
        first: dict[Name, GivenAnswer] = {}
        further: list[GivenAnswer] = []
        for at in sorted(self._read):
            told = self._read[at]
            known = first.setdefault((told.site, told.folded.key), told)
            if known is not told and _differs(known, told):
                further += [told] if not any(_same(other, told) for other in further) else []
        return list(first.values()), further

    def wanted(self) -> list[tuple[str, str, str]]:
        """Site, key and legacy address of the entries that rows name, as they stand in the
        sheet.
        """
        told = [
            (at, d.site, d.folded.key, d.old.without_fragment) for at, d in self._read.items()
        ] + [(p.at, p.site, p.key, self._rows[p.at].old) for p in self._plain]
        return [row[1:] for row in sorted(told)]

    def portion(self) -> Portion:
        """What the sheet says of spellings."""
        plain, rows = self._plain, self._rows
        old = [rows[p.at].old for p in plain]
        columns = PlainSightings(
            [rows[p.at].line for p in plain],
            [(p.site, text) for p, text in zip(plain, old, strict=True)],
            [p.key for p in plain],
            [p.variant for p in plain],
            old,
        )
        found: dict[Name, Sighting] = {}
        for at in sorted(self._read):
            d = self._read[at]
            text = d.old.without_fragment
            told = (d.folded.key, d.folded.variant, text, "", d.folded.mends)
            place = Classified(d.site, text, *told)
            sighting = Sighting(place, [Figure(LISTED, 1.0)], line=rows[at].line)
            found.setdefault((d.site, text), sighting)
        return Portion([*found.values()], columns)

    def plain_postings(self, numbers: Mapping[Name, int]) -> Iterator[Posting]:
        """The answers of plain rows."""
        for p in self._plain:
            row = self._rows[p.at]
            where = f"{self._name} row {row.line}"
            entry = numbers[p.site, p.key]
            yield Posting(entry, p.answer, AnsweredBy.IMPORT, row.old, where=where, query=p.query)


def posting_of(decision: GivenAnswer, numbers: Mapping[Name, int]) -> Posting:
    """An answer of a sheet as it is posted. numbers: of the entries."""
    number = numbers[decision.site, decision.folded.key]
    return Posting(
        number,
        decision.answer,
        AnsweredBy.IMPORT,
        decision.old.without_fragment,
        decision.host_given,
        decision.where,
        query=decision.query,
        until=decision.until,
    )


def _differs(one: GivenAnswer, other: GivenAnswer) -> bool:
    """Whether two rows for one entry say different things, their spelling included where a slash
    loop may hide.
    """
    if one.answer.status != other.answer.status or one.answer.kind != other.answer.kind:
        return True
    if not one.answer.destination:
        return False
    return page_key(parse_address(one.answer.destination)) != page_key(
        parse_address(other.answer.destination)
    )


def _same(one: GivenAnswer, other: GivenAnswer) -> bool:
    return (one.site, one.folded.key) == (other.site, other.folded.key) and not _differs(one, other)


def _decision(ledger: Ledger, name: str, pair: Pair, result: Decided) -> GivenAnswer | None:
    """Read one row, or note in `result` why it cannot be used."""
    try:
        old, new = plainly_written(pair, ledger.settings.sites)
        address, site = read_old(ledger, old)
        answer = read_answer(pair.status, new.text)
        query, until = read_query(pair.query), read_until(pair.until)
        if answer.destination:
            answer = Decision(
                answer.kind, answer.status, destination_of(ledger, answer.destination)
            )
    except NotAnAddressError as error:
        result.refused.append((pair.line, pair.old, str(error)))
        return None
    result.mended += int(old.lacked_slash or new.lacked_slash)
    where = f"{name} row {pair.line}"
    folded = fold(address, ledger.settings.policy)
    return GivenAnswer(address, site, folded, answer, old.names_host, where, query, until)
