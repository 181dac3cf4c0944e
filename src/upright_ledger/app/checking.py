"""Checking: the answers of a ledger, or a sheet of pairs without any ledger."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from upright_ledger.app.book import Book
from upright_ledger.app.decide import read_answer
from upright_ledger.app.fixing import Mend
from upright_ledger.core.addresses import Address, NotAnAddressError, guard, parse_address
from upright_ledger.core.checks import StockPage, Surroundings, check
from upright_ledger.core.destinations import page_key, read_destination
from upright_ledger.core.findings import NOTE, Cause, Finding, causes
from upright_ledger.core.folding import FoldingPolicy
from upright_ledger.core.plans import Plan, make_plan
from upright_ledger.core.proofs import Proof, prove
from upright_ledger.core.sites import Sites, group_origins, read_origin
from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats import columns as col
from upright_ledger.formats.pairs import Pair, mend_slash, read_pairs
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables import read_table

_NO_HOST = "http://no-host-given.invalid"


@dataclass
class Checked:
    """What a check found.

    rules: answers looked at. origins: those that need not be shown. assumed: what was taken for granted, in
    words. proof: what holds for every URL there is; mends: what --fix changed; both for a ledger. rejected: (row, old address, reason) of rows that could not be checked.
    """

    rules: int
    findings: list[Finding]
    origins: tuple[str, ...] = ()
    assumed: list[str] = field(default_factory=list)
    rejected: list[tuple[int, str, str]] = field(default_factory=list)
    proof: Proof | None = None
    mends: list[Mend] = field(default_factory=list)

    @property
    def causes(self) -> list[Cause]:
        return causes(self.findings)

    @property
    def faults(self) -> int:
        """Findings that are more than notes."""
        return sum(1 for f in self.findings if f.severity != NOTE)

    def as_dict(self) -> dict[str, Any]:
        return {
            "findings": [
                {
                    "kind": f.kind,
                    "severity": f.severity,
                    "legacy_url": f.legacy_url,
                    "destination": f.destination,
                    "detail": f.detail,
                }
                for f in self.findings
            ],
            "counts": dict(Counter(f.kind for f in self.findings)),
            "causes": [{"kind": c.kind, "text": c.text, "count": c.count} for c in self.causes],
            "rules": self.rules,
            "assumed": self.assumed,
            "rejected": [{"row": line, "old": old, "reason": why} for line, old, why in self.rejected],
            "mended": [
                {
                    "legacy_url": m.entry.legacy_url,
                    "before": m.before.destination,
                    "after": m.after.destination,
                    "answer": m.after.kind,
                    "kinds": list(m.kinds),
                }
                for m in self.mends
            ],
            "proof": self.proof
            and {
                "state": self.proof.state,
                "rules": self.proof.rules,
                "witnesses": [{"url": w.url, "way": list(w.way), "loops": w.loops} for w in self.proof.witnesses],
                "undecided": self.proof.undecided,
            },
        }


def check_ledger(book: Book, mends: Sequence[Mend] = ()) -> Checked:
    """Check all answers of a ledger. mends: what was mended just now."""
    shown = (book.sites.old[0].origins[0], book.sites.new[0])
    return Checked(
        len(book.plans) + len(book.all_templates), book.findings, shown, proof=prove(book.all_rules), mends=list(mends)
    )


def check_pairs(
    path: Path,
    *,
    old: tuple[str, ...] = (),
    new: tuple[str, ...] = (),
    slash: str = "as-stock",
    stock: Path | None = None,
    encoding: str = "",
) -> Checked:
    """Check a sheet of pairs without any ledger.

    old, new: the origins the sheet speaks of; read off the sheet itself where they are not given.
    stock: a table of the new site's pages with their status.
    """
    pairs = read_pairs(path, encoding)
    rejected = [(line, "", why) for line, why in pairs.rejected]
    assumed: list[str] = []
    listed = _read_stock(stock) if stock else []
    sites = _sites(pairs.rows, old, new, _origins(url for url, _ in listed), assumed)
    policy = FoldingPolicy()
    plans, written = [], {}
    for pair in pairs.rows:
        try:
            plan = _plan(path.name, pair, sites, policy)
        except NotAnAddressError as error:
            rejected.append((pair.line, pair.old, str(error)))
            continue
        if plan is not None:
            plans.append(plan)
            written[plan.destination] = pair.new
    if not plans:
        raise InputError(
            f"{path} holds no pair that can be checked: row {rejected[0][0]}: {rejected[0][2]}",
            "it needs the columns old and new",
        )
    pages = _stock(listed, sites)
    homes = frozenset(f"{origin}/" for origin in sites.new)
    found = check(plans, Surroundings(sites, policy, pages, homes, slash))
    host = sites.new[0] if sites.new[0] == _NO_HOST else ""
    shown = [
        replace(f, destination=written.get(f.destination, f.destination), detail=_without(f.detail, host))
        for f in found
    ]
    return Checked(len(plans), shown, sites.new[:1], assumed, rejected)


def _without(text: str, host: str) -> str:
    return text.replace(host, "") if host else text


def _plan(name: str, pair: Pair, sites: Sites, policy: FoldingPolicy) -> Plan | None:
    old, new = mend_slash(pair.old)[0], mend_slash(pair.new)[0]
    answer = read_answer(pair.status, new)
    if not answer.has_rule:
        return None
    address = parse_address(old, sites.old[0].origins[0])
    if reason := guard(address.target):
        raise NotAnAddressError(reason)
    goal = read_destination(answer.destination, _base_for(address, sites)).text if answer.destination else ""
    given = not old.startswith(("/", "?"))
    return make_plan(
        address,
        sites.site_of(address),
        policy,
        answer.status,
        goal,
        host_given=given,
        where=f"{name} row {pair.line}",
        label=pair.old,
    )


def _base_for(old: Address, sites: Sites) -> str:
    """Where a bare new path lies: on the old address's own host if pages live there, as a server would take it."""
    return old.origin if sites.is_new(old) else sites.new[0]


