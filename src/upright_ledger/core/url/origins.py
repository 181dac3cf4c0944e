"""Sites: which hosts belong to which old site, and which origins the new site declares."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property

from upright_ledger.core.url.address import Address, NotAnAddressError, parse_address

MOBILE_LABELS = ("m.", "mobile.", "amp.")
_ALIAS_LABELS = ("www.", *MOBILE_LABELS)
_NUMBER = re.compile(r"\[|[0-9.]+(?::|\Z)")  # an IP address has no other names
_DEFAULT_PORTS = frozenset(["80", "443"])


@dataclass(frozen=True, slots=True)
class Site:
    """One old site: a name and the alias origins (www, scheme, mobile) that show the same pages."""

    name: str
    origins: tuple[str, ...]


@dataclass(frozen=True)
class Sites:
    """All old sites and all new origins of a move. The first new origin is the canonical one."""

    old: tuple[Site, ...]
    new: tuple[str, ...]

    @cached_property
    def site_of_authority(self) -> dict[str, str]:
        """Site name by host (with port when it is not the scheme's own), whatever the scheme.

        A host's www twin and its mobile hosts belong to the same site, unless they are declared
        somewhere themselves.
        """
        named = {parse_address(o).authority: site.name for site in self.old for o in site.origins}
        declared = set(named) | set(self.new_authorities)
        for authority, name in list(named.items()):
            plain = authority
            for label in _ALIAS_LABELS:
                plain = plain.removeprefix(label)
            if _NUMBER.match(plain):
                continue
            for label in ("", *_ALIAS_LABELS):
                if (twin := label + plain) not in declared and "." in twin:
                    named[twin] = name
        return named

    @cached_property
    def new_authorities(self) -> frozenset[str]:
        return frozenset(parse_address(o).authority for o in self.new)

    @cached_property
    def hosts(self) -> frozenset[str]:
        """Every authority that this move may speak to."""
        return frozenset(self.site_of_authority) | self.new_authorities

    @cached_property
    def old_origins(self) -> dict[str, str]:
        """Origin by host of what is written without a scheme."""
        declared = [o for site in self.old for o in site.origins]
        known = {authority: f"http://{authority}" for authority in self.site_of_authority}
        return known | {parse_address(o).authority: o for o in reversed(declared)}

    @cached_property
    def all_origins(self) -> dict[str, str]:
        """As `old_origins`, and those of the new site before them."""
        new = {parse_address(o).authority: o for o in reversed(self.new)}
        return self.old_origins | new

    def site_of(self, address: Address) -> str:
        """The old site an address lies on, or an empty string."""
        return self.site_of_authority.get(self.plain(address).authority, "")

    def plain(self, address: Address) -> Address:
        """An address without a port that is the default of either scheme, which names no other site
        unless it is declared.
        """
        if address.port in _DEFAULT_PORTS and address.authority not in self.site_of_authority:
            return address._replace(port="")
        return address

    @cached_property
    def _authorities(self) -> dict[str, tuple[str, ...]]:
        named = self.site_of_authority
        return {
            s.name: tuple(sorted(a for a, name in named.items() if name == s.name))
            for s in self.old
        }

    def authorities_of(self, site: str) -> tuple[str, ...]:
        """The hosts of an old site."""
        return self._authorities.get(site, ())

    @cached_property
    def _shared(self) -> dict[str, tuple[str, ...]]:
        on = {s.name: frozenset(self.authorities_of(s.name)) for s in self.old}
        return {
            name: tuple(o for o in self.new if parse_address(o).authority in hosts)
            for name, hosts in on.items()
        }

    def shared_origins(self, site: str) -> tuple[str, ...]:
        """The new origins that lie on hosts of an old site."""
        return self._shared.get(site, ())

    def base_of(self, site: str) -> str:
        """The origin in which entries of this old site are written."""
        return next(s.origins[0] for s in self.old if s.name == site)

    def is_new(self, address: Address) -> bool:
        return address.authority in self.new_authorities


def group_origins(urls: list[str]) -> tuple[Site, ...]:
    """Group old origins into sites: hosts that differ by www or a mobile label are one site.

    Raises NotAnAddressError for an URL that is none, or that names more than an origin.
    """
    groups: dict[str, list[str]] = {}
    for url in urls:
        origin = read_origin(url)
        host = parse_address(origin).authority
        for label in _ALIAS_LABELS:
            host = host.removeprefix(label)
        members = groups.setdefault(host, [])
        if origin not in members:
            members.append(origin)
    return tuple(Site(name, tuple(origins)) for name, origins in groups.items())


def read_origin(url: str) -> str:
    """The origin a URL names; raises NotAnAddressError when it holds a path or query besides."""
    address = parse_address(url)
    if address.target != "/":
        raise NotAnAddressError(
            f"an origin is scheme, host and port only; {address.target} is too much"
        )
    return address.origin
