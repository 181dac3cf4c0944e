"""Fixes: when each entry was answered, and since when a build with that answer is live."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from upright_ledger.core.inventory.answer import LINK_MENDED, AnsweredBy, AnswerKind
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.sections import Sections
from upright_ledger.core.monitoring.failure_account import Fix
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.failures import Changed, answer_times, newest_template
from upright_ledger.ledger.tables.runs.builds import Build, live_builds


class Fixes:
    """The fixes of entries: when each was answered, and since when a build with that answer is
    live.
    """

    def __init__(
        self,
        times: Mapping[int, Changed],
        template: Changed,
        live: list[Build],
        sections: Sections,
    ) -> None:
        self.live = live
        self._sections = sections
        self._waves = {b.id: b.as_wave for b in live}
        self._times, self._template = times, template

    @property
    def template_live(self) -> str:
        """Since when a build with the template answers of today is live, or empty."""
        return min((b.live_from for b in self.live if b.step >= self._template.step), default="")

    def of(self, entry: Entry) -> Fix:
        kind = entry.answer.kind
        if kind == AnswerKind.OPEN:
            return Fix()
        answered = self._times.get(entry.id) or (
            self._template if entry.by == AnsweredBy.TEMPLATE else Changed(0, "")
        )
        if entry.where == LINK_MENDED:
            return Fix(kind, answered.time, answered.time, link_mended=True)
        live = (
            min((b.live_from for b in self._with(entry) if b.step >= answered.step), default="")
            if kind != AnswerKind.IGNORE
            else ""
        )
        return Fix(kind, answered.time, live)

    def _with(self, entry: Entry) -> Iterator[Build]:
        """The builds with which an entry's section went live."""
        section = self._sections.of(entry.site, entry.key) if self._sections else ""
        return (b for b in self.live if self._waves[b.id].has(section))


def load_fixes(ledger: Ledger) -> Fixes:
    """The fixes of a ledger as they stand."""
    with ledger.reading() as connection:
        return Fixes(
            answer_times(connection),
            newest_template(connection),
            live_builds(connection),
            Sections(ledger.settings.sections),
        )