def _sites(
    rows: list[Pair], old: tuple[str, ...], new: tuple[str, ...], stocked: list[str], assumed: list[str]
) -> Sites:
    """The sites a sheet speaks of. What has to be assumed is said in `assumed`."""
    try:
        old_origins = [read_origin(u) for u in old] or _origins(r.old for r in rows)
        new_origins = [read_origin(u) for u in new] or _origins(r.new for r in rows)
    except NotAnAddressError as error:
        raise UsageError(
            f"an origin cannot be used: {error}", "write it as in https://www.quillhaven.example"
        ) from None
    bare_old = any(not _has_host(r.old) for r in rows)
    if not new_origins:
        new_origins = stocked or old_origins or [_NO_HOST]
    if not old_origins:
        old_origins = new_origins[:1]
        if bare_old and old_origins[0] != _NO_HOST:
            assumed.append(
                f"old paths are taken to lie on {old_origins[0]}, where the pages are; say --old URL if they lie elsewhere"
            )
    return Sites(group_origins(old_origins), tuple(new_origins))


def _origins(texts: Any) -> list[str]:
    counts: Counter[str] = Counter()
    for text in texts:
        if _has_host(text):
            try:
                counts[parse_address(text).origin] += 1
            except NotAnAddressError:
                continue
    return [origin for origin, _ in sorted(counts.items(), key=lambda item: (-item[1], item[0]))]


def _has_host(text: str) -> bool:
    try:
        parse_address(mend_slash(text)[0])
    except NotAnAddressError:
        return False
    return True


def _read_stock(path: Path) -> list[tuple[str, StockPage]]:
    """Address (as written) and page of every row of a page list."""
    table = read_table(path, ReadOptions())
    return [
        (
            table.cell(row, col.URL),
            StockPage(col.status_code(table.cell(row, col.STATUS)), table.cell(row, col.REDIRECTS_TO)),
        )
        for _, row in table.rows
        if row
    ]


def _stock(listed: list[tuple[str, StockPage]], sites: Sites) -> dict[str, StockPage]:
    """Page key → page. A row that is no address cannot be anybody's destination and is left out."""
    found = {}
    for url, page in listed:
        try:
            found[page_key(read_destination(url, sites.new[0]))] = page
        except NotAnAddressError:
            continue
    return found
