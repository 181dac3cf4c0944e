"""Building: the rule set as files for a server, with a manifest and a plain list."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import structs

from upright_ledger import __version__
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.builds.build_files import (
    CHANGES,
    MANIFEST,
    RULE_LIST,
    RuleChange,
    answers_in_words,
    changes,
    changes_csv,
    digest_in,
    put_build,
    put_into,
    read_list,
    sums_of,
)
from upright_ledger.app.prove.builds.deployed_rules import (
    answers_of,
    compared_urls,
    deployed_rules,
    is_rule_file,
)
from upright_ledger.app.prove.check import what_is_known
from upright_ledger.app.waves import RulesOfWave, rules_of_wave
from upright_ledger.core.inventory.sections import Wave
from upright_ledger.core.rules.compiler import ExcludedRule
from upright_ledger.core.rules.generality import CAUTIOUS
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS, TemplateRule
from upright_ledger.core.word import Word
from upright_ledger.errors import RefusedError, UsageError
from upright_ledger.formats.files.atomic import csv_bytes, json_bytes
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.lines.kept import keep
from upright_ledger.ledger.tables.runs.builds import add_build
from upright_ledger.servers import DIALECTS, load_dialect, load_server
from upright_ledger.servers.import_list import Profile

if TYPE_CHECKING:
    from upright_ledger.core.rules.condenser import Condensed


@dataclass
class Built:
    """What was built: where, from which rules, and what was held back with its reasons. condensed:
    templates that took the place of exact rules; before: how many rules there were without them.
    changes: against what stood in `compared` before; other_digest: what stood in the folder meant
    something else. backup: of the file into which the rules were put. sums: the SHA-256 of every
    file but the manifest. wave: of which it is, with its rules; None for the whole site.
    """

    server: str
    folder: Path
    files: list[str]
    rules: RuleSet
    held_back: list[ExcludedRule]
    condensed: list[Condensed] = field(default_factory=list)
    before: int = 0
    changes: list[RuleChange] = field(default_factory=list)
    compared: str = ""
    other_digest: bool = False
    backup: Path | None = None
    sums: dict[str, str] = field(default_factory=dict)
    wave: Wave | None = None
    of_wave: RulesOfWave | None = None
    time: str = field(default_factory=now)

    def manifest(self, ledger: str) -> dict[str, Any]:
        counts = Counter([rule.status for rule in self.rules.answering])
        return {
            "ledger": ledger,
            "server": self.server,
            "digest": self.rules.digest,
            "time": self.time,
            "program": f"upright-ledger {__version__}",
            **self._wave_told(),
            "rules": len(self.rules.answering),
            "templates": sum(1 for t in self.rules.templates if t.status != PASS),
            "by_status": {str(status): counts[status] for status in sorted(counts)},
            "condensed": [
                {
                    "old": c.template.source.text,
                    "new": c.template.destination,
                    "status": c.template.status,
                    "replaced": c.replaced,
                    "examples": list(c.examples),
                    "beyond": {"old": c.beyond[0], "new": c.beyond[1]} if c.beyond else None,
                }
                for c in self.condensed
            ],
            "changes": dict(Counter(c.kind for c in self.changes)),
            "held_back": [
                {"legacy_url": h.legacy_url, "kind": h.kind, "reason": h.reason}
                for h in self.held_back
            ],
            "files": self.files,
            "sums": self.sums,
        }

    def _wave_told(self) -> dict[str, Any]:
        if self.wave is None or self.of_wave is None:
            return {}
        sections, found = sorted(self.wave.sections), self.of_wave
        return {
            "wave": self.wave.name,
            "sections": sections,
            "later": found.later,
            "waiting": found.waiting,
            "proof": found.proof.state,
        }


class Condensing(Word):
    """How far templates take the place of exact rules."""

    CAUTIOUS = "cautious"
    BOLD = "bold"


@dataclass(frozen=True)
class BuildRequest:
    """What to build. server: for whom; folder: where the files go. condensing: CAUTIOUS or BOLD
    puts templates in the place of exact rules. against: a list of rules, or a file that a server
    runs, to compare with instead of the last build in the folder. into: a file whose block of rules
    is replaced, too. wave: what is live with it, and no more. force: write more rules than a server
    can bear. dry_run: only say what would be built.
    """

    server: str
    folder: Path
    condensing: str = ""
    against: Path | None = None
    into: Path | None = None
    wave: Wave | None = None
    force: bool = False
    dry_run: bool = False


def build(move: MoveState, request: BuildRequest) -> Built:
    """Write the sound rules of a book for a server. The files are read back before any is put in
    place.
    """
    server, folder, wave = request.server, request.folder, request.wave
    condensing, against, into = request.condensing, request.against, request.into
    profiles = [
        Profile(name, **structs.asdict(p)) for name, p in move.ledger.settings.profiles.items()
    ]
    dialect = load_dialect(server, profiles, lambda: _worth(move), move.sites.new[0])
    if not move.compiled.rules.answering and move.compiled.held_back:
        raise UsageError(
            f"none of the answers can be built: {move.compiled.held_back[0].legacy_url}: "
            f"{move.compiled.held_back[0].reason}",
            f"upright check shows what is wrong with each of the {len(move.compiled.held_back):,} "
            "that are "
            "held back",
        )
    if not move.compiled.rules.answering and not move.compiled.rules.forms:
        raise UsageError(
            "there are no rules to build yet", "upright match, or upright decide, gives answers"
        )
    if into is not None and not dialect.include_file:
        others = [name for name in DIALECTS if load_server(name).include_file]
        raise UsageError(
            f"--into is not for {server}", f"it puts rules into the files of {', '.join(others)}"
        )
    of_wave = rules_of_wave(move, wave) if wave is not None else None
    rules = of_wave.rules if of_wave else move.compiled.rules
    told: list[Condensed] = []
    whole = len(rules.answering)
    if of_wave is not None and not whole:
        raise UsageError(
            "no answer belongs to that wave", "upright balance shows how far each is answered"
        )
    if condensing:
        from upright_ledger.core.rules.condenser import condense  # loads Arrow

        rules, told = condense(
            rules,
            move.requests,
            move.protected_urls,
            move.sites,
            move.policy,
            bold=condensing == Condensing.BOLD,
            bound=None if condensing == Condensing.BOLD else CAUTIOUS,
        )
    cache_control = move.ledger.settings.cache_control
    if rules.blocks or rules.cache_control != cache_control:
        rules = replace(rules, cache_control=cache_control, blocks=())
    if 0 < dialect.most_rules < len(rules.answering) and not request.force:
        raise RefusedError(
            f"{len(rules.answering):,} rules are too many for {server}, which takes "
            f"{dialect.most_rules:,}: {dialect.too_many}",
            "condense them (--condense), build for another server, or say --force",
        )
    translation = dialect.write(rules)
    differences = dialect.read_back(translation.files, translation.rules)
    if differences:
        raise RefusedError(
            f"the files for {server} do not read back as the rules they were made from: "
            f"{differences[0]}",
            "nothing was written: report this as a fault of the program",
        )
    held = [*move.compiled.held_back, *translation.refused, *move.compiled.left_out]
    held += of_wave.held_back if of_wave is not None else []
    files = dict(translation.files)
    files.setdefault(RULE_LIST, rule_list(translation.rules))
    if against is not None and is_rule_file(against):
        deployed = deployed_rules(against, move)
        urls = compared_urls(deployed, move)
        before, after = answers_of(deployed, urls), answers_of(translation.rules, urls)
    else:
        before = read_list(against or folder / RULE_LIST)
        after = answers_in_words(translation.rules) if before else {}
    built = Built(
        server, folder, sorted([*files, CHANGES, MANIFEST]), translation.rules, held, told
    )
    built.before = whole
    built.wave, built.of_wave = wave, of_wave
    built.compared = str(against or (folder if before else ""))
    built.changes = changes(before, after) if before else []
    files[CHANGES] = changes_csv(built.changes)
    built.other_digest = digest_in(folder) not in {"", translation.rules.digest}
    built.sums = sums_of(files)
    files[MANIFEST] = json_bytes(built.manifest(move.ledger.settings.name))
    if request.dry_run:
        return built
    put_build(folder, files, keep=built.other_digest, force=request.force)
    if into is not None:
        built.backup = put_into(
            into, files[dialect.include_file].decode(), translation.rules.digest
        )
    with move.ledger.writing() as connection:
        keep(connection, *what_is_known(move).as_kept())
        add_build(
            connection,
            server,
            translation.rules.digest,
            str(folder),
            len(translation.rules.answering),
            len(held),
            wave,
        )
    return built


def _worth(move: MoveState) -> dict[tuple[str, str], float]:
    """Site and key of each entry → its value."""
    return {(e.site, e.key): e.evidence.value for e in move.entries}


def rule_list(rules: RuleSet) -> bytes:
    """The rules as CSV: old, new, status, query, kind."""
    rows = (
        (
            r.legacy_url,
            r.destination,
            str(r.status),
            r.query,
            "template" if isinstance(r, TemplateRule) else "exact",
        )
        for r in rules.answering
    )
    return csv_bytes(("old", "new", "status", "query", "kind"), rows)
