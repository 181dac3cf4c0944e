"""How requests are made: whom to ask, how fast, as whom."""

from __future__ import annotations

import ipaddress
import ssl
from dataclasses import dataclass
from pathlib import Path

from upright_ledger.errors import InputError

BODY_BYTES = 1 << 16
EVERYWHERE = "*"


@dataclass(frozen=True, slots=True)
class RequestOptions:
    """How requests are made.

    connect: (host, port, address, port) of each host that is asked elsewhere; empty parts stand for
    any and for the same. ca: a file of certificates to trust; insecure: none is checked. seconds:
    for one request. concurrent, rate: requests at once and a second, to one machine; rate 0 for no
    limit. retries: after a failed connection, 429 or 503. headers, user ("name:password"), netrc
    (it may come from the user's .netrc): go to the origins of `own` alone; see `is_own`. leave: end
    where a host asks for more time than is ever waited; else it is asked again after that.
    """

    connect: tuple[tuple[str, str, str, str], ...] = ()
    ca: Path | None = None
    insecure: bool = False
    agent: str = "upright-ledger (redirect check)"
    headers: tuple[str, ...] = ()
    seconds: float = 20.0
    concurrent: int = 16
    rate: float = 0.0
    retries: int = 2
    user: str = ""
    netrc: bool = False
    own: frozenset[str] = frozenset()
    body: int = BODY_BYTES
    leave: bool = False

    def machine(self, origin: str) -> str:
        """The machine that is asked for an origin: what is due to it does not grow with the names
        by which it is asked.
        """
        host = host_part(origin).partition("://")[2]
        port = origin.partition("://")[2].removeprefix(host)[1:] or (
            "443" if origin.startswith("https:") else "80"
        )
        for name, number, address, _ in self.connect:
            if name in {"", host} and number in {"", port}:
                return address or host
        return host

    def is_own(self, origin: str) -> bool:
        """Whether what is meant for the own servers goes to an origin: `own` names it, it with any
        port ("https://host:*"), or all ("*").
        """
        return origin in self.own or f"{host_part(origin)}:*" in self.own or EVERYWHERE in self.own


def host_part(origin: str) -> str:
    """An origin without its port."""
    scheme, _, authority = origin.partition("://")
    host, colon, port = authority.rpartition(":")
    return f"{scheme}://{host}" if colon and port.isdigit() else origin


def check_certificates(path: Path) -> None:
    """Raises InputError for a file that holds no certificates to trust."""
    try:
        ssl.create_default_context(cafile=str(path))
    except (ssl.SSLError, OSError) as error:
        raise InputError(
            f"{path} holds no certificates in PEM form: {getattr(error, 'reason', None) or error}",
            "name the certificate authority's file, which begins with -----BEGIN CERTIFICATE-----",
        ) from None


def is_local(host: str) -> bool:
    """Whether a host is this machine, for which no politeness is due."""
    try:
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        return host == "localhost"
