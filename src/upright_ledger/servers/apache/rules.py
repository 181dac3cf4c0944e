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


def env(name: str) -> str:
    """The test string of a variable of ours."""
    return f"%{{ENV:upright_{name}}}"
