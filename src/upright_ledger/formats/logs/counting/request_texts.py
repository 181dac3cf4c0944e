"""What stands in a log, as it is counted: days, requests without noise, and lines that make no
sense.
"""

from __future__ import annotations

import re

from upright_ledger.core.monitoring.deploy_days import is_day
from upright_ledger.formats.logs.columns.block_scanner import Columns
from upright_ledger.formats.logs.log_line import MONTHS, UNDATED, host_name
from upright_ledger.formats.records import Reject

_DAY = re.compile(r"(\d\d)/([A-Z][a-z]{2})/(\d{4})\Z")
_ISO_DAY = re.compile(r"\d{4}-\d\d-\d\d(?:[AB][0-9T:Z-]{20})?\Z")


def read_day(text: str | None) -> str:
    """A day as YYYY-MM-DD, or its label, or UNDATED; empty where the calendar has none like it."""
    text = text or ""
    if text == UNDATED:
        return text
    if (match := _DAY.match(text)) and match[2] in MONTHS:
        text = f"{match[3]}-{MONTHS[match[2]]}-{match[1]}"
    return text if _ISO_DAY.match(text) and is_day(text[:10]) else ""


def without_query(address: str) -> str:
    """An address up to its query."""
    return address.partition("?")[0]


_SIGN = re.compile(r"[\x01-\x08]")
_BEGIN_OF_QUERY = re.compile(r"\?|[\x01-\x08]+&?")


def without_signs(request: str) -> str:
    """A request without the signs of noise. Where its query began with noise, the "?" went with
    it.
    """
    begin = _BEGIN_OF_QUERY.search(request)
    if begin is None:
        return request
    question = "?" if begin[0][-1] in "?&" else ""
    return request[: begin.start()] + question + _SIGN.sub("", request[begin.end() :])


def reject(columns: Columns, at: int, *, with_hosts: bool) -> Reject:
    """A line whose parts make no sense. Its visitor is not told: in a log that names hosts, a line
    that lacks its own begins with its client's address.
    """
    day = columns.day[at].as_py()
    request = str(columns.request[at].as_py())
    if with_hosts:
        host, blank, rest = request.partition(" ")
        request = f"{host_name(host) or (host and '[visitor]')}{blank}{rest}"
    text = f"{day} {request!r} {columns.status[at]}"
    reason = "its request or status is damaged" if read_day(day) else f"there is no such day: {day}"
    return Reject(int(columns.number[at]), reason, text)
