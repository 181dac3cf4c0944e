"""Places and words that the lines for HAProxy share."""

from __future__ import annotations

from upright_ledger.core.rules.ruleset import RuleSet

PLACE = "/etc/haproxy/upright"


def bare_host(rules: RuleSet) -> str:
    """Converters that take the port, where it plays no part, and closing dots off a host."""
    return (
        r'regsub("\.+(:|$)","\1")' if rules.ports_matter else r'regsub(":.*$",""),regsub("\.+$","")'
    )
