"""nginx's files as a tree of statements, and the tables that its maps are."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from upright_ledger.config_syntax.nginx_lexer import words
from upright_ledger.core.rules.imported.rule import PatternNotUnderstoodError

_DEPTH = 60
_LINES_OF_A_QUOTE = 200


@dataclass
class Statement:
    """A directive with its words, line and block, if it has one."""

    line: int
    words: list[str]
    block: list[Statement] | None = None

    @property
    def name(self) -> str:
        return self.words[0] if self.words else ""

    @property
    def text(self) -> str:
        return " ".join(self.words)

    @property
    def inner(self) -> list[Statement]:
        return self.block or []


@dataclass
class MapTable:
    """A map: what it looks at, its entries (line, key, value), what it says where none fits, and
    why it is not understood, if so.
    """

    line: int
    source: str
    entries: list[tuple[int, str, str]] = field(default_factory=list)
    default: str = ""
    doubt: str = ""


def read_tree(text: str) -> list[Statement]:
    """The statements of a file. Raises NotUnderstoodError where its brackets do not close."""
    root: list[Statement] = []
    stack, current, start = [root], list[str](), 0
    for line, word in _word_lines(text):
        if word == ";":
            if current:
                stack[-1].append(Statement(start, current))
            current = []
        elif word == "{":
            if len(stack) > _DEPTH:
                raise PatternNotUnderstoodError(
                    f"line {line}: blocks stand in each other more than {_DEPTH} deep"
                )
            block: list[Statement] = []
            stack[-1].append(Statement(start or line, current, block))
            stack.append(block)
            current = []
        elif word == "}":
            if len(stack) == 1:
                raise PatternNotUnderstoodError("a bracket closes that was never opened")
            stack.pop()
            current = []
        else:
            start = line if not current else start
            current.append(word.removeprefix("\0"))
    if len(stack) > 1:
        raise PatternNotUnderstoodError("a bracket does not close")
    return root


def all_of(statements: Iterable[Statement]) -> Iterator[Statement]:
    """Statements and all that stands in their blocks."""
    for s in statements:
        yield s
        yield from all_of(s.inner)


def tables_of(statements: Iterable[Statement]) -> dict[str, MapTable]:
    """All maps of a file, by the name of their variable."""
    found: dict[str, MapTable] = {}
    for s in all_of(statements):
        if s.name != "map" or s.block is None or len(s.words) != 3:
            continue
        table = MapTable(s.line, s.words[1])
        for entry in s.inner:
            if entry.name == "include":
                table.doubt = f"it includes {entry.words[-1][:60]}, which is not read"
            elif entry.words in (["volatile"], ["hostnames"]):
                table.doubt = table.doubt or (
                    "its keys are patterns of hosts" if entry.name == "hostnames" else ""
                )
            elif len(entry.words) != 2:
                table.doubt = f"what line {entry.line} says is not understood"
            elif entry.name == "default":
                table.default = entry.words[1]
            else:
                table.entries.append((entry.line, *entry.words))  # type: ignore[arg-type]
        found[s.words[2].removeprefix("$")] = table
    return found


def _word_lines(text: str) -> list[tuple[int, str]]:
    """Each word with its line. Words of a line stand by themselves but where a quote goes on."""
    out: list[tuple[int, str]] = []
    lines = text.split("\n")
    at = 0
    while at < len(lines):
        held, end = lines[at], at
        while True:
            try:
                found = list(words(held))
                break
            except IndexError:  # a quote that goes on in the next line
                end += 1
                if end >= len(lines) or end - at > _LINES_OF_A_QUOTE:
                    raise PatternNotUnderstoodError(
                        f"a quote in line {at + 1} does not close"
                    ) from None
                held += "\n" + lines[end]
        out += [(at + 1, w) for w in found]
        at = end + 1
    return out
