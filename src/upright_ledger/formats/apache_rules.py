"""Redirect rules in Apache's files: mod_alias and mod_rewrite, of a server's configuration or a .htaccess."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

from upright_ledger.core.imported import (
    APPEND,
    CONDITION,
    DROP,
    GROUP,
    HOST,
    INNER,
    KEEP,
    PATH,
    QUERY,
    REQUEST,
    SCHEME,
    TEXT,
    VARIABLE,
    Condition,
    ImportedRule,
    NotUnderstoodError,
    Piece,
    alternatives,
)
from upright_ledger.core.template_rules import PASS

_WORDS = {"permanent": 301, "temp": 302, "seeother": 303, "gone": 410}
_SUBJECTS = {
    "REQUEST_URI": PATH, "QUERY_STRING": QUERY, "HTTP_HOST": HOST, "SERVER_NAME": HOST, "REQUEST_SCHEME": SCHEME, "HTTPS": SCHEME,
    "THE_REQUEST": REQUEST,
}  # fmt: skip
_VARIABLES = {
    "REQUEST_URI": PATH,
    "QUERY_STRING": QUERY,
    "HTTP_HOST": HOST,
    "SERVER_NAME": HOST,
    "REQUEST_SCHEME": SCHEME,
}
_HARMLESS_FLAGS = {"L", "END", "NE", "PT", "UNSAFEALLOW3F", "B", "BNP", "NS", "DPI"}
# What a pattern says in plain letters, but for one that is optional or repeated.
_BEGINNING = re.compile(r"\^(?:(?:[A-Za-z0-9_/~,;:@=&!'-]|\\[^A-Za-z0-9])(?![?*{]))*")
_JUMPS = frozenset(["S", "SKIP", "C", "CHAIN", "N", "NEXT", "P", "PROXY"])
"""Flags by which a rule that changes nothing decides what is asked next."""
_ALIAS = 1
"""The stage of mod_alias; mod_rewrite's is 0."""
_REDIRECTS = {"redirect", "redirectmatch", "redirectpermanent", "redirecttemp", "rewriterule", "rewritecond"}


class _ChainedError(NotUnderstoodError):
    """A rule that is asked only where the one before it fits, which stands for both."""


@dataclass
class RulesRead:
    """Rules in the order in which they are asked, and lines that were not understood: (line, why, text)."""

    rules: list[ImportedRule] = field(default_factory=list)
    missed: list[tuple[int, str, str]] = field(default_factory=list)


@dataclass
class _State:
    """What stands around a directive."""

    folder: bool  # patterns are matched without the leading slash
    base: str = "/"
    hosts: tuple[str, ...] = ()
    conditions: list[Condition] = field(default_factory=list)
    unknown: str = ""  # why a condition of the next rewrite rule is not understood
    around: str = ""  # why what it stands in is not understood
    within: str = "^"  # the paths that this can be about
    chained: bool = False  # the next rewrite rule is asked only after the one before it
    enabled: bool = True


def read_apache(text: str, name: str, *, folder: bool) -> RulesRead:
    """Read directives. folder: they stand in a .htaccess or <Directory>, whose patterns see no leading slash."""
    out = RulesRead()
    rewrites: list[ImportedRule] = []
    aliases: list[ImportedRule] = []
    state = _State(folder)
    outer: list[_State] = []
    for line, words in _directives(text):
        directive = words[0].lower()
        try:
            if directive.startswith("<"):
                state = _section(directive, words, state, outer)
            elif directive == "rewritebase" and len(words) > 1:
                state.base = words[1].rstrip("/") + "/"
            elif directive == "rewriteengine":
                state.enabled = words[-1].lower() == "on"
            elif directive in {"servername", "serveralias"}:
                state.hosts += tuple(w.lower().partition(":")[0] for w in words[1:])
            elif directive == "rewritecond":
                _add_condition(state, words)
            elif directive == "rewriterule":
                rule = _rewrite(f"{name}:{line}", words, state)
                state.conditions, state.unknown = [], ""
                if rule is not None and state.enabled:
                    rewrites.append(rule)
            elif directive in _REDIRECTS:
                aliases.append(_alias(f"{name}:{line}", directive, words, state))
        except NotUnderstoodError as error:
            out.missed.append((line, str(error), " ".join(words)[:300]))
            if isinstance(error, _ChainedError):
                pass
            elif directive == "rewriterule" and state.enabled:
                rewrites.append(_blocking(f"{name}:{line}", words, state))
            elif directive in _REDIRECTS and directive != "rewritecond":
                aliases.append(_blocking_alias(f"{name}:{line}", directive, words, state))
            if directive == "rewriterule":
                state.conditions, state.unknown = [], ""
            elif directive == "rewritecond":
                state.unknown = str(error)
    # mod_rewrite is asked before mod_alias.
    out.rules = [*rewrites, *(replace(rule, stage=_ALIAS) for rule in aliases)]
    return out


