"""What a request must show to be right, by the answers of a move."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from upright_ledger.core.inventory.answer import (
    AnsweredBy,
    AnswerKind,
    Decision,
    Expected,
    expected_outcome,
    usual,
)
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.destination import authority_of
from upright_ledger.core.url.language import code_of
from upright_ledger.core.url.origins import Sites


@dataclass(frozen=True)
class ExpectedOutcomes:
    """Answers as what requests must show.

    by_key: site and key → entry. canonicalised: where the form of an old site would move an
    address, or an empty text. kept_as: asked when it is needed: site and folded path of other
    spellings of pages that are kept → the page; fold_path: how rules fold a path.
    """

    sites: Sites
    policy: FoldingPolicy
    by_key: Mapping[tuple[str, str], Entry]
    canonicalised: Callable[[Address], str]
    kept_as: Callable[[], Mapping[tuple[str, str], str]]
    fold_path: Callable[[str], str]

    def entry_of(self, address: Address) -> Entry | None:
        """The entry an address belongs to, or None."""
        site = self.sites.site_of(address)
        return self.by_key.get((site, fold(address, self.policy).key)) if site else None

    def of(self, address: Address) -> Expected:
        """What a request for this address must show."""
        return self.of_entry(self.entry_of(address), address)

    def of_entry(self, entry: Entry | None, address: Address) -> Expected:
        """As `of`, for an address whose entry is known."""
        if entry is None:
            return Expected(kind=AnswerKind.OPEN)
        moved_by_form = self.canonicalised(address)
        if moved_by_form and entry.answer.kind == AnswerKind.IGNORE:
            return Expected(kind=AnswerKind.OPEN)  # the form of its site applies to noise, too
        answer = self._at_its_end(entry)
        if answer.kind == AnswerKind.KEEP and (
            page := self.kept_as().get((entry.site, self.fold_path(address.path)))
        ):
            answer = usual(AnswerKind.MOVE, page)
        return _expected(entry, answer, moved_by_form or address.without_fragment)

    def of_all(self, entry: Entry) -> Expected:
        """As `of_entry`, for every address of an entry that is not kept, of a site that settles no
        form.
        """
        return _expected(entry, self._at_its_end(entry), "")

    def _at_its_end(self, entry: Entry) -> Decision:
        """An entry's answer with the end of the way: a destination that moves on itself is not
        where to arrive.
        """
        answer, seen = entry.answer, {entry.id}
        while (
            answer.destination and authority_of(answer.destination) in self.sites.site_of_authority
        ):
            following = self.entry_of(parse_address(answer.destination))
            if following is None or following.id in seen or not following.answer.destination:
                break
            seen.add(following.id)
            answer = Decision(answer.kind, answer.status, following.answer.destination)
        return answer


def _expected(entry: Entry, answer: Decision, own_address: str) -> Expected:
    language = code_of(entry.language) if entry.language else ""
    meant = entry.by == AnsweredBy.PERSON
    return expected_outcome(answer, own_address, language, meant=meant)
