"""RewriteCond: what has to hold before a RewriteRule is asked."""

from __future__ import annotations

import re

from upright_ledger.core.rules.imported.rule import (
    HOST,
    METHOD,
    PATH,
    PORT,
    QUERY,
    REQUEST,
    SCHEME,
    Condition,
    PatternNotUnderstoodError,
    compiled,
)
from upright_ledger.formats.server_config.apache_config import Directive

_SUBJECTS = {
    "REQUEST_URI": PATH, "QUERY_STRING": QUERY, "HTTP_HOST": HOST, "SERVER_NAME": HOST,
    "REQUEST_SCHEME": SCHEME, "HTTPS": SCHEME,
    "X-FORWARDED-PROTO": SCHEME, "SERVER_PORT": PORT, "THE_REQUEST": REQUEST,
    "REQUEST_METHOD": METHOD,
}  # fmt: skip


class Conditions:
    """The conditions before a RewriteRule, those that are not understood among them."""

    def __init__(self) -> None:
        self.read: list[
            Condition | bool
        ] = []  # not understood: whether the next one is an alternative
        self.why = ""

    def add(self, d: Directive) -> str:
        """Take one in; returns why it is not understood, or an empty string."""
        try:
            self.read.append(_condition(d))
        except PatternNotUnderstoodError as error:
            self.why = str(error)
            self.read.append(
                bool(_flags(d.words[2]) & {"OR", "ORNEXT"} if len(d.words) > 2 else set())
            )
            return self.why
        return ""

    @property
    def certain(self) -> tuple[Condition, ...]:
        """Those of which is known that they have to hold: without the groups of alternatives that
        are not understood whole.
        """
        out: list[Condition] = []
        group: list[Condition | bool] = []
        for one in self.read:
            group.append(one)
            if one if isinstance(one, bool) else one.or_next:
                continue
            out += (
                [c for c in group if isinstance(c, Condition)]
                if not any(isinstance(c, bool) for c in group)
                else []
            )
            group = []
        return tuple(out)


def _condition(d: Directive) -> Condition:
    if len(d.words) < 2:
        raise PatternNotUnderstoodError("a condition lacks its pattern")
    if d.unless:
        raise PatternNotUnderstoodError(d.unless)
    test, pattern = d.words[0], d.words[1]
    flags = _flags(d.words[2]) if len(d.words) > 2 else set()
    match = re.fullmatch(r"%\{(?:HTTP:)?([A-Za-z_-]+)\}", test)
    if (
        match is None
        or match[1].upper() not in _SUBJECTS
        or flags - {"NC", "NOCASE", "OR", "ORNEXT"}
    ):
        raise PatternNotUnderstoodError(f"the condition on {test} is not understood")
    negate = pattern.startswith("!")
    pattern = pattern.removeprefix("!")
    if pattern.startswith("-") or pattern[:1] in {"<", ">"}:
        raise PatternNotUnderstoodError(f"the condition {pattern} is not understood")
    literal = pattern.startswith("=")
    pattern = pattern.removeprefix("=")
    if literal and pattern == '""':
        pattern = ""
    nocase, or_next = bool(flags & {"NC", "NOCASE"}), bool(flags & {"OR", "ORNEXT"})
    subject = _SUBJECTS[match[1].upper()]
    if match[1].upper() == "HTTPS":
        pattern, literal = _https(pattern, literal, nocase), True
    elif match[1].upper() == "X-FORWARDED-PROTO":
        unlike = [
            w.decode() == pattern if literal else bool(compiled(pattern, nocase).search(w))
            for w in (b"", b"http")
        ]
        if unlike[0] != unlike[1]:
            raise PatternNotUnderstoodError(
                "the condition on X-Forwarded-Proto is not the same without that header"
            )
    if not literal:
        compiled(pattern, nocase)  # what no rule could ask is not understood
    return Condition(subject, pattern, literal, nocase, negate, or_next)


def _https(pattern: str, literal: bool, nocase: bool) -> str:
    """The scheme at which the variable HTTPS, which is "on" or "off", fits."""
    fits = [
        w
        for w in ("on", "off")
        if (w == pattern if literal else compiled(pattern, nocase).search(w.encode()))
    ]
    if len(fits) != 1:
        raise PatternNotUnderstoodError(f"the condition {pattern} on HTTPS is not understood")
    return "https" if fits == ["on"] else "http"


def _flags(text: str) -> set[str]:
    return {f.strip().upper() for f in text.strip().strip("[]").split(",")}