def _blocking(where: str, words: Sequence[str], state: _State) -> ImportedRule:
    """What stands for a RewriteRule that is not understood: where its pattern fits, nothing later answers, as it may do so itself.

    Measured on Apache 2.4: in a .htaccess a rule that only changes what the server reads leaves mod_alias to answer all the same.
    """
    if state.around:
        return ImportedRule(where, PATH, state.within, PASS, conditions=tuple(_hosts(state)))
    pattern = words[1] if len(words) > 1 else "^"
    flags = {n.split("=")[0] for n in _flags(words[3])} if len(words) > 3 else set()
    answers = (
        not flags.isdisjoint(_JUMPS)
        or bool(flags & {"R", "REDIRECT", "G", "GONE", "F", "FORBIDDEN", "P", "PROXY"})
        or bool(re.match(r"https?://", " ".join(words[2:3])))
    )
    rule = ImportedRule(
        where, INNER if state.folder else PATH, pattern.removeprefix("!").replace("\\ ", " "), PASS, nocase=bool(flags & {"NC", "NOCASE"}),
        negate=pattern.startswith("!"), conditions=tuple(_hosts(state)), ends=answers or not state.folder,
    )  # fmt: skip
    return _or_everything(rule)


def _blocking_alias(where: str, directive: str, words: Sequence[str], state: _State) -> ImportedRule:
    """What stands for a directive of mod_alias that is not understood, or that answers without a redirect."""
    if state.around:
        return ImportedRule(where, PATH, state.within, PASS, conditions=tuple(_hosts(state)))
    given = [w for w in words[1:] if w.lower() not in _WORDS and not re.fullmatch("[0-9]{3}", w)]
    source = given[0] if given else "^"
    if directive != "redirectmatch" and given:
        source = f"^/?{re.escape(source.lstrip('/'))}"
    return _or_everything(ImportedRule(where, PATH, source, PASS, conditions=tuple(_hosts(state))))


def _is_chained(words: Sequence[str]) -> bool:
    return len(words) > 3 and not {"C", "CHAIN"}.isdisjoint(_flags(words[3]))


def _or_everything(rule: ImportedRule) -> ImportedRule:
    """A rule, or where its pattern cannot be read one that fits every path that begins as it does."""
    try:
        rule.check()
    except NotUnderstoodError:
        match = _BEGINNING.match(rule.pattern)
        whole = match is not None and "|" not in rule.pattern and not rule.negate
        return replace(rule, pattern=match[0] if match and whole else "^", negate=False)
    return rule


def _directives(text: str) -> Iterator[tuple[int, list[str]]]:
    """Line number and words of every directive; a backslash at the end of a line joins the next one."""
    pending, start = "", 0
    for number, raw in enumerate(text.split("\n"), 1):
        line = raw.rstrip("\r")
        start = start or number
        if line.endswith("\\"):
            pending += line[:-1]
            continue
        whole, at = (pending + line).strip(), start
        pending, start = "", 0
        if whole and not whole.startswith("#"):
            words = split_words(whole)
            if words:
                yield at, words


def split_words(line: str) -> list[str]:
    """Arguments at blanks, in single or double quotes where they hold some; \\" stands for a quote."""
    found = re.findall(r'"((?:[^"\\]|\\.)*)"|\'((?:[^\'\\]|\\.)*)\'|((?:\\.|\S)+)', line)
    return [(a or b).replace('\\"', '"') if a or b or not c else c for a, b, c in found]


