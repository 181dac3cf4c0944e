"""Reading back what was written: the files, executed by the servers' rules, answer as the rule set
does.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import islice

from upright_ledger.core.rules.canonical_form import CONNECTION
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.servers.interpreters import (
    DeclinedError,
    Interpreter,
    NotUnderstoodError,
    ServerRequest,
    ServerResponse,
    in_bytes,
)
from upright_ledger.servers.probes import Probe, probes
from upright_ledger.servers.protocol import MOST_TOLD


def differences_in_meaning(read: Callable[[], Interpreter], rules: RuleSet) -> list[str]:
    """Requests that the files answer otherwise than the rules, at most a few; or why a server would
    not take the files.
    """
    try:
        interpreter = read()
        return list(islice(_differences(interpreter, rules, probes(rules)), MOST_TOLD))
    except NotUnderstoodError as error:
        return [f"a server would not take it: {error}"]


def _differences(interpreter: Interpreter, rules: RuleSet, asked: list[Probe]) -> Iterator[str]:
    scheme_from = rules.forms[0].scheme_from if rules.forms else ""
    for probe in asked:
        scheme = (
            probe.scheme or "http"
            if scheme_from == CONNECTION
            else probe.scheme
            if scheme_from
            else ""
        )
        headers = {scheme_from.lower(): scheme} if scheme_from not in {"", CONNECTION} else {}
        answer = rules.answer(probe.host, probe.target, scheme)
        due = (
            ServerResponse(answer.status, in_bytes(answer.location), rules.cache_control)
            if answer
            else None
        )
        try:
            found = interpreter.answer(
                ServerRequest(probe.host, probe.target, scheme or "http", headers)
            )
        except DeclinedError:
            found = None
        if found != due:
            yield (
                f"{probe.host}{probe.target[:500]} gets {_in_words(found)} instead of "
                f"{_in_words(due)}"
            )


def _in_words(response: ServerResponse | None) -> str:
    if response is None:
        return "no answer"
    cache = f" ({response.cache})" if response.cache else ""
    return f"{response.status} {response.location[:500]}".rstrip() + cache
