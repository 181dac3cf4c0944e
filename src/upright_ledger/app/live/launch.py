"""Go or no-go: all that must hold before the switch, and after it, line by line."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

from upright_ledger.app.collect.surveys.audit import Audited
from upright_ledger.app.live.drift import drift
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.check import check_ledger
from upright_ledger.app.prove.replay import StoppedError
from upright_ledger.app.prove.results import Results
from upright_ledger.app.request_list import Requests, host_matrix, own_requests
from upright_ledger.app.waves import within
from upright_ledger.core.crawl.audits.launch_gate import GATE
from upright_ledger.core.crawl.audits.server_setup import HYGIENE
from upright_ledger.core.crawl.audits.sitemap import SITEMAP
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.sections import Wave
from upright_ledger.core.rules.proofs.proof import ProofState
from upright_ledger.core.severity import Severity
from upright_ledger.core.tracing.verdicts import Verdict
from upright_ledger.core.word import Word
from upright_ledger.errors import InputError
from upright_ledger.ledger.tables.runs.builds import changed_since, last_build

_AUDITS = (GATE, SITEMAP, HYGIENE)
_CUT_SHORT = frozenset(["sitemap-not-asked"])
"""What a survey says because it looks at some pages only."""
_NAMED = 3


class Light(Word):
    """What a line says of the launch."""

    GO = "go"
    NO_GO = "no-go"
    OPEN = "not looked at"


class GateLine(NamedTuple):
    """One question. told: the answer, in words; remedy: the command that mends or shows it, or
    empty.
    """

    about: str
    light: Light
    told: str
    remedy: str = ""


@dataclass(frozen=True)
class Looks:
    """How servers are looked at. ask: has requests replayed, under a name; survey: surveys the new
    site, or is None where it cannot be. top: so many of the most valuable entries are asked for.
    running: the file that the server runs, or None.
    """

    ask: Callable[[MoveState, Requests, str], Results]
    survey: Callable[[], Audited] | None
    top: int
    running: Path | None = None
    wave: Wave | None = None


@dataclass
class Launch:
    """All lines, and whether it is a go."""

    lines: list[GateLine]

    @property
    def is_go(self) -> bool:
        return all(line.light != Light.NO_GO for line in self.lines)

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return {"go": self.is_go, "lines": [line._asdict() for line in self.lines]}


def launch(move: MoveState, looks: Looks) -> Launch:
    """Look at all of it. Nothing that is found stops it from looking at the rest."""
    return Launch([*_of_the_books(move, looks), *_of_the_build(move, looks),
        *_of_the_server(move, looks), _of_the_site(move, looks.survey)])  # fmt: skip


def _is_of(move: MoveState, wave: Wave | None) -> Callable[[Entry], bool]:
    """Whether an entry is live with a wave, where one is named."""
    if wave is None:
        return lambda _: True
    of_wave = within(move.ledger.settings, wave)
    return lambda entry: of_wave(entry.site, entry.key)


def _of_the_books(move: MoveState, looks: Looks) -> Iterator[GateLine]:
    top, mine = looks.top, filter(_is_of(move, looks.wave), move.entries)
    ranked = sorted(mine, key=lambda e: (-e.evidence.value, e.legacy_url))
    opened = [e for e in ranked if e.answer.kind == AnswerKind.OPEN]
    among = [e for e in ranked[:top] if e.answer.kind == AnswerKind.OPEN]
    told = f"{len(ranked) - len(opened):,} of {len(ranked):,} entries are answered"
    told += f"; {len(among):,} of the {min(top, len(ranked)):,} most valuable are open"
    light = Light.NO_GO if among or not ranked else Light.GO
    yield GateLine("answers", light, told, "upright review" if among else "")
    wanted = [e for e in ranked if e.answer.kind == AnswerKind.WANTED]
    if wanted:
        told = f"{_count(len(wanted), 'page')} still to be written"
        yield GateLine("pages to come", Light.NO_GO, told, "upright entries --answer wanted")
    checked = check_ledger(move)
    errors = sum(f.severity == Severity.ERROR for f in checked.findings)
    warnings = checked.faults - errors
    told = (
        f"{_count(errors, 'error')} and {_count(warnings, 'warning')} in "
        f"{_count(checked.rules, 'answer')} with a rule"
    )
    fault = checked.faults > 0
    yield GateLine("faults", _light(well=not fault), told, "upright check" if fault else "")
    if checked.proof is not None:
        state = checked.proof.state
        told = {
            ProofState.PROVED: "no URL at all runs into a chain or loop",
            ProofState.WITNESS: f"{len(checked.proof.witnesses):,} addresses are sent on again",
            ProofState.UNDECIDED: "it is undecided for some templates",
        }[ProofState(state)]
        well = state == ProofState.PROVED
        yield GateLine("proof", _light(well=well), told, "" if well else "upright check")


def _of_the_build(move: MoveState, looks: Looks) -> Iterator[GateLine]:
    running, wave = looks.running, looks.wave.name if looks.wave is not None else ""
    with move.ledger.reading() as connection:
        build = last_build(connection, wave)
        late = build is not None and changed_since(connection, build.step)
    if build is None or late:
        told = "answers were changed after the last build" if late else "nothing is built yet"
        remedy = "upright build --for nginx --out rules/" + (f" --wave {wave}" if wave else "")
        yield GateLine("build", Light.NO_GO, told, remedy)
    else:
        which = f"all answers of the wave {wave}" if wave else "all answers"
        told = f"build {build.id} ({build.dialect}, {build.rules:,} rules) holds {which}"
        yield GateLine("build", Light.GO, told)
    if running is None:
        told = "whether the server runs it: --running FILE says"
        yield GateLine("server's file", Light.OPEN, told, "upright launch --running FILE")
        return
    found = drift(move, running, looks.wave)
    told = f"{len(found.differing):,} of {found.asked:,} addresses differ from the ledger"
    remedy = f"upright handover --running {running}" if found.differing else ""
    yield GateLine("server's file", _light(well=not found.differing), told, remedy)


def _of_the_server(move: MoveState, looks: Looks) -> Iterator[GateLine]:
    of_wave = _is_of(move, looks.wave)
    asked = own_requests(move, wanted=of_wave).most_valuable(move, looks.top)
    which = (
        ("most valuable", "launch-top", asked),
        ("schemes and hosts", "launch-matrix", host_matrix(move)),
    )
    for about, name, requests in which:
        try:
            results = looks.ask(move, requests, name)
        except StoppedError:
            raise
        except InputError as error:  # of a server that does not answer: that is what it says
            yield GateLine(about, Light.NO_GO, error.message, "")
            continue
        wrong = ", ".join(f"{n:,} {v}" for v, n in results.counts.items() if v != Verdict.OK)
        well = results.counts.get(Verdict.OK, 0)
        told = f"{well:,} of {len(results.rows):,} addresses are ok" + (wrong and f"; {wrong}")
        remedy = f"upright runs {results.run}" if results.faults else ""
        yield GateLine(about, _light(well=not results.faults), told, remedy)


def _of_the_site(move: MoveState, survey: Callable[[], Audited] | None) -> GateLine:
    about = "sitemap, noindex, robots"
    if survey is None:
        start = f"upright survey {move.sites.new[0]} --connect HOST=ADDRESS"
        return GateLine(about, Light.OPEN, "a survey needs --connect in place of --at", start)
    try:
        result = survey()
    except InputError as error:
        return GateLine(about, Light.NO_GO, error.message)
    grave = [
        f
        for f in result.faults
        if f.audit in _AUDITS and f.severity == Severity.ERROR and f.kind not in _CUT_SHORT
    ]
    if grave:
        told, well = "; ".join(f.text for f in grave[:_NAMED]), False
    elif not result.site.pages:
        told, well = "no page of the new site answers", False
    else:
        told, well = f"nothing keeps search engines from {result.site.pages:,} pages", True
    remedy = "" if well else f"upright survey --again {result.run}"
    return GateLine(about, _light(well=well), told, remedy)


def _count(count: int, name: str) -> str:
    return f"{count:,} {name}{'' if count == 1 else 's'}"


def _light(*, well: bool) -> Light:
    return Light.GO if well else Light.NO_GO
