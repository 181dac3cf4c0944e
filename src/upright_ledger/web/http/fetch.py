"""Fetching one file, such as a sitemap, with bounds on size and time.

What a person names may lie anywhere. Where that leads to (redirects, and files that it names) is a
stranger's word: other hosts are asked only where they lie in the public network.
"""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import BinaryIO

import pycurl

from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.errors import InputError
from upright_ledger.web.http.guard import public_socket

MAX_BYTES = 200 << 20
TIMEOUT_SECONDS = 60
MOST_REDIRECTS = 10
USER_AGENT = "upright-ledger (site move)"


def fetch(address: str, folder: Path, named_by: str = "") -> Path:
    """Fetch an address into a folder; returns the file. Raises InputError, naming the address, for
    all that fails.

    named_by: the address of the file that names this one; empty where a person did.
    """
    target = folder / hashlib.sha256(address.encode("utf-8", "replace")).hexdigest()[:20]
    if not target.exists():
        draft = target.with_suffix(".part")
        _follow(address, draft, _host(named_by or address))
        draft.replace(target)
    return target


def _host(address: str) -> str:
    try:
        return parse_address(address).host
    except NotAnAddressError as error:
        raise InputError(f"{address} cannot be fetched: {error}", "check the address") from None


def _follow(address: str, draft: Path, own: str) -> None:
    """Fetch an address, redirects included. own: the host that may lie anywhere."""
    goal = address
    for _ in range(MOST_REDIRECTS + 1):
        with draft.open("wb") as file:
            status, following = _ask(goal, file, address, guarded=_host(goal) != own)
        if not following:
            break
        goal = following
    else:
        raise InputError(
            f"{address} redirects more than {MOST_REDIRECTS} times",
            "check the address in a browser",
        )
    if status != 200:
        raise InputError(f"{address} answered {status}", "check the address in a browser")


def _ask(goal: str, file: BinaryIO, address: str, *, guarded: bool) -> tuple[int, str]:
    """One request: the status, and where it redirects to. address: by which errors speak of it."""
    size, refused = 0, False

    def keep(chunk: bytes) -> int | None:
        nonlocal size
        size += len(chunk)
        if size > MAX_BYTES:
            return 0
        file.write(chunk)
        return None

    def refuse() -> None:
        nonlocal refused
        refused = True

    curl = pycurl.Curl()
    curl.setopt(pycurl.URL, goal.encode())
    curl.setopt(pycurl.NOSIGNAL, 1)
    curl.setopt(pycurl.PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS)
    curl.setopt(pycurl.TIMEOUT, TIMEOUT_SECONDS)
    curl.setopt(pycurl.USERAGENT, USER_AGENT)
    curl.setopt(pycurl.ACCEPT_ENCODING, "")
    curl.setopt(pycurl.WRITEFUNCTION, keep)
    if guarded:
        curl.setopt(pycurl.PROXY, "")  # behind a proxy nobody sees which machine is asked
        curl.setopt(pycurl.OPENSOCKETFUNCTION, public_socket(refuse))
    try:
        curl.perform()
    except pycurl.error as error:
        code, text = error.args
        if refused:
            raise InputError(
                f"{address} was not fetched: {goal} lies within a private network, and another "
                "host names it",
                "give that address itself, if it is yours",
            ) from None
        if size > MAX_BYTES:
            raise InputError(
                f"{address} is larger than {MAX_BYTES >> 20} MB", "download it, and name the file"
            ) from None
        if code == pycurl.E_OPERATION_TIMEDOUT:
            raise InputError(
                f"{address} did not answer within {TIMEOUT_SECONDS} seconds", "try again later"
            ) from None
        raise InputError(f"{address} could not be fetched: {text}", "check the address") from None
    following = str(curl.getinfo(pycurl.REDIRECT_URL) or "")
    status = int(curl.getinfo(pycurl.RESPONSE_CODE))
    curl.close()
    return status, following
