"""Lines of mod_rewrite, with jumps: a rule may name the place where the rewriting goes on."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class RewriteRule:
    """One RewriteRule for every path, and its conditions (test, pattern). goto: a label further
    down, or empty.
    """

    conditions: tuple[tuple[str, str], ...]
    substitution: str
    flags: tuple[str, ...]
    goto: str = ""


@dataclass
class Program:
    """Rules in their order, and labels: places before the next rule."""

    rules: list[RewriteRule] = field(default_factory=list)
    labels: dict[str, int] = field(default_factory=dict)

    def rule(
        self, *conditions: tuple[str, str], to: str = "-", flags: Sequence[str] = (), goto: str = ""
    ) -> None:
        self.rules.append(RewriteRule(conditions, to, tuple(flags), goto))

    def label(self, name: str) -> None:
        self.labels[name] = len(self.rules)

    def lines(self, *, marked: bool) -> Iterator[str]:
        """The configuration; a jump is written as the number of rules to skip. marked: whether a
        variable tells our answers.
        """
        for at, rule in enumerate(self.rules):
            flags = list(rule.flags)
            if marked and any(f == "G" or f.startswith("R=") for f in flags):
                flags.append("E=upright_answered:1")
            if rule.goto:
                skipped = self.labels[rule.goto] - at - 1
                if skipped:
                    flags.append(f"S={skipped}")
            for test, pattern in rule.conditions:
                yield f'RewriteCond "{test}" "{pattern}"'
            yield f'RewriteRule ^ "{rule.substitution}"' + (
                f" [{','.join(flags)}]" if flags else ""
            )


def literal(text: str) -> str:
    """A text that stands for itself in a substitution."""
    return text.replace("%", "\\%").replace("$", "\\$")


def read_lines(text: str) -> list[tuple[str, ...]]:
    """Directives as Apache reads them: the name, and each argument without its quotes.

    Written against ap_getword_conf, not against our writer: it is there to show that no argument
    ended early.
    """
    out = []
    for line in text.split("\n"):
        bare = line.strip()
        if bare and not bare.startswith("#"):
            out.append(tuple(_words(bare)))
    return out


def _words(line: str) -> Iterator[str]:
    at = 0
    while at < len(line):
        if line[at].isspace():
            at += 1
            continue
        mark = line[at] if line[at] in "\"'" else ""
        at += len(mark)
        word = []
        while at < len(line) and (line[at] != mark if mark else not line[at].isspace()):
            if line[at] == "\\" and line[at + 1 : at + 2] in {"\\", mark or "\\"}:
                at += 1
            word.append(line[at])
            at += 1
        at += len(mark)
        yield "".join(word)


def env(name: str) -> str:
    """The test string of a variable of ours."""
    return f"%{{ENV:upright_{name}}}"
