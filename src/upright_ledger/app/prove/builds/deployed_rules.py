"""Rules that a server runs now, compared with those of the ledger by what both answer."""

from __future__ import annotations

from pathlib import Path

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import parse_address
from upright_ledger.errors import InputError
from upright_ledger.formats.files.text import read_text


def is_rule_file(path: Path) -> bool:
    """Whether a file holds rules in a server's language, and is no list of rules."""
    from upright_ledger.formats.server_config.detection import PAIRS, dialect_of

    return (
        path.is_file()
        and path.suffix.lower() != ".csv"
        and dialect_of(path, read_text(path, "")) != PAIRS
    )


def deployed_rules(path: Path, move: MoveState) -> RuleSet:
    """What a server's file does, as rules of this ledger's sites. Raises InputError where nothing
    in it is understood.
    """
    from upright_ledger.formats.server_config.detection import read_rule_file

    read = read_rule_file(path)[1]
    if not read.rules:
        raise InputError(
            f"{path} holds no rule that is understood",
            "compare with the redirects.csv of the build that was deployed"
            if read.missed
            else "name the file with the rules",
        )
    return move.given.of_block(Block(read.rules))


def answers_of(rules: RuleSet, urls: list[str]) -> dict[str, str]:
    """Address → status and Location, for those that are answered."""
    asked = ((address.authority, address.target) for address in map(parse_address, urls))
    answers = zip(urls, rules.answers_of_rules(asked), strict=True)
    return {
        url: f"{answer.status} {answer.location}".strip()
        for url, answer in answers
        if answer is not None
    }


def compared_urls(deployed: RuleSet, move: MoveState) -> list[str]:
    """The addresses on which two rule sets are compared: all entries, and what the deployed rules
    name.
    """
    named = {e.legacy_url for e in move.entries}
    for block in deployed.blocks:
        for rule in block.rules:
            host = rule.host or next(iter(deployed.bases), "")
            if rule.address and host in deployed.bases:
                address = parse_address(f"http://{host}{rule.address}")
                entry = move.entry_of(address)
                named.add(entry.legacy_url if entry else address.without_fragment)
    return sorted(named)
