"""Why traces are not one clean hop: what each hop changed, and the one rule or setting that mends
it.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from upright_ledger.core.rules.imported.rule import ImportedRule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.tracing.trace import Hop, Trace
from upright_ledger.core.tracing.verdicts import MEANINGS, Remedy, Verdict
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.destination import slash_twin

SERVER = "the server itself"
"""Whose answer a hop is that no rule of ours gives."""


LONG = frozenset({Verdict.CHAIN, Verdict.LOOP, Verdict.SLASH_MISMATCH})
"""Verdicts of traces that have hops too many."""


@dataclass(frozen=True, slots=True)
class HopCause:
    """Hops that one setting makes. urls: traces in which it stands; hits: of these; example: one of
    them.
    """

    text: str
    urls: int
    hits: float
    example: str


def remedy_of(trace: Trace, verdicts: tuple[Verdict, ...], expected: str) -> Remedy:
    """The one rule or setting that would mend a trace. expected: the address or status that was
    due.
    """
    remedy = MEANINGS[verdicts[0]].remedy
    is_address = expected[:4] == "http"
    if remedy == Remedy.DECIDE and is_address:
        return Remedy.SEND_THERE
    if remedy == Remedy.ONE_RULE and trace.final_status >= 400:
        return Remedy.PAGE
    goal = expected if is_address else trace.final_url
    if remedy in {Remedy.ONE_RULE, Remedy.LEAD_THERE} and goal == trace.url:
        return Remedy.SETTLE_FORM
    return remedy


def with_rules(trace: Trace, rules: RuleSet) -> Trace:
    """A trace whose hops name the rule of ours that gives the same answer, or the server where none
    does.
    """
    hops = (hop._replace(rule=_rule_of(hop, rules)) if hop.resolved else hop for hop in trace.hops)
    return trace._replace(hops=tuple(hops))


def _rule_of(hop: Hop, rules: RuleSet) -> str:
    address = parse_address(hop.url)
    answer = rules.answer(address.authority, address.target, address.scheme)
    if (
        answer is None
        or answer.status != hop.status
        or parse_address(answer.location, hop.url).text != hop.resolved
    ):
        return SERVER
    return answer.rule.where if isinstance(answer.rule, ImportedRule) else answer.rule.legacy_url


def hop_causes(rows: Iterable[tuple[Trace, float, tuple[Verdict, ...], str]]) -> list[HopCause]:
    """What makes the hops that are too many, the commonest first. rows: trace, hits, verdicts, and
    the address that was due.
    """
    urls: Counter[str] = Counter()
    hits: dict[str, float] = defaultdict(float)
    examples: dict[str, str] = {}
    for trace, weight, verdicts, expected in rows:
        if not LONG & set(verdicts):
            continue
        for text in dict.fromkeys(_causes(trace, verdicts, expected)):
            urls[text] += 1
            hits[text] += weight
            examples.setdefault(text, trace.url)
    found = [HopCause(text, n, hits[text], examples[text]) for text, n in urls.items()]
    return sorted(found, key=lambda c: (-c.urls, c.text))


def _causes(trace: Trace, verdicts: tuple[Verdict, ...], expected: str) -> Iterator[str]:
    """The settings that make a trace longer than the one hop to another page that is due."""
    moved = False
    for hop in (h for h in trace.hops if h.resolved):
        to_another_page = bool({"content", "query"} & set(hop.changed))
        if to_another_page and not moved:
            moved = True
        else:
            yield _cause(hop)
    if Verdict.SLASH_MISMATCH in verdicts and expected and slash_twin(trace.final_url) == expected:
        yield (
            "a destination without its closing slash"
            if expected.endswith("/")
            else "a destination with a closing slash too many"
        )


def _cause(hop: Hop) -> str:
    """The setting that makes a hop, as one text for all hops of its kind."""
    old, new = parse_address(hop.url), parse_address(hop.resolved)
    changed = set(hop.changed)
    status = "a page's refresh" if hop.how == "refresh" else str(hop.status)
    if not changed:
        return f"{status} back to the same address"
    if changed <= {"scheme", "host"}:
        return f"{status} from {old.origin} to {new.origin}"
    if changed == {"slash"}:
        form = (
            "puts a closing slash on" if new.path.endswith("/") else "takes the closing slash off"
        )
        return f"{status} that {form} at {old.origin}"
    if changed <= {"case", "slash", "index file", "scheme", "host"}:
        return f"{status} that changes {' and '.join(hop.changed)} at {old.origin}"
    return f"{status} by a further rule, at {old.origin}"
