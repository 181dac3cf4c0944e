"""Folding: which observed spellings are one entry, under a policy that can be changed.

The observed spelling stays the stored fact. The entry key is derived from it here and nowhere else.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from functools import cached_property
from typing import Any

from upright_ledger.core.addresses import Address, canonical_path, guard, lower_ascii, lower_path, names_file

TRACKING = (
    "utm_source",
    "utm_medium",
    "utm_campaign",
    "utm_term",
    "utm_content",
    "utm_id",
    "gclid",
    "gbraid",
    "wbraid",
    "dclid",
    "msclkid",
    "fbclid",
    "ttclid",
    "twclid",
    "mc_cid",
)
"""Parameters that tell where a visit came from, in the order in which rules carry them on."""

TRACKING_ONLY_FOLDED = (
    "mc_eid",
    "igshid",
    "yclid",
    "srsltid",
    "_ga",
    "_gl",
    "epik",
    "vero_id",
    "oly_enc_id",
    "hsctatracking",
)
"""Parameters of the same sort that name a person or a click; they are folded and never carried."""

SESSION = (
    "phpsessid",
    "jsessionid",
    "aspsessionid",
    "sessionid",
    "session_id",
    "sid",
    "cfid",
    "cftoken",
    "zenid",
    "oscsid",
)
"""Parameters that name one visit, in lower case."""

INDEX_FILES = (
    "index.html",
    "index.htm",
    "index.shtml",
    "index.php",
    "index.asp",
    "index.aspx",
    "index.jsp",
    "index.cfm",
    "default.htm",
    "default.html",
    "default.asp",
    "default.aspx",
)

_PATH_SESSION = re.compile(r";(?:jsessionid|phpsessid|sid)=[^/;]*", re.IGNORECASE)


@dataclass(frozen=True)
class FoldingPolicy:
    """What makes two spellings one entry.

    case: "fold" (A-Z equal a-z in paths) or "exact". Parameter names and values are always exact.
    significant: folded path → names of the parameters that choose the page there. A path that is
    not listed keeps every parameter that is neither tracking nor session.
    """

    case: str = "fold"
    index_files: tuple[str, ...] = INDEX_FILES
    tracking: tuple[str, ...] = TRACKING
    tracking_only_folded: tuple[str, ...] = TRACKING_ONLY_FOLDED
    session: tuple[str, ...] = SESSION
    significant: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @cached_property
    def _dropped(self) -> frozenset[str]:
        return frozenset(n.lower() for n in (*self.tracking, *self.tracking_only_folded, *self.session))

    @cached_property
    def _tracking_lower(self) -> frozenset[str]:
        return frozenset(n.lower() for n in (*self.tracking, *self.tracking_only_folded))

    @cached_property
    def index_set(self) -> frozenset[str]:
        return frozenset(self.index_files)

    @cached_property
    def significant_by_path(self) -> dict[str, frozenset[str]]:
        """The settings, by folded path."""
        return {self.fold_path(path)[0]: frozenset(names) for path, names in self.significant.items()}

    def as_dict(self) -> dict[str, Any]:
        """The policy as plain lists and texts, for storing and comparing."""
        values = asdict(self)
        values["significant"] = {k: sorted(v) for k, v in sorted(self.significant.items())}
        return {k: list(v) if isinstance(v, tuple) else v for k, v in values.items()}

    @classmethod
    def from_dict(cls, values: Mapping[str, Any]) -> FoldingPolicy:
        known: dict[str, Any] = {k: tuple(v) if isinstance(v, list) else v for k, v in values.items()}
        known["significant"] = {k: tuple(v) for k, v in dict(values.get("significant", {})).items()}
        return cls(**known)

    def fold_path(self, path: str) -> tuple[str, set[str]]:
        """The folded path (no trailing slash but for the root) and the names of what was folded."""
        mends: set[str] = set()
        out = _PATH_SESSION.sub("", path) if ";" in path else path
        if out != path:
            mends.add("session parameter")
        canonical = canonical_path(out)
        if canonical != out:
            mends |= _name_mends(out, canonical)
        if self.case == "fold":
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
        return canonical, mends

    def significant_at(self, path: str) -> frozenset[str] | None:
        """The parameters that choose the page at a folded path; None when all do."""
        return self.significant_by_path.get(path)

    def is_tracking(self, name: str) -> bool:
        low = name.lower()
        return low.startswith("utm_") or low in self._tracking_lower

    def keeps(self, path: str, name: str) -> bool:
        """Whether a parameter stays in the key of an entry at this folded path."""
        names = self.significant_at(path)
        if names is not None:
            return name in names
        low = name.lower()
        return not low.startswith("utm_") and low not in self._dropped


def has_dot_segments(path: str) -> bool:
    """Whether a path as written holds "." or ".." segments; a URL parser resolves them unasked."""
    return _DOT_SEGMENT.search(path) is not None


_DOT_SEGMENT = re.compile(r"/(?:\.|%2[Ee]){1,2}(?:/|$)")


def _name_mends(before: str, after: str) -> set[str]:
    mends = set()
    if "//" in before:
        mends.add("repeated slashes")
    if has_dot_segments(before):
        mends.add("dot segments")
    if re.sub(r"%[0-9A-Fa-f]{2}", "", before) != before or "%" in after:
        mends.add("percent encoding")
    return mends


@dataclass(frozen=True, slots=True)
class Folded:
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
    """Fold an address. The caller has asked `guard` first; see `unanswerable`."""
    path, mends = policy.fold_path(address.path)
    params: dict[str, str] = {}
    if address.query:
        seen: list[str] = []
        for part in address.query.split("&"):
            name, _, value = part.partition("=")
            if not name:
                continue
            if not policy.keeps(path, name):
                mends.add("tracking parameter" if policy.is_tracking(name) else "other parameter")
            elif name not in params:
                params[name] = canonical_value(value)
                seen.append(name)
        if seen != sorted(seen):
            mends.add("parameter order")
    if address.fragment:
        mends.add("fragment")
    variant = canonical_path(_PATH_SESSION.sub("", address.path))
    return Folded(path, tuple(sorted(params.items())), variant, frozenset(mends))


def unanswerable(address: Address) -> str:
    """Why no server rule could ever answer this address, or an empty string."""
    return guard(address.target)


_QUERY_ESCAPE = re.compile(r"%([0-9A-Fa-f]{2})")
_PLAIN = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")


def canonical_value(value: str) -> str:
    """A parameter value with unreserved letters bare, other escapes in upper case, a blank as %20."""
    if not value or value.isalnum():
        return value

    def one(match: re.Match[str]) -> str:
        byte = int(match[1], 16)
        return chr(byte) if byte in _PLAIN else f"%{byte:02X}"

    return _QUERY_ESCAPE.sub(one, value.replace("+", "%20"))


def value_spellings(value: str) -> tuple[str, ...]:
    """The spellings of a canonical value that a rule answers: upper or lower escapes, blank as %20 or +."""
    upper = (value, value.replace("%20", "+"))
    lower = tuple(_QUERY_ESCAPE.sub(lambda m: m[0].lower(), v) for v in upper)
    return tuple(dict.fromkeys((*upper, *lower)))


def declared_paths(path: str, variants: frozenset[str], policy: FoldingPolicy) -> tuple[str, ...]:
    """Every canonical path a rule for this entry answers, case folded under the policy.

    Both slash forms (a name with a file ending takes only its own), and the index files and other
    spellings that were observed.
    """
    found = {path}
    if path != "/" and not names_file(path):
        found.add(path + "/")
    for variant in variants:
        found.add(lower_path(variant) if policy.case == "fold" else variant)
    return tuple(sorted(found))
