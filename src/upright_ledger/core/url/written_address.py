"""Addresses as people write them: in a sheet, on a command line, in answer to a question."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import NamedTuple

from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.core.url.repair import mend

_RELATIVE = ("/", "?")
_SCHEME = re.compile(r"[a-zA-Z][a-zA-Z0-9+.-]*:(?!\d)")
_FILE = re.compile(r"\w\.\w{1,5}(?:[?#]|\Z)")
_WHOLE = re.compile(r"https?://\S+\Z")
_SECOND = re.compile(r"\s\S*://")


_SHOWN = 60  # characters


class Written(NamedTuple):
    """An address that `parse_address` reads as it was meant. lacked_slash: whether a leading slash
    was put before it.
    """

    text: str
    lacked_slash: bool = False

    @property
    def names_host(self) -> bool:
        return not self.text.startswith(_RELATIVE)


def as_written(text: str, origins: Mapping[str, str], *, words: bool = True) -> Written:
    """What a person meant by a text: a full address, a path without its slash ("visit/hours.html"),
    a known host without its scheme. Raises NotAnAddressError for notes, formulas and the like,
    which would otherwise be read as paths.

    origins: of known hosts, in lower case. words: whether a single word is a path, as in a sheet
    that leaves out the slash everywhere; "later" is none beside "/visit".
    """
    text = text.strip()
    if _WHOLE.match(text):
        return Written(text)
    said = repr(text if len(text) <= _SHOWN else f"{text[:_SHOWN]}…")
    if text.startswith("="):
        raise NotAnAddressError(f"{said} is a formula; save the sheet with its values")
    if _SECOND.search(text):
        raise NotAnAddressError(f"{said} holds more than one address")
    if text.startswith("#") or not (re.search(r"\w", text) or text.startswith("/")):
        raise NotAnAddressError(f"{said} is no address")
    if text.startswith(_RELATIVE):
        return Written(text)
    head = re.split(r"[/?#]", text, maxsplit=1)[0]
    if origin := origins.get(head.lower()):
        return Written(f"{origin}{text[len(head) :]}")
    if _SCHEME.match(text) or _begins_with_host(text):
        return Written(text)
    if "://" in text:
        # In brackets or quotes, as mails and notes have it.
        text = mend(text).text
        if not _SCHEME.match(text):
            raise NotAnAddressError(f"{said} is no address")
        return Written(text)
    is_path = "/" in text or _FILE.search(text) is not None
    if not (words and is_path if re.search(r"\s", text) else words or is_path):
        raise NotAnAddressError(f"{said} is no address: a path begins with a slash")
    return Written(f"/{text}", True)


def _begins_with_host(text: str) -> bool:
    """Whether a text without scheme begins with a host ("www.quillhaven.example/visit")."""
    head = text.partition("/")[0]
    return head.startswith("www.") or (head.count(".") >= 2 and "/" in text)
