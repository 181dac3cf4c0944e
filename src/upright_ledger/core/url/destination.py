"""Destinations: the one safe form in which an address may leave through a Location header."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable

from upright_ledger.core.url.address import (
    Address,
    NotAnAddressError,
    check_length,
    parse_address,
)
from upright_ledger.core.url.request_target import canonical_path, toggle_slash

# Bytes that end a token, a quote or a variable in some server's language, beyond what WHATWG URL
# escapes.
_ENCODE = {c: f"%{ord(c):02X}" for c in "\"'\\`{}$;<>|^[] "}
_ENCODE_TABLE = str.maketrans(_ENCODE)
_UNRESERVED = re.compile(r"https?://[A-Za-z0-9.-]+(?::[0-9]+)?/[A-Za-z0-9\-._~/]*")
_SAFE = re.compile(r"https?://[A-Za-z0-9.-]+(?::[0-9]+)?/[A-Za-z0-9\-._~!&()*+,=:@/%?#]*")


_PLAIN_PATH = r"(?:/[A-Za-z0-9_~-][A-Za-z0-9._~-]*)*/?"
_PLAIN_LENGTH = 2_000  # characters


def plain_destinations(origins: Iterable[str]) -> Callable[[str], bool]:
    """A test for addresses in these origins that are destinations as they stand, and their own page
    keys: a quick look that may well say no.
    """
    known = "|".join(map(re.escape, filter(_is_as_read, origins)))
    fits = re.compile(rf"(?:{known})(?=/){_PLAIN_PATH}").fullmatch
    return lambda text: len(text) <= _PLAIN_LENGTH and fits(text) is not None and known != ""


def _is_as_read(origin: str) -> bool:
    try:
        return parse_address(f"{origin}/").text == f"{origin}/"
    except NotAnAddressError:
        return False


def read_destination(text: str, base: str) -> Address:
    """Read a destination and bring it into its safe form: plain ASCII, no byte that any server
    treats as syntax.

    Raises NotAnAddressError, also where an escape would put a control byte into the header.
    """
    address = parse_address(text, base)
    if _UNRESERVED.fullmatch(address.text):
        return address
    safe = Address(
        address.scheme,
        address.host,
        address.port,
        address.path.translate(_ENCODE_TABLE),
        address.query.translate(_ENCODE_TABLE),
        address.fragment.translate(_ENCODE_TABLE),
    )
    check_length(safe.text)
    if re.search(r"%(?:[01][0-9A-Fa-f]|7[Ff])", safe.text):
        raise NotAnAddressError("it holds an escaped control byte")
    if not is_safe_destination(safe.text):
        raise NotAnAddressError("it holds characters that cannot stand in a Location header")
    return safe


def is_safe_destination(text: str) -> bool:
    """Whether a text may be written into a server file as it stands."""
    return _SAFE.fullmatch(text) is not None


def authority_of(destination: str) -> str:
    """The host (and port) of a destination in its safe form, without reading all of it."""
    return destination.split("/", 3)[2]


def page_key(address: Address) -> str:
    """One text for a page of the new site: spelled alike whatever the needless escapes; slash and
    case count.
    """
    query = f"?{address.query}" if address.query else ""
    return f"{address.origin}{canonical_path(address.path)}{query}"


def slash_twin(key: str) -> str:
    """A page key with its trailing slash put on or taken off."""
    scheme, _, rest = key.partition("://")
    head, mark, query = rest.partition("?")
    authority, _, path = head.partition("/")
    return f"{scheme}://{authority}{toggle_slash('/' + path)}{mark}{query}"


def differs_by_slash_only(first: str, second: str) -> bool:
    """Whether two page keys are one page but for the trailing slash."""
    return first != second and slash_twin(first) == second