def _section(directive: str, words: Sequence[str], state: _State, outer: list[_State]) -> _State:
    if directive.startswith("</"):
        return outer.pop() if outer else state
    outer.append(state)
    if directive.startswith("<virtualhost"):
        return replace(
            state, conditions=[], folder=False
        )  # there patterns see the leading slash, whatever they look like
    if directive.startswith(("<ifmodule", "<ifdefine", "<ifversion", "<else")):
        return replace(state, conditions=[])
    if directive.startswith(("<directory", "<files")):
        return replace(state, conditions=[], folder=True)
    place = re.fullmatch(r"<location\s+[\"']?(/[^\"'>]*)[\"']?>", " ".join(words), re.IGNORECASE)
    within = f"^{re.escape(place[1].rstrip('/'))}" if place and not state.around else "^"
    return replace(state, conditions=[], around=f"it stands in {' '.join(words)[:60]}", within=within)


def _hosts(state: _State) -> list[Condition]:
    """The hosts a rule is for, as alternatives."""
    named = [Condition(HOST, "^" + re.escape(h).replace(r"\*", ".*") + "$", nocase=True) for h in state.hosts]
    return alternatives(named)


def _alias(where: str, directive: str, words: Sequence[str], state: _State) -> ImportedRule:
    """Redirect and its kin: a prefix of the path, or a pattern."""
    if state.around:
        raise NotUnderstoodError(state.around)
    given = list(words[1:])
    status = {"redirectpermanent": 301, "redirecttemp": 302}.get(directive, 302)
    if (
        directive in {"redirect", "redirectmatch"}
        and given
        and (given[0].lower() in _WORDS or re.fullmatch("[0-9]{3}", given[0]))
    ):
        word = given.pop(0).lower()
        status = _WORDS.get(word) or int(word)
    if not given or (status != 410 and len(given) < 2):
        raise NotUnderstoodError("it names no path or no destination")
    if status not in {301, 302, 303, 307, 308, 410}:
        raise NotUnderstoodError(f"{status} is no status of a redirect")
    status = 302 if status == 303 else status
    source, goal = given[0], given[1] if len(given) > 1 else ""
    hosts = tuple(_hosts(state))
    if directive == "redirectmatch":
        pieces = _pieces(goal) if status != 410 else ()
        return _checked(ImportedRule(where, PATH, source, status, pieces, conditions=hosts))
    if not source.startswith("/"):
        raise NotUnderstoodError("its path does not begin with a slash")
    # What follows the path goes on, too: /a → /b takes /a/x to /b/x, and leaves /ab alone.
    rest = "(.*)" if source.endswith("/") else "((?:/.*)?)"
    pieces = ((TEXT, goal), (GROUP, "1")) if status != 410 else ()
    return _checked(ImportedRule(where, PATH, f"^{re.escape(source)}{rest}$", status, pieces, conditions=hosts))


def _checked(rule: ImportedRule) -> ImportedRule:
    rule.check()
    return rule


def _add_condition(state: _State, words: Sequence[str]) -> None:
    if len(words) < 3:
        raise NotUnderstoodError("a condition lacks its pattern")
    test, pattern = words[1], words[2]
    flags = {f.strip().upper() for f in words[3].strip("[]").split(",")} if len(words) > 3 else set()
    match = re.fullmatch(r"%\{(?:HTTP:)?([A-Za-z_-]+)\}", test)
    if match is None or match[1].upper() not in _SUBJECTS or flags - {"NC", "NOCASE", "OR", "ORNEXT"}:
        raise NotUnderstoodError(f"the condition on {test} is not understood")
    negate = pattern.startswith("!")
    pattern = pattern.removeprefix("!")
    if pattern.startswith("-") or pattern[:1] in {"<", ">"}:
        raise NotUnderstoodError(f"the condition {pattern} is not understood")
    literal = pattern.startswith("=")
    pattern = pattern.removeprefix("=").strip('"')
    if match[1].upper() == "HTTPS":
        on = pattern.strip("^$").lower() in {"on", "1"}
        pattern, literal = "https" if on else "http", True
    nocase, or_next = bool(flags & {"NC", "NOCASE"}), bool(flags & {"OR", "ORNEXT"})
    state.conditions.append(Condition(_SUBJECTS[match[1].upper()], pattern, literal, nocase, negate, or_next))


