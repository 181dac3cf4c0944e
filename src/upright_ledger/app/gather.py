"""Gathering: files of any kind become sources, entries and evidence."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

from upright_ledger.core import traffic
from upright_ledger.core.addresses import Address, NotAnAddressError, parse_address, split_target
from upright_ledger.core.evidence import BOTS, PEOPLE
from upright_ledger.core.folding import FoldingPolicy, fold, has_dot_segments, unanswerable
from upright_ledger.core.secrets import mask_query
from upright_ledger.core.sites import Sites
from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats.reading import ACCESS_LOG, digest_of, read_head
from upright_ledger.formats.records import Aside, ReadOptions, Record, Reject
from upright_ledger.formats.registry import read_urls
from upright_ledger.formats.writing import write_whole
from upright_ledger.ledger.entries import count_entries
from upright_ledger.ledger.sources import (
    Sighting,
    SourceFacts,
    add_set_aside,
    add_sightings,
    add_source,
    count_new_entries,
    find_source,
)
from upright_ledger.ledger.store import Ledger

REJECTS_FOLDER = "rejects"
SHOWN_REJECTS = 5
_ISO_DAY = re.compile(r"\d{4}-\d{2}-\d{2}")


@dataclass
class Gathered:
    """What gathering one file amounted to. known: it had been gathered before, so nothing changed."""

    name: str
    kind: str
    lines: int = 0
    accepted: int = 0
    set_aside: int = 0
    rejected: int = 0
    new_entries: int = 0
    known: bool = False
    aside: Counter[str] = field(default_factory=Counter)
    mended: Counter[str] = field(default_factory=Counter)
    rejects: list[Reject] = field(default_factory=list)
    rejects_file: str = ""


@dataclass
class _Batch:
    """One file, read and folded, before it is posted."""

    path: Path
    facts: SourceFacts
    result: Gathered
    sightings: dict[tuple[str, str], Sighting] = field(default_factory=dict)
    aside: Counter[tuple[str, str]] = field(default_factory=Counter)


def gather(
    ledger: Ledger,
    paths: list[Path],
    *,
    kind: str = "",
    options: ReadOptions | None = None,
    host: str = "",
    period: tuple[str, str] = ("", ""),
) -> tuple[list[Gathered], int]:
    """Gather files into a ledger, one step each. Returns what came of each, and the entries there are now.

    host: the host of paths that name none. All files are read before the first is posted, so one that
    cannot be read leaves the ledger as it was.
    """
    sites = ledger.settings.sites
    base = base_origin(sites, host)
    policy_number = ledger.policy_number
    batches = []
    seen: dict[str, str] = {}
    for path in paths:
        read_head(path)
        digest, size = digest_of(path)
        with ledger.reading() as connection:
            known = find_source(connection, digest, "gather")
        if known is not None or digest in seen:
            result = Gathered(path.name, known.kind if known else seen[digest], known=True)
            batches.append(_Batch(path, SourceFacts(path.name, "", "gather", digest, size), result))
            continue
        batch = _read(path, kind, options or ReadOptions(), base, sites, ledger.settings.policy, period)
        batch.facts.digest, batch.facts.size = digest, size
        seen[digest] = batch.facts.kind
        batches.append(batch)
    for batch in batches:
        if not batch.result.known:
            _post(ledger, batch, policy_number)
    with ledger.reading() as connection:
        return [b.result for b in batches], count_entries(connection)


def base_origin(sites: Sites, host: str) -> str:
    """The origin in which bare paths are read: the named host's, or the first old origin."""
    if not host:
        return sites.old[0].origins[0]
    try:
        address = parse_address(host if "://" in host else f"http://{host}")
    except NotAnAddressError as error:
        raise UsageError(f"{host!r} is no host: {error}") from None
    if not sites.site_of(address):
        raise UsageError(
            f"{host} belongs to no old site of this ledger", f"these do: {', '.join(sorted(sites.site_of_authority))}"
        )
    return address.origin


