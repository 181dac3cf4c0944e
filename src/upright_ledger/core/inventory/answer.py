"""Answers: what an entry ends in, and which outcome of a request that makes right."""

from __future__ import annotations

from typing import NamedTuple

from upright_ledger.core.word import Word


class AnswerKind(Word):
    """What an entry is answered with."""

    MOVE = "move"
    TEMPORARY = "temporary"
    GONE = "gone"
    KEEP = "keep"
    WANTED = "wanted"
    IGNORE = "ignore"
    OPEN = "open"


ANSWERS = tuple(AnswerKind)

STATUSES = {
    301: AnswerKind.MOVE,
    308: AnswerKind.MOVE,
    302: AnswerKind.TEMPORARY,
    307: AnswerKind.TEMPORARY,
    410: AnswerKind.GONE,
}
"""The statuses a rule may carry, and the answer each of them means."""


class Decision(NamedTuple):
    """The answer of one entry: kind, status (0 where no rule follows) and destination (empty
    likewise).
    """

    kind: AnswerKind
    status: int = 0
    destination: str = ""

    @property
    def has_rule(self) -> bool:
        return self.kind in {AnswerKind.MOVE, AnswerKind.TEMPORARY, AnswerKind.GONE}


USUAL_STATUS = {AnswerKind.MOVE: 301, AnswerKind.TEMPORARY: 302, AnswerKind.GONE: 410}
"""The status of an answer where nobody asks for another; the others have none."""


def usual(kind: AnswerKind, destination: str = "") -> Decision:
    """An answer with its usual status."""
    return Decision(kind, USUAL_STATUS.get(kind, 0), destination)


def answer_of(status: int, destination: str) -> Decision:
    """What a rule's status and destination answer; status 0 leaves the address alone."""
    return Decision(STATUSES[status], status, destination) if status else Decision(AnswerKind.KEEP)


LINK_MENDED = "its link was mended"
"""Where an answer comes from that needs no rule, as a link of the own site was wrong."""


class Claim(NamedTuple):
    """A second answer for an entry, which contests its own. number: among those of the entry; old:
    the address as it was given.
    """

    number: int
    old: str
    status: int
    destination: str
    host_given: bool
    where: str


LASTING = frozenset(status for status, kind in STATUSES.items() if kind == AnswerKind.MOVE)
"""Statuses of redirects that are for good."""

UNANSWERED = frozenset([AnswerKind.OPEN, AnswerKind.WANTED])


class Expected(NamedTuple):
    """What a trace must show to be right.

    statuses: allowed statuses of the first response; empty when nothing is expected of it. final:
    the address where it must end; empty when that is open. redirects: False when the answer forbids
    a redirect. language: in which the old page is declared to be, or empty. meant: a person chose
    the destination, whatever its language.
    """

    statuses: frozenset[int] = frozenset()
    final: str = ""
    redirects: bool | None = None
    kind: AnswerKind = AnswerKind.OPEN
    language: str = ""
    meant: bool = False


_PASSING = frozenset([302, 307])
_GONE = frozenset([410])
_FOUND = frozenset([200])


def expected_outcome(
    answer: Decision, own_address: str, language: str = "", *, meant: bool = False
) -> Expected:
    """The one function from an answer to what a request must show.

    own_address: the entry's own address, where `keep` must answer 200. language, meant: of
    `Expected`.
    """
    kind, _, goal = answer
    if kind == AnswerKind.MOVE:
        return Expected(LASTING, goal, True, AnswerKind.MOVE, language, meant)
    if kind == AnswerKind.TEMPORARY:
        return Expected(_PASSING, goal, True, AnswerKind.TEMPORARY, language, meant)
    if kind == AnswerKind.GONE:
        return Expected(_GONE, "", False, AnswerKind.GONE, language, meant)
    if kind == AnswerKind.KEEP:
        return Expected(_FOUND, own_address, None, AnswerKind.KEEP, language, meant)
    if kind == AnswerKind.IGNORE:
        return Expected(frozenset(), "", False, AnswerKind.IGNORE, language, meant)
    # Nobody answered it: should it redirect all the same, then for good.
    return Expected(LASTING, "", None, kind, language, meant)


def expected_text(expected: Expected) -> str:
    """The address where a trace should end, or the status that was due."""
    if expected.kind in UNANSWERED:
        return expected.final
    return expected.final or ",".join(str(s) for s in sorted(expected.statuses))


class AnsweredBy(Word):
    """What gave an answer."""

    PERSON = "person"
    IMPORT = "import"
    MATCH = "match"
    TEMPLATE = "template"
    RULE = "rule"
    STOCK = "stock"
    SAMPLED = "sample"
