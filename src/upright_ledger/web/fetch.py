"""Fetching one file, such as a sitemap, with bounds on size and time."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pycurl

from upright_ledger.errors import InputError

MAX_BYTES = 200 << 20
TIMEOUT_SECONDS = 60
MOST_REDIRECTS = 10
USER_AGENT = "upright-ledger (site move)"


def fetch(address: str, folder: Path) -> Path:
    """Fetch an address into a folder; returns the file. Raises InputError, naming the address, for all that fails."""
    target = folder / hashlib.sha256(address.encode()).hexdigest()[:20]
    if not target.exists():
        _fetch(address, target)
    return target


def _fetch(address: str, target: Path) -> None:
    draft, size = target.with_suffix(".part"), 0
    curl = pycurl.Curl()
    with draft.open("wb") as file:

        def keep(chunk: bytes) -> int | None:
            nonlocal size
            size += len(chunk)
            if size > MAX_BYTES:
                return 0
            file.write(chunk)
            return None

        curl.setopt(pycurl.URL, address.encode())
        curl.setopt(pycurl.NOSIGNAL, 1)
        curl.setopt(pycurl.PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS)
        curl.setopt(pycurl.REDIR_PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS)
        curl.setopt(pycurl.FOLLOWLOCATION, 1)
        curl.setopt(pycurl.MAXREDIRS, MOST_REDIRECTS)
        curl.setopt(pycurl.TIMEOUT, TIMEOUT_SECONDS)
        curl.setopt(pycurl.USERAGENT, USER_AGENT)
        curl.setopt(pycurl.ACCEPT_ENCODING, "")
        curl.setopt(pycurl.WRITEFUNCTION, keep)
        try:
            curl.perform()
        except pycurl.error as error:
            code, text = error.args
            if size > MAX_BYTES:
                raise InputError(
                    f"{address} is larger than {MAX_BYTES >> 20} MB", "download it, and name the file"
                ) from None
            if code == pycurl.E_OPERATION_TIMEDOUT:
                raise InputError(
                    f"{address} did not answer within {TIMEOUT_SECONDS} seconds", "try again later"
                ) from None
            raise InputError(f"{address} could not be fetched: {text}", "check the address") from None
        status = curl.getinfo(pycurl.RESPONSE_CODE)
        curl.close()
    if status != 200:
        raise InputError(f"{address} answered {status}", "check the address in a browser")
    draft.replace(target)
