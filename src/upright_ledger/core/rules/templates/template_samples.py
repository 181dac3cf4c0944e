"""Templates by their texts: what fills them, and where they lead."""

from __future__ import annotations

import re
from collections.abc import Sequence

from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.core.rules.templates.template_syntax import Capture
from upright_ledger.core.url.query import QueryPolicy

_SAMPLES = {
    "digits": ("7", "2011", "1"),
    "word": ("x", "abc7", "z", "Xy"),
    "segment": ("x", "abc-7", "z", "Xy", "x.html", "x.h"),
    "rest": ("x", "x/y", "x/", "Xy", "x.html", "x.h"),
}


def sample_text(capture: Capture, n: int) -> str:
    """A text that a capture takes; the n-th of a few."""
    choices: Sequence[str] = capture.values or _SAMPLES[capture.kind]
    return choices[n % len(choices)]


def path_pieces(rule: TemplateRule) -> list[str]:
    """The path of a destination: texts and names of captures in turn."""
    out: list[str] = []
    for n, piece in enumerate(rule.goal.pieces):
        text = "/" + piece.partition("://")[2].partition("/")[2] if n == 0 else piece
        if n % 2 == 0 and re.search(r"[?#]", text):
            out.append(re.split(r"[?#]", text)[0])
            break
        out.append(text)
    return out


def is_identity(rule: TemplateRule) -> bool:
    """Whether a template leads every address to itself."""
    source = [p if isinstance(p, str) else f"{{{p.name}}}" for p in rule.source.parts]
    goal = [f"{{{piece}}}" if n % 2 else piece for n, piece in enumerate(path_pieces(rule))]
    plain = (
        not rule.params
        and "?" not in rule.destination
        and rule.query != QueryPolicy.CARRY
        and rule.slash == "any"
    )
    return plain and "".join(source) == "".join(goal)


def head_of(rule: TemplateRule) -> str:
    """The literal beginning of a destination's path."""
    return path_pieces(rule)[0]
