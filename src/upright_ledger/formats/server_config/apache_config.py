"""Apache's files as a tree: directives and sections, with what is asked of modules and defines
answered where it is known.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from upright_ledger.core.rules.imported.rule import PatternNotUnderstoodError
from upright_ledger.formats.server_config.rules_read import ServerSetup

_ALWAYS = frozenset(
    [
        "core",
        "so",
        "http",
        "authz_core",
        "rewrite",
        "alias",
        "ssl",
        "version",
        "unixd",
        "log_config",
    ]
)
"""Modules without which a file of redirects would not work, or no server start."""
_VERSION = (2, 4)
_ASKED = {"<ifmodule", "<ifdefine", "<ifversion", "<iffile", "<ifdirective", "<ifsection"}
_DEPTH = 60


@dataclass
class Directive:
    """A directive in lower case, its arguments and, for a section, what stands in it. unless: why
    it is not known whether it is there.

    written: its name as the file has it.
    """

    line: int
    name: str
    words: list[str]
    block: list[Directive] = field(default_factory=list)
    unless: str = ""
    written: str = ""

    @property
    def text(self) -> str:
        return " ".join([self.written, *self.words])


def read_tree(text: str, given: ServerSetup) -> list[Directive]:
    """The directives of a file. Raises NotUnderstoodError where its sections do not close."""
    root: list[Directive] = []
    stack: list[tuple[str, list[Directive]]] = [("", root)]
    for line, words in _lines(text):
        name = words[0].lower()
        if name.startswith("</"):
            if len(stack) == 1 or name.strip("</>") != stack[-1][0]:
                raise PatternNotUnderstoodError(
                    f"line {line} closes a section that is not open: {words[0][:40]}"
                )
            stack.pop()
        elif name.startswith("<"):
            if len(stack) > _DEPTH:
                raise PatternNotUnderstoodError(
                    f"line {line}: sections stand in each other more than {_DEPTH} deep"
                )
            made = Directive(
                line,
                name.removesuffix(">"),
                _section_words(words),
                written=words[0].removesuffix(">"),
            )
            stack[-1][1].append(made)
            stack.append((made.name[1:], made.block))
        else:
            stack[-1][1].append(Directive(line, name, words[1:], written=words[0]))
    if len(stack) > 1:
        raise PatternNotUnderstoodError(f"the section <{stack[-1][0]}> does not close")
    return list(_Conditions(given).taken(root, ""))


def _section_words(words: Sequence[str]) -> list[str]:
    """The arguments of a section, without the bracket that closes it."""
    found = [*words[:-1], words[-1].removesuffix(">")][1:]
    return [w for w in found if w]


def all_of(directives: Iterable[Directive]) -> Iterator[Directive]:
    """Directives and all that stands in their sections."""
    for d in directives:
        yield d
        yield from all_of(d.block)


class _Conditions:
    """Follows a file from its top, as defines hold from where they stand."""

    def __init__(self, given: ServerSetup) -> None:
        self.given = given
        self.defined: dict[str, str] = {}
        self.doubtful: set[str] = set()
        self.undefined: set[str] = set()

    def taken(self, directives: Sequence[Directive], unless: str) -> Iterator[Directive]:
        """What counts of these, with texts put in for defines."""
        for d in directives:
            if d.name in _ASKED:
                holds = self._holds(d)
                if holds is not False:
                    doubt = "" if holds else f"it is not known whether {d.text}> holds"
                    yield from self.taken(d.block, unless or doubt)
                continue
            words = [self._put_in(w) for w in d.words]
            if d.name == "define" and words:
                if unless:
                    self.doubtful.add(words[0])
                else:
                    self.defined[words[0]] = words[1] if len(words) > 1 else ""
            elif d.name == "undefine" and words:
                self.defined.pop(words[0], None)
                self.undefined.add(words[0])
            yield Directive(
                d.line, d.name, words, list(self.taken(d.block, unless)), unless, d.written
            )

    def _put_in(self, word: str) -> str:
        return re.sub(r"\$\{(\w+)\}", lambda m: self.defined.get(m[1], m[0]) or m[0], word)

    def _holds(self, d: Directive) -> bool | None:
        name = d.words[0] if d.words else ""
        negate, name = name.startswith("!"), name.removeprefix("!")
        if d.name == "<ifversion":
            found = _version(d.words)
        elif d.name == "<ifmodule":
            plain = re.sub(r"^mod_|\.c$|_module$", "", name)
            said = self.given.holds(name)
            found = said if said is not None else (True if plain in _ALWAYS else None)
        elif d.name == "<ifdefine":
            found = (
                True
                if name in self.defined
                else False
                if name in self.undefined
                else self.given.holds(name)
            )
            found = None if name in self.doubtful else found
        else:
            found = self.given.holds(name)
        return found if found is None else found != negate


def _version(words: Sequence[str]) -> bool | None:
    """Whether an Apache of the 2.4 line has the version that is asked for, where two numbers
    tell.
    """
    sign, wanted = (words[0], words[1]) if len(words) > 1 else ("=", words[0] if words else "")
    if not re.fullmatch(r"\d+(?:\.\d+)?", wanted):
        return None
    asked = tuple(map(int, wanted.split(".")))
    here = _VERSION[: len(asked)]
    answers = {
        "=": here == asked,
        "==": here == asked,
        ">": here > asked,
        ">=": here >= asked,
        "<": here < asked,
        "<=": here <= asked,
    }
    return answers.get(sign)


def _lines(text: str) -> Iterator[tuple[int, list[str]]]:
    """Line number and words of every directive; a backslash at the end of a line joins the next
    one.
    """
    pending: list[str] = []
    start = 0
    for number, raw in enumerate(text.split("\n"), 1):
        line = raw.rstrip("\r")
        start = start or number
        if line.endswith("\\"):
            pending.append(line[:-1])
            continue
        pending.append(line)
        whole, at = "".join(pending).strip(), start
        pending, start = [], 0
        if whole and not whole.startswith("#"):
            words = split_words(whole)
            if words:
                yield at, words


def split_words(line: str) -> list[str]:
    """Arguments at blanks, in single or double quotes where they hold some; a backslash before a
    quote keeps it.
    """
    found = re.findall(r'"((?:[^"\\]|\\.)*)"|\'((?:[^\'\\]|\\.)*)\'|((?:\\.|\S)+)', line)
    return [(a or b).replace('\\"', '"') if a or b or not c else c for a, b, c in found]
