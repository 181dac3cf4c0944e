"""Folding: what the ledger suggests, and changing the policy with all entries folded anew."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import nullcontext
from dataclasses import dataclass, field, replace
from itertools import chain
from typing import Any

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.parameter_inference import (
    Doubt,
    SeenQuery,
    Suggestion,
    named_like_sessions,
    suggest,
)
from upright_ledger.core.inventory.placing.classification import Classifier
from upright_ledger.core.url.address import address_of
from upright_ledger.errors import RefusedError, UsageError
from upright_ledger.ledger.db.policies import share, shared_settings, stored_policy
from upright_ledger.ledger.lines.keeping import follow
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.entries import (
    count_entries,
    hosts_of,
    seen_queries,
    titles_without_query,
)
from upright_ledger.ledger.tables.reclassify import ACCESS_LOG, know_stock
from upright_ledger.ledger.tables.renormalise import Refolded, refold
from upright_ledger.ledger.tables.sources import list_sources
from upright_ledger.settings.file import (
    FILE_NAME,
    draft_policy,
    put_draft,
    write_policy,
    write_shared,
)
from upright_ledger.settings.shared import tables_in

CLASSES_BY_FORM = ("furniture", "probe", "random", "bots only", "page asset")


@dataclass
class FoldingReport:
    """What is suggested, and what was done. before, after: entries. applied: None where nothing was
    changed.

    doubts: parameters that are kept although they are named like sessions. needed: parameters that
    choose a page now and were left out of logs when these were gathered; lacking: (source, its
    step) of those logs.
    """

    suggestions: list[Suggestion]
    before: int
    after: int
    applied: Refolded | None = None
    changes: list[str] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)
    needed: list[str] = field(default_factory=list)
    lacking: list[tuple[str, int]] = field(default_factory=list)


def folding(
    ledger: Ledger,
    *,
    accept: bool = False,
    apply: bool = False,
    significant: Iterable[tuple[str, tuple[str, ...]]] = (),
    case: str = "",
    take_back: Iterable[str] = (),
) -> FoldingReport:
    """See `_folding`; where something is to be changed, one of a team at a time."""
    how = {"significant": significant, "case": case, "take_back": take_back}
    with ledger.alone_at("fold") if accept or apply or any(how.values()) else nullcontext():
        return _folding(
            ledger,
            accept=accept,
            apply=apply,
            significant=significant,
            case=case,
            take_back=take_back,
        )


def _folding(
    ledger: Ledger,
    *,
    accept: bool,
    apply: bool,
    significant: Iterable[tuple[str, tuple[str, ...]]],
    case: str,
    take_back: Iterable[str],
) -> FoldingReport:
    """Work out suggestions; with `accept` or a change, change the policy and fold all entries anew,
    as one step.

    apply: fold under what the settings file says now. Raises RefusedError where the file was
    changed and `apply` is not given.
    """
    number, stored = ledger.stored_policy()
    proposed = ledger.otherwise
    if apply:
        ledger.take_own_settings()
    wanted = ledger.settings.policy if apply else stored
    if not apply and (accept or significant or case or take_back):
        with ledger.reading() as connection:
            ledger.refuse_other_policy(connection)
    changing = apply or bool(significant or case or take_back)
    with ledger.reading() as connection:
        before = count_entries(connection)
        asked = [] if changing and not accept else seen_queries(connection)
        plain = titles_without_query(connection, (text for text, _, _ in asked)) if asked else {}
        alone = ((text, title, 0) for text, title in plain.items())
        seen = list(_seen(chain(asked, alone), stored))
    suggestions = suggest(seen, stored)
    chosen = dict(wanted.significant)
    if accept:
        chosen |= {s.path: s.significant for s in suggestions}
    chosen |= dict(significant)
    policy = replace(
        wanted,
        case=case or wanted.case,
        significant=chosen,
        take_back=tuple(dict.fromkeys((*wanted.take_back, *map(_checked, take_back)))),
    )
    report = FoldingReport(suggestions, before, before, doubts=named_like_sessions(seen, policy))
    other_hosts = _other_hosts(ledger) if apply else []
    if policy == stored and not other_hosts and not (apply and proposed):
        return report
    report.changes = differences(stored, policy) + other_hosts
    report.changes += [f"[{name}] shared" for name in proposed if apply and name != "folding"]
    report.needed, kinds = _needed(stored, policy)
    with ledger.reading() as connection:
        logs = [
            s
            for s in list_sources(connection)
            if kinds & {k for k, n in (s.mended or {}).items() if n}
        ]
    report.lacking = [(s.name, s.step) for s in logs if s.kind == ACCESS_LOG]
    with ledger.step("fold") as step:
        if stored_policy(step.connection)[0] != number:
            raise RefusedError(
                "somebody folded all entries anew meanwhile",
                "look at them, and run it again; nothing was changed",
            )
        report.before = count_entries(step.connection)
        placer = Classifier(ledger.settings.sites, policy)
        know_stock(step.connection, placer)
        report.applied = refold(step, placer)
        if apply and ledger.database.is_shared:
            share(step, tables_in(ledger.folder / FILE_NAME))
        follow(step, ledger.settings)
        report.after = count_entries(step.connection)
        step.summary = (
            f"{report.before:,} entries became {report.after:,}: {'; '.join(report.changes)}"
        )
        # Before the database has it: whenever this ends, the next command knows which one holds.
        draft_policy(ledger.folder, policy)
    put_draft(ledger.folder)
    ledger.read_settings()
    report.suggestions = [
        s
        for s in suggestions
        if policy.significant_at(s.path) is None and s.path not in policy.significant
    ]
    return report


def put_back(ledger: Ledger) -> list[str]:
    """Write the folding policy under which the entries stand into the settings again; what was
    changed there, in a few words each.

    Raises RefusedError where the settings cannot say what the entries stand under.
    """
    stored = ledger.stored_policy()[1]
    if ledger.otherwise:
        with ledger.reading() as connection:
            shared = shared_settings(connection)
        changes = [f"[{name}]" for name in ledger.otherwise]
        if shared is not None:
            write_shared(ledger.folder, shared)
        ledger.read_settings()
        return changes
    changes = differences(stored, ledger.settings.policy)
    if changes:
        write_policy(ledger.folder, stored)
        ledger.read_settings()
        if ledger.settings.policy != stored:
            raise RefusedError(
                "the entries stand under the folding rules of another version of this program",
                "`upright fold --apply` folds all entries anew, as one step that can be undone",
            )
    return changes


def _needed(old: FoldingPolicy, new: FoldingPolicy) -> tuple[list[str], set[str]]:
    """Parameters that logs were read without and that would be read now, and their kinds."""
    names = {
        *old.tracking,
        *old.tracking_only_folded,
        *old.session,
        *(n for names in new.significant.values() for n in names),
    }
    found = {n: old.noise(n) for n in names if old.noise(n) and not new.noise(n)}
    return sorted(found), set(found.values())


def _other_hosts(ledger: Ledger) -> list[str]:
    """What changed of the hosts of old sites since spellings were folded last, in a few words
    each.
    """
    sites = ledger.settings.sites
    with ledger.reading() as connection:
        hosts = hosts_of(connection)
    joined = {h for h, site in hosts if not site and sites.site_of(address_of(f"http://{h}/"))}
    left = {h for h, site in hosts if site and sites.site_of(address_of(f"http://{h}/")) != site}
    return [f"{h} is a host of an old site now" for h in sorted(joined)] + [
        f"{h} is none of its site now" for h in sorted(left)
    ]


def _checked(text: str) -> str:
    if text.startswith("/") or text in CLASSES_BY_FORM:
        return text
    raise UsageError(
        f"{text!r} is no class and no path",
        f"name a path from /, or one of: {', '.join(CLASSES_BY_FORM)}; an old host comes back as "
        "an origin in upright.toml",
    )


def _seen(rows: Iterable[tuple[str, str, int]], policy: FoldingPolicy) -> Iterable[SeenQuery]:
    """Spellings as the core looks at them: (spelling, title, status); none whose parameters all say
    nothing.
    """
    for spelling, title, status in rows:
        path, _, query = spelling[spelling.index("/", 8) :].partition("?")
        params: dict[str, str] = {}
        for part in query.split("&"):
            name, _, value = part.partition("=")
            if name and not policy.purpose(name, value):
                params.setdefault(name, value)
        if params or not query:
            yield SeenQuery(policy.fold_path(path)[0], params, title, status)


def differences(old: FoldingPolicy, new: FoldingPolicy) -> list[str]:
    """What changed between two policies, in a few words each."""
    found = []
    if old.version != new.version:
        found.append("folding rules of this version of the program")
    if old.case != new.case:
        found.append(f"case {new.case}")
    for path in sorted({*old.significant, *new.significant}):
        names = new.significant.get(path)
        if names != old.significant.get(path):
            found.append(
                f"{path}: every parameter"
                if names is None
                else f"{path}: {', '.join(names) or 'no parameter'}"
            )
    was: dict[str, Any] = old.as_dict()
    for key, values in new.as_dict().items():
        if key not in {"case", "significant", "version"} and values != was[key]:
            added = [v for v in values if v not in was[key]]
            gone = [v for v in was[key] if v not in values]
            found.append(
                f"{key.replace('_', ' ')}: {', '.join([*added, *(f'without {v}' for v in gone)])}"
            )
    return found
