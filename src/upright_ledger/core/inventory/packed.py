"""Values that a ledger keeps packed in one text: how a figure spreads over days, and from where
requests came.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NewType

PackedDays = NewType("PackedDays", str)
"""Days with their amounts, in their order: "2026-05-01:12 2026-05-02:3". A day may have a label in
place of its date; see `core.monitoring.deploy_days`.
"""

PackedReferrers = NewType("PackedReferrers", str)
"""Amounts with the referrers they are of, one a line: "12 https://www.quillhaven.example/"."""

NO_DAYS = PackedDays("")


def pack_days(amounts: Mapping[str, float]) -> PackedDays:
    """Day → amount, packed."""
    return PackedDays(" ".join([f"{day}:{n:.15g}" for day, n in sorted(amounts.items())]))


def unpack_days(packed: PackedDays) -> list[tuple[str, float]]:
    """Each day with its amount; one that stands there twice comes twice."""
    pairs = (part.rpartition(":") for part in packed.split(" ") if part)
    return [(day, float(amount)) for day, _, amount in pairs]


def join_days(packed: Iterable[PackedDays]) -> PackedDays:
    """The days of several texts, one after the other."""
    return PackedDays(" ".join([days for days in packed if days]))


def add_days(packed: Iterable[PackedDays]) -> PackedDays:
    """The days of several texts, each once with the sum of its amounts."""
    amounts: dict[str, float] = {}
    for day, amount in unpack_days(join_days(packed)):
        amounts[day] = amounts.get(day, 0.0) + amount
    return pack_days(amounts)


def first_and_last(packed: PackedDays) -> tuple[str, str]:
    """The first and the last day, without their labels' times; empty where there is none."""
    return packed[:10], packed.rpartition(" ")[2][:10]


def pack_referrers(amounts: Iterable[tuple[str, float]]) -> PackedReferrers:
    """(referrer, amount) in their order, packed. No referrer holds a line feed."""
    return PackedReferrers("\n".join([f"{amount:.15g} {referrer}" for referrer, amount in amounts]))


def unpack_referrers(packed: PackedReferrers) -> list[tuple[str, float]]:
    """Each referrer with its amount. Signs that other readers take for line breaks are a part of
    it.
    """
    pairs = (line.partition(" ") for line in packed.split("\n") if line)
    return [(referrer, float(amount)) for amount, _, referrer in pairs]
