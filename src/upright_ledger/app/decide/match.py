"""Matching the open entries of a ledger with its stock, and answering the certain ones."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from upright_ledger.app.decide.match_pages import (
    can_be_proposed,
    new_pages,
    old_pages,
)
from upright_ledger.app.decide.page_texts import load_texts
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Decision, usual
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import fold
from upright_ledger.core.matching import Proposal, Proposals, propose
from upright_ledger.core.matching.auto_accept import (
    LEAST,
    PRUDENCE,
    Acceptance,
    Band,
    Sample,
    accept_above,
    accept_within,
    bands,
)
from upright_ledger.core.matching.pages.item_numbers import ToldNumbers
from upright_ledger.core.matching.pattern_moves import Correspondence, correspondences
from upright_ledger.core.url.address import address_of, parse_address
from upright_ledger.core.url.conventions import does_something
from upright_ledger.core.url.request_target import canonical_path
from upright_ledger.core.url.tokens import tokens
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import Found, Posting, found_as, load_sample, post_answers
from upright_ledger.ledger.tables.proposals import StoredProposal, store_proposals
from upright_ledger.ledger.tables.stock import Destination

MAX_ERROR = 0.01
_BY_MATCHING = frozenset([AnsweredBy.MATCH, AnsweredBy.SAMPLED])
SAME_ADDRESS = "has the same address"
OLD_HOME = "the home page of an old site"
HOME_CONFIDENCE = 0.95
FALLBACK = "no page fits: this is the page of the section to which its neighbours moved"


@dataclass
class Matched:
    """What matching amounted to. `proposals` holds the best one of every entry left open, by value.

    acceptance: the threshold of the accepted proposals, and the errors to expect among them.
    merged: pages that several of the accepted entries lead to. split: entries whose words two new
    pages share out between them. swapped: pairs of entries that lead to each other's address.
    fallbacks: entries without a proposal for which the page of a section is offered. sample: what
    was reviewed of earlier acceptances; supported: whether it shows that the wanted share of errors
    holds. moved: how families moved, by all answers known now. untitled: "old", "new": the sides of
    which no title is known. renumbering: how item numbers changed, in words, or empty. known: what
    would have been accepted of pages that somebody answered. bands: how sure the best proposals
    are.
    """

    open_before: int
    same_address: int
    acceptance: Acceptance
    proposed: int
    without: int
    merged: int = 0
    swapped: int = 0
    fallbacks: int = 0
    split: int = 0
    sample: Sample = field(default_factory=Sample)
    supported: bool = False
    moved: list[Correspondence] = field(default_factory=list)
    proposals: list[tuple[Entry, StoredProposal]] = field(default_factory=list)
    untitled: list[str] = field(default_factory=list)
    renumbering: str = ""
    known: Sample = field(default_factory=Sample)
    bands: list[Band] = field(default_factory=list)


def match(
    ledger: Ledger,
    *,
    max_error: float = MAX_ERROR,
    threshold: float | None = None,
    answering: bool = True,
    items: Mapping[str, str] | None = None,
) -> Matched:
    """Propose destinations for all open entries, and post answers for the certain ones as one step.

    max_error: the share of errors that may be expected among the accepted; threshold: accept from
    this confidence on instead. answering: post answers at all. items: old item numbers and the new
    ones in their place.
    """
    with ledger.alone_at("match"):
        return _matched(ledger, max_error, threshold, items or {}, answering=answering)


def pages_to_propose(move: MoveState) -> list[Destination]:
    """The pages in stock that may be proposed. Raises UsageError where there are none."""
    pages = [d for d in move.stock.values() if can_be_proposed(d)]
    if not pages:
        raise UsageError("there are no pages in stock to match with", "upright stock new-pages.csv")
    return pages


def _matched(
    ledger: Ledger,
    max_error: float,
    threshold: float | None,
    items: Mapping[str, str],
    *,
    answering: bool,
) -> Matched:
    move = MoveState(ledger)
    waiting = [e for e in move.entries if e.answer.kind == AnswerKind.OPEN]
    pages = pages_to_propose(move)
    same = _same_address(move, waiting, pages)
    form = ledger.settings.items
    numbers = ToldNumbers(items, form.old, form.new)
    found = _propose(move, waiting, pages, same, numbers)
    best = {
        e.id: found.found[e.legacy_url]
        for e in waiting
        if e.id not in same and e.legacy_url in found.found
    }
    confidences = [choices[0].confidence for choices in best.values()]
    with ledger.reading() as connection:
        sample = Sample(load_sample(connection))
    known = _known(move, found)
    prudence = max(sample.prudence, known.prudence if known.prudence > PRUDENCE else 0.0)
    if threshold is None:
        acceptance = accept_within(confidences, max_error, prudence)
    else:
        acceptance = accept_above(confidences, threshold, prudence)
    supported = sample.most_wrong <= (max_error if threshold is None else acceptance.share)
    postings, stored, proposed = [], [], []
    fallbacks = 0
    homes = _homes(move, pages)
    for entry in waiting:
        if entry.id in same:
            postings.append(
                Posting(
                    entry.id,
                    same[entry.id],
                    AnsweredBy.MATCH,
                    entry.legacy_url,
                    found=Found(1.0, SAME_ADDRESS),
                )
            )
            stored.append(
                StoredProposal(entry.id, 1, same[entry.id].destination, 1.0, (SAME_ADDRESS,))
            )
            continue
        if entry.key == "/" and homes:
            # The old home page has the new one as its successor, whatever else is alike.
            stored.append(StoredProposal(entry.id, 1, homes[0], HOME_CONFIDENCE, (OLD_HOME,)))
            proposed.append((entry, stored[-1]))
            continue
        versions = _versions(
            move, entry, best.get(entry.id, ()), found.fallbacks.get(entry.legacy_url, "")
        )
        stored += versions
        if entry.id not in best:
            fallbacks += len(versions)
        elif versions[0].confidence >= acceptance.threshold:
            answer = usual(AnswerKind.MOVE, versions[0].destination)
            found_so = found_as(versions, answer.destination)
            postings.append(
                Posting(entry.id, answer, AnsweredBy.MATCH, entry.legacy_url, found=found_so)
            )
        else:
            proposed.append((entry, versions[0]))
    reason = f"accepting at {acceptance.threshold:.3g} and above" if answering else "proposals only"
    with ledger.step("match", reason) as step:
        if answering:
            postings = post_answers(step, postings, from_evidence=True)
        store_proposals(step.connection, step.id, stored)
        step.noted = bool(stored)
        posted = len(postings) if answering else 0
        step.summary = (
            f"{posted:,} answered, {len(stored):,} proposals for "
            f"{len({p.entry for p in stored}):,} entries"
        )
    proposed.sort(
        key=lambda pair: (-pair[0].evidence.value, -pair[1].confidence, pair[0].legacy_url)
    )
    return Matched(
        len(waiting), len(same), acceptance, len(proposed),
        len(waiting) - len(same) - len(best.keys() | {e.id for e, _ in proposed}),
        *_merges_and_swaps(postings), fallbacks, len(found.split), sample, supported,
        _moved(move, postings), proposed, _untitled(waiting, pages, len(same)), found.renumbering,
        known, bands(confidences),
    )  # fmt: skip


def _known(move: MoveState, found: Proposals) -> Sample:
    """How matching does on pages that somebody answered, where it is sure."""
    given = {e.legacy_url for e in move.entries if e.by and e.by not in _BY_MATCHING}
    sure = (v for url, v in found.known.items() if url in given and v[0] >= LEAST)
    return Sample(list(sure))


def _untitled(waiting: Sequence[Entry], pages: Sequence[Destination], same: int) -> list[str]:
    if len(waiting) == same:
        return []  # nothing had to be compared
    sides = {"old": any(e.titles for e in waiting), "new": any(d.title or d.heading for d in pages)}
    return [side for side, told in sides.items() if not told]


def _homes(move: MoveState, pages: Sequence[Destination]) -> list[str]:
    """The front pages of the new site that are in stock, the first origin's first; that one also
    where it is not.
    """
    stocked = {d.page: d.url for d in pages}
    return [stocked.get(f"{origin}/", f"{origin}/") for origin in move.sites.new[:1]]


def _propose(
    move: MoveState,
    waiting: Sequence[Entry],
    pages: Sequence[Destination],
    same: Mapping[int, Decision],
    numbers: ToldNumbers,
) -> Proposals:
    """Proposals by legacy URL. Entries that are answered already teach how pages moved."""
    by_url = {d.url: d for d in pages if d.page not in move.homes}
    taught = {e.legacy_url: same[e.id].destination or e.legacy_url for e in waiting if e.id in same}
    taught |= {
        e.legacy_url: e.answer.destination for e in move.entries if e.answer.kind == AnswerKind.MOVE
    }
    taught = {old: by_url[new].page for old, new in taught.items() if new in by_url}
    asked = [
        e
        for e in move.entries
        if e.legacy_url in taught
        or (e.answer.kind == AnswerKind.OPEN and e.id not in same and not _acts(e.legacy_url))
    ]
    texts = load_texts(move)
    return propose(old_pages(asked, numbers, texts), new_pages(by_url.values(), texts), taught)


def _acts(url: str) -> bool:
    """Whether an address does something: no page takes the place of that."""
    address = address_of(url)
    return does_something(address.path, address.query)


def _versions(
    move: MoveState, entry: Entry, choices: Sequence[Proposal], fallback: str
) -> list[StoredProposal]:
    if not choices and fallback:
        return [StoredProposal(entry.id, 1, move.stock[fallback].url, 0.0, (FALLBACK,))]
    return [
        StoredProposal(entry.id, n, move.stock[p.name].url, p.confidence, p.reasons)
        for n, p in enumerate(choices, 1)
    ]


def _merges_and_swaps(postings: Sequence[Posting]) -> tuple[int, int]:
    """Pages to which several entries lead, and pairs of entries that lead to each other's
    address.
    """
    goals = Counter(p.answer.destination for p in postings if p.answer.destination)
    moves = {_bare(p.old): _bare(p.answer.destination) for p in postings if p.answer.destination}
    swaps = sum(1 for old, new in moves.items() if old < new and moves.get(new) == old)
    return sum(1 for n in goals.values() if n > 1), swaps


def _moved(move: MoveState, postings: Sequence[Posting]) -> list[Correspondence]:
    """How families moved, by what was answered before and now."""
    gone_to = {e.id: e.answer.destination for e in move.entries if e.answer.kind == AnswerKind.MOVE}
    gone_to |= {p.entry: p.answer.destination for p in postings if p.answer.kind == AnswerKind.MOVE}
    pairs = [(e.key, parse_address(gone_to[e.id]).target) for e in move.entries if e.id in gone_to]
    return correspondences(pairs)


def _bare(url: str) -> str:
    """An address without its scheme."""
    return url.partition("://")[2]


def _same_address(
    move: MoveState, waiting: list[Entry], pages: list[Destination]
) -> dict[int, Decision]:
    """Entries whose own address is a page of the new site, and what that means for them.

    Two titles without a common word tell that the address means something else now: no certainty
    there.
    """
    by_key: dict[str, Destination] = {}
    for page in pages:
        by_key.setdefault(fold(parse_address(page.url), move.policy).key, page)
    found = {}
    for entry in waiting:
        goal = by_key.get(entry.key)
        if goal is None or _other_meaning(entry, goal):
            continue
        address = parse_address(goal.url)
        on_one_host = address.authority in move.sites.authorities_of(entry.site)
        stays = on_one_host and set(entry.variants) <= {canonical_path(address.path)}
        found[entry.id] = usual(AnswerKind.KEEP) if stays else usual(AnswerKind.MOVE, goal.url)
    return found


def _other_meaning(entry: Entry, page: Destination) -> bool:
    new = set(tokens(page.title))
    old = {t for title in entry.titles for t in tokens(title)}
    return bool(old and new and not old & new)
