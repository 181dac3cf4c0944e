"""Which parameters choose the page: worked out from what was seen, with reasons."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from itertools import pairwise

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.url.conventions import DOUBTFUL_SESSION
from upright_ledger.core.url.escapes import canonical_value

ENOUGH = 8  # spellings of a group below which nothing is worked out
_FEW = 12  # values that a view or a sort order has at most
_ALWAYS = 0.95
_COMPARED = 3  # pairs of titles that settle a parameter

_VIEWS = frozenset(
    [
        "view",
        "sort",
        "order",
        "orderby",
        "order_by",
        "sortby",
        "dir",
        "direction",
        "display",
        "layout",
        "mode",
        "print",
        "size",
        "limit",
        "per_page",
        "perpage",
        "pagesize",
        "page",
        "paged",
        "pg",
        "start",
        "offset",
        "theme",
        "skin",
        "style",
        "tab",
        "ref",
        "from",
        "back",
        "return",
        "returnurl",
        "highlight",
        "zoom",
        "width",
        "height",
        "fontsize",
        "font",
        "expand",
        "collapse",
        "show",
    ]
)
_CHOOSERS = frozenset(
    [
        "id",
        "item",
        "itemid",
        "item_id",
        "product",
        "productid",
        "product_id",
        "pid",
        "article",
        "articleid",
        "artikel",
        "cat",
        "category",
        "catid",
        "sku",
        "isbn",
        "doc",
        "docid",
        "page_id",
        "pageid",
        "p",
        "news",
        "newsid",
        "event",
        "eventid",
        "lang",
        "language",
        "locale",
        "q",
        "query",
        "search",
        "topic",
        "thread",
        "post",
        "entry",
        "node",
        "nid",
    ]
)


@dataclass(frozen=True, slots=True)
class SeenQuery:
    """One spelling: folded path, parameters, and what is known of the page it showed. Without
    parameters it is what others are compared with.
    """

    path: str
    params: Mapping[str, str]
    title: str = ""
    status: int = 0


@dataclass(frozen=True, slots=True)
class Reason:
    """Whether a parameter chooses the page, and why in plain words."""

    parameter: str
    chooses: bool
    why: str


@dataclass(frozen=True, slots=True)
class Suggestion:
    """What to put into the settings for a path or pattern.

    significant: the parameters that choose the page. pages_before, pages_after: how many the
    spellings amount to.
    """

    path: str
    significant: tuple[str, ...]
    reasons: tuple[Reason, ...]
    spellings: int
    pages_before: int
    pages_after: int


@dataclass(frozen=True, slots=True)
class Doubt:
    """A parameter that is named like a session and was not folded at a path, as its values are
    none.
    """

    path: str
    reason: Reason


@dataclass
class _Group:
    """Spellings of a path, or of some; plain: those without parameters."""

    seen: list[SeenQuery] = field(default_factory=list)
    plain: list[SeenQuery] = field(default_factory=list)

    def names(self) -> list[str]:
        return sorted({name for s in self.seen for name in s.params})


def suggest(spellings: Iterable[SeenQuery], policy: FoldingPolicy) -> list[Suggestion]:
    """Suggestions for paths that the settings do not name, where some parameter does not choose the
    page.

    A path with too few spellings is looked at together with its neighbours, as the pattern of their
    folder. The most folded come first. Where names without values are the pages, as in
    ?article12 and ?article13, nothing is suggested: the next one may be named by nobody yet.
    """
    found = []
    for path, group in _groups(spellings, policy).items():
        if _named_by_bare_words(group.seen):
            continue
        names = group.names()
        judged = [_judge(name, group.seen) for name in names]
        choosers = {r.parameter for r in judged if r.chooses}
        reasons = tuple(r if r.chooses else _beside_plain(r, group, choosers) for r in judged)
        keep = tuple(r.parameter for r in reasons if r.chooses)
        if len(keep) == len(reasons):
            continue
        before = len({(s.path, _kept(s, names)) for s in group.seen})
        after = len({(s.path, _kept(s, keep)) for s in group.seen})
        if after < before:
            found.append(Suggestion(path, keep, reasons, len(group.seen), before, after))
    return sorted(found, key=lambda s: (s.pages_after - s.pages_before, s.path))


def named_like_sessions(spellings: Iterable[SeenQuery], policy: FoldingPolicy) -> list[Doubt]:
    """Where parameters are kept although they are named like sessions, with what is known of
    them.
    """
    groups: dict[tuple[str, str], list[SeenQuery]] = defaultdict(list)
    for seen in spellings:
        if policy.significant_at(seen.path) is None:
            for name in seen.params:
                if name.lower() in DOUBTFUL_SESSION:
                    groups[seen.path, name].append(seen)
    return [Doubt(path, _judge(name, group)) for (path, name), group in sorted(groups.items())]


def _named_by_bare_words(group: list[SeenQuery]) -> bool:
    """Whether parameters that never have a value are pages: by what they show where that is known,
    else by being many that hardly come back.
    """
    valued = {name for s in group for name, value in s.params.items() if value}
    holders = [s for s in group if not valued.issuperset(s.params)]
    bare = {name for s in holders for name in s.params} - valued
    if len(bare) < _COMPARED:
        return False
    # As if they were the values of one parameter, whose name none can have.
    reworded = (
        SeenQuery(
            s.path,
            {n: v for n, v in s.params.items() if n in valued}
            | {"&": "&".join(sorted(bare & s.params.keys()))},
            s.title,
        )
        for s in holders
    )
    differ, compared = _changes("&", list(reworded))
    return differ * 2 > compared if compared else len(bare) * 2 > len(holders)


def _kept(seen: SeenQuery, names: Iterable[str]) -> tuple[tuple[str, str], ...]:
    return tuple((n, canonical_value(seen.params[n])) for n in names if n in seen.params)


def _groups(spellings: Iterable[SeenQuery], policy: FoldingPolicy) -> dict[str, _Group]:
    """Spellings by path; those of paths with few of them by folder, as "/folder/*"."""
    by_path: dict[str, _Group] = defaultdict(_Group)
    for seen in spellings:
        if policy.significant_at(seen.path) is None:
            group = by_path[seen.path]
            (group.seen if seen.params else group.plain).append(seen)
    found = {path: group for path, group in by_path.items() if len(group.seen) >= ENOUGH}
    folders: dict[str, _Group] = defaultdict(_Group)
    for path, group in by_path.items():
        if path not in found:
            folder = folders[path.rpartition("/")[0] + "/*"]
            folder.seen += group.seen
            folder.plain += group.plain
    return found | {path: group for path, group in folders.items() if len(group.seen) >= ENOUGH}


def _judge(name: str, group: list[SeenQuery]) -> Reason:
    """What is known of one parameter: what changes with it counts most, then how it occurs, then
    its name.
    """
    holders = [s for s in group if name in s.params]
    values = {s.params[name] for s in holders}
    for path, members in _by_path(group).items():
        differ, compared = _changes(name, members)
        if differ * 2 > compared:  # one path of a folder where it does is enough
            return Reason(
                name,
                True,
                f"another value shows another page in {differ} of {compared} comparisons at {path}",
            )
    differ, compared = _changes(name, group)
    if compared >= _COMPARED or (compared and differ in {0, compared}):
        if differ * 2 > compared:
            return Reason(
                name,
                True,
                f"another value shows another page in {differ} of {compared} comparisons",
            )
        return Reason(
            name, False, f"the page stays the same in {compared - differ} of {compared} comparisons"
        )
    told = f"{len(values):,} value{'s' if len(values) != 1 else ''} in {len(holders):,} addresses"
    low = name.lower()
    always = len(holders) >= _ALWAYS * len(group)
    if low in _VIEWS:
        return Reason(name, False, f"its name asks for a view or an order; {told}")
    if low in _CHOOSERS:
        return Reason(name, True, f"its name chooses a page; {told}")
    if len(values) == 1:
        return Reason(name, False, f"it never changes: {told}")
    if (
        len(values) <= _FEW
        and len(holders) >= 3 * len(values)
        and not (always and len(values) * 3 > len(holders))
    ):
        return Reason(name, False, f"few values come back again and again: {told}")
    return Reason(name, True, f"{'always there, ' if always else ''}{told}")


def _beside_plain(reason: Reason, group: _Group, choosers: set[str]) -> Reason:
    """What is known of a parameter that is to be left out by how it occurs alone: it stays where
    the path without it is another page. choosers: parameters that stay anyway.
    """
    name = reason.parameter
    if name.lower() in _VIEWS or _changes(name, group.seen)[1]:
        return reason
    titles = {s.path: s.title for s in group.plain if s.title}
    told = [
        s.title != titles[s.path]
        for s in group.seen
        if name in s.params and s.title and s.path in titles and choosers.isdisjoint(s.params)
    ]
    differ, compared = sum(told), len(told)
    if differ * 2 <= compared:
        return reason
    why = f"the path alone shows another page in {differ} of {compared} comparisons"
    return Reason(name, True, why)


def _by_path(group: list[SeenQuery]) -> dict[str, list[SeenQuery]]:
    """Spellings by path, where there is more than one."""
    found: dict[str, list[SeenQuery]] = defaultdict(list)
    for seen in group:
        found[seen.path].append(seen)
    return found if len(found) > 1 else {}


def _changes(name: str, group: list[SeenQuery]) -> tuple[int, int]:
    """How often two spellings that differ in this parameter alone showed different pages, and how
    often that could be compared: by title, or by one being found and the other not.
    """
    alike: dict[tuple[object, ...], list[SeenQuery]] = defaultdict(list)
    for s in group:
        if s.title or s.status:
            rest = tuple(sorted((n, v) for n, v in s.params.items() if n != name))
            alike[s.path, rest].append(s)
    differ = compared = 0
    for members in alike.values():
        for one, other in pairwise(sorted(members, key=lambda s: s.params.get(name, ""))):
            if one.params.get(name) == other.params.get(name):
                continue
            if one.title and other.title:
                compared += 1
                differ += one.title != other.title
            elif one.status and other.status and (one.status < 400) != (other.status < 400):
                compared += 1
                differ += 1
    return differ, compared
