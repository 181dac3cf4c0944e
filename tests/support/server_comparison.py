"""A real server, the reference and the interpreter of a server's files, answer by answer."""

from __future__ import annotations

import re
from pathlib import Path

from conformance import SCHEME_HEADER
from raw_http import ask
from upright_ledger.core.rules.canonical_form import CONNECTION
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.servers import load_dialect
from upright_ledger.servers.interpreters import DeclinedError, Interpreter, ServerRequest
from upright_ledger.servers.protocol import ServerDialect

REFUSED = {
    "nginx": r"/(?:\.|%2e){2}(?:/|$)",
    "apache": r"/(?:\.|%2e){2}(?:/|$)",
    "htaccess": r"/(?:\.|%2e){2}(?:/|$)|.*[^/?]{256}",
    "caddy": r"(?!)",
    "haproxy": r".*[#\x80-\U0010ffff]",
    "lighttpd": r".*\?.*%(?:[01]|7f)",
}
"""Targets that a server may decline by itself with 400, documented in the README of its files."""


SCHEMES = (
    "http",
    "https",
    "",
    "ftp",
    "https, http",
    "http,https",
    "HTTPS ,http",
    "http , https",
    "httpsx",
)


def first_of(told: str) -> str:
    """The first value of a header to which each proxy adds its own."""
    return told.partition(",")[0].strip().lower()


def compare(
    name: str,
    rules: RuleSet,
    requests: list[tuple[str, str]],
    place: tuple[str, int],
    acting: Interpreter,
) -> list[str]:
    """Every difference between a real server and the reference, and between it and what we take its
    files to mean.
    """
    out = []
    for host, target in requests:
        scheme_from = rules.forms[0].scheme_from if rules.forms else ""
        told = SCHEMES[len(target) % len(SCHEMES)] if scheme_from == SCHEME_HEADER else ""
        status, location = ask(place, host, target, f"{SCHEME_HEADER}: {told}" if told else "")
        declines = status in {400, 403} and re.match(REFUSED[name], target, re.IGNORECASE)
        try:
            meant = acting.answer(
                ServerRequest(host, target, "http", {SCHEME_HEADER.lower(): told})
            )
        except DeclinedError:
            meant = None
        if not declines and (meant[:2] if meant else ("", "")) != (
            status if meant else "",
            location,
        ):
            out.append(
                f"{name}: {host} {target!r} gives {status} {location!r}, and is taken to give "
                f"{meant}"
            )
        answer = rules.answer(host, target, "http" if scheme_from == CONNECTION else first_of(told))
        expected = (answer.status, answer.location) if answer else None
        if expected is None:
            if location or status not in {400, 403, 404, 414}:
                out.append(
                    f"{name}: {host} {target!r} gives {status} {location!r}, and nothing is due"
                )
        elif (status, location) != expected and not declines:
            out.append(f"{name}: {host} {target!r} gives {status} {location!r}, due is {expected}")
    return out


def answered_by_others(
    rules: RuleSet, written: RuleSet, requests: list[tuple[str, str]]
) -> list[str]:
    """Requests that the rules that were written answer otherwise than all rules do: not answering
    what was held back is none of them.
    """
    out = []
    for host, target in requests:
        due, given = rules.answer_of_rules(host, target), written.answer_of_rules(host, target)
        if given is not None and (
            due is None or (given.status, given.location) != (due.status, due.location)
        ):
            out.append(f"{host}{target} gives {given}, due is {due}")
    return out


def write_build(name: str, rules: RuleSet, folder: Path) -> tuple[RuleSet, Interpreter]:
    """The files of a dialect in a folder, read back; the rules that they hold, and what they are
    taken to mean.
    """
    dialect: ServerDialect = load_dialect(name)  # type: ignore[assignment]
    translation = dialect.write(rules)
    if (
        rules.digest[0] in "0123" or len(rules.rules) > 100
    ):  # each would take longer than all requests to the server
        assert dialect.read_back(translation.files, translation.rules) == []
    for file, data in translation.files.items():
        (folder / file).parent.mkdir(parents=True, exist_ok=True)
        (folder / file).write_bytes(data)
    return translation.rules, dialect.interpreter(translation.files)
