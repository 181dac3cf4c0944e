"""What the values of a log are, by the names that servers, proxies, clouds and collectors give
them, however deep they stand; and what only their shape tells.

A name is a path of parts in small letters, without the signs that some put between words:
`request.headers.User-Agent` is ("request", "headers", "useragent").
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple
from urllib.parse import unquote

from upright_ledger.formats.logs.log_line import LogLine, NotALineError, host_name, is_status
from upright_ledger.formats.logs.meanings.log_times import day_of

Name = tuple[str, ...]

_METHODS = frozenset(
    ["GET", "HEAD", "POST", "PUT", "DELETE", "OPTIONS", "PATCH", "TRACE", "CONNECT", "PROPFIND"]
)
REQUEST_LINE = re.compile(
    r"([A-Z][A-Z_-]{2,20}) (\S+)(?: (?:(HTTP/\d(?:\.\d)?)|[1-3](?:\.\d)?))?\Z"
)
"""Method, target and protocol; of this some write no more than its version."""
_HOST_BETWEEN = re.compile(
    r"([A-Z][A-Z_-]{2,20}) ([\w-]+(?:\.[\w-]+)+(?::\d{1,5})?) (/\S*)(?: (HTTP/\d(?:\.\d)?))?\Z"
)
"""The same with the host in between."""


class Sent(NamedTuple):
    """A request as it was sent. protocol: empty where it is not told."""

    method: str
    target: str
    protocol: str

    @property
    def line(self) -> str:
        """Method, target and protocol."""
        return f"{self.method} {self.target} {self.protocol or 'HTTP/1.1'}"

    @property
    def is_likely(self) -> bool:
        """Whether it is a request for all that is known: any words may look like one without its
        protocol.
        """
        return bool(self.protocol) or (is_method(self.method) and is_target(self.target))


def sent_in(text: str) -> Sent | None:
    """The request that a text is, or None."""
    if (whole := REQUEST_LINE.match(text)) is not None:
        return Sent(whole[1], whole[2], whole[3] or "")
    if (whole := _HOST_BETWEEN.match(text)) is not None:
        return Sent(whole[1], f"http://{whole[2]}{whole[3]}", whole[4] or "")
    return None


_TYPED = re.compile(r"(?<=\w\w)_[sdbgt]\Z")
"""What some collectors write behind a name to say of which type its values are."""
_NO_PART = re.compile(r"[^a-z0-9]+")
_OF_FILES = frozenset(["file", "log", "logger", "container", "kubernetes", "docker", "process"])
"""Below these names addresses are those of files and machines, not of pages."""

_NAMES: Mapping[str, tuple[str, ...]] = {
    "request": (
        "requestline", "httprequest", "request", "requestfirstline", "firstrequestline", "req",
        "r", "requestlinetext", "clfrequest",
    ),
    "target": (
        "requesturi", "originaluri", "originalurl", "clientrequesturi", "requesturl", "rawuri",
        "rawurl", "urioriginal", "urlfull", "urloriginal", "fullurl", "requestpath",
        "clientrequestpath", "csuri", "csuristem", "uripath", "urlpath", "httptarget", "httpurl",
        "httppath", "uri", "url", "target", "path", "pathname", "requestresource", "resource",
        "endpoint", "route", "page", "u", "x",
    ),
    "query": (
        "querystring", "rawquerystring", "rawquery", "clientrequestquery", "csuriquery",
        "requestquery", "urlquery", "uriquery", "httpquery", "csquery", "pathquery", "pagequery",
        "querystringparameters", "queryparameters", "queryparams", "args", "query", "params", "q",
    ),
    "method": (
        "requestmethod", "httpmethod", "httprequestmethod", "clientrequestmethod", "csmethod",
        "reqmethod", "verb", "method", "m",
    ),
    "status": (
        "edgeresponsestatus", "downstreamstatus", "elbstatuscode", "httpresponsestatuscode",
        "responsestatuscode", "responsestatus", "httpstatuscode", "httpstatus", "scstatus",
        "statuscode", "finalstatus", "respstatus", "ressstatuscode", "resstatuscode", "resstatus",
        "status", "responsecode", "code", "response", "resp", "s", "originstatus",
        "originresponsestatus",
    ),
    "time": (
        "timelocal", "timeiso8601", "timestamp", "time", "starttime", "startutc", "startlocal",
        "edgestarttimestamp", "edgeendtimestamp", "datetime", "date", "eventtime", "ts",
        "requesttime", "requesttimeepoch", "timeepoch", "timecreated", "createdat", "receivedat",
        "msec", "epoch", "unixtime", "logtime", "realtimetimestamp", "t", "eventcreated",
        "asctime", "devtime", "rt", "start",
    ),
    "agent": (
        "httpuseragent", "httpagent", "useragentoriginal", "clientrequestuseragent",
        "requestuseragent",
        "requestheadersuseragent", "reqheaderuseragent", "headersuseragent",
        "reqheadersuseragent", "csuseragent", "csua", "useragent", "ua", "agent", "browser",
        "requestclientapplication",
    ),
    "referrer": (
        "httpreferer", "httpreferrer", "httprequestreferrer", "clientrequestreferer",
        "clientrequestreferrer", "requestreferer", "headersreferer", "requestheadersreferer",
        "csreferer", "csreferrer", "httprefer", "referer", "referrer", "refer", "ref",
    ),
    "host": (
        "httphost", "httphostname", "requesthost", "clientrequesthost", "requestheadershost",
        "headershost", "reqheadershost", "reqhostname", "requesthostname", "reqhost",
        "hostheader", "xhostheader", "csxhostheader", "cshost",
        "authority",
        "requestauthority", "urldomain", "urlhost", "vhost", "virtualhost", "servername",
        "serveraddress", "domainname", "domain", "site", "host",
    ),
    "client": (
        "clientip", "clientipaddress", "remoteaddr", "remoteip", "remoteaddress", "clientaddr",
        "clientaddress", "cip", "remotehost", "clienthost", "sourceip", "clientsourceip",
        "ipaddress", "ip", "xforwardedfor", "client", "src",
    ),
}  # fmt: skip
"""Meaning → names, the likeliest first: their last parts, put together."""
_RANK = {
    meaning: {name: rank for rank, name in enumerate(names)} for meaning, names in _NAMES.items()
}
_MOST_PARTS = 3
_CLIENT = re.compile(r"(?=.*[.:])[0-9A-Fa-f:.]{3,45}\Z")
_WITHIN: Mapping[str, tuple[str, ...]] = {
    "target": ("uri", "url", "path"),
    "query": ("querystr",),
    "method": ("method",),
    "status": ("status",),
    "time": ("time", "date", "stamp", "startedat"),
    "agent": ("useragent",),
    "referrer": ("referer", "referrer"),
    "host": ("reqhost", "hostheader"),
}
"""Meaning → what stands within names that nobody listed; asked last."""
_OF_OTHERS = ("refer", "redirect", "upstream", "origin", "backend", "file", "duration", "took")
_LAST = 1_000


class Places(NamedTuple):
    """Which of the values of a line may have a meaning, the likeliest first."""

    request: tuple[int, ...]
    target: tuple[int, ...]
    query: tuple[int, ...]
    method: tuple[int, ...]
    status: tuple[int, ...]
    time: tuple[int, ...]
    agent: tuple[int, ...]
    referrer: tuple[int, ...]
    host: tuple[int, ...]
    client: tuple[int, ...]


_MACHINE = "hostname"
"""A name under which some tell the host that was asked, and more the machine that answered."""


def are_asked(name: Name, told: Iterable[str], hosts: frozenset[str]) -> bool:
    """Whether what is told under that name is the host that was asked: one of these."""
    return name[-1:] == (_MACHINE,) and any(text.lower() in hosts for text in told)


def parts_of(name: str) -> Name:
    """A name with its dots as the steps of a path."""
    parts = (_NO_PART.sub("", _TYPED.sub("", part)) for part in name.lower().split("."))
    return tuple(part for part in parts if part)


def places_of(names: Sequence[Name]) -> Places:
    """What the values of these names may be."""
    found: dict[str, list[tuple[int, int, int]]] = {meaning: [] for meaning in _NAMES}
    for at, name in enumerate(names):
        last = name[-1] if name else ""
        for meaning, ranks in _RANK.items():
            if meaning == "target" and not _OF_FILES.isdisjoint(name[:-1]):
                continue
            others = meaning != "referrer" and any(word in last for word in _OF_OTHERS)
            if not others and any(word in last for word in _WITHIN.get(meaning, ())):
                found[meaning].append((_LAST, len(name), at))
            for length in range(min(_MOST_PARTS, len(name)), 0, -1):
                whole = "".join(name[-length:])
                rank = ranks.get(whole, ranks.get(whole.removeprefix("http")))
                if rank is not None:
                    found[meaning].append((rank, len(name), at))
                    break
    places = Places(**{m: tuple(at for *_, at in sorted(ranked)) for m, ranked in found.items()})
    return places._replace(host=_nearest(places, names))


def _nearest(places: Places, names: Sequence[Name]) -> tuple[int, ...]:
    """The places of hosts, those first that stand in the same object as the target: another one
    holds the host of a machine, or that on which a site is built.
    """
    asked = (places.target or places.request)[:1]
    above = {names[at][:-1] for at in asked}
    return tuple(sorted(places.host, key=lambda at: names[at][:-1] not in above - {()}))


Values = Sequence[str] | Mapping[int, str]
"""By their numbers."""


def tells_of_requests(places: Places, values: Values, *, in_table: bool = False) -> bool:
    """Whether values are those of a request that was answered. Where they tell no day, they tell of
    the request itself: lists of addresses, which a program found, are no logs.
    """
    try:
        line = line_of(places, values)
    except NotALineError:
        return False
    if not line.day:
        asked = any(is_method(values[at].upper()) for at in places.method)
        told = any(sent_in(values[at]) for at in places.request)
        return not in_table and (told or (asked and line.request.split(" ")[1].startswith("/")))
    return (
        any(is_method(values[at].upper()) for at in places.method)
        or any(sent_in(values[at]) for at in places.request)
        or any("/" in values[at] and " " in values[at] for at in places.agent)
    )


def line_of(places: Places, values: Values) -> LogLine:
    """What the values of a line say. Raises NotALineError where they tell no request that was
    answered.
    """
    found = told_by(places, values)
    if not found.request or not found.status:
        sought = (("request", found.request), ("status", found.status))
        missing = [name for name, there in sought if not there]
        raise NotALineError(f"its {' and its '.join(missing)} cannot be found")
    return found


def told_by(places: Places, values: Values) -> LogLine:
    """What the values of a line say, its request and its status perhaps empty."""
    return LogLine(
        request_in(places, values),
        status_in(places, values),
        next((day for at in places.time if (day := day_of(values[at]))), ""),
        agent_in(places, values) if places.agent else None,
        referrer_in(places, values),
        host_in(places, values),
        client=client_in(places, values),
    )


def status_in(places: Places, values: Values) -> str:
    """The status that the values of a line tell, or an empty text."""
    return next((status for at in places.status if (status := _status_in(values[at]))), "")


def agent_in(places: Places, values: Values) -> str:
    """The agent, with its blanks."""
    agent = _told(places.agent, values)
    return unquote(agent) if "%20" in agent and " " not in agent else agent


def referrer_in(places: Places, values: Values) -> str:
    """The page that led to the request, or an empty text."""
    return _told(places.referrer, values)


def host_in(places: Places, values: Values) -> str:
    """The host that was asked, or an empty text."""
    return next((host for at in places.host if (host := host_name(values[at]))), "")


def client_in(places: Places, values: Values) -> str:
    """Who asked, or an empty text."""
    return next((values[at] for at in places.client if _CLIENT.match(values[at])), "")


def request_in(places: Places, values: Values) -> str:
    """Method, target and protocol, or an empty text."""
    for at in places.request:
        if (sent := sent_in(values[at])) is not None:
            return sent.line
    target = method = ""
    for at in (*places.target, *places.request):
        if is_target(values[at]):
            target = values[at]
            break
    if not target and places.method:
        # Some tell paths without their slash, beside the method.
        told = _told(places.target, values)
        target = f"/{told}" if told and " " not in told else ""
        whole = _told((*places.target, *places.request), values)
        if "/" in whole and host_name(whole.partition("/")[0]):
            target = f"http://{whole}"  # or addresses without their scheme
    if not target:
        return ""
    if places.query and "?" not in target and (query := _told(places.query, values)):
        target = f"{target}?{query.removeprefix('?')}"
    for at in places.method:
        if values[at].isalpha():
            method = values[at].upper()
            break
    return f"{method or 'GET'} {target.replace(' ', '%20') if ' ' in target else target} HTTP/1.1"


def is_target(text: str) -> bool:
    """Whether a text may be the target of a request."""
    return text.startswith(("/", "http://", "https://")) or text == "*"


def is_method(text: str) -> bool:
    """Whether a text is a method of HTTP."""
    return text in _METHODS


@lru_cache(maxsize=1 << 10)
def _status_in(text: str) -> str:
    """The status that a text is, perhaps with a point or its reason behind it; empty where it is
    none.
    """
    is_alone = text[3:] in {"", ".0"} or (text[3] == " " and text[4:5].isalpha())
    is_one = is_status(text[:3]) and "100" <= text[:3] <= "599" and is_alone
    return text[:3] if is_one else ""


def _told(places: Iterable[int], values: Values) -> str:
    """The first of these values that says anything."""
    for at in places:
        value = values[at]
        if value and value != "-":
            return value
    return ""
