"""Deciding: answers by hand, for one entry or from a sheet of pairs."""

from __future__ import annotations

from dataclasses import dataclass, field

from upright_ledger.app.decide.entries import list_entries
from upright_ledger.app.decide.second_looks import Doubt, SecondLooks, need_stock, second_looks
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Decision
from upright_ledger.core.inventory.declared_paths import unanswerable
from upright_ledger.core.inventory.normalisation import Folded, fold
from upright_ledger.core.url.address import Address, NotAnAddressError, parse_address
from upright_ledger.core.url.destination import read_destination
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.written_address import Written, as_written
from upright_ledger.errors import UsageError
from upright_ledger.ledger.lines.listing import Filters
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import (
    ALL_OF,
    Posting,
    answers_of,
    by_hand,
    dated_answers,
    of_person,
    post_answers,
)
from upright_ledger.ledger.tables.observations import Entries

_FORM = "a full address or a path from / is needed"


@dataclass
class Decided:
    """What was posted. made: entries nobody had gathered. fitting: entries that a template
    answers now, and open: those of its part of the site that it leaves open, the most valuable
    first; own: of these, the page of that part itself, and where it would go (nothing: 410).
    mended: rows that lacked a leading slash. left: entries that a person answered one by one,
    and that keep that answer. astray: rows left out because their destination is no page in
    stock. looks: what deserves a second one. moved: the old addresses of a sheet that are given
    a page anew → that page; doubts: those of them of which matching is sure that another page
    is the right one.
    """

    posted: int = 0
    unchanged: int = 0
    replaced: int = 0
    contested: int = 0
    made: int = 0
    astray: int = 0
    fitting: int = 0
    open: list[str] = field(default_factory=list)
    own: tuple[str, str] | None = None
    mended: int = 0
    refused: list[tuple[int, str, str]] = field(default_factory=list)
    mapping: dict[str, str] = field(default_factory=dict)
    unused: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    left: list[str] = field(default_factory=list)
    looks: SecondLooks = field(default_factory=SecondLooks)
    moved: dict[str, str] = field(default_factory=dict)
    doubts: list[Doubt] = field(default_factory=list)


def read_old(ledger: Ledger, written: Written) -> tuple[Address, str]:
    """A legacy address as people write it, and its site. Raises NotAnAddressError."""
    sites = ledger.settings.sites
    address = parse_address(written.text, sites.old[0].origins[0])
    site = sites.site_of(address)
    if not site:
        raise NotAnAddressError(f"{address.authority} belongs to no old site")
    if reason := unanswerable(address):
        raise NotAnAddressError(reason)
    return address, site


def read_new(ledger: Ledger, text: str) -> str:
    """A destination as people write it, in its safe form. Raises NotAnAddressError."""
    written = as_written(text, ledger.settings.sites.all_origins, words=False)
    return destination_of(ledger, written.text)


def destination_of(ledger: Ledger, text: str) -> str:
    """A destination, written as an address, in its safe form. Raises NotAnAddressError."""
    sites = ledger.settings.sites
    address = read_destination(text, sites.new[0])
    if not sites.is_new(address) and not sites.site_of(address):
        raise NotAnAddressError(
            f"{address.authority} is no declared new origin (upright.toml, [new] origins)"
        )
    return address.text


