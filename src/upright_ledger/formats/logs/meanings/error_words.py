"""What servers and frameworks say in words of requests that failed: lines of an error log."""

from __future__ import annotations

import re

from upright_ledger.formats.logs.log_line import LogLine, host_name
from upright_ledger.formats.logs.meanings.log_roles import REQUEST_LINE
from upright_ledger.formats.logs.meanings.log_times import times_in

_MISSING = re.compile(
    r"(?:Not Found: |No route (?:found for|matches) |"
    r"No mapping (?:found )?for (?:HTTP request with URI )?|"
    r'Cannot )[\["]*(?:([A-Z]{3,7})[\]"]* )?"?((?:/|https?://)[^\s"\]]*)'
)
"""What frameworks say of an address that leads nowhere."""
_REFUSED = re.compile(r"forbidden|denied|rejected", re.IGNORECASE)
_NOT_FOUND = re.compile(r"No such file|is not found|not exist", re.IGNORECASE)
_NAMED = re.compile(r'(?:^|[\s,])(host|server|referrer|referer): "?([^",\s]+)"?', re.IGNORECASE)


def failure_of(line: str) -> LogLine | None:
    """What a line of nginx's error log says of a request that failed."""
    at = line.find(', request: "')
    if at < 0 or ", client: " not in line:
        return None
    match = REQUEST_LINE.match(line[at + len(', request: "') :].partition('"')[0])
    moments = times_in(line[:40])
    if match is None or not moments:
        return None
    said = line[:at]
    status = "404" if _NOT_FOUND.search(said) else "403" if _REFUSED.search(said) else ""
    if not status:
        return None
    named = {name.lower(): text for name, text in _NAMED.findall(line[at:])}
    return LogLine(
        f"{match[1]} {match[2]} {match[3] or 'HTTP/1.1'}",
        status,
        moments[0].day,
        None,
        named.get("referrer", ""),
        host_name(named.get("host", "")),
        client=named.get("client", ""),
    )


def no_route_in(line: str) -> LogLine | None:
    """What a framework says of an address that leads nowhere, and when."""
    match = _MISSING.search(line)
    moments = times_in(line) if match is not None else []
    if match is None or not moments:
        return None
    return LogLine(f"{match[1] or 'GET'} {match[2]} HTTP/1.1", "404", moments[0].day, None, "", "")
