"""Placing: which old site and which entry an address belongs to, or the class in which it is set
aside.
"""

from __future__ import annotations

import re
from fnmatch import fnmatchcase
from functools import cached_property
from typing import NamedTuple

from upright_ledger.core.inventory import noise
from upright_ledger.core.inventory.normalisation import Folded, FoldingPolicy, fold, fold_target
from upright_ledger.core.inventory.path_noise import has_dot_segments
from upright_ledger.core.url.address import Address, NotAnAddressError, parse_address
from upright_ledger.core.url.origins import MOBILE_LABELS, Sites
from upright_ledger.core.url.request_target import MAX_LENGTH, reject_reason, split_target

_ORIGIN = re.compile(r"(https?)://([^/:]+)(?::(\d+))?")
_NOTHING: frozenset[str] = frozenset()


class Classified(NamedTuple):
    """Where an address belongs.

    site: empty when off-site. spelling: what is stored, secrets masked. key, variant, legacy_url:
    as folded; empty where `aside` names the class in which it is set aside. mends: what was folded,
    by name. doubt: the class in which it is set aside unless something shows that it is a page; see
    `Classifier.asked`.
    """

    site: str
    spelling: str
    key: str
    variant: str
    legacy_url: str
    aside: str
    mends: frozenset[str]
    doubt: str = ""

    @property
    def waits_for(self) -> str:
        """The key by which it joins an entry while it is in doubt; empty where it looks like an
        attack, and folding leaves out a part of it: no page's hit is an attack on it.
        """
        if not self.doubt or (
            self.doubt == noise.AsideClass.PROBE
            and is_surely_probed(self.spelling)
            and self.key.lower() != _bare_target(self.spelling)
        ):
            return ""
        return self.key


class SpellingFacts(NamedTuple):
    """What the sources that count say of a spelling. named: something else than a log names it;
    answered: a log saw it answered without an error; people: a person asked for it; elsewhere:
    others link to it, search engines or analytics count it, or people came to it from other sites;
    sought: several people, or a link, asked for it.
    """

    named: bool = False
    answered: bool = False
    people: bool = False
    elsewhere: bool = False
    sought: bool = False


def is_surely_probed(spelling: str) -> bool:
    """Whether nobody but a scanner asks for an address."""
    return noise.set_aside_class(spelling[spelling.index("/", 8) :]) == noise.AsideClass.PROBE


def _whole_target(text: str) -> tuple[str, str]:
    """Origin and target of a request that names its host. Raises NotAnAddressError."""
    try:
        whole = parse_address(text)
    except NotAnAddressError:
        # A path that no URL parser reads is looked at as it was sent, as behind a bare slash.
        match = _ORIGIN.match(text)
        if match is None or text[match.end() :][:1] != "/":
            raise
        return match[0], text[match.end() :]
    return whole.origin, whole.target


def _bare_target(spelling: str) -> str:
    """What a spelling asks for, in small letters and without a closing slash."""
    path, mark, query = spelling[spelling.index("/", 8) :].lower().partition("?")
    return f"{path.rstrip('/') or '/'}{mark}{query}"


def _path_of(spelling: str) -> str:
    return spelling[spelling.index("/", 8) :].partition("?")[0]