def decide_one(
    ledger: Ledger,
    old: str,
    answer: Decision,
    query: QueryPolicy = QueryPolicy.CARRY_TRACKING,
    reason: str = "",
    *,
    as_given: bool = False,
    until: str = "",
    where: str = "",
) -> tuple[Decided, str]:
    """Post one answer; `answer.destination` as the user wrote it. as_given: though that is no page
    in stock. until: the day on which it is to be looked at again. where: where it comes from, in
    words. Returns what was done and the legacy URL.
    """
    try:
        written = as_written(old, ledger.settings.sites.old_origins)
        address, site = read_old(ledger, written)
        destination = read_new(ledger, answer.destination) if answer.destination else ""
    except NotAnAddressError as error:
        raise UsageError(f"{_which(old, answer)} cannot be used: {error}", _FORM) from None
    decision = GivenAnswer(
        address,
        site,
        fold(address, ledger.settings.policy),
        Decision(answer.kind, answer.status, destination),
        written.names_host,
    )
    result = Decided(mended=int(written.lacked_slash))
    with ledger.step("decide", reason, regardless=True) as step:
        if not as_given:
            need_stock(step.connection, ledger.settings, destination)
        entries = Entries(step.connection, ledger.policy_for(step))
        numbers = entries.ensure([(site, decision.folded.key, address.without_fragment)])
        result.made = entries.made
        entry = numbers[site, decision.folded.key]
        before = answers_of(step.connection, [entry]).get(entry)
        post_answers(
            step,
            [
                Posting(
                    entry,
                    decision.answer,
                    AnsweredBy.PERSON,
                    address.without_fragment,
                    written.names_host,
                    where,
                    query=query,
                    until=until,
                )
            ],
        )
        told = (entry, decision.answer)
        result.looks = second_looks(step.connection, ledger.settings, [told])
        result.posted, result.replaced = 1, int(before is not None and before != decision.answer)
        step.summary = f"{address.target}: {decision.answer.kind}" + (
            f" to {destination}" if destination else ""
        )
    return result, address.without_fragment


def _which(old: str, answer: Decision) -> str:
    return f"{old!r} or {answer.destination!r}" if answer.destination else repr(old)


def decide_entries(
    ledger: Ledger,
    filters: Filters,
    answer: Decision,
    reason: str = "",
    *,
    over: bool = False,
    as_given: bool = False,
    until: str = "",
) -> Decided:
    """Give all entries that fit one answer, as one step; `answer.destination` as the user wrote
    it. over: those, too, that a person answered one by one. as_given: though its destination is no
    page in stock. until: the day on which it is to be looked at again.
    """
    answer = read_answer_given(ledger, answer)
    entries = [line.entry for line in list_entries(ledger, filters).lines]
    if not entries:
        raise UsageError(
            "no entry fits", "upright entries --sections, or --families, lists what there is"
        )
    with ledger.reading() as connection:
        dated = {d.entry for d in dated_answers(connection)}
    # A day is a word on answers that stand, too, and so is none where there was one.
    fresh = [e for e in entries if e.answer != answer or until or e.id in dated]
    result = Decided(unchanged=len(entries) - len(fresh))
    where = f"{ALL_OF}{' '.join(filter(None, (filters.section, filters.family))) or 'no section'}"
    with ledger.step("decide", reason) as step:
        if not as_given:
            need_stock(step.connection, ledger.settings, answer.destination)
        held = set() if over else by_hand(step.connection)
        result.left = [e.legacy_url for e in fresh if e.id in held]
        fresh = [e for e in fresh if e.id not in held]
        told = ((e.id, answer) for e in fresh)
        result.looks = second_looks(step.connection, ledger.settings, told)
        result.replaced = sum(1 for e in fresh if e.answer.kind != AnswerKind.OPEN)
        result.posted = len(
            post_answers(step, [of_person(e, answer, where, until=until) for e in fresh])
        )
        step.summary = f"{result.posted:,} entries: {answer.kind}" + (
            f" to {answer.destination}" if answer.destination else ""
        )
    return result


def read_answer_given(ledger: Ledger, answer: Decision) -> Decision:
    """An answer with its destination read as the new site's."""
    try:
        destination = read_new(ledger, answer.destination) if answer.destination else ""
    except NotAnAddressError as error:
        raise UsageError(f"{answer.destination!r} cannot be used: {error}", _FORM) from None
    return Decision(answer.kind, answer.status, destination)


@dataclass(frozen=True, slots=True)
class GivenAnswer:
    """One decision as read, before it is posted."""

    old: Address
    site: str
    folded: Folded
    answer: Decision
    host_given: bool
    where: str = ""
    query: QueryPolicy = QueryPolicy.CARRY_TRACKING
    until: str = ""
