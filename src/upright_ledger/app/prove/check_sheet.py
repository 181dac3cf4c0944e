"""Checking a sheet of pairs without any ledger."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import Any

from upright_ledger.app.decide.sheets.pair_rows import (
    as_template,
    plainly_written,
    read_answer,
    read_query,
)
from upright_ledger.app.prove.check import Checked
from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.checks.query_checks import check_choices
from upright_ledger.core.checks.rule_checks import check, check_crowds
from upright_ledger.core.checks.template_checks import check_templates
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules, make_template
from upright_ledger.core.rules.draft import Plan, make_plan
from upright_ledger.core.rules.finding import in_order
from upright_ledger.core.rules.proofs.one_hop import findings_of, keep_to_one_hop
from upright_ledger.core.rules.proofs.proof import Proof
from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.core.rules.templates.template_syntax import TemplateError
from upright_ledger.core.url.address import Address, NotAnAddressError, parse_address
from upright_ledger.core.url.destination import page_key, read_destination
from upright_ledger.core.url.origins import Sites, group_origins, read_origin
from upright_ledger.core.url.request_target import reject_reason
from upright_ledger.core.url.written_address import as_written
from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables import column_names as col
from upright_ledger.formats.tables.cells import status_code
from upright_ledger.formats.tables.pairs import Pair, read_pairs
from upright_ledger.formats.tables.url_table import read_table

_NO_HOST = "http://no-host-given.invalid"


def check_pairs(
    path: Path,
    *,
    old: tuple[str, ...] = (),
    new: tuple[str, ...] = (),
    slash: str = "as-stock",
    stock: Path | None = None,
    options: ReadOptions | None = None,
) -> Checked:
    """Check a sheet of pairs without any ledger.

    old, new: the origins the sheet speaks of; read off the sheet itself where they are not given.
    stock: a table of the new site's pages with their status.
    """
    on_old, on_new = ([parse_address(o) for o in origins if _has_host(o)] for origins in (old, new))
    options = replace(options or ReadOptions(), hosts=frozenset(a.authority for a in on_old))
    pairs = read_pairs(path, options, frozenset(a.origin for a in on_new))
    rejected = [(line, "", why) for line, why in pairs.rejected]
    assumed: list[str] = list(pairs.notes)
    listed = _read_stock(stock) if stock else []
    sites = _sites(pairs.rows, old, new, _origins(url for url, _ in listed), assumed)
    policy = FoldingPolicy()
    plans, templates, written = list[Plan](), list[TemplateRule](), dict[str, str]()
    for row in pairs.rows:
        pair = row
        try:
            pair = as_template(row)
            if pair.is_template:
                templates.append(_template(path.name, pair, sites))
            elif (
                plan := _plan(path.name, pair, sites, policy, sites.new[0] if new else "")
            ) is not None:
                plans.append(plan)
                written[plan.destination] = pair.new
        except (NotAnAddressError, TemplateError) as error:
            rejected.append((pair.line, pair.old, str(error)))
    rejected.sort(key=lambda row: row[0])
    if not plans and not templates:
        raise InputError(
            f"{path} holds no pair that can be checked: row {rejected[0][0]}: {rejected[0][2]}",
            "it needs the columns old and new",
        )
    pages = _stock(listed, sites)
    homes = frozenset(f"{origin}/" for origin in sites.new)
    around = CheckContext(sites, policy, pages, homes, slash)
    found = check(plans, around)
    sound = keep_to_one_hop(compile_rules(plans, found, sites, policy, templates)[0])
    rules = sound.rules
    found += [
        *check_templates(templates, rules, around),
        *check_crowds(plans, homes),
        *check_choices(plans),
    ]
    found += findings_of(sound, found)
    host = sites.new[0] if sites.new[0] == _NO_HOST else ""
    shown = [
        replace(
            f,
            destination=written.get(f.destination, f.destination),
            detail=_without(f.detail, host),
        )
        for f in in_order(found)
    ]
    proof = _shown(sound.whole_proof, host)
    return Checked(
        len(plans) + len(templates),
        shown,
        sites.new[:1],
        assumed,
        rejected,
        proof,
        mapping=pairs.mapping,
        unused=pairs.unused,
    )


def _shown(proof: Proof, host: str) -> Proof:
    """A proof in whose addresses no host stands that nobody gave."""
    witnesses = [
        replace(w, url=_without(w.url, host), way=tuple(_without(u, host) for u in w.way))
        for w in proof.witnesses
    ]
    return replace(proof, witnesses=witnesses)


def _template(name: str, pair: Pair, sites: Sites) -> TemplateRule:
    """A template of a sheet. Raises TemplateError, NotAnAddressError."""
    scheme, mark, rest = pair.old.partition("://")
    authority, slash, path = rest.partition("/")
    origin = f"{scheme}://{authority}" if mark else sites.old[0].origins[0]
    site = sites.site_of(parse_address(origin))
    answer = read_answer(pair.status, pair.new)
    goal = (
        answer.destination
        if "://" in answer.destination or not answer.destination
        else f"{sites.new[0]}{answer.destination}"
    )
    text = f"{slash}{path}" if mark else pair.old
    label = f"{pair.old} ({name} row {pair.line})"
    return make_template(
        site,
        text,
        answer.status,
        goal,
        label,
        fold=True,
        query=read_query(pair.query),
    )


def _without(text: str, host: str) -> str:
    return text.replace(host, "") if host else text


def _plan(name: str, pair: Pair, sites: Sites, policy: FoldingPolicy, base: str) -> Plan | None:
    """base: where bare new paths lie, if that was said."""
    old, new = plainly_written(pair, sites)
    answer = read_answer(pair.status, new.text)
    if not answer.has_rule:
        return None
    address = parse_address(old.text, sites.old[0].origins[0])
    if reason := reject_reason(address.target):
        raise NotAnAddressError(reason)
    goal = (
        read_destination(answer.destination, base or _base_for(address, sites)).text
        if answer.destination
        else ""
    )
    query = read_query(pair.query)
    given = old.names_host
    return make_plan(
        address,
        sites.site_of(address),
        policy,
        answer.status,
        goal,
        host_given=given,
        where=f"{name} row {pair.line}",
        label=pair.old,
        query=query,
    )


def _base_for(old: Address, sites: Sites) -> str:
    """Where a bare new path lies: on the old address's own host if pages live there, as a server
    would take it.
    """
    return old.origin if sites.is_new(old) else sites.new[0]


def _sites(
    rows: list[Pair],
    old: tuple[str, ...],
    new: tuple[str, ...],
    stocked: list[str],
    assumed: list[str],
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
                f"old paths are taken to lie on {old_origins[0]}, where the pages are; say --old "
                "URL if they lie elsewhere"
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
        parse_address(as_written(text, {}).text)
    except NotAnAddressError:
        return False
    return True


def _read_stock(path: Path) -> list[tuple[str, StockPage]]:
    """Address (as written) and page of every row of a page list."""
    table = read_table(path, ReadOptions())
    return [
        (
            table.cell(row, col.URL),
            StockPage(status_code(table.cell(row, col.STATUS)), table.cell(row, col.REDIRECTS_TO)),
        )
        for _, row in table.rows
        if row and not table.width.fault(row)
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
