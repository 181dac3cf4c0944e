"""Of which old site the rules of a server's file are."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from upright_ledger.app.collect.reading.reading_options import ALL_HOSTS, base_origin
from upright_ledger.core.rules.imported.rule import ImportedRule
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.origins import Sites
from upright_ledger.errors import InputError
from upright_ledger.ledger.store import Ledger


def rules_for(
    ledger: Ledger, host: str, path: Path, rules: Sequence[ImportedRule]
) -> list[ImportedRule]:
    """The rules of a server's file, for the old site that it is of: the named host's, the one that
    there is, or all of them (ALL_HOSTS). Raises InputError where there are several, and neither the
    file nor the user says which.
    """
    sites = ledger.settings.sites
    if len(sites.old) == 1 or host == ALL_HOSTS or all(rule.names_host for rule in rules):
        return list(rules)
    if not host:
        raise InputError(
            f"{path} does not say for which of the old hosts its rules are",
            f"give --host, one of: {', '.join(_declared(sites))}; or '*' if they are for all",
        )
    site = sites.site_of(parse_address(base_origin(sites, host)))
    hosts = [authority for authority, name in sites.site_of_authority.items() if name == site]
    return [rule.for_hosts(sorted(hosts)) for rule in rules]


def _declared(sites: Sites) -> list[str]:
    """The hosts of the old sites, as they were given."""
    return [parse_address(origin).authority for site in sites.old for origin in site.origins]
