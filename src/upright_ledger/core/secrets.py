"""Secrets in URLs: e-mail addresses and tokens are masked before anything is stored."""

from __future__ import annotations

import re
from functools import lru_cache

MASK = "masked"

_CREDENTIALS = r"(?:access_?token|auth(?:_?token)?|token|password|passwd|pwd|secret|api_?key|signature|x-amz-signature|reset_?key|confirm(?:ation)?_?key)"
_SECRET = re.compile(rf"(^|[?&])({_CREDENTIALS})=[^&#\s]+", re.IGNORECASE)
_SIGN = re.compile("token|auth|pass|pwd|secret|key|signature")  # one of them is in every such name
_EMAIL = re.compile(r"[A-Za-z0-9._+\-]+(?:@|%40)[A-Za-z0-9\-]+(?:\.[A-Za-z0-9\-]+)+", re.IGNORECASE)


@lru_cache(maxsize=1 << 14)
def mask_query(query: str) -> str:
    """A query, or a text with one in it, with the values of secret parameters and all e-mail addresses masked."""
    low = query.lower()
    if _SIGN.search(low):
        query = _SECRET.sub(rf"\1\2={MASK}", query)
    return _EMAIL.sub(MASK, query) if "@" in low or "%40" in low else query
