"""Folding: which observed spellings are one entry, under a policy that can be changed.

The observed spelling stays the stored fact. The entry key is derived from it here and nowhere else.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from functools import cached_property
from operator import itemgetter
from typing import Any, NamedTuple

from upright_ledger.core.inventory.path_noise import has_dot_segments, without_path_session
from upright_ledger.core.url.address import Address
from upright_ledger.core.url.conventions import (
    DOUBTFUL_SESSION,
    INDEX_FILES,
    SESSION,
    TRACKING,
    TRACKING_ONLY_FOLDED,
    VIEW_PARAMS,
    VIEW_SEGMENTS,
)
from upright_ledger.core.url.escapes import as_utf8, canonical_value
from upright_ledger.core.url.redaction import MASK, Secrets, names_a_visit
from upright_ledger.core.url.request_target import canonical_path, lower_ascii, lower_path

TRACKING_PARAMETER = "tracking parameter"
SESSION_PARAMETER = "session parameter"
VIEW = "view"
OTHER_PARAMETER = "other parameter"
PAGINATION = "pagination"

_NOTHING: frozenset[str] = frozenset()
_CASE = frozenset({"letter case"})
SIMPLE_PATH = r"(?:/[A-Za-z0-9_-]+(?:\.[A-Za-z0-9_-]+)*)+/?\Z"
"""A path that is canonical as it stands: plain names between single slashes."""
_is_simple = re.compile(SIMPLE_PATH).match
_PAGE_NUMBER = re.compile(r"(?s)(.+)/page/[0-9]+\Z")


FOLDING_VERSION = 7
"""2: Latin-1 escapes, and sessions as "/(S(...))/", fold, too. 3: more is secret, in paths as well.
4: session_id is judged by its value, too. 5: index files fold in any letter case where case counts.
6: attacks in decoded targets are set aside, and names that begin with a dot in doubt.
7: what nobody but a scanner asks for is in doubt, too, as a list or the stock may name it.
"""


@dataclass(frozen=True)
class FoldingPolicy:
    """What makes two spellings one entry.

    case: "fold" (A-Z equal a-z in paths) or "exact". Parameter names and values are always exact.
    significant: folded path, or a pattern with *, → names of the parameters that choose the page
    there. A path that is not listed keeps every parameter that is not tracking, session or a view.
    take_back: classes of `core.inventory.noise`, or path patterns with *, that are entries all the
    same. secret, no_secret: parameters that are masked besides those that `core.url.redaction`
    knows, and those that never are. version: of the folding rules themselves.
    """

    case: str = "fold"
    index_files: tuple[str, ...] = INDEX_FILES
    tracking: tuple[str, ...] = TRACKING
    tracking_only_folded: tuple[str, ...] = TRACKING_ONLY_FOLDED
    session: tuple[str, ...] = SESSION
    view_params: tuple[str, ...] = VIEW_PARAMS
    view_segments: tuple[str, ...] = VIEW_SEGMENTS
    take_back: tuple[str, ...] = ()
    secret: tuple[str, ...] = ()
    no_secret: tuple[str, ...] = ()
    significant: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    version: int = FOLDING_VERSION

    @property
    def folds_case(self) -> bool:
        """Whether A-Z equal a-z in paths."""
        return self.case == "fold"

    @cached_property
    def _purposes(self) -> dict[str, str]:
        """What a parameter is for, by its name in lower case; those that are not here choose the
        page.
        """
        found = dict.fromkeys((n.lower() for n in self.view_params), VIEW)
        found |= dict.fromkeys((n.lower() for n in self.session), SESSION_PARAMETER)
        return found | dict.fromkeys(
            (n.lower() for n in (*self.tracking, *self.tracking_only_folded)), TRACKING_PARAMETER
        )

    def purpose(self, name: str, value: str = "") -> str:
        """What a parameter is for: tracking, session, a view, or an empty string. A name that may
        also choose the page is judged by its value.
        """
        low = name.lower()
        if low in DOUBTFUL_SESSION and value != MASK and not names_a_visit(low, value):
            return ""
        return self._purposes.get(low) or (TRACKING_PARAMETER if low.startswith("utm_") else "")

    def noise(self, name: str, value: str = "") -> str:
        """The kind of a parameter that logs need not keep (tracking or session), or an empty
        string.

        One that the settings name as significant anywhere is kept.
        """
        purpose = self.purpose(name, value)
        return purpose if purpose != VIEW and name not in self._significant_names else ""

    @cached_property
    def noise_names(self) -> dict[str, str]:
        """Kind → the names of such parameters as a regular expression, for matching whole and
        without case.
        """
        found: dict[str, list[str]] = {}
        for name, purpose in self._purposes.items():
            if (
                purpose != VIEW
                and name not in DOUBTFUL_SESSION
                and not any(n.lower() == name for n in self._significant_names)
            ):
                found.setdefault(purpose, []).append(re.escape(name))
        if not any(n.lower().startswith("utm_") for n in self._significant_names):
            found.setdefault(TRACKING_PARAMETER, []).append(r"utm_\w*")
        return {kind: "|".join(names) for kind, names in found.items()}

    @cached_property
    def noise_parameters(self) -> frozenset[str]:
        """The names of tracking and session parameters that choose no page anywhere, in lower
        case.
        """
        return frozenset(
            n for n, purpose in self._purposes.items() if purpose != VIEW and self.noise(n)
        )

    @cached_property
    def _significant_names(self) -> frozenset[str]:
        return frozenset(name for names in self.significant.values() for name in names)

    @cached_property
    def secrets(self) -> Secrets:
        """What is masked before anything is stored. A parameter that chooses the page somewhere is
        no secret.
        """
        never = (*self.no_secret, *self._significant_names)
        return Secrets(
            frozenset(n.lower() for n in self.secret), frozenset(n.lower() for n in never)
        )

    @cached_property
    def tracking_names(self) -> frozenset[str]:
        """The parameters that tell where a visit came from, in lower case; all that begin with utm_
        are of them, too.
        """
        return frozenset(n.lower() for n in (*self.tracking, *self.tracking_only_folded))

    @cached_property
    def index_set(self) -> frozenset[str]:
        """The names of index files in lower case: in paths they are told without case."""
        return frozenset(map(lower_ascii, self.index_files))

    @cached_property
    def significant_by_path(self) -> dict[str, frozenset[str]]:
        """The settings, by folded path; patterns are not among them."""
        exact = ((path, names) for path, names in self.significant.items() if "*" not in path)
        return {self.fold_path(path)[0]: frozenset(names) for path, names in exact}

    @cached_property
    def _significant_patterns(self) -> list[tuple[re.Pattern[str], frozenset[str]]]:
        """Patterns in the settings, the longest first."""
        patterns = sorted((p for p in self.significant if "*" in p), key=lambda p: (-len(p), p))
        texts = (".*".join(map(re.escape, lower_ascii(p).split("*"))) for p in patterns)
        return [
            (re.compile(t + r"\Z", re.DOTALL), frozenset(self.significant[p]))
            for t, p in zip(texts, patterns, strict=True)
        ]

    def as_dict(self) -> dict[str, Any]:
        """The policy as plain lists and texts, for storing and comparing."""
        values = asdict(self)
        values["significant"] = {k: sorted(v) for k, v in sorted(self.significant.items())}
        return {k: list(v) if isinstance(v, tuple) else v for k, v in values.items()}

    @classmethod
    def from_dict(cls, values: Mapping[str, Any]) -> FoldingPolicy:
        known: dict[str, Any] = {
            k: tuple(v) if isinstance(v, list) else v for k, v in values.items()
        }
        known["significant"] = {k: tuple(v) for k, v in dict(values.get("significant", {})).items()}
        return cls(**known)

    def fold_path(self, path: str) -> tuple[str, frozenset[str]]:
        """The folded path (no trailing slash but for the root) and the names of what was folded."""
        folded, _, mends = self.fold_and_keep(path)
        return folded, mends

    def fold_and_keep(self, path: str) -> tuple[str, str, frozenset[str]]:
        """As `fold_path`, with the canonical path as observed in between: folded, observed,
        mends.
        """
        mends: set[str] = set()
        if _is_simple(path):
            canonical = observed = path
            last = path.rpartition("/")[2]
            if last and last.lower() not in self.last_names and not last.isdigit():
                lowered = path.lower() if self.folds_case else path
                return lowered, path, _NOTHING if lowered == path else _CASE
        else:
            out = without_path_session(path) or "/"
            if out != path:
                mends.add(SESSION_PARAMETER)
            canonical = observed = canonical_path(out)
            if canonical != out:
                mends |= _name_mends(out, canonical)
        if "%" in canonical and (utf8 := as_utf8(canonical)) != canonical:
            mends.add("Latin-1 escapes")
            canonical = utf8
        if self.folds_case:
            lowered = lower_path(canonical)
            if lowered != canonical:
                mends.add("letter case")
            canonical = lowered
        head, _, last = canonical.rpartition("/")
        if lower_ascii(last) in self.index_set:
            mends.add("index file")
            canonical = head + "/"
        if canonical != "/" and canonical.endswith("/"):
            mends.add("trailing slash")
            canonical = canonical[:-1]
        folded = self._without_view(canonical, mends)
        return folded, observed, frozenset(mends)

    def _without_view(self, path: str, mends: set[str]) -> str:
        """Take off what asks for another view of a page. A print view needs two segments above it:
        a short "/shop/print" may well be a page of its own.
        """
        head, _, last = path.rpartition("/")
        view = lower_ascii(last)
        if view in self._views and head.count("/") >= (2 if view == "print" else 1):
            mends.add(f"{view} view")
            return head
        if last.isdigit() and (match := _PAGE_NUMBER.match(path)):
            mends.add(PAGINATION)
            return match[1]
        return path

    @cached_property
    def last_names(self) -> frozenset[str]:
        """Last segments that say more than a name, in lower case: index files and views."""
        return self.index_set | self._views

    @cached_property
    def _views(self) -> frozenset[str]:
        return frozenset(map(lower_ascii, self.view_segments))

    def significant_at(self, path: str) -> frozenset[str] | None:
        """The parameters that choose the page at a folded path; None when all do."""
        names = self.significant_by_path.get(path)
        if names is None and self._significant_patterns:
            low = lower_ascii(path)
            names = next(
                (found for pattern, found in self._significant_patterns if pattern.match(low)), None
            )
        return names


def _name_mends(before: str, after: str) -> set[str]:
    mends = set()
    if "//" in before:
        mends.add("repeated slashes")
    if has_dot_segments(before):
        mends.add("dot segments")
    if re.sub(r"%[0-9A-Fa-f]{2}", "", before) != before or "%" in after:
        mends.add("percent encoding")
    return mends


class Folded(NamedTuple):
    """What an address amounts to: its key within a site, and what was folded on the way.

    path: canonical, folded; params: significant parameters, sorted, in canonical spelling;
    variant: the canonical path as observed, before case, index file and slash were folded.
    """

    path: str
    params: tuple[tuple[str, str], ...]
    variant: str
    mends: frozenset[str]

    @property
    def key(self) -> str:
        return entry_key(self.path, self.params)


def entry_key(path: str, params: tuple[tuple[str, str], ...]) -> str:
    """The text that names an entry within its site: a path and its significant parameters."""
    return path + ("?" + "&".join(f"{n}={v}" for n, v in params) if params else "")


def fold(address: Address, policy: FoldingPolicy) -> Folded:
    """Fold an address. The caller has asked `reject_reason` first; see `unanswerable`."""
    folded = fold_target(address.path, address.query, policy)
    return folded._replace(mends=folded.mends | {"fragment"}) if address.fragment else folded


def fold_target(path: str, query: str, policy: FoldingPolicy) -> Folded:
    """Fold a path and a query, their secrets masked."""
    folded, variant, mends = policy.fold_and_keep(policy.secrets.in_path(path))
    params: tuple[tuple[str, str], ...] = ()
    if query:
        params, more = _fold_query(policy.secrets.in_query(query), folded, policy)
        mends |= more
    return Folded(folded, params, variant, mends)


def _fold_query(
    query: str, path: str, policy: FoldingPolicy
) -> tuple[tuple[tuple[str, str], ...], set[str]]:
    """The parameters that choose the page, by name, and what was folded."""
    mends: set[str] = set()
    params: list[tuple[str, str]] = []
    significant = policy.significant_at(path)
    for part in query.split("&"):
        name, _, value = part.partition("=")
        if not name:
            continue
        purpose = policy.purpose(name, value)
        if name not in significant if significant is not None else purpose:
            mends.add(purpose or OTHER_PARAMETER)
        elif (
            param := (name, canonical_value(value))
        ) not in params:  # one name with several values names a page of its own
            params.append(param)
    if len(params) < 2:
        return tuple(params), mends
    ordered = sorted(params, key=itemgetter(0))
    if ordered != params:
        mends.add("parameter order")
    return tuple(ordered), mends