def _read(
    path: Path,
    kind: str,
    options: ReadOptions,
    base: str,
    sites: Sites,
    policy: FoldingPolicy,
    period: tuple[str, str],
) -> _Batch:
    found, items = read_urls(path, kind, options)
    facts = SourceFacts(path.name, found, "gather", "", 0, mapping=dict(options.columns), period=period)
    batch = _Batch(path, facts, Gathered(path.name, found))
    days: set[str] = set()
    folder = Folder(base, sites, policy)
    for item in items:
        batch.result.lines += 1
        if isinstance(item, Reject):
            batch.result.rejects.append(item)
        elif isinstance(item, Aside):
            _set_aside(batch, item.kind, item.text)
        else:
            outcome = folder.place(item)
            if isinstance(outcome, Reject):
                batch.result.rejects.append(outcome)
            elif isinstance(outcome, Aside):
                _set_aside(batch, outcome.kind, outcome.text)
            else:
                _add(batch, outcome, item)
                if found == ACCESS_LOG:
                    days.add(item.day)
    result = batch.result
    result.rejected = len(result.rejects)
    result.accepted = result.lines - result.set_aside - result.rejected
    if not result.accepted and not result.set_aside:
        reason = f": {result.rejects[0].reason} (line {result.rejects[0].line:,})" if result.rejects else ""
        raise InputError(
            f"{path} holds no URL that can be read{reason}",
            "check that it is the right file, or name its --kind or --column",
        )
    if days:
        facts.period = (min(days), max(days))
    facts.lines, facts.accepted = result.lines, result.accepted
    facts.set_aside, facts.rejected = result.set_aside, result.rejected
    facts.mended = dict(result.mended)
    return batch


def _set_aside(batch: _Batch, kind: str, text: str) -> None:
    batch.result.set_aside += 1
    batch.result.aside[kind] += 1
    if kind != traffic.BLANK:
        batch.aside[kind, text] += 1


@dataclass(frozen=True, slots=True)
class Placed:
    """Where a record belongs: its site, its entry, the spelling to store, and what was folded."""

    site: str
    key: str
    variant: str
    spelling: str
    legacy_url: str
    mends: frozenset[str]


@dataclass
class Folder:
    """Finds the entry of each record; equal spellings are worked out once."""

    base: str
    sites: Sites
    policy: FoldingPolicy
    _memory: dict[tuple[str, bool, str], Placed | Aside | str] = field(default_factory=dict)

    def place(self, record: Record) -> Placed | Aside | Reject:
        """The place of a record, or why it has none."""
        memory_key = (record.url, record.sent, record.host)
        outcome = self._memory.get(memory_key)
        if outcome is None:
            outcome = self._memory[memory_key] = self._work_out(record)
        if isinstance(outcome, str):
            return Reject(record.line, outcome, record.url)
        return Aside(record.line, outcome.kind, outcome.text) if isinstance(outcome, Aside) else outcome

    def _work_out(self, record: Record) -> Placed | Aside | str:
        try:
            address = self.sent_address(record) if record.sent else parse_address(record.url, self.base)
        except NotAnAddressError as error:
            return str(error)
        site = self.sites.site_of(address)
        if not site:
            return Aside(0, traffic.OFF_SITE, address.origin)
        if unanswerable(address):
            return Aside(0, traffic.UNANSWERABLE, address.target)
        if kind := traffic.set_aside_class(address.target):
            return Aside(0, kind, address.path)
        masked = mask_query(address.query)
        address = Address(address.scheme, address.host, address.port, address.path, masked, address.fragment)
        folded = fold(address, self.policy)
        kept = "&".join(f"{n}={v}" for n, v in folded.params)
        legacy_url = f"{self.sites.base_of(site)}{folded.variant}" + (f"?{kept}" if kept else "")
        # A log repeats one address with every click identifier; for a list, the spelling is the evidence.
        query = (
            "&".join(p for p in masked.split("&") if p and not self.policy.is_tracking(p.partition("=")[0]))
            if record.sent
            else masked
        )
        spelling = f"{address.origin}{address.path}" + (f"?{query}" if query else "")
        written = {"dot segments"} if has_dot_segments(record.url.partition("?")[0]) else set()
        return Placed(site, folded.key, folded.variant, spelling, legacy_url, folded.mends | written)

    def sent_address(self, record: Record) -> Address:
        """The address of a logged request, nothing mended."""
        target, origin = record.url, self.base
        if not target.startswith("/"):
            whole = parse_address(target)
            target, origin = whole.target, whole.origin
        elif record.host:
            origin = f"http://{record.host}"
        home = parse_address(origin)
        path, query = split_target(target)
        return Address(home.scheme, home.host, home.port, path, query)


