"""Site-wide forms: the one spelling of scheme, host, slash and letter case that a site has, for all
that no rule answers.

A form settles everything in one hop, and gives nothing where there is nothing to settle: what it
leads to is in its form already.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.request_target import lower_ascii, split_target

ALWAYS, NEVER = "always", "never"
CONNECTION = "connection"
"""Where a request's scheme comes from, when it is the connection's own; else the name of a
header.
"""

_PLAIN = r"[A-Za-z0-9._~!$&\x27()*+,;=:@/-]*"
PATH = rf"/{_PLAIN}(?:%[0-9A-Fa-f][0-9A-Fa-f]{_PLAIN})*"
"""The paths that a form copies, as they were sent; the guard has looked at them before."""
LEFT_ALONE = (
    r"/(?:robots[.]txt|favicon[.]ico|[.]well-known/[^?]*|(?:[^?]*/)?(?:[.]|%2[Ee]){1,2}(?:/[^?]*)?)"
)
"""What crawlers, browsers and certificate authorities ask for by themselves, on every host; and dot
segments, which clients resolve.
"""
FIRST = r"[ \t]*(?:,.*)?"
"""What follows the first value of a header that proxies add theirs to: the first one tells what the
client asked for.
"""
FILE = r"(?:[^?]*[.][A-Za-z0-9]{1,5}|[^?]*%(?:2[Ee]|[3-7][0-9A-Fa-f])[^/?]*)/*"
"""Paths whose last name is a file's, or may be one under needless escapes: their slashes are left
as they come.
"""
BARE_PART = r"[^?]*[^/?]"
"""What stands before the closing slashes of a path."""
LOWERED = r"[^ %?]*[A-Z][^ %?]*"
"""Paths that are put into lower case: escapes keep the letters of their digits, so a path with one
is left.
"""

_PATH, _LEFT_ALONE = re.compile(PATH), re.compile(LEFT_ALONE)
_FILE, _BARE, _LOWERED = re.compile(FILE), re.compile(f"({BARE_PART})/+"), re.compile(LOWERED)


@dataclass(frozen=True, slots=True)
class CanonicalForm:
    """The form of one old site.

    origin: where its addresses lie, on a new origin. slash: ALWAYS, NEVER or empty for as it comes.
    lower: whether paths are in lower case. scheme_from: CONNECTION, the name of a header that tells
    the scheme, or empty: then it plays no part.
    """

    site: str
    origin: str
    slash: str = ""
    lower: bool = False
    scheme_from: str = ""

    @property
    def authority(self) -> str:
        return parse_address(self.origin).authority

    @property
    def scheme(self) -> str:
        return parse_address(self.origin).scheme

    @property
    def wrong_scheme(self) -> str:
        """The scheme that is not its own."""
        return "http" if self.scheme == "https" else "https"

    @property
    def legacy_url(self) -> str:
        """How it is named towards people."""
        return f"the form of {self.site}"

    def canonicalised(self, authority: str, target: str, scheme: str = "") -> str:
        """Where a request is sent that no rule answers, or an empty string where it is in the form
        already.

        authority: as `RuleSet.known_authority` gives it. scheme: "http", "https", or empty where it
        is not known.
        """
        path, query = split_target(target)
        if not _PATH.fullmatch(path) or _LEFT_ALONE.fullmatch(path):
            return ""
        wanted = self.canonicalised_path(path)
        if wanted == path and authority == self.authority and not self._wrong_scheme(scheme):
            return ""
        return f"{self.origin}{wanted}{'?' if query else ''}{query}"

    def canonicalised_path(self, path: str) -> str:
        """A path in this form."""
        if self.lower and _LOWERED.fullmatch(path):
            path = lower_ascii(path)
        if not self.slash or _FILE.fullmatch(path):
            return path
        if self.slash == ALWAYS:
            return path if path.endswith("/") else f"{path}/"
        match = _BARE.fullmatch(path)
        return match[1] if match else path

    def _wrong_scheme(self, scheme: str) -> bool:
        return bool(self.scheme_from) and scheme == self.wrong_scheme

    def state(self) -> tuple[object, ...]:
        """All that it means."""
        return (self.site, self.origin, self.slash, self.lower, self.scheme_from)


def form_of(forms: Iterable[CanonicalForm], site: str) -> CanonicalForm | None:
    """The form of a site, where it has one."""
    return next((form for form in forms if form.site == site), None)