class Classifier:
    """Places addresses under one set of sites and one folding policy. base: the origin of bare
    paths.
    """

    kept: frozenset[tuple[str, str]] = frozenset()
    """What looks like no page (site, key) and is an entry all the same; for `owner`."""
    stocked: frozenset[tuple[str, str]] = frozenset()
    """Pages (site, key) of the new site, where it lies on an old host, that look like none."""

    def __init__(self, sites: Sites, policy: FoldingPolicy, base: str = "") -> None:
        self.sites = sites
        self.policy = policy
        self.base = base or sites.old[0].origins[0]
        self._bases = {site.name: site.origins[0] for site in sites.old}
        self._site_of = sites.site_of_authority
        self._homes: dict[str, Address] = {}

    @cached_property
    def _taken_back(self) -> tuple[frozenset[str], tuple[str, ...]]:
        """Classes, and path patterns in lower case, that are entries all the same."""
        patterns = tuple(t.lower() for t in self.policy.take_back if t.startswith("/"))
        return frozenset(t for t in self.policy.take_back if not t.startswith("/")), patterns

    def written(self, text: str) -> Classified:
        """The place of an address as people and exports write it, and whether it may be a page
        asset. Raises NotAnAddressError.
        """
        address = parse_address(text, self.base)
        place = self._place(address, whole=True, dots=has_dot_segments(text.partition("?")[0]))
        if (
            place.aside
            or not noise.asset_class(address.path)
            or self._is_taken_back(noise.AsideClass.ASSET, address.path)
        ):
            return place
        return place._replace(doubt=noise.AsideClass.ASSET)

    def sent(self, target: str, host: str = "") -> Classified:
        """The place of a request target as a client sent it, nothing mended. Raises
        NotAnAddressError.

        Tracking and session parameters are left out of the spelling: a log repeats one address with
        every click identifier.
        """
        place = self._place(self.sent_address(target, host), whole=False, dots=False)
        return place if place.aside else self._doubted(place)

    def seen(self, place: Classified, known: SpellingFacts) -> Classified:
        """A place in view of what is known of it: a doubt that nothing clears stays.

        Which line of which source says so does not matter, nor does the order.
        """
        if place.aside:
            return place
        if place.doubt == noise.AsideClass.ASSET:
            listed = known.named and not noise.is_well_known(_path_of(place.spelling))
            return place._replace(doubt="") if known.elsewhere or listed else place
        if known.named or (place.site, place.waits_for) in self.stocked:
            return place._replace(doubt="")
        sure = place.doubt == noise.AsideClass.PROBE and is_surely_probed(place.spelling)
        if not sure and (known.answered or (known.sought and place.doubt in noise.SCANNERS)):
            return place._replace(doubt="")
        if (
            place.doubt
            or known.people
            or self._is_taken_back(noise.AsideClass.BOTS_ONLY, _path_of(place.spelling))
        ):
            return place
        return place._replace(doubt=noise.AsideClass.BOTS_ONLY)

    @staticmethod
    def is_asset(place: Classified) -> bool:
        """Whether a place looks like a page asset's, even where these are taken back."""
        return bool(noise.asset_class(_path_of(place.spelling)))

    @staticmethod
    def is_doubtful(place: Classified) -> bool:
        """Whether a place looks like a scanner's, even where these are taken back, and people may
        ask for it all the same.
        """
        if place.aside or is_surely_probed(place.spelling):
            return False
        return bool(noise.doubtful_class(_path_of(place.spelling)))

    def stored(self, spelling: str) -> Classified:
        """The place of a spelling as it was stored, under this policy, with the doubt that a log
        alone leaves.
        """
        match = _ORIGIN.match(spelling)
        if match is None:
            raise NotAnAddressError("it names no origin")
        path, _, query = spelling[match.end() :].partition("?")
        place = self._place(
            Address(match[1], match[2], match[3] or "", path, query), whole=True, dots=False
        )
        place = place._replace(spelling=spelling)
        return place if place.aside else self._doubted(place)

    def _doubted(self, place: Classified) -> Classified:
        path = _path_of(place.spelling)
        sure = noise.AsideClass.PROBE if is_surely_probed(place.spelling) else ""
        kinds = (sure, noise.asset_class(path) or noise.doubtful_class(path))
        doubt = next((k for k in kinds if k and not self._is_taken_back(k, path)), "")
        return place._replace(doubt=doubt)

    def owner(self, address: Address, *, sent: bool = False) -> tuple[str, str, str]:
        """Site and key of an address, and the class in which it is set aside: what `written` and
        `sent` say, without the rest.

        sent: a log has it; there page assets that are no entries are set aside.
        """
        if address.port:
            address = self.sites.plain(address)
        site = self._site_of.get(address.authority, "")
        if not site:
            return "", "", noise.AsideClass.OFF_SITE
        target = address.target
        if reject_reason(target):
            return site, "", noise.AsideClass.UNANSWERABLE
        kind = noise.set_aside_class(target)
        is_probe = kind == noise.AsideClass.PROBE
        if kind and not is_probe and not self._is_taken_back(kind, address.path):
            return site, "", kind
        key = fold_target(address.path, address.query, self.policy).key
        if len(self._bases[site]) + len(key) > MAX_LENGTH:
            return site, "", noise.AsideClass.UNANSWERABLE
        doubt = (kind if is_probe else noise.asset_class(address.path)) if sent else ""
        if doubt and (site, key) not in self.kept and not self._is_taken_back(doubt, address.path):
            return site, "", doubt
        return site, key, ""

    def sent_address(self, target: str, host: str = "") -> Address:
        """The address of a request: on the host it names, or on the base."""
        origin = f"http://{host}" if host else self.base
        if not target.startswith("/"):
            origin, target = _whole_target(target)
        home = self._homes.get(origin)
        if home is None:
            home = self._homes[origin] = parse_address(origin)
        path, query = split_target(target)
        return Address(home.scheme, home.host, home.port, path, query)

    def refolded(self, site: str, spelling: str) -> tuple[str, str, str]:
        """Key, variant and legacy URL of a stored spelling of a site under this policy: the quick
        way through `stored`.
        """
        path, _, query = spelling[spelling.index("/", 8) :].partition("?")
        return self._names(site, fold_target(path, query, self.policy))

    def _names(self, site: str, folded: Folded) -> tuple[str, str, str]:
        """Key, variant and legacy URL of an entry of a site."""
        kept = "?" + "&".join([f"{n}={v}" for n, v in folded.params]) if folded.params else ""
        return folded.path + kept, folded.variant, f"{self._bases[site]}{folded.variant}{kept}"

    def _place(self, address: Address, *, whole: bool, dots: bool) -> Classified:
        """The place of an address. whole: its query is stored as it is, but for secrets; else
        without what is noise.

        What is looked at is what is stored, so that a spelling is always of one class.
        """
        if address.port:
            address = self.sites.plain(address)
        site = self._site_of.get(address.authority, "")
        secrets = self.policy.secrets
        path, query = secrets.in_path(address.path), secrets.in_query(address.query)
        if path != address.path or query != address.query:
            address = Address(
                address.scheme, address.host, address.port, path, query, address.fragment
            )
        if not site:
            return Classified(
                "", address.without_fragment, "", "", "", noise.AsideClass.OFF_SITE, _NOTHING
            )
        kept = query if whole or not query else self._without_noise(query)
        target = f"{address.path}?{kept}" if kept else address.path
        aside = (
            noise.AsideClass.UNANSWERABLE
            if reject_reason(target)
            else noise.set_aside_class(target)
        )
        # What looks like a scanner's is in doubt, unless something else than a log names it.
        if aside not in {"", noise.AsideClass.PROBE} and (
            aside == noise.AsideClass.UNANSWERABLE or not self._is_taken_back(aside, address.path)
        ):
            return Classified(site, f"{address.origin}{target}", "", "", "", aside, _NOTHING)
        return self._entry(address, site, f"{address.origin}{target}", dots=dots)

    def _without_noise(self, query: str) -> str:
        return "&".join(
            [p for p in query.split("&") if p and not self.policy.noise(*p.partition("=")[::2])]
        )

    def _entry(
        self, address: Address, site: str, spelling: str, *, dots: bool = False
    ) -> Classified:
        folded = fold(address, self.policy)
        mends = folded.mends
        if dots:
            mends |= {"dot segments"}
        if address.host.startswith(MOBILE_LABELS) and address.origin not in self._bases.values():
            mends |= {"mobile host"}
        key, variant, legacy_url = self._names(site, folded)
        # Escaped as they are in keys, letters are longer.
        if max(len(self._bases[site]) + len(key), len(legacy_url), len(spelling)) > MAX_LENGTH:
            return Classified(site, spelling, "", "", "", noise.AsideClass.UNANSWERABLE, _NOTHING)
        return Classified(site, spelling, key, variant, legacy_url, "", mends)

    def _is_taken_back(self, kind: str, path: str) -> bool:
        classes, patterns = self._taken_back
        return kind in classes or any(fnmatchcase(path.lower(), p) for p in patterns)
