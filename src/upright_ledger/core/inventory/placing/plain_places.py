"""The short way of placing: addresses in which nothing is to be mended, masked or set aside are
placed many at a time, as columns.

Most addresses of an export are such. All others are left to `Classifier.written`; a property test
holds both equal.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from upright_ledger.core.inventory.noise import ASIDE_IN_RE2
from upright_ledger.core.inventory.normalisation import (
    SESSION_PARAMETER,
    TRACKING_PARAMETER,
    VIEW,
    FoldingPolicy,
)
from upright_ledger.core.inventory.placing.text_columns import (
    array,
    column,
    of_origins,
    path_and_query,
    texts,
    those,
)
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.conventions import DOUBTFUL_SESSION
from upright_ledger.core.url.origins import MOBILE_LABELS, Sites
from upright_ledger.core.url.redaction import SECRETS_IN_RE2, Secrets
from upright_ledger.core.url.request_target import MAX_LENGTH

_SEGMENT = r"/[A-Za-z0-9_-]+(?:\.[A-Za-z0-9_-]+)*"
_PAIR = r"[A-Za-z0-9_.~-]+=[A-Za-z0-9_.~-]*"
_TARGET = rf"^(?:{_SEGMENT})+/?(?:\?{_PAIR}(?:&{_PAIR})*)?$"
_SOUND_END = r"[A-Za-z0-9_~/=]$"
"""As `core.url.repair.is_sound` asks; what these leave out may be damage."""
_WITHIN = "/http|/www\\."
_LONGEST = MAX_LENGTH // 4  # with the base, and with escapes, it stays far below the limit
_CASE, _SLASH = "letter case", "trailing slash"
_PURPOSES = ("", TRACKING_PARAMETER, SESSION_PARAMETER, VIEW)
_BITS = {1 << n: name for n, name in enumerate((_CASE, _SLASH, *_PURPOSES[1:]))}


class Placed(NamedTuple):
    """Plain addresses, in their order. at: which of the addresses they are. folded: what was
    folded, by name → in how many of them. All others as in `classification.Classified`; their
    spelling is their text.
    """

    at: list[int]
    sites: list[str]
    keys: list[str]
    variants: list[str]
    legacy_urls: list[str]
    folded: Counter[str]


class PlainPlaces:
    """Places addresses under one set of sites and one folding policy."""

    def __init__(self, sites: Sites, policy: FoldingPolicy) -> None:
        self._policy = policy
        self._origins = _origins(sites)
        bases = {site.name: site.origins[0] for site in sites.old}
        self._site_of = pa.array([*self._origins.values()], pa.string())
        self._base_of = pa.array([bases[site] for site in self._origins.values()], pa.string())
        names = "|".join(map(re.escape, sorted(map(str.lower, policy.last_names))))
        last = rf"/(?:{f'{names}|' if names else ''}page/[0-9]+)/?\z"
        self._careful = f"{ASIDE_IN_RE2}|{SECRETS_IN_RE2}|{_WITHIN}|{last}"
        self._significant = pa.array(sorted(policy.significant_by_path), pa.string())
        self._judge_queries = not any("*" in path for path in policy.significant)

    def place(self, addresses: Sequence[str]) -> Placed:
        """Those of these addresses that are plain."""
        told = column(addresses)
        plain = pc.and_(
            pc.match_substring_regex(told, _SOUND_END),
            pc.less_equal(pc.binary_length(told), _LONGEST),
        )
        at, origin, target = of_origins(told, [*self._origins])
        plain = pc.and_(plain.take(pa.array(at)), pc.match_substring_regex(target, _TARGET))
        at, origin, target = those(array(plain), at, origin, target)
        path, query, _ = path_and_query(target)
        low = pc.ascii_lower(path)
        sound = pc.invert(
            pc.or_(
                pc.match_substring_regex(low, self._careful),
                pc.match_substring_regex(low, "[^/]{40}"),
            )
        )
        at, origin, path, query, low = those(array(sound), at, origin, path, query, low)
        slashed = pc.ends_with(low, "/")
        folded = pc.utf8_rtrim(low if self._policy.folds_case else path, "/")
        kept, bits, sound = self._queries(query, folded)
        bits |= array(slashed) * np.int64(2)
        if self._policy.folds_case:
            bits |= array(pc.not_equal(low, path)) * np.int64(1)
        at, origin, path, folded, kept, bits = those(sound, at, origin, path, folded, kept, bits)
        numbers = pa.array(origin)
        return Placed(
            at.tolist(),
            texts(self._site_of.take(numbers)),
            texts(pc.binary_join_element_wise(folded, kept, "")),
            texts(path),
            texts(pc.binary_join_element_wise(self._base_of.take(numbers), path, kept, "")),
            _counted(bits),
        )

    def _queries(self, query: Any, path: Any) -> tuple[Any, NDArray[np.int64], NDArray[np.bool_]]:
        """Of queries at folded paths: what stays of each, with its mark; what was folded; whether
        it is plain.
        """
        bits = np.zeros(len(query), dtype=np.int64)
        plain = np.ones(len(query), dtype=np.bool_)
        rows = np.flatnonzero(array(pc.not_equal(query, "")))
        if not len(rows):
            return query, bits, plain
        if not self._judge_queries:
            plain[rows] = False
            return query, bits, plain
        if len(self._significant):
            plain[rows] = ~array(pc.is_in(path.take(pa.array(rows)), self._significant))
        split = pc.split_pattern(query.take(pa.array(rows)), "&")
        part = split.flatten()
        pair = pc.extract_regex(part, "^(?P<name>[^=]*)=(?P<value>.*)$")
        name, value = pair.flatten()
        row = array(pc.list_parent_indices(split))
        names = name.dictionary_encode()
        index = array(names.indices)
        known = names.dictionary.to_pylist()
        secrets = self._policy.secrets
        sound = np.array([_is_plain(n, secrets) for n in known], dtype=np.bool_)[index]
        sound &= array(pc.less(pc.binary_length(value), 32))
        sound &= ~array(pc.match_substring(part, "eyJ"))
        purposes = [_PURPOSES.index(self._policy.purpose(n)) for n in known]
        purpose = np.array(purposes, dtype=np.int64)[index]
        stays = purpose == 0
        rank = np.argsort(np.argsort(np.array(known, dtype=object)))[index][stays]
        its_row = row[stays]
        same = its_row[1:] == its_row[:-1]
        unordered = its_row[1:][same & (rank[1:] <= rank[:-1])]
        plain[rows[row[~sound]]] = False
        plain[rows[unordered]] = False
        np.bitwise_or.at(bits, rows[row[~stays]], np.int64(2) << purpose[~stays])
        counts = np.bincount(its_row, minlength=len(rows))
        offsets = np.concatenate(([0], np.cumsum(counts))).astype(np.int32)
        left = pa.ListArray.from_arrays(offsets, part.filter(pa.array(stays)))
        joined = pc.binary_join(left, "&")
        marked = pc.if_else(
            pc.not_equal(joined, ""), pc.binary_join_element_wise("?", joined, ""), ""
        )
        return pc.replace_with_mask(query, pc.not_equal(query, ""), marked), bits, plain


def _origins(sites: Sites) -> dict[str, str]:
    """Origin → site, of those that a URL parser leaves as they are and that tell nothing more."""
    found = {}
    declared = {site.origins[0] for site in sites.old}
    for authority, site in sites.site_of_authority.items():
        for origin in (f"http://{authority}", f"https://{authority}"):
            try:
                address = parse_address(f"{origin}/")
            except NotAnAddressError:
                continue
            mobile = address.host.startswith(MOBILE_LABELS) and origin not in declared
            if address.without_fragment == f"{origin}/" and not address.port and not mobile:
                found[origin] = site
    return found


def _counted(bits: NDArray[np.int64]) -> Counter[str]:
    """What was folded, by name, and how often."""
    rows = {name: int(np.count_nonzero(bits & bit)) for bit, name in _BITS.items()}
    return Counter({name: n for name, n in rows.items() if n})


def _is_plain(name: str, secrets: Secrets) -> bool:
    """Whether no short value of a parameter matters for what becomes of it."""
    return name.lower() not in DOUBTFUL_SESSION and secrets.passes(name)
