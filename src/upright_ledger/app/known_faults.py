"""What the last check found: counted and kept, so that saying what comes next is no work."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import xxhash

from upright_ledger import __version__
from upright_ledger.ledger.db.journal import last_step
from upright_ledger.ledger.lines.kept import find_kept
from upright_ledger.ledger.store import Ledger
from upright_ledger.settings.model import Settings

NAME = "check"


@dataclass(frozen=True, slots=True)
class KnownFaults:
    """What a check found. faults: findings that are more than notes. digest: of the rules that the
    answers amount to. step: the last one of the journal by then; settings: a digest of those on
    which rules rest.
    """

    step: int
    faults: int
    digest: str
    settings: str

    def as_kept(self) -> tuple[str, int, dict[str, Any]]:
        """Its name, the step, and what is said of it, to be kept."""
        values = asdict(self)
        return NAME, values.pop("step"), values


def settings_digest(s: Settings) -> str:
    """Of the settings on which rules rest, and of the program."""
    told = repr((__version__, s.sites.old, s.sites.new, s.slash, s.forms, s.policy.as_dict()))
    return xxhash.xxh3_128_hexdigest(told.encode("utf-8", "surrogatepass"))


def known_faults(ledger: Ledger) -> KnownFaults | None:
    """What the last check found, where that is true still; else None."""
    with ledger.reading() as connection:
        found, newest = find_kept(connection, NAME), last_step(connection)
    if found is None:
        return None
    known = KnownFaults(found.step, **found.value)
    return (
        known
        if (newest, settings_digest(ledger.settings)) == (known.step, known.settings)
        else None
    )