def _add(batch: _Batch, placed: Placed, record: Record) -> None:
    sighting = batch.sightings.get((placed.site, placed.spelling))
    if sighting is None:
        sighting = Sighting(placed.site, placed.spelling, placed.key, placed.variant, placed.legacy_url)
        batch.sightings[placed.site, placed.spelling] = sighting
    for mend in placed.mends:
        batch.result.mended[mend] += 1
    day = record.day if _is_day(record.day) else ""
    agent = "" if record.bot is None else (BOTS if record.bot else PEOPLE)
    status = _status_class(record.status) if record.sent else ""
    for unit, amount in record.amounts.items():
        key = (unit, status, agent, day if record.sent else "")
        sighting.amounts[key] = sighting.amounts.get(key, 0.0) + amount
    if record.referrer:
        referrer = mask_query(record.referrer)
        sighting.referrers[referrer] = sighting.referrers.get(referrer, 0.0) + 1.0
    sighting.title = sighting.title or record.title
    sighting.language = sighting.language or record.language
    if not record.sent:
        sighting.status = sighting.status or record.status
    sighting.last_seen = max(sighting.last_seen, day)


def _is_day(text: str) -> bool:
    if not _ISO_DAY.fullmatch(text):
        return False
    try:
        date.fromisoformat(text)
    except ValueError:
        return False
    return True


def _status_class(status: int) -> str:
    """404 and 410 by themselves, all others by their hundred."""
    if status in {404, 410}:
        return str(status)
    return f"{status // 100}xx" if status else ""


def _post(ledger: Ledger, batch: _Batch, policy_number: int) -> None:
    result = batch.result
    with ledger.step("gather", batch.path.name) as step:
        source = add_source(step, batch.facts)
        _, result.new_entries = add_sightings(step.connection, source, policy_number, batch.sightings.values())
        count_new_entries(step.connection, source, result.new_entries)
        add_set_aside(step.connection, source, batch.aside)
        step.summary = f"{result.accepted:,} of {result.lines:,} lines, {result.new_entries:,} new entries"
        if result.rejects:
            # Before the step is complete: an orphaned rejects file does no harm, a missing one would.
            result.rejects_file = _write_rejects(ledger.folder, source, result)


def _write_rejects(folder: Path, source: int, result: Gathered) -> str:
    name = f"{REJECTS_FOLDER}/{source:04}-{re.sub(r'[^A-Za-z0-9._-]', '_', result.name)}.txt"
    lines = [f"# Lines of {result.name!a} that could not be read: line, reason, text"]
    lines += [f"{r.line}\t{r.reason}\t{_visible(r.text)}" for r in result.rejects]
    write_whole(folder / name, ("\n".join(lines) + "\n").encode("utf-8", "backslashreplace"))
    return name


def _visible(text: str) -> str:
    """A text with its control characters spelled out."""
    return "".join(
        c if c.isprintable() else c.encode("unicode_escape", "backslashreplace").decode() for c in text[:2000]
    )
