"""What a large ledger's answers amount to, kept beside it, so that what `check` worked out need not
be worked out again by `build`, `rehearse` and the others.

The file is written whole and safe to delete. The ledger's database says of which bytes it is, at
which step of the journal, by which settings and by which program they were worked out; where any of
that differs, it is not used.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import xxhash

from upright_ledger.app.known_faults import settings_digest
from upright_ledger.core.rules.canonical_form import CanonicalForm
from upright_ledger.core.rules.compiler import ExcludedRule, Exclusion
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.finding import Finding, FindingKind
from upright_ledger.core.rules.proofs.proof import Proof
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.core.rules.templates.template_syntax import read_source
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.errors import InputError
from upright_ledger.formats.files.atomic import write_whole
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.lines.kept import find_kept, keep
from upright_ledger.ledger.store import Ledger

if TYPE_CHECKING:
    from upright_ledger.core.checks.compiled_rules import CompiledRules

FILE = ".compiled-rules"
"""In a ledger's folder."""
ENOUGH = 5_000
"""Answers from which on keeping them is worth it."""
_NAME = "rules"


@dataclass(frozen=True)
class KeptRules:
    """What answers amount to, as `CompiledRules` has it; `many`: how many answers ask for a
    rule.
    """

    rules: RuleSet
    findings: list[Finding]
    held_back: list[ExcludedRule]
    left_out: list[ExcludedRule]
    proof: Proof
    kept_as: Mapping[tuple[str, str], str]
    many: int

    @property
    def all_rules(self) -> RuleSet:
        """The rules; there are no imported ones where they are kept."""
        return self.rules

    def __len__(self) -> int:
        return self.many


class _Template(msgspec.Struct, array_like=True):
    site: str
    source: str
    status: int
    destination: str
    legacy_url: str
    query: QueryPolicy
    slash: str


class _Excluded(msgspec.Struct, array_like=True):
    legacy_url: str
    kind: str
    reason: str


class _Document(msgspec.Struct):
    rules: Sequence[ExactRule]
    site_of: dict[str, str]
    fold_case: bool
    tracking: tuple[str, ...]
    significant: dict[str, frozenset[str]]
    templates: list[_Template]
    forms: tuple[CanonicalForm, ...]
    findings: list[Finding]
    held_back: list[_Excluded]
    proof: Proof
    kept_as: list[tuple[str, str, str]]
    many: int
    digest: str


def recalled(ledger: Ledger, connection: Connection, step: int) -> KeptRules | None:
    """What was kept of the answers as they stand at a step; None where nothing was, or it does not
    fit.
    """
    found = find_kept(connection, _NAME)
    if found is None or found.step != step or found.value["basis"] != _basis(ledger):
        return None
    with suppress(OSError, msgspec.MsgspecError):
        data = (ledger.folder / FILE).read_bytes()
        if hashlib.sha256(data).hexdigest() == found.value["sha256"]:
            return unpacked(data)
    return None


def keep_rules(ledger: Ledger, compiled: CompiledRules, step: int) -> None:
    """Keep what answers amount to at a step, where they are many and no rules were imported."""
    if compiled.given.blocks or len(compiled) < ENOUGH:
        return
    data = packed(compiled)
    with suppress(InputError, OSError):  # there is no room, or it is somebody else's folder
        write_whole(ledger.folder / FILE, data)
        value = {"basis": _basis(ledger), "sha256": hashlib.sha256(data).hexdigest()}
        ledger.note(lambda connection: keep(connection, _NAME, step, value))


def packed(compiled: CompiledRules | KeptRules) -> bytes:
    """What answers amount to, as bytes."""
    r = compiled.rules
    templates = [
        _Template(t.site, t.source.text, t.status, t.destination, t.legacy_url, t.query, t.slash)
        for t in r.templates
    ]
    held = [_Excluded(h.legacy_url, str(h.kind), h.reason) for h in compiled.held_back]
    kept_as = [(site, path, page) for (site, path), page in compiled.kept_as.items()]
    rules = (r.rules, r.site_of, r.fold_case, r.tracking, r.significant, templates, r.forms)
    told = _Document(
        *rules, compiled.findings, held, compiled.proof, kept_as, len(compiled), r.digest
    )
    return msgspec.msgpack.encode(told)


def unpacked(data: bytes) -> KeptRules:
    """The inverse of `packed`. Raises msgspec.MsgspecError."""
    told = msgspec.msgpack.decode(data, type=_Document)
    templates = tuple(
        TemplateRule(
            t.site,
            read_source(t.source, fold=told.fold_case),
            t.status,
            t.destination,
            t.legacy_url,
            t.query,
            t.slash,
        )
        for t in told.templates
    )
    base = RuleSet(tuple(told.rules), told.site_of, told.fold_case, told.tracking)
    rules = replace(base, significant=told.significant, templates=templates, forms=told.forms)
    vars(rules)["digest"] = told.digest
    held = [ExcludedRule(h.legacy_url, _kind(h.kind), h.reason) for h in told.held_back]
    kept_as = {(site, path): page for site, path, page in told.kept_as}
    return KeptRules(rules, told.findings, held, [], told.proof, kept_as, told.many)


def _kind(text: str) -> FindingKind | Exclusion:
    return Exclusion(text) if text in set(Exclusion) else FindingKind(text)


def _basis(ledger: Ledger) -> str:
    """Of all that answers rest on besides the steps of the journal."""
    return f"{settings_digest(ledger.settings)} {_program()}"


@cache
def _program() -> str:
    """Of the program: of its files, by name, size and time."""
    package = Path(__file__).parents[1]
    told: list[Any] = []
    for path in sorted(package.rglob("*.py")):
        stat = path.stat()
        told.append((str(path.relative_to(package)), stat.st_size, stat.st_mtime_ns))
    return xxhash.xxh3_128_hexdigest(repr(told).encode())
