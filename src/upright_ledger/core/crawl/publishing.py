"""A site that is asked at one origin, and is or will be public at another: a staging server."""

from __future__ import annotations

from typing import NamedTuple

from upright_ledger.core.crawl.observation import Facts, Link, Observation
from upright_ledger.core.url.address import Address, parse_address, split_text

_OTHER = {"http": "https", "https": "http"}


class Publishing(NamedTuple):
    """Where a site is asked (`staging`), and where it is public (`public`): two origins."""

    staging: str
    public: str

    def asked(self, address: Address) -> Address:
        """The address at which a page of the public site is asked; all others as they are."""
        if address.authority != split_text(self.public)[1]:
            return address
        at = parse_address(self.staging)
        return at._replace(path=address.path, query=address.query, fragment=address.fragment)

    def public_address(self, url: str) -> str:
        """The public address of one on the staging server; all others as they are.

        Where both are asked in one scheme, the other scheme stays the other one.
        """
        scheme, authority, target = split_text(url)
        staged, here, _ = split_text(self.staging)
        if authority != here:
            return url
        public, there, _ = split_text(self.public)
        stays_other = scheme != staged and staged == public
        return f"{_OTHER[public] if stays_other else public}://{there}{target}"

    def seen(self, seen: Observation) -> Observation:
        """What was seen, as of the public site. Links keep what is written in the page."""
        return seen._replace(
            url=self.public_address(seen.url),
            location=self._of(seen.location),
            via=self._of(seen.via),
            facts=self._facts(seen.facts),
        )

    def _of(self, text: str) -> str:
        return self.public_address(text) if "://" in text else text

    def _facts(self, facts: Facts) -> Facts:
        links = tuple(self._link(link) for link in facts.links)
        return facts._replace(canonical=self._of(facts.canonical), links=links)

    def _link(self, link: Link) -> Link:
        return link._replace(target=self._of(link.target))
