"""Waves of a launch: what is live with each, and how far it is answered."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind
from upright_ledger.core.inventory.sections import Sections, Wave
from upright_ledger.core.rules.compiler import ExcludedRule, Exclusion
from upright_ledger.core.rules.proofs.one_hop import keep_to_one_hop
from upright_ledger.core.rules.proofs.proof import Proof
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.wave_rules import rules_within
from upright_ledger.errors import UsageError
from upright_ledger.ledger.lines.listing import Filters, GroupTotal, group_totals
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.runs.builds import live_builds
from upright_ledger.settings.model import Settings


def wave_called(settings: Settings, name: str) -> Wave:
    """A wave by its name. Raises UsageError where the settings name none that is called so."""
    found = next((w for w in settings.waves if w.name == name), None)
    if found is None:
        known = ", ".join(w.name for w in settings.waves)
        raise UsageError(
            f"there is no wave {name!r}",
            f"these are: {known}" if known else "[waves] of upright.toml names them",
        )
    return found


def within(settings: Settings, wave: Wave) -> Callable[[str, str], bool]:
    """Whether an address (site, folded path) is live with a wave."""
    sections = Sections(settings.sections)
    return lambda site, key: wave.has(sections.of(site, key))


@dataclass
class RulesOfWave:
    """The rules of a wave. later: how many wait for a later one; waiting: templates among them,
    which reach beyond it; held_back: entries of the wave that only such a template answers, and
    templates that would make chains.
    """

    rules: RuleSet
    later: int
    waiting: list[str]
    held_back: list[ExcludedRule]
    proof: Proof


def rules_of_wave(move: MoveState, wave: Wave) -> RulesOfWave:
    """The rules that are live with a wave, of all that the answers amount to."""
    of_wave = within(move.ledger.settings, wave)
    rules = move.compiled.rules
    if not wave.sections:
        return RulesOfWave(rules, 0, [], [], move.compiled.proof)
    found = rules_within(rules, of_wave, move.sites, move.policy)
    sound = keep_to_one_hop(found.rules)
    held = [
        ExcludedRule(s.address or s.template.legacy_url, Exclusion.REFUSED, s.reason)
        for s in sound.stopped
    ]
    for entry in move.entries if found.waiting else ():
        if entry.by in {AnsweredBy.TEMPLATE, AnsweredBy.RULE} and of_wave(entry.site, entry.key):
            host, target = next(iter(entry.requests))
            before = rules.answer_of_rules(host, target)
            if before is not None and sound.rules.answer_of_rules(host, target) is None:
                reason = (
                    f"only {entry.where or 'a template'} answers it, which reaches beyond the wave"
                )
                held.append(ExcludedRule(entry.legacy_url, Exclusion.REFUSED, reason))
    waiting = [t.source.text for t in found.waiting]
    return RulesOfWave(sound.rules, found.later, waiting, held, sound.whole_proof)


@dataclass(frozen=True, slots=True)
class WaveLine:
    """A wave in the balance. sections: its own. value: of what is open. live_from: since when the
    first build with it is live, or empty.
    """

    name: str
    sections: tuple[str, ...]
    entries: int
    open: int
    hits: float
    value: float
    live_from: str

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return asdict(self)


def wave_lines(ledger: Ledger) -> list[WaveLine]:
    """How far each wave is answered; none where the settings name no waves."""
    waves = ledger.settings.waves
    if not waves:
        return []
    with ledger.reading() as connection:
        every = group_totals(connection, Filters(), "section")
        opened = group_totals(connection, Filters(answer=AnswerKind.OPEN), "section")
        live = live_builds(connection)
    found, before = [], Wave("", (), frozenset(["/"]))
    for wave in waves:
        mine, left = _own(every, wave, before), _own(opened, wave, before)
        since = min((b.live_from for b in live if _holds(b.as_wave, wave)), default="")
        found.append(
            WaveLine(
                wave.name,
                wave.own,
                sum(g.entries for g in mine),
                sum(g.entries for g in left),
                sum(g.hits for g in left),
                sum(g.value for g in left),
                since,
            )
        )
        before = wave
    return found


def _own(groups: Sequence[GroupTotal], wave: Wave, before: Wave) -> list[GroupTotal]:
    return [g for g in groups if wave.has(g.name) and not before.has(g.name)]


def _holds(live: Wave, wave: Wave) -> bool:
    """Whether all of a wave is live with a build."""
    return not live.sections or (bool(wave.sections) and wave.sections <= live.sections)
