"""A site move: pages of an old and a new site, and what became of each."""

from __future__ import annotations

from dataclasses import dataclass, field

from upright_ledger.core.matching import MatchPage


@dataclass
class SiteMove:
    """Pages of an old and a new site. truth: name of an old page → names of the right new ones;
    none where it has no successor.
    """

    old: list[MatchPage] = field(default_factory=list)
    new: list[MatchPage] = field(default_factory=list)
    truth: dict[str, set[str]] = field(default_factory=dict)
