"""Sockets that are opened on a stranger's word: what a page, a sitemap or a redirect names must not
have us ask the machines behind the firewall.
"""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Callable
from typing import Any

import pycurl

_NAT64 = ipaddress.ip_network("64:ff9b::/96")


def is_public(text: str) -> bool:
    """Whether an IP address lies in the public network, whatever it is wrapped in."""
    address = ipaddress.ip_address(text.partition("%")[0])
    if isinstance(address, ipaddress.IPv6Address):
        inner = (
            address.ipv4_mapped
            or address.sixtofour
            or (address.teredo[1] if address.teredo else None)
        )
        if inner is None and address in _NAT64:
            inner = ipaddress.IPv4Address(address.packed[-4:])
        if inner is not None:
            return is_public(str(inner))
    return address.is_global and not address.is_multicast


def public_socket(refused: Callable[[], None]) -> Callable[[int, Any], socket.socket | int]:
    """What opens sockets for libcurl, to public addresses alone; calls `refused` for others."""

    def opened(_: int, end: Any) -> socket.socket | int:
        if not is_public(end.addr[0]):
            refused()
            return int(pycurl.SOCKET_BAD)
        return socket.socket(end.family, end.socktype, end.protocol)

    return opened
