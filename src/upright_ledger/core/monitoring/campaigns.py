"""By which campaign, newsletter or printed code people came: what requests and exports tell of it.

A campaign stands among referrers as `campaign:NAME`, what an export of analytics tells of a visit
as `source:SOURCE / MEDIUM`.
"""

from __future__ import annotations

import re
from urllib.parse import unquote_plus

from upright_ledger.core.url.conventions import CLICK_IDENTIFIERS
from upright_ledger.core.url.redaction import looks_random

BY_CAMPAIGN, BY_SOURCE = "campaign:", "source:"
"""What stands before the name of a campaign, and before a source of visits, among referrers."""

_MOST = 120  # characters of a name
_NOT_TOLD = re.compile(
    r"\W*(?:not set|not provided|not available|n/a|none|null|unknown)?\W*\Z", re.IGNORECASE
)
_BLANKS = re.compile(r"[\s\x00-\x1f]+")


class Campaigns:
    """Reads from requests by which campaign they came. names: of the parameters that tell where a
    visit came from (a regular expression); empty where there are none.
    """

    def __init__(self, names: str) -> None:
        self._pair = re.compile(rf"[?&]({names})=([^&# ]*)", re.IGNORECASE) if names else None

    def of(self, target: str) -> str:
        """The campaign of an address or a request, with source and medium where these are told; the
        name of its click identifier; or an empty text.
        """
        if self._pair is None:
            return ""
        told: dict[str, str] = {}
        for name, value in self._pair.findall(target):
            told.setdefault(name.lower(), _readable(value))
        if not told:
            return ""
        name = told.get("utm_campaign") or told.get("utm_id") or ""
        source = source_text(told.get("utm_source", ""), told.get("utm_medium", ""))
        if name or source:
            return f"{name} ({source})" if name and source else name or source
        # What names a click or a person is nobody's campaign.
        name, value = next(iter(told.items()))
        is_one_visit = name in CLICK_IDENTIFIERS or not value or looks_random(value)
        return name if is_one_visit else f"{name}={value}"


def source_text(source: str, medium: str = "") -> str:
    """Source and medium of visits as one text; what is not told is left out."""
    return " / ".join(part for part in (source.strip(), medium.strip()) if is_told(part))


def is_told(text: str) -> bool:
    """Whether an export says something here: not "(not set)" or the like."""
    return _NOT_TOLD.match(text) is None


def plain_name(referrer: str) -> str:
    """A referrer as people read it."""
    return referrer.removeprefix(BY_CAMPAIGN).removeprefix(BY_SOURCE)


def _readable(value: str) -> str:
    return _BLANKS.sub(" ", unquote_plus(value)).strip()[:_MOST]
