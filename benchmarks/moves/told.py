"""Moves that happened, read from folders with moves.csv (old, title, new) and pages.csv (url,
title).
"""

from __future__ import annotations

import csv
from dataclasses import replace
from pathlib import Path

from moves.site_move import SiteMove
from upright_ledger.core.matching import MatchPage
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.language import page_languages


def read_move(folder: Path) -> SiteMove:
    """The move of a folder; addresses that differ in scheme and closing slash alone are one."""
    moves, pages = _rows(folder / "moves.csv"), _rows(folder / "pages.csv")
    there = {_key(p["url"]): (p["url"], p["title"]) for p in reversed(pages)}
    move = SiteMove()
    move.new = _in_languages([match_page(*p) for p in there.values() if p[0].count("/") > 3])
    names = {_key(p.name): p.name for p in move.new}
    olds = {m["old"]: m["title"] for m in reversed(moves)}
    move.old = _in_languages([match_page(*p) for p in olds.items()])
    for m in moves:
        move.truth[m["old"]] = {names.get(_key(m["new"]), m["new"])}
    return move


def match_page(url: str, title: str = "", item: str = "") -> tuple[MatchPage, Address]:
    """An address as a page to match."""
    address = parse_address(url)
    values = tuple(p.partition("=")[2] for p in address.query.split("&") if p)
    return MatchPage(url, address.path, title, values, items=(item,) if item else ()), address


def _in_languages(pages: list[tuple[MatchPage, Address]]) -> list[MatchPage]:
    told = page_languages([(address.host, address.path, "") for _, address in pages])
    return [replace(page, language=code) for (page, _), code in zip(pages, told, strict=True)]


def _rows(file: Path) -> list[dict[str, str]]:
    with file.open(encoding="utf-8", newline="") as opened:
        return list(csv.DictReader(opened))


def _key(url: str) -> str:
    return parse_address(url).without_fragment.partition("://")[2].rstrip("/")
