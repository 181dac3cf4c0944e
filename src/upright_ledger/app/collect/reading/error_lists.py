"""Tables that list addresses that fail, and exports of analytics that tell of visits to those."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from itertools import chain, islice
from urllib.parse import parse_qs

from upright_ledger.core.inventory.evidence import BAD_REDIRECT, Asker, Figure, status_class
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.normalisation import TRACKING_PARAMETER, FoldingPolicy
from upright_ledger.core.inventory.packed import pack_days
from upright_ledger.core.inventory.units import ASKED, ASKED_BEST, VISITS
from upright_ledger.core.monitoring.campaigns import (
    BY_CAMPAIGN,
    BY_SOURCE,
    Campaigns,
    is_told,
)
from upright_ledger.core.tracing.missing_titles import says_not_found
from upright_ledger.core.url.conventions import CLICK_IDENTIFIERS
from upright_ledger.formats.records import Aside, Item, Record

_LOOKED_AT = 5_000  # rows, for titles that say that nothing was found


@dataclass(frozen=True, slots=True)
class ErrorList:
    """That tables list addresses that fail. parameter: which one of an address there holds the
    failing address; empty where the address itself does.
    """

    parameter: str = ""


def failing(items: Iterable[Item], errors: ErrorList, policy: FoldingPolicy) -> Iterator[Item]:
    """What a table says of addresses, as failing requests.

    Where titles of some rows say that nothing was found, those with another title were found, and
    are set aside; so is what has a status of success.
    """
    reader = _Reader(errors, Campaigns(policy.noise_names.get(TRACKING_PARAMETER, "")))
    items = iter(items)
    first = list(islice(items, _LOOKED_AT))
    titled = any(isinstance(i, Record) and says_not_found(i.title) for i in first)
    for item in chain(first, items):
        if not isinstance(item, Record) or item.sent:
            yield item
        elif _was_found(item, titled=titled):
            yield Aside(item.line, AsideClass.FOUND, item.url, item.lines)
        else:
            yield reader.failing(item)


def _was_found(record: Record, *, titled: bool) -> bool:
    if record.failure:
        return False
    if record.status:
        return 200 <= record.status < 300 and not says_not_found(record.title)
    return titled and is_told(record.title) and not says_not_found(record.title)


class _Reader:
    def __init__(self, errors: ErrorList, campaigns: Campaigns) -> None:
        self._parameter, self._campaigns = errors.parameter, campaigns

    def failing(self, record: Record) -> Item:
        """A row as requests that failed."""
        url = record.url
        if self._parameter:
            values = parse_qs(url.partition("?")[2].partition("#")[0]).get(self._parameter)
            if not values:
                return Aside(record.line, AsideClass.PROSE, url, record.lines)
            url = values[0]
        kind = record.failure or _class_of_failure(record.status)
        told = [
            f._replace(status_class=kind, agent=f.agent or Asker.PEOPLE)
            for f in record.figures
            if f.unit in ASKED
        ]
        rest = [f for f in record.figures if f.unit not in ASKED]
        if record.day:
            told = [
                f if f.days else f._replace(days=pack_days({record.day: f.amount})) for f in told
            ]
        return replace(
            record,
            url=url,
            # It is the title of the page that says so, and no page's of its own.
            title="" if says_not_found(record.title) else record.title,
            figures=[*(told or [Figure(VISITS, 0.0, kind, Asker.PEOPLE)]), *rest],
            referrers=record.referrers if record.is_link else self._led(record, told),
        )

    def _led(self, record: Record, told: Iterable[Figure]) -> Mapping[str, float]:
        """What led people here, with all the requests of the row: a campaign before all else."""
        best = min(told, key=lambda f: ASKED_BEST.index(f.unit), default=None)
        requests = best.amount if best is not None else 1.0
        source = next(filter(is_told, record.referrers), "")
        if campaign := self._campaigns.of(record.url):
            if campaign in CLICK_IDENTIFIERS and source:
                campaign = f"{source} ({campaign})"
            return {f"{BY_CAMPAIGN}{campaign}": requests}
        if not source:
            return {}
        return {source if "://" in source else f"{BY_SOURCE}{source}": requests}


def _class_of_failure(status: int) -> str:
    """The class of a status that a list of errors gives; whatever it says else, its rows fail."""
    found = status_class(status)
    return found if found in {"410", "5xx"} else BAD_REDIRECT if found == "3xx" else "404"
