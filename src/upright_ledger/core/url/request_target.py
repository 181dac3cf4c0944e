"""What a client sends as its request target (RFC 9112, section 3.2); paths in canonical form."""

from __future__ import annotations

import re

_UPPER = {ord(c): ord(c) + 32 for c in "ABCDEFGHIJKLMNOPQRSTUVWXYZ"}


_TEXT_ESCAPE = re.compile(r"%[0-9a-f]{2}")
_FILE_NAME = re.compile(r"\.[A-Za-z0-9]{1,5}$")


_ESCAPE = re.compile(rb"%([0-9A-Fa-f]{2})")


# What may stand bare in a canonical path: RFC 3986 pchar plus "/". All other bytes are escaped, in
# upper case.
_BARE = frozenset(
    b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~!$&'()*+,;=:@/"
)


_ENCODED = tuple(chr(b) if b in _BARE else f"%{b:02X}" for b in range(256))


# Bytes no client may send bare in a request target, and "#", which servers cut or refuse: all but
# the visible ones of ASCII, as the set of all others takes long to compile.
_RAW_BYTES = re.compile(r"[^!\"$-~]")


# In the path: an escaped slash, backslash or control byte changes meaning from server to server.
_UNSAFE_PATH = re.compile(r"\\|%(?:2[Ff]|5[Cc]|[01][0-9A-Fa-f]|7[Ff])")


_PLAIN_TARGET = re.compile(
    r"/[A-Za-z0-9\-._~!$&'()*+,;=:@/]*(?:\?[A-Za-z0-9\-._~!$&'()*+,;=:@/?]*)?\Z"
)  # nothing in it can harm


_BROKEN_ESCAPE = re.compile(r"%(?![0-9A-Fa-f]{2})")


MAX_LENGTH = 8000
"""Characters of an address beyond which common servers refuse the request line."""


def lower_ascii(text: str) -> str:
    """Fold A-Z only: servers fold no other letters alike, and `str.lower` folds the Kelvin sign."""
    return text.lower() if text.isascii() else text.translate(_UPPER)


def lower_path(path: str) -> str:
    """A canonical path with its letters folded; the hex digits of its escapes stay in upper
    case.
    """
    lowered = lower_ascii(path)
    return _TEXT_ESCAPE.sub(lambda m: m[0].upper(), lowered) if "%" in lowered else lowered


def split_target(target: str) -> tuple[str, str]:
    """Path and query of a request target in origin form ("/a?b"); the query without its "?"."""
    path, _, query = target.partition("?")
    return path, query


def reject_reason(target: str) -> str:
    """Why no rule may answer this request target, or an empty string when one may.

    Servers disagree about these forms (they decode, refuse, or pass them on), so the model
    gives none of them an answer.
    """
    if _PLAIN_TARGET.match(target):
        return ""
    if not target.startswith("/"):
        return "the target does not begin with a slash"
    if _RAW_BYTES.search(target):
        return "it holds a raw control, blank, # or non-ASCII byte"
    path = target.partition("?")[0]
    if _UNSAFE_PATH.search(path):
        return "its path holds a backslash or an escaped slash, backslash or control byte"
    if _BROKEN_ESCAPE.search(path):
        return "its path holds a broken percent escape"
    return ""


def canonical_path(path: str) -> str:
    """One spelling for all paths a server sees as equal: decoded, slashes merged, dots resolved.

    The result is ASCII: bytes outside RFC 3986's path characters are percent-encoded in upper
    case. Letter case and a trailing slash are kept.
    """
    if (
        path.isascii()
        and "%" not in path
        and "//" not in path
        and "/." not in path
        and path[:1] == "/"
    ):
        return path if _is_bare(path) else encode_path(path.encode("ascii"))
    raw = _ESCAPE.sub(lambda m: bytes((int(m[1], 16),)), path.encode("utf-8", "surrogateescape"))
    return encode_path(_resolve(raw))


def decoded_path(path: str) -> bytes:
    """The bytes a server compares: a canonical path without its escapes."""
    return _ESCAPE.sub(lambda m: bytes((int(m[1], 16),)), path.encode("ascii"))


def encode_path(raw: bytes) -> str:
    """Decoded path bytes as canonical text; the inverse of `decoded_path`."""
    return "".join([_ENCODED[b] for b in raw])


_BARE_ONLY = re.compile(r"[A-Za-z0-9\-._~!$&'()*+,;=:@/]*")


def _is_bare(path: str) -> bool:
    return _BARE_ONLY.fullmatch(path) is not None


def _resolve(raw: bytes) -> bytes:
    """Merge slashes and resolve dot segments (RFC 3986, section 5.2.4, after merging)."""
    out: list[bytes] = []
    parts = [p for p in raw.split(b"/") if p]
    for part in parts:
        if part == b".":
            continue
        if part == b"..":
            if out:
                out.pop()
            continue
        out.append(part)
    ends_open = not parts or raw.endswith(b"/") or parts[-1] in {b".", b".."}
    body = b"/" + b"/".join(out)
    return body + b"/" if out and ends_open else body


def names_file(path: str) -> bool:
    """Whether the last segment has an ending like ".html": such paths take no trailing slash."""
    return _FILE_NAME.search(path.rpartition("/")[2]) is not None


def toggle_slash(path: str) -> str:
    """The same path with its trailing slash put on or taken off; the root has only one form."""
    if path == "/":
        return path
    return path[:-1] if path.endswith("/") else path + "/"
