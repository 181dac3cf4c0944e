"""Lines of a log as numbers: what each asks for, how it was answered, whom, when, and what led to
it. Requests, days and the rest are looked at once for each distinct text.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from upright_ledger.core.inventory.agents import asker_of
from upright_ledger.core.inventory.evidence import ASKERS, Asker
from upright_ledger.core.inventory.noise import is_sure_probe
from upright_ledger.formats.logs.columns.block_scanner import Columns, sign_of
from upright_ledger.formats.logs.counting.line_identity import Digests
from upright_ledger.formats.logs.counting.numbering import Codes, NumberedTexts
from upright_ledger.formats.logs.counting.request_texts import (
    read_day,
    reject,
    without_query,
    without_signs,
)
from upright_ledger.formats.logs.log_line import NO_REQUEST, host_name, unescape, with_escapes
from upright_ledger.formats.logs.visitors import Visitors
from upright_ledger.formats.records import Reject

DAY_BITS, ASKER_BITS, STATUS_BITS, REFERRER_BITS = 16, 3, 10, 24
STATUS_AT = DAY_BITS + ASKER_BITS
TARGET_AT = STATUS_AT + STATUS_BITS
WHO = (1 << ASKER_BITS) - 1
"""A key is a target, a status, an asker and a day, packed."""
_DAMAGED, _ASIDE = -1, -2
NOBODY = -1


class Told(NamedTuple):
    """What sound lines say, a value a line.

    keys: see `TARGET_AT`; of a line that asks for no page a mark below zero. days: codes. led: a
    target and its referrer, packed, or NOBODY. noisy: a bit a kind of noise.
    """

    numbers: Codes
    digests: Digests
    days: Codes
    keys: Codes
    led: Codes
    visitors: Visitors
    noisy: Codes

    def where(self, mask: npt.NDArray[np.bool_]) -> Told:
        """Some of the lines."""
        if mask.all():
            return self
        return Told._make(column[mask] for column in self)


def joined(parts: Sequence[Told]) -> Told:
    """The lines of several parts, or of none."""
    if not parts:
        nothing, nobody = np.empty(0, np.int64), np.empty(0, np.uint64)
        return Told(nothing, nobody, nothing, nothing, nothing, nobody, nothing)
    if len(parts) == 1:
        return parts[0]
    return Told._make(np.concatenate(columns) for columns in zip(*parts, strict=True))


class RequestLines:
    """Numbers the texts of a log, in the order in which they are first seen.

    with_hosts: every request begins with the host it was sent to and a blank. noise: kinds of
    parameters for which requests hold signs; see `columns.block_scanner`.
    """

    def __init__(self, *, with_hosts: bool, noise: Sequence[str] = ()) -> None:
        self._with_hosts = with_hosts
        self._signs = [sign_of(number) for number in range(len(noise))]
        self.noise = list(noise)
        self.requests, self.referrers = NumberedTexts(), NumberedTexts()
        self.agents, self._days = NumberedTexts(), NumberedTexts()
        self._noisy: list[int] = []  # of each distinct request
        self._meanings: list[
            int
        ] = []  # of each distinct request: its target, _DAMAGED, or _ASIDE and below
        self.targets: dict[tuple[str, str], int] = {}
        """(Host, target) → its number."""
        self.first_lines: list[int] = []
        """Of each target."""
        self._is_probe: list[bool] = []
        self._askers: list[int] = []  # of each agent: its place among ASKERS
        self.days: list[str] = []
        self.aside: list[str] = []
        """Texts of lines that ask for no page, by their marks; see `text_of`."""

    @property
    def names(self) -> int:
        """Distinct texts of the sort that has most."""
        return max(
            len(self.requests.numbers), len(self.referrers.numbers), len(self.agents.numbers)
        )

    def text_of(self, mark: int) -> str:
        """Of lines that ask for no page what they ask for."""
        return self.aside[_ASIDE - mark]

    def probes(self) -> npt.NDArray[np.bool_]:
        """Of each target whether nobody but a scanner asks for it."""
        return np.array(self._is_probe, np.bool_)

    def read(self, columns: Columns) -> tuple[list[Reject], Told]:
        """Lines (not the odd ones) as numbers, and those that are damaged."""
        requests = self.requests.encode(columns.request)
        targets = self._meaning_of(requests, columns.number)
        days = self._days.encode(columns.day)
        self.days += [read_day(text) for text in self._days.since(len(self.days))]
        sound = (targets != _DAMAGED) & np.array(self.days, bool)[days]
        sound &= (columns.status >= 100) & (columns.status < 600)
        damaged = [
            reject(columns, at, with_hosts=self._with_hosts)
            for at in np.flatnonzero(~sound).tolist()
        ]
        agents = self.agents.encode(columns.agent)
        self._askers += [
            ASKERS.index(Asker.PEOPLE if t is None else asker_of(t))
            for t in self.agents.since(len(self._askers))
        ]
        who = np.array(self._askers, np.int64)[agents]
        keys = (((targets << STATUS_BITS) | columns.status) << ASKER_BITS) | who
        keys = np.where(targets < 0, targets, (keys << DAY_BITS) | days)
        led = self._led(columns, targets)
        noisy = np.array(self._noisy, np.int64)[requests]
        told = Told(columns.number, columns.digest, days, keys, led, columns.visitor, noisy)
        return damaged, told.where(sound)

    def _led(self, columns: Columns, targets: Codes) -> Codes:
        referrers = self.referrers.encode(columns.referrer, without_query)
        named = ~np.isin(referrers, [self.referrers.numbers.get(n, -1) for n in (None, "", "-")])
        # A campaign says more of where somebody came from than the page that bore it.
        if len(columns.campaign.dictionary):
            campaigns = self.referrers.encode(columns.campaign)
            told = campaigns != self.referrers.numbers.get(None, -1)
            referrers = np.where(told, campaigns, referrers)
            named |= told
        return np.where(named & (targets >= 0), (targets << REFERRER_BITS) | referrers, NOBODY)

    def _meaning_of(self, codes: Codes, numbers: Codes) -> Codes:
        before = len(self._meanings)
        fresh = self.requests.since(before)
        if fresh:
            first = np.full(len(fresh), -1, np.int64)
            new = np.flatnonzero(codes >= before)[::-1]
            first[codes[new] - before] = numbers[new]
            self._noisy += [
                sum(1 << bit for bit, sign in enumerate(self._signs) if sign in (text or ""))
                for text in fresh
            ]
            texts = [
                without_signs(text or "") if noisy else text
                for text, noisy in zip(fresh, self._noisy[before:], strict=True)
            ]
            self._meanings += [
                self._read_request(t, n) for t, n in zip(texts, first.tolist(), strict=True)
            ]
        return np.array(self._meanings, np.int64)[codes]

    def _read_request(self, text: str | None, line: int) -> int:
        host, _, request = (text or "").partition(" ") if self._with_hosts else ("", "", text or "")
        parts = request.split(" ")
        if len(parts) != 3 or not parts[2].startswith("HTTP/"):
            return self._aside(request) if request in NO_REQUEST else _DAMAGED
        target = unescape(with_escapes(parts[1]))
        if parts[0] not in {"GET", "HEAD"} or not target.startswith(("/", "http://", "https://")):
            return self._aside(f"{parts[0]} {target.partition('?')[0]}")
        number = self.targets.setdefault((host_name(host), target), len(self.targets))
        if number == len(self.first_lines):
            self.first_lines.append(line)
            self._is_probe.append(is_sure_probe(target))
        return number

    def _aside(self, text: str) -> int:
        self.aside.append(text)
        return _ASIDE - len(self.aside) + 1
