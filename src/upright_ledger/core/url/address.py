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

from upright_ledger.core.url.request_target import MAX_LENGTH

_ABSOLUTE = re.compile(r"^[A-Za-z][A-Za-z0-9+.-]*://")
_DOUBLED_SLASH = re.compile(r"^//+[^/.:]*(?:[/?#]|$)")
_SCHEME = re.compile(r"^[A-Za-z][A-Za-z0-9+.-]*:")
_HOST_FIRST = re.compile(
    r"^(?:www\.)?[A-Za-z0-9][A-Za-z0-9-]*(?:\.[A-Za-z0-9-]+)+(?::\d+)?(?:[/?#]|$)"
)
# Addresses that a URL parser gives back as they are, as most are; a test holds this against the
# parser. The last label of the host begins with a letter: others may be numbers in disguise.
_PLAIN_HOST = re.compile(r"(?:(?!xn--)[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)*[a-z][a-z0-9]*\Z")
_PLAIN_PORT = re.compile(r"(?:[1-9][0-9]{1,3}|[1-5][0-9]{4})\Z")
_OWN_PORTS = ("80", "443")
_PLAIN_BYTES = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~!$&()*+,;=:@/%?#"
_PLAIN_PATH = re.compile(r"/(?!/)")
_CONTROL = re.compile(r"[\x00-\x1f\x7f]")


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
    check_length(text)
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
    check_length(text)
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
    found = _resolved(text, base)
    if not found.host:  # dots alone, which are a host to a URL parser
        raise NotAnAddressError("it names no host")
    return found


def _resolved(text: str, base: str) -> Address:
    try:
        url = ada_url.URL(text, base=base) if base else ada_url.URL(text)
    except ValueError:
        raise NotAnAddressError("it cannot be read as a URL") from None
    scheme = url.protocol[:-1]
    if scheme not in {"http", "https"}:
        raise NotAnAddressError(f"{scheme}: is no web address")
    found = Address(
        scheme, url.hostname.rstrip("."), url.port, url.pathname, url.search[1:], url.hash[1:]
    )
    check_length(found.text)  # with its base and its escapes: what is read can be read again
    return found


def check_length(text: str) -> None:
    """Raises NotAnAddressError if an address is longer than any may be."""
    if len(text) > MAX_LENGTH:
        raise NotAnAddressError(f"it is longer than {MAX_LENGTH} characters")


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
    if (
        len(scheme) + len(host) + len(port) + len(tail) + len(":///:") > MAX_LENGTH
        or not tail.isascii()
        or tail.encode().translate(None, _PLAIN_BYTES)
    ):
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
