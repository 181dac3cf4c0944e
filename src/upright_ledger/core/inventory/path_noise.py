"""Parts of a path that choose no page: identifiers of visits, dot segments."""

from __future__ import annotations

import re

# As servlet containers and ASP.NET write a session into the path: "/a;jsessionid=1F",
# "/(S(lit3py55))/a".
_PATH_SESSION = re.compile(
    r";(?:jsessionid|phpsessid|sid)=[^/;]*|/\((?:[A-Z]\([^()/]*\))+\)(?=/|\Z)", re.IGNORECASE
)


def has_dot_segments(path: str) -> bool:
    """Whether a path as written holds "." or ".." segments; a URL parser resolves them unasked."""
    return _DOT_SEGMENT.search(path) is not None


_DOT_SEGMENT = re.compile(r"/(?:\.|%2[Ee]){1,2}(?:/|$)")


def without_path_session(path: str) -> str:
    """A path without the identifier of one visit that some servers write into it."""
    return _PATH_SESSION.sub("", path) if ";" in path or "(" in path else path


def has_path_session(path: str) -> bool:
    """Whether a path holds the identifier of one visit."""
    return without_path_session(path) != path
