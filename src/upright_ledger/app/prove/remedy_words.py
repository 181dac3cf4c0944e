"""What would mend a trace, in words; rows of results hold them wherever they are written."""

from __future__ import annotations

from upright_ledger.core.tracing.trace import Trace
from upright_ledger.core.tracing.verdicts import Remedy
from upright_ledger.core.url.address import NotAnAddressError, parse_address

_WORDS = {
    Remedy.NONE: "",
    Remedy.LOOK_AT_SERVER: "look at the server: no rule is at fault",
    Remedy.ONE_RULE: "one rule: {start} to {goal}",
    Remedy.LEAD_THERE: "lead {start} to {goal}",
    Remedy.SEND_THERE: "the server must send {start} to {goal}",
    Remedy.DECIDE: "decide on {start}: upright decide {start} --to NEW, or --gone",
    Remedy.OWN_LANGUAGE: (
        "lead {start} to a page in its own language, or say that this one is meant: upright "
        "decide {start} --to {goal}"
    ),
    Remedy.REAL_PAGE: "the page it leads to must answer, or 404 itself",
    Remedy.PAGE: "mend the page: its canonical address, or its robots directives",
}


def in_words(remedy: Remedy, trace: Trace, expected: str) -> str:
    """A remedy for one trace; empty where it needs none. expected: the address or status that was
    due.
    """
    is_address = expected[:4] == "http"
    start = _target(trace.url)
    if remedy == Remedy.BREAK_LOOP:
        page = f" ({_target(expected)})" if is_address else ""
        return f"break the loop: answer {start} with its right page, or --keep it{page}"
    if remedy == Remedy.SETTLE_FORM:
        changed = dict.fromkeys(change for hop in trace.hops for change in hop.changed)
        what = " and ".join(changed) or "it"
        return f"settle {what} in one hop: the canonical form of the site"
    if remedy == Remedy.STATUS:
        return f"answer with {expected if expected.isdigit() else 'the status that was decided'}"
    goal = _target(expected if is_address else trace.final_url)
    return _WORDS[remedy].format(start=start, goal=goal)


def _target(url: str) -> str:
    try:
        return parse_address(url).target
    except NotAnAddressError:
        return url
