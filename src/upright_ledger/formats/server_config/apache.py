"""Redirect rules in Apache's files: what single directives of mod_rewrite and mod_alias say, in the
place they stand in.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from upright_ledger.core.rules.imported.rule import (
    HOST,
    INNER,
    PATH,
    QUERY,
    SCHEME,
    WHOLE,
    WHOLE_BARE,
    Condition,
    ImportedRule,
    PatternNotUnderstoodError,
    Piece,
    PieceKind,
    QueryEdit,
)
from upright_ledger.core.rules.templates.template_index import PASS
from upright_ledger.formats.server_config.apache_conditions import Conditions
from upright_ledger.formats.server_config.apache_config import Directive
from upright_ledger.formats.server_config.rules_read import (
    BEGINNING,
    everything,
    or_everything,
    understood,
)

REWRITE, ALIAS, INNER_REWRITE, INNER_ALIAS = 0, 1, 2, 3
"""Stages: mod_rewrite and then mod_alias for the server, and the same for folders."""

ALIASES = {"redirect": 302, "redirectmatch": 302, "redirectpermanent": 301, "redirecttemp": 302}
"""Directives of mod_alias that redirect, with the status they have where none is given."""

_WORDS = {"permanent": 301, "temp": 302, "seeother": 303, "gone": 410}
_REDIRECTS = {301, 302, 307, 308}
_VARIABLES = {
    "REQUEST_URI": PATH,
    "QUERY_STRING": QUERY,
    "HTTP_HOST": HOST,
    "SERVER_NAME": HOST,
    "REQUEST_SCHEME": SCHEME,
}
_FLAGS = {
    "REDIRECT": "R", "NOCASE": "NC", "QSAPPEND": "QSA", "QSDISCARD": "QSD", "LAST": "L",
    "GONE": "G", "FORBIDDEN": "F", "NOESCAPE": "NE", "SKIP": "S",
    "CHAIN": "C", "NEXT": "N", "PROXY": "P", "PASSTHROUGH": "PT", "ENV": "E", "COOKIE": "CO",
    "TYPE": "T", "HANDLER": "H", "NOSUBREQ": "NS",
    "DISCARDPATH": "DPI",
}  # fmt: skip
"""Long names of flags."""
_KNOWN_FLAGS = {"R", "NC", "QSA", "QSD", "L", "END", "G", "NE", "E", "CO", "T", "H", "NS", "DPI"}
_JUMPS = {"S", "C", "N", "P", "PT"}
"""Flags by which a rule that changes nothing decides what is asked next."""
_ABSOLUTE = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://")

Miss = Callable[[Directive, str], None]


@dataclass(frozen=True)
class ApachePlace:
    """Where directives stand: what holds for a request to get there. folder: whose inner paths
    patterns see; empty for a server's own.

    base: what stands before a relative destination; empty where it is not known. hosts: the
    server's names.
    """

    name: str
    conditions: tuple[Condition, ...] = ()
    folder: str = ""
    base: str = ""
    hosts: tuple[str, ...] = ()

    def where(self, d: Directive) -> str:
        return f"{self.name}:{d.line}"


def read_rewrites(
    directives: Sequence[Directive], place: ApachePlace, miss: Miss, note: Miss
) -> list[ImportedRule]:
    """The RewriteRules of one place, in the order in which they are asked. miss: takes what is not
    understood; note: what is to be known.
    """
    out: list[ImportedRule] = []
    conditions, chained, doubtful = Conditions(), False, False
    changers = _changers(directives)
    for number, d in enumerate(directives):
        if d.name == "rewritecond":
            if why := conditions.add(d):
                miss(d, why)
            continue
        before, conditions = conditions, Conditions()
        after, chained = chained, "C" in _rule_flags(d)
        if after:
            miss(d, "it is chained to the rule before it")  # which stands for both, if it is there
            if doubtful:
                out.append(_blocking(d, place, before))
            continue
        doubtful = bool(d.unless)
        try:
            found = _rewrite(d, place, before, changers[number])
            if len(found) > 1 and found[0].status == PASS and found[1].status != PASS:
                note(
                    d,
                    "where its host is the server's own, nothing is said of it: it has no [R], "
                    "and may stay inside",
                )
            out += found
        except PatternNotUnderstoodError as error:
            miss(d, str(error))
            out.append(_blocking(d, place, before))
    return out


def _rewrite(
    d: Directive, place: ApachePlace, before: Conditions, changer: int
) -> list[ImportedRule]:
    """A RewriteRule that redirects, answers 410 or stops; nothing for one that only notes
    something. changer: see `_changers`.
    """
    if len(d.words) < 2:
        raise PatternNotUnderstoodError("it lacks its substitution")
    pattern, goal = d.words[0], d.words[1]
    flags = _rule_flags(d)
    status = _status(flags, goal)
    if d.unless or before.why or "${" in pattern:
        raise PatternNotUnderstoodError(
            d.unless or before.why or "it names a define that is not in the file"
        )
    stops = bool({"L", "END"} & flags.keys())
    if status == 0 and goal != "-":
        raise PatternNotUnderstoodError("it changes the request inside the server")
    if status == 0 and not stops and _JUMPS.isdisjoint(flags):
        return []
    if status not in {0, 410} | _REDIRECTS:
        raise PatternNotUnderstoodError(f"it answers {status}")
    if strange := sorted(flags.keys() - _KNOWN_FLAGS):
        raise PatternNotUnderstoodError(f"its flag {strange[0]} is not understood")
    if status in _REDIRECTS:
        if goal == "-":
            raise PatternNotUnderstoodError("it redirects and changes nothing")
        if not stops and changer:
            raise PatternNotUnderstoodError(
                f"it does not end with [L], and the rule in line {changer} may change its "
                "destination"
            )
    query = (
        QueryEdit.DROP if "QSD" in flags else QueryEdit.APPEND if "QSA" in flags else QueryEdit.KEEP
    )
    pieces: tuple[Piece, ...] = ()
    if status in _REDIRECTS:
        if goal.endswith("?"):
            goal, query = goal[:-1], QueryEdit.DROP
        if goal.count("?") > 1:
            raise PatternNotUnderstoodError("its destination has two question marks")
        pieces = rewrite_pieces(goal)
    rule = ImportedRule(
        place.where(d), INNER if place.folder else PATH, _pattern(pattern), status or PASS, pieces,
        nocase="NC" in flags,
        negate=pattern.startswith("!"), conditions=(*place.conditions, *before.certain),
        query=query,
        encoding=WHOLE_BARE if "NE" in flags else WHOLE, below=place.folder or "/",
        base=_base(goal, pieces, place),
        stage=INNER_REWRITE if place.folder else REWRITE, ends=status != 0,
    )  # fmt: skip
    rule = understood(rule)
    if status == 302 and "R" not in flags:
        return _unless_own(rule, goal, place)
    if "END" in flags and not status and not place.folder:
        return [rule, replace(rule, stage=INNER_REWRITE)]
    return [rule]


def _status(flags: dict[str, str], goal: str) -> int:
    """What a rule answers; 0 where it does not."""
    if "F" in flags:
        return 403
    if "G" in flags:
        return 410
    given = flags.get("R")
    if given is None:
        return 302 if _ABSOLUTE.match(goal) else 0
    return _WORDS.get(given.lower(), 0) or (int(given) if re.fullmatch("[0-9]{3}", given) else 302)


def _base(goal: str, pieces: Sequence[Piece], place: ApachePlace) -> str:
    """What stands before a destination that turns out relative. Raises NotUnderstoodError where
    only the server's disk knows.
    """
    if not pieces or goal.startswith("/") or _ABSOLUTE.match(goal):
        return ""
    if not place.folder:
        return "/"
    if not place.base and pieces[0] != (PieceKind.VARIABLE, PATH):
        raise PatternNotUnderstoodError(
            "its destination is relative, and no RewriteBase says to what"
        )
    return place.base


def _unless_own(rule: ImportedRule, goal: str, place: ApachePlace) -> list[ImportedRule]:
    """A rule that redirects by its address alone, which a server takes for a path of its own where
    the host is one of its own.
    """
    host = re.match(r"[^:]+://([^/:?#]*)", goal)
    if host is None or not host[1] or re.search(r"[$%]", host[1]):
        raise PatternNotUnderstoodError("it does not say [R], and may stay inside the server")
    if place.hosts and any(host_pattern(h).match(host[1]) for h in place.hosts):
        raise PatternNotUnderstoodError(
            "it does not say [R], and its host is one of this server: the request may stay inside"
        )
    own = Condition(HOST, host[1].lower(), literal=True)
    return [replace(rule, conditions=(*rule.conditions, own), status=PASS, destination=()), rule]


def _changers(directives: Sequence[Directive]) -> list[int]:
    """For each directive the line of the next rule after it that may change a destination; 0 where
    none does.
    """
    found, line = [], 0
    for d in reversed(directives):
        found.append(line)
        line = d.line if d.name == "rewriterule" and _sees_addresses(d) else line
    return found[::-1]


def _sees_addresses(d: Directive) -> bool:
    """Whether the pattern of a rule may fit a whole address with its scheme, too."""
    pattern = d.words[0] if d.words else ""
    start = BEGINNING.match(pattern)
    return (
        pattern.startswith("!")
        or "|" in pattern
        or start is None
        or len(start[0]) < 2
        or start[0][1] in "hH"
    )


def _blocking(d: Directive, place: ApachePlace, before: Conditions) -> ImportedRule:
    """What stands for a RewriteRule that is not understood: where its pattern fits nothing later
    answers, as it may do so itself.

    Measured on Apache 2.4: in a folder, a rule that only changes what the server reads leaves
    mod_alias to answer all the same.
    """
    flags = _rule_flags(d)
    goal = d.words[1] if len(d.words) > 1 else ""
    # A question mark that a substitution takes from the request is refused: then nobody answers.
    plain = (
        "L" in flags
        and _JUMPS.isdisjoint(flags)
        and not _status(flags, goal)
        and not re.search(r"[$%?]", goal)
    )
    inside = plain and bool(place.folder) and not d.unless
    pattern = d.words[0] if d.words else "^"
    rule = ImportedRule(
        place.where(d), INNER if place.folder else PATH, _pattern(pattern), PASS,
        nocase="NC" in flags, negate=pattern.startswith("!"),
        conditions=(*place.conditions, *before.certain), below=place.folder or "/",
        stage=INNER_REWRITE if place.folder else REWRITE, ends=not inside,
    )  # fmt: skip
    return or_everything(rule)


def host_pattern(name: str) -> re.Pattern[str]:
    """The hosts that a ServerName or ServerAlias stands for."""
    return re.compile(host_expression(name), re.IGNORECASE)


def host_expression(name: str) -> str:
    """The same as a regular expression."""
    return "^" + re.escape(name).replace(r"\*", ".*").replace(r"\?", ".") + "$"


def _pattern(word: str) -> str:
    return word.removeprefix("!").replace("\\ ", " ")


def _rule_flags(d: Directive) -> dict[str, str]:
    """The flags of a RewriteRule by their short names, with their values."""
    found = {}
    for part in (d.words[2] if len(d.words) > 2 else "").strip().strip("[]").split(","):
        name, _, value = part.strip().partition("=")
        if name:
            found[_FLAGS.get(name.upper(), name.upper())] = value
    return found


def rewrite_pieces(goal: str) -> tuple[Piece, ...]:
    """A substitution of mod_rewrite in pieces."""
    out: list[Piece] = []
    at = 0
    for match in re.finditer(r"\\(.)|\$(\d)|%(\d)|%\{([A-Za-z_:-]+)\}|[$%]\{", goal):
        out.append((PieceKind.TEXT, goal[at : match.start()]))
        at = match.end()
        if match[1]:
            out.append((PieceKind.TEXT, match[1]))
        elif match[2]:
            out.append((PieceKind.GROUP, match[2]))
        elif match[3]:
            out.append((PieceKind.CONDITION, match[3]))
        elif match[4] and match[4].upper() in _VARIABLES:
            out.append((PieceKind.VARIABLE, _VARIABLES[match[4].upper()]))
        else:
            raise PatternNotUnderstoodError(f"{match[0]} in its destination is not understood")
    out.append((PieceKind.TEXT, goal[at:]))
    return tuple(p for p in out if p != (PieceKind.TEXT, ""))


def _match_pieces(goal: str) -> tuple[Piece, ...]:
    """A destination of RedirectMatch in pieces: it knows its groups alone."""
    out: list[Piece] = []
    at = 0
    for match in re.finditer(r"\\([$\\])|\$(\d)", goal):
        out.append((PieceKind.TEXT, goal[at : match.start()]))
        at = match.end()
        out.append((PieceKind.TEXT, match[1]) if match[1] else (PieceKind.GROUP, match[2]))
    out.append((PieceKind.TEXT, goal[at:]))
    return tuple(p for p in out if p != (PieceKind.TEXT, ""))


def nothing_of(
    where: str, place: ApachePlace, *, stage: int, pattern: str = "", ends: bool = True
) -> ImportedRule:
    """What keeps everything that comes later at this place from answering, for the paths of a
    pattern or for all.
    """
    rule = replace(everything(where, ends=ends, stage=stage), conditions=place.conditions)
    return or_everything(replace(rule, pattern=pattern)) if pattern else rule
