"""Imported patterns as template rules, where a template says just what the pattern does.

A template answers fewer requests than a pattern of the same form (plain spellings only), and never
others; what cannot be said in the grammar of templates is left, with the reason.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain

from upright_ledger.core.rules.compiler import make_template
from upright_ledger.core.rules.exact_rule import GONE
from upright_ledger.core.rules.imported.blocks import Block, holds, stages_around
from upright_ledger.core.rules.imported.rule import (
    HOST,
    INNER,
    PATH,
    SCHEME,
    ImportedRule,
    PieceKind,
    QueryEdit,
)
from upright_ledger.core.rules.templates.path_automata import (
    common_path,
    may_begin_alike,
    source_pattern,
)
from upright_ledger.core.rules.templates.template_index import PASS, TemplateRule
from upright_ledger.core.rules.templates.template_syntax import TemplateError
from upright_ledger.core.url.origins import Site
from upright_ledger.core.url.query import QueryPolicy

_TOKEN = re.compile(
    r"(?P<rest>\(\.[*+]\))|(?P<prefix>\(\(\?:/\.\*\)\?\))|(?P<segment>\(\[\^/\][*+]\))|"
    r"(?P<digits>\((?:\\d|\[0-9\])\+\))"
    r"|(?P<word>\((?:\\w|\[A-Za-z0-9\])\+\))|(?P<list>\((?:[A-Za-z0-9_~-]+\|)+[A-Za-z0-9_~-]+\))"
    r"|\\(?P<sign>[^A-Za-z0-9])|(?P<text>[A-Za-z0-9_/~%,;:@=&!'\"-])"
)


_OF_SITES = {HOST, SCHEME}
"""What a site settles for all of its requests."""


class NoTemplateError(ValueError):
    """A pattern that no template says; the message says why, in a few words."""


def templates_of(
    blocks: Iterable[Block],
    sites: Sequence[Site],
    bases: dict[str, str],
    own: Sequence[TemplateRule],
    *,
    fold: bool,
) -> tuple[list[TemplateRule], list[tuple[str, str]]]:
    """Templates for the patterns of blocks, and the others with the reason: (where, reason).

    bases: authority of an old site → origin of destinations without host. own: templates that
    people decided, which are asked before any imported rule.
    """
    made: list[TemplateRule] = []
    left: list[tuple[str, str]] = []
    before: dict[str, _Earlier] = defaultdict(_Earlier)  # by site
    for template in own:
        before[template.site].add(template)
    passing: dict[
        tuple[str, int, int], _Earlier
    ] = {}  # what keeps rules of its own stage alone from answering, by site and stage
    for number, rule in ((n, r) for n, block in enumerate(blocks) for r in block.rules):
        for site in _sites_of(rule, sites):
            if not rule.is_pattern or not rule.status:
                at = (site.name, number, rule.stage)
                (before[site.name] if rule.ends else passing.setdefault(at, _Earlier())).add(rule)
                continue
            try:
                template = _template(rule, site, bases, fold=fold)
                _is_asked_alike(template, before[site.name], fold=fold)
                for stage in stages_around(rule.stage):
                    _is_asked_alike(
                        template, passing.get((site.name, number, stage), _NOTHING), fold=fold
                    )
            except (NoTemplateError, TemplateError) as error:
                left.append((rule.where, str(error)))
                before[site.name].add(rule)
            else:
                made.append(template)
                before[site.name].add(template)
    return made, list(dict.fromkeys(left))


class _Earlier:
    """Rules that are asked earlier and could take addresses from a later one, by the first folder
    of their own.
    """

    def __init__(self) -> None:
        self._by_folder: dict[str, list[ImportedRule | TemplateRule]] = defaultdict(list)
        self._anywhere: list[ImportedRule | TemplateRule] = []

    def add(self, rule: ImportedRule | TemplateRule) -> None:
        """Keep a rule, unless it is about one address and says all of its answer: that one becomes
        an entry.
        """
        if isinstance(rule, TemplateRule):
            head = rule.source.head
        elif rule.is_pattern:
            head = rule.head
        elif rule.status == PASS or any(c.subject not in _OF_SITES for c in rule.conditions):
            head = rule.address
        else:
            return
        folder = _folder(head)
        (self._by_folder[folder] if folder else self._anywhere).append(rule)

    def near(self, head: str) -> Iterator[ImportedRule | TemplateRule]:
        """Those whose addresses may begin as a head does."""
        folder = _folder(head)
        yield from self._anywhere
        if folder:
            yield from self._by_folder.get(folder, ())
        else:
            yield from chain.from_iterable(self._by_folder.values())


_NOTHING = _Earlier()


def _folder(head: str) -> str:
    """The first folder of a literal beginning, where it is there as a whole."""
    name, slash, _ = head[1:].lower().partition("/")
    return name if slash else ""


def _sites_of(rule: ImportedRule, sites: Sequence[Site]) -> list[Site]:
    """The old sites a rule is for, by the hosts and schemes that its conditions name."""
    groups = [g for g in rule.groups if all(c.subject in _OF_SITES for c in g)]

    def fits(site: Site) -> bool:
        scheme, _, host = site.origins[0].partition("://")
        said = {HOST: host, SCHEME: scheme}
        return all(any(holds(c, said[c.subject]) for c in group) for group in groups)

    return [s for s in sites if fits(s)]


def _template(rule: ImportedRule, site: Site, bases: dict[str, str], *, fold: bool) -> TemplateRule:
    if rule.negate or rule.literal or rule.subject not in {PATH, INNER}:
        raise NoTemplateError("it looks at more than the path")
    if any(c.subject not in _OF_SITES for c in rule.conditions):
        raise NoTemplateError("it has conditions")
    source, slash, groups = _source(rule)
    goal = _goal(rule, groups, bases.get(site.origins[0].partition("://")[2], site.origins[0]))
    carries = rule.query == QueryEdit.APPEND or (rule.query == QueryEdit.KEEP and "?" not in goal)
    made = make_template(
        site.name,
        source,
        rule.status,
        goal,
        f"{site.origins[0]}{source}",
        fold=fold,
        query=QueryPolicy.CARRY if carries else QueryPolicy.DROP,
    )
    if made.source.takes_slash:
        return TemplateRule(
            made.site,
            made.source,
            made.status,
            made.destination,
            made.legacy_url,
            made.query,
            slash,
        )
    return made


def template_of_pattern(
    pattern: str, destination: tuple[tuple[str, str], ...], status: int
) -> tuple[str, str]:
    """The source and destination of a template that says what a regular expression for paths says;
    pieces as those of imported rules.

    Raises NoTemplateError where none does, with the reason.
    """
    rule = ImportedRule("", PATH, pattern, status, destination)
    source, slash, groups = _source(rule)
    if slash == "slashed":
        source += "/"
    return source, _goal(rule, groups, "")


def _source(rule: ImportedRule) -> tuple[str, str, dict[str, str]]:
    """A pattern as the text of a template, the slash form it takes, and what stands for each of its
    groups.
    """
    text = rule.pattern
    if not text.startswith("^"):
        raise NoTemplateError("its pattern does not begin at the start of the path")
    text = text[1:]
    out = "/" if rule.subject == INNER else ""
    groups: dict[str, str] = {}
    slash = "any"
    closed = text.endswith("$") and not text.endswith(r"\$")
    text = text.removesuffix("$") if closed else text
    if closed:
        slash = "any" if text.endswith("/?") else "bare"
        text = text.removesuffix("/?")
    elif not text.endswith(("(.*)", "(.+)")):
        if not text.endswith("/"):
            raise NoTemplateError("its pattern does not end with the path")
        text += "(.*)"  # all that follows, whatever becomes of it
    at = 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            raise NoTemplateError("its pattern has no counterpart among templates")
        at = match.end()
        number = str(len(groups) + 1)
        kind = match.lastgroup
        if kind in {"rest", "prefix"}:
            if at < len(text):
                raise NoTemplateError("text follows on the rest of the path")
            out += "/{+rest}" if kind == "prefix" else "{+rest}"
            groups[number] = "/{rest}" if kind == "prefix" else "{rest}"
        elif kind in {"segment", "digits", "word"}:
            out += f"{{p{number}}}" if kind == "segment" else f"{{p{number}|{kind}}}"
            groups[number] = f"{{p{number}}}"
        elif kind == "list":
            out += f"{{p{number}|{match[0][1:-1].replace('|', ',')}}}"
            groups[number] = f"{{p{number}}}"
        else:
            out += match["sign"] or match["text"]
    if not out.startswith("/") or "{" not in out:
        raise NoTemplateError("its pattern has no counterpart among templates")
    if out.endswith("/") and slash == "bare":
        out, slash = out[:-1], "slashed"
    return out, slash, groups


def _goal(rule: ImportedRule, groups: dict[str, str], base: str) -> str:
    if rule.status == GONE:
        return ""
    out = []
    for kind, value in rule.destination:
        if kind == PieceKind.TEXT:
            if re.search(r"[{}]", value):
                raise NoTemplateError("its destination holds a brace")
            out.append(value)
        elif kind == PieceKind.GROUP and value in groups:
            out.append(groups[value])
        else:
            raise NoTemplateError("its destination holds more than texts and groups")
    goal = "".join(out)
    if goal.startswith("/") and not goal.startswith("//"):
        goal = base + goal
    return goal


def _is_asked_alike(rule: TemplateRule, before: _Earlier, *, fold: bool) -> None:
    """Raises NoTemplateError where another rule would be asked first in one place only: among
    templates the more specific is.
    """
    here = source_pattern(rule.source, fold, rule.slash)
    for other in before.near(rule.source.head):
        if isinstance(other, TemplateRule):
            later = other.source.rank >= rule.source.rank
            alike = other.site == rule.site and may_begin_alike(other.source.head, rule.source.head)
            if (
                later
                and alike
                and common_path(here, source_pattern(other.source, fold, other.slash))
            ):
                raise NoTemplateError(f"{other.source.text} takes some of its addresses first")
        elif may_begin_alike(other.head if other.is_pattern else other.address, rule.source.head):
            # What is about one address and could not say the same as an entry is left alone, or
            # answers some requests only.
            raise NoTemplateError(f"the rule of {other.where} may take some of its addresses first")