def _rewrite(where: str, words: Sequence[str], state: _State) -> ImportedRule | None:
    """A RewriteRule that redirects, ends in 410 or stops; None for one that only changes what the server reads."""
    after, state.chained = state.chained, _is_chained(words)
    if after:
        raise _ChainedError("it is chained to the rule before it")
    if len(words) < 3:
        raise NotUnderstoodError("it lacks its substitution")
    pattern, goal = words[1], words[2]
    flags = _flags(words[3]) if len(words) > 3 else {}
    names = {n.split("=")[0] for n in flags}
    redirect = flags.get("R", flags.get("REDIRECT"))
    status = 410 if names & {"G", "GONE"} else 403 if names & {"F", "FORBIDDEN"} else 0
    if redirect is not None:
        status = _WORDS.get(redirect.lower(), 0) or (int(redirect) if re.fullmatch("[0-9]{3}", redirect) else 302)
    elif not status and re.match(r"https?://", goal):
        status = 302
    if state.around or state.unknown:
        raise NotUnderstoodError(state.around or state.unknown)
    stops = bool(names & {"L", "LAST", "END"})
    if status == 0 and goal != "-":
        raise NotUnderstoodError("it changes the request inside the server")
    if status == 0 and not stops and names.isdisjoint(_JUMPS):
        return None
    if status not in {0, 301, 302, 303, 307, 308, 410}:
        raise NotUnderstoodError(f"it answers {status}")
    known = {
        "R",
        "REDIRECT",
        "NC",
        "NOCASE",
        "QSA",
        "QSAPPEND",
        "QSD",
        "QSDISCARD",
        "LAST",
        "G",
        "GONE",
    } | _HARMLESS_FLAGS
    if strange := sorted(names - known):
        raise NotUnderstoodError(f"its flag {strange[0]} is not understood")
    negate = pattern.startswith("!")
    pattern = pattern.removeprefix("!").replace("\\ ", " ")
    query = DROP if names & {"QSD", "QSDISCARD"} else APPEND if names & {"QSA", "QSAPPEND"} else KEEP
    if status in {301, 302, 303, 307, 308} and goal.endswith("?"):
        goal, query = goal[:-1], DROP
    if status in {0, 410}:
        pieces: tuple[Piece, ...] = ()
    else:
        if not re.match(r"https?://|/|%\{|\$", goal):
            goal = (state.base if state.folder else "/") + goal
        pieces = _pieces(goal)
    return _checked(
        ImportedRule(
            where, INNER if state.folder else PATH, pattern, PASS if status == 0 else 302 if status == 303 else status, pieces, nocase=bool(names & {"NC", "NOCASE"}),
            negate=negate, conditions=(*_hosts(state), *state.conditions), query=query, escape="NE" not in names,
            ends=status != 0 or not state.folder,
        )
    )  # fmt: skip


def _flags(text: str) -> dict[str, str]:
    found = {}
    for part in text.strip().strip("[]").split(","):
        name, _, value = part.strip().partition("=")
        found[name.upper()] = value
    return found


def _pieces(goal: str) -> tuple[Piece, ...]:
    """A substitution in pieces."""
    out: list[Piece] = []
    at = 0
    for match in re.finditer(r"\\(.)|\$(\d)|%(\d)(?![0-9A-Fa-f])|%\{([A-Za-z_:-]+)\}|\$\{", goal):
        out.append((TEXT, goal[at : match.start()]))
        at = match.end()
        if match[1]:
            out.append((TEXT, match[1]))
        elif match[2]:
            out.append((GROUP, match[2]))
        elif match[3]:
            out.append((CONDITION, match[3]))
        elif match[4] and match[4].upper() in _VARIABLES:
            out.append((VARIABLE, _VARIABLES[match[4].upper()]))
        else:
            raise NotUnderstoodError(f"{match[0]} in its destination is not understood")
    out.append((TEXT, goal[at:]))
    return tuple(p for p in out if p != (TEXT, ""))
