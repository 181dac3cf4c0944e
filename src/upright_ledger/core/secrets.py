"""Secrets in URLs: e-mail addresses and tokens are masked before anything is stored."""

from __future__ import annotations

import re

MASK = "masked"

_CREDENTIALS = r"(?:access_?token|auth(?:_?token)?|token|password|passwd|pwd|secret|api_?key|signature|x-amz-signature|reset_?key|confirm(?:ation)?_?key)"
_SECRET = re.compile(rf"(^|&)({_CREDENTIALS})=[^&]+", re.IGNORECASE)
_EMAIL = re.compile(r"[A-Za-z0-9._+\-]+(?:@|%40)[A-Za-z0-9\-]+(?:\.[A-Za-z0-9\-]+)+", re.IGNORECASE)


def mask_query(query: str) -> str:
    """A query with the values of secret parameters, and all e-mail addresses, masked."""
    if not query:
        return query
    return _EMAIL.sub(MASK, _SECRET.sub(rf"\1\2={MASK}", query))
