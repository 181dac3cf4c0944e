"""Addresses: how a URL is read, and in which form two spellings are the same path.

Two readings exist and must not be mixed up. `parse_address` reads what a person or an export wrote,
as a browser would (WHATWG URL). `split_target` and `reject_reason` look at the bytes a client
really sent as its request target (RFC 9112, section 3.2), where nothing may be mended.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import NamedTuple

import ada_url

_UPPER = {ord(c): ord(c) + 32 for c in "ABCDEFGHIJKLMNOPQRSTUVWXYZ"}
_ABSOLUTE = re.compile(r"^[A-Za-z][A-Za-z0-9+.-]*://")
_DOUBLED_SLASH = re.compile(r"^//+[^/.:]*(?:[/?#]|$)")
_SCHEME = re.compile(r"^[A-Za-z][A-Za-z0-9+.-]*:")
_HOST_FIRST = re.compile(
    r"^(?:www\.)?[A-Za-z0-9][A-Za-z0-9-]*(?:\.[A-Za-z0-9-]+)+(?::\d+)?(?:[/?#]|$)"
)
_FILE_NAME = re.compile(r"\.[A-Za-z0-9]{1,5}$")
# Addresses that a URL parser gives back as they are, as most are; a test holds this against the
# parser. The last label of the host begins with a letter: others may be numbers in disguise.
_PLAIN_HOST = re.compile(r"(?:(?!xn--)[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)*[a-z][a-z0-9]*\Z")
_PLAIN_PORT = re.compile(r"(?:[1-9][0-9]{1,3}|[1-5][0-9]{4})\Z")
_OWN_PORTS = ("80", "443")
_PLAIN_BYTES = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~!$&()*+,;=:@/%?#"
_PLAIN_PATH = re.compile(r"/(?!/)")
_CONTROL = re.compile(r"[\x00-\x1f\x7f]")
_TEXT_ESCAPE = re.compile(r"%[0-9a-f]{2}")
_ESCAPE = re.compile(rb"%([0-9A-Fa-f]{2})")

# What may stand bare in a canonical path: RFC 3986 pchar plus "/". All other bytes are escaped, in
# upper case.
_BARE = frozenset(
    b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~!$&'()*+,;=:@/"
)
_ENCODED = tuple(chr(b) if b in _BARE else f"%{b:02X}" for b in range(256))

# Bytes no client may send bare in a request target, and "#", which servers cut or refuse.
_RAW_BYTES = re.compile(r"[\x00-\x20#\x7f-\U0010ffff]")
# In the path: an escaped slash, backslash or control byte changes meaning from server to server.
_UNSAFE_PATH = re.compile(r"\\|%(?:2[Ff]|5[Cc]|[01][0-9A-Fa-f]|7[Ff])")
_PLAIN_TARGET = re.compile(
    r"/[A-Za-z0-9\-._~!$&'()*+,;=:@/]*(?:\?[A-Za-z0-9\-._~!$&'()*+,;=:@/?]*)?\Z"
)  # nothing in it can harm
_BROKEN_ESCAPE = re.compile(r"%(?![0-9A-Fa-f]{2})")

MAX_LENGTH = 8000
"""Characters of an address beyond which common servers refuse the request line."""


class NotAnAddressError(ValueError):
    """The text is not an http(s) address; the message says why, in a few words."""


class Address(NamedTuple):
    """An absolute http or https address, as a browser would request it.

    `host` is lower case (international names in their ASCII form); `port` is empty when it is the
    scheme's own; `path` begins with "/" and keeps its escapes; `query` and `fragment` stand
    without their "?" and "#".
    """

    scheme: str
    host: str
    port: str
    path: str
    query: str
    fragment: str = ""

    @property
    def authority(self) -> str:
        return f"{self.host}:{self.port}" if self.port else self.host

    @property
    def origin(self) -> str:
        return f"{self.scheme}://{self.authority}"

    @property
    def target(self) -> str:
        """What stands in the request line: path and query."""
        return f"{self.path}?{self.query}" if self.query else self.path

    @property
    def text(self) -> str:
        tail = f"#{self.fragment}" if self.fragment else ""
        return f"{self.origin}{self.target}{tail}"

    @property
    def without_fragment(self) -> str:
        return f"{self.origin}{self.target}"


def lower_ascii(text: str) -> str:
    """Fold A-Z only: servers fold no other letters alike, and `str.lower` folds the Kelvin sign."""
    return text.lower() if text.isascii() else text.translate(_UPPER)


def lower_path(path: str) -> str:
    """A canonical path with its letters folded; the hex digits of its escapes stay in upper
    case.
    """
    lowered = lower_ascii(path)
    return _TEXT_ESCAPE.sub(lambda m: m[0].upper(), lowered) if "%" in lowered else lowered


def parse_address(text: str, base: str = "") -> Address:
    """Read a URL as written by people, relative to `base` (an origin or full address) if given.

    A name that begins like a host ("www.quillhaven.example/x") is read as http. Credentials are
    left out. Raises NotAnAddressError.
    """
    text = text.strip()
    if (plain := _read_plain(text, base)) is not None:
        return plain
    return _read_any(text, base)


def followed(text: str, base: Address) -> Address:
    """Where a browser goes from a page or a redirect (WHATWG URL): nothing is guessed, and
    "//name/" names another host.

    Raises NotAnAddressError.
    """
    if len(text) > MAX_LENGTH:
        raise NotAnAddressError(f"it is longer than {MAX_LENGTH} characters")
    return _resolved(text, base.text)


def split_text(text: str) -> tuple[str, str, str]:
    """Scheme, authority and target of the text of an address (`Address.without_fragment`)."""
    scheme, _, rest = text.partition("://")
    authority, _, target = rest.partition("/")
    return scheme, authority, f"/{target}"


def address_of(text: str) -> Address:
    """The inverse of `Address.without_fragment`: nothing is mended or checked."""
    scheme, authority, target = split_text(text)
    path, _, query = target.partition("?")
    host, bracket, rest = authority.rpartition("]")
    name, _, port = rest.partition(":")
    return Address(scheme, f"{host}{bracket}{name}", port, path, query)


@lru_cache(maxsize=1 << 14)
def _read_any(text: str, base: str) -> Address:
    if not text:
        raise NotAnAddressError("nothing is there")
    if len(text) > MAX_LENGTH:
        raise NotAnAddressError(f"it is longer than {MAX_LENGTH} characters")
    if _CONTROL.search(text):
        raise NotAnAddressError("it holds a control character")
    if base and _DOUBLED_SLASH.match(text):
        # "//visit/x" is a path with a slash too many; only a name with a dot can be a host.
        text = parse_address(base).origin + text
    if not _ABSOLUTE.match(text):
        if (
            not text.startswith(("/", "?", "#"))
            and _HOST_FIRST.match(text)
            and not _looks_like_file(text)
        ):
            text = f"http://{text}"
        elif _SCHEME.match(text) and not _HOST_FIRST.match(text):
            raise NotAnAddressError(f"{text.partition(':')[0]}: is no web address")
        elif not base:
            raise NotAnAddressError("it names no host")
    return _resolved(text, base)


def _resolved(text: str, base: str) -> Address:
    try:
        url = ada_url.URL(text, base=base) if base else ada_url.URL(text)
    except ValueError:
        raise NotAnAddressError("it cannot be read as a URL") from None
    scheme = url.protocol[:-1]
    if scheme not in {"http", "https"}:
        raise NotAnAddressError(f"{scheme}: is no web address")
    return Address(
        scheme, url.hostname.rstrip("."), url.port, url.pathname, url.search[1:], url.hash[1:]
    )


def _read_plain(text: str, base: str) -> Address | None:
    """The address, if nothing in its text is for a URL parser to change."""
    scheme, _, rest = text.partition("://")
    host, slash, tail = rest.partition("/")
    if not slash or scheme not in {"http", "https"}:
        origin = _plain_origin(base) if base and _PLAIN_PATH.match(text) else None
        if origin is None:
            return None
        scheme, host, port = origin
        tail = text[1:]
    elif (known := _plain_authority(host)) is None or known[1] in _OWN_PORTS:
        return None
    else:
        host, port = known
    if len(text) > MAX_LENGTH or not tail.isascii() or tail.encode().translate(None, _PLAIN_BYTES):
        return None
    tail, _, fragment = tail.partition("#")
    path, _, query = tail.partition("?")
    if "#" in fragment or path[:1] == "." or "/." in path or "%2e" in path or "%2E" in path:
        return None
    return Address(scheme, host, port, f"/{path}", query, fragment)


@lru_cache(maxsize=1 << 12)
def _plain_authority(text: str) -> tuple[str, str] | None:
    """Host and port, if a URL parser would leave them as they are; a scheme's own port it leaves
    out.
    """
    host, colon, port = text.partition(":")
    if _PLAIN_HOST.match(host) is None or (colon and _PLAIN_PORT.match(port) is None):
        return None
    return host, port


@lru_cache(maxsize=1 << 8)
def _plain_origin(base: str) -> tuple[str, str, str] | None:
    """Scheme, host and port of a base address, if a URL parser would leave them as they are."""
    plain = _read_plain(f"{base}/", "")
    return (plain.scheme, plain.host, plain.port) if plain else None


def _looks_like_file(text: str) -> bool:
    """Tell "index.html" from "quillhaven.example": both have one dot and no slash."""
    name = re.split(r"[/?#]", text, maxsplit=1)[0]
    return name.count(".") == 1 and name.rpartition(".")[2].lower() in _PAGE_ENDINGS


_PAGE_ENDINGS = frozenset(
    [
        "html",
        "htm",
        "php",
        "asp",
        "aspx",
        "jsp",
        "shtml",
        "xhtml",
        "cfm",
        "cgi",
        "pl",
        "do",
        "pdf",
        "jpg",
        "jpeg",
        "png",
        "gif",
        "svg",
        "webp",
        "txt",
        "xml",
        "json",
        "css",
        "js",
        "zip",
        "doc",
        "docx",
        "xls",
        "xlsx",
    ],
)


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
