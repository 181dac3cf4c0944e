"""Whether a server runs the build that is live, and does what the ledger's rules say."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from upright_ledger.app.live.handover import BuildLine, behind, builds, live_build
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.builds.build_files import (
    RULE_LIST,
    RuleChange,
    answers_in_words,
    changes,
    digest_in,
    read_list,
)
from upright_ledger.app.prove.builds.deployed_rules import (
    answers_of,
    compared_urls,
    deployed_rules,
    is_rule_file,
)
from upright_ledger.app.prove.results import Results
from upright_ledger.app.waves import rules_of_wave
from upright_ledger.core.inventory.sections import Wave
from upright_ledger.core.monitoring.deploy_days import to_the_minute
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import parse_address
from upright_ledger.ledger.tables.runs.builds import live_builds


@dataclass
class Drift:
    """What a server runs, against the rules of the ledger. which: the build that the file says it
    is of, or None. differing: answers that differ.
    """

    file: Path
    asked: int
    which: BuildLine | None = None
    differing: list[RuleChange] = field(default_factory=list)


def _rules_live(move: MoveState) -> RuleSet:
    """The rules that a server should run by now: those of the wave that is live, where one is, and
    else all.
    """
    with move.ledger.reading() as connection:
        live = live_builds(connection)
    wave = live[-1].as_wave if live else None
    return move.compiled.rules if wave is None else rules_of_wave(move, wave).rules


def drift(move: MoveState, file: Path, wave: Wave | None = None) -> Drift:
    """Compare what a server runs with the rules of the ledger, answer by answer. file: of the
    server, or a list of rules. wave: which it should run; None for the one that is live, or all.
    """
    rules = _rules_live(move) if wave is None else rules_of_wave(move, wave).rules
    text = file.read_text(encoding="utf-8", errors="replace") if file.is_file() else ""
    which = next(
        (b for b in builds(move.ledger) if b.digest in text or b.digest == digest_in(file.parent)),
        None,
    )
    built = Path(which.folder) / file.name if which is not None else file
    as_built = which is not None and built.is_file() and built.read_bytes() == file.read_bytes()
    if is_rule_file(file) and not as_built:
        deployed = deployed_rules(file, move)
        urls = compared_urls(deployed, move)
        running, wanted = answers_of(deployed, urls), answers_of(rules, urls)
    else:  # what is as it was built, to the byte, does what its list says
        running = read_list(built.with_name(RULE_LIST) if as_built else file)
        wanted = answers_in_words(rules)
        urls = sorted(running.keys() | wanted.keys())
    return Drift(file, len(urls), which, changes(running, wanted))


def drift_seen(move: MoveState, results: Results) -> str:
    """In words, whether a server that was asked runs something else than the build that is live;
    empty where it does not, or none is live.
    """
    live, late = live_build(move.ledger), behind(move.ledger)
    if live is None or late:
        return late
    asked = otherwise = 0
    rules = _rules_live(move)
    for row in results.rows:
        address = parse_address(row.trace.url)
        answer = rules.answer(address.authority, address.target, address.scheme)
        if answer is not None:
            asked += 1
            otherwise += (row.trace.first_status, row.trace.first_location) != (
                answer.status,
                answer.location,
            )
    if not otherwise:
        return ""
    since = to_the_minute(live.live_from)
    return (
        f"{otherwise:,} of {asked:,} addresses are not answered as build {live.number} does, which "
        f"is live since {since}: the server runs another build, "
        "or something answers before its rules"
    )
