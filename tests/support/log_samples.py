"""Small logs, one a kind, each with the requests that it tells of."""

from __future__ import annotations

import json
from typing import Any, NamedTuple

AGENT = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
FROM = "https://fern.example/post"
HOST = "www.quillhaven.example"
OTHER = "www.fern.example"
PATH = "/visit/room.html?id=3"


class Asked(NamedTuple):
    """A request: what a log must tell of it."""

    status: str = "404"
    agent: str | None = AGENT
    referrer: str = FROM
    host: str = ""
    target: str = PATH
    method: str = "GET"
    day: str = "2026-05-01"


_BARE = Asked(agent=None, referrer="")
_TIME = "[01/May/2026:10:00:00 +0000]"
_COMBINED = f'192.0.2.1 - - {_TIME} "GET {PATH} HTTP/1.1" 404 12 "{FROM}" "{AGENT}"'
_REQUEST = f'"GET {PATH} HTTP/1.1"'
_REST = f'404 12 "{FROM}" "{AGENT}"'
_PLUS, _ESCAPED = AGENT.replace(" ", "+"), AGENT.replace(" ", "%20")
_AT_HOST = Asked(host=HOST)


def _of_site(site: str, scheme: str = "https", **more: Any) -> Asked:
    return Asked(target=f"{scheme}://{site}{PATH}", **more)


LINES: dict[str, tuple[str, list[Asked]]] = {
    "combined": (_COMBINED, [Asked()]),
    "common": (f"192.0.2.1 - - {_TIME} {_REQUEST} 404 12", [_BARE]),
    "client by its name": (_COMBINED.replace("192.0.2.1", "dsl-1.isp.example"), [Asked()]),
    "host and port first": (f"{HOST}:80 {_COMBINED}", [Asked(host=f"{HOST}:80")]),
    "host first, no port": (f"{HOST} {_COMBINED}", [_AT_HOST]),
    "host second": (f"192.0.2.1 {HOST} - {_TIME} {_REQUEST} {_REST}", [_AT_HOST]),
    "another host second": (f"192.0.2.1 {OTHER} - {_TIME} {_REQUEST} {_REST}", [Asked(host=OTHER)]),
    "host last, quoted": (f'{_COMBINED} "{HOST}"', [_AT_HOST]),
    "host last, with a time": (f'{_COMBINED} "-" {HOST} 0.003', [_AT_HOST]),
    "a duration behind": (f"{_COMBINED} 0.003 0.002", [Asked()]),
    "forwarded for, quoted, first": (
        f'"192.0.2.1, 198.51.100.7" - - {_TIME} {_REQUEST} {_REST}', [Asked()],
    ),
    "forwarded for, quoted, last": (f'{_COMBINED} "198.51.100.7"', [Asked()]),
    "syslog": (f"<190>May  1 10:00:00 web1 nginx: {_COMBINED}", [Asked()]),
    "journal": (f"May 01 10:00:00 web1 gunicorn[99]: {_COMBINED}", [Asked()]),
    "container runtime": (f"2026-05-01T10:00:00.123456789Z stdout F {_COMBINED}", [Asked()]),
    "compose": (f"web-1  | {_COMBINED}", [Asked()]),
    "colours": (_COMBINED.replace('"GET', '"\x1b[33mGET').replace("1.1", "1.1\x1b[0m"), [Asked()]),
    "Python's own server": (f"192.0.2.1 - - [01/May/2026 10:00:00] {_REQUEST} 404 -", [_BARE]),
    "a Python framework": (f"[01/May/2026 10:00:00] {_REQUEST} 404 1234", [_BARE]),
    "status in words behind": (
        f"2026-05-01 10:00:00,123 INFO:     192.0.2.1:5000 - {_REQUEST} 404 Not Found", [_BARE],
    ),
    "words with colours": (
        f"2026-05-01T10:00:00.123Z \x1b[0mGET {PATH} \x1b[33m404\x1b[0m 1.234 ms - 19\x1b[0m", [_BARE],
    ),
    "bars": (
        f'[GIN] 2026/05/01 - 10:00:00 | 404 |     123.4us |       192.0.2.1 | GET      "{PATH}"',
        [_BARE],
    ),
    "bars without quotes": (f"2026-05-01 10:00:00 | 404 | 1.2ms | 192.0.2.1 | GET | {PATH}", [_BARE]),
    "address behind": (
        f'2026/05/01 10:00:00 "GET http://{HOST}{PATH} HTTP/1.1" from 192.0.2.1:50 - 404 19B in 1ms',
        [_of_site(HOST, "http", agent=None, referrer="")],
    ),
    "status in brackets before": (
        f"[Fri May  1 10:00:00 2026] 192.0.2.1:5000 [404]: GET {PATH} - No such file or directory",
        [_BARE],
    ),
    "a router with names behind": (
        f'{_COMBINED} 12 "web@docker" "http://10.0.0.2:80" 1ms', [Asked()],
    ),
    "a mesh proxy": (
        (f'[2026-05-01T10:00:00.123Z] {_REQUEST} 404 - 0 19 2 1 "192.0.2.1" "{AGENT}" "d5-11" "{HOST}" '
        '"10.0.0.2:80"'),
        [Asked(referrer="", host=HOST)],
    ),
    "HAProxy's httplog": (
        ("May  1 10:00:00 lb haproxy[12]: 192.0.2.1:5000 [01/May/2026:10:00:00.123] web~ app/s1 "
        f"0/0/1/2/3 404 200 - - ---- 1/1/0/0/0 0/0 {_REQUEST}"),
        [_BARE],
    ),
    "HAProxy's clf": (
        (f'192.0.2.1 - - {_TIME} {_REQUEST} 404 200 "" "" 5000 123 "web" "app" "s1" 0 0 0 1 1 ---- 1 1 '
        '0 0 0 0 0 "" "" '),
        [_BARE],
    ),
    "a cloud's balancer": (
        ("https 2026-05-01T10:00:00.123456Z app/lb/50dc 192.0.2.1:2817 10.0.0.1:80 0.086 0.048 0.037 404 "
        f'404 57 366 "GET https://{HOST}:443{PATH} HTTP/2.0" "{AGENT}" ECDHE TLSv1.2 arn:x:tg "Root=1" '
        f'"{HOST}" "arn:cert" 1 2026-05-01T10:00:00.000Z "forward" "-" "-" "10.0.0.1:80" "404" "-" "-"'),
        [_of_site(f"{HOST}:443", referrer="", host=HOST)],
    ),
    "a cloud's older balancer": (
        ("2026-05-01T10:00:00.123456Z my-lb 192.0.2.1:2817 10.0.0.1:80 0.00007 0.001 0.00006 404 404 0 29 "
        f'"GET http://{HOST}:80{PATH} HTTP/1.1" "{AGENT}" - -'),
        [_of_site(f"{HOST}:80", "http", referrer="")],
    ),
    "a cloud's storage": (
        (f"79a5 quillhaven {_TIME} 192.0.2.1 - 3E57 WEBSITE.GET.OBJECT visit/room.html {_REQUEST} 404 "
        f'NoSuchKey 346 - 17 - "{FROM}" "{AGENT}" -'),
        [Asked()],
    ),
    "a cache": (
        f"1777629600.123    200 192.0.2.1 TCP_MISS/404 1234 GET http://{HOST}{PATH} - DIRECT/10.0.0.1 x",
        [_of_site(HOST, "http", agent=None, referrer="")],
    ),
    "words and no quotes": (
        f'2026-05-01T10:00:00.123+00:00 192.0.2.1 GET {PATH} HTTP/1.1 404 12 "{FROM}" "{AGENT}"',
        [Asked()],
    ),
    "no protocol": (
        f'[2026-05-01 10:00:00] 192.0.2.1 "GET {PATH}" 404 0.003 "{AGENT}"', [Asked(referrer="")],
    ),
    "nginx's error log": (
        ('2026/05/01 10:00:00 [error] 12#12: *3 open() "/var/www/visit/room.html" failed (2: No such file '
        f'or directory), client: 192.0.2.1, server: {HOST}, request: {_REQUEST}, host: "{HOST}", '
        f'referrer: "{FROM}"'),
        [Asked(agent=None, host=HOST)],
    ),
    "LTSV": (
        (f"time:{_TIME}\thost:192.0.2.1\treq:GET {PATH} HTTP/1.1\tstatus:404\tsize:12\treferer:{FROM}\t"
        f"ua:{AGENT}\tvhost:{HOST}"),
        [_AT_HOST],
    ),
    "names with values": (
        (f'time="2026-05-01T10:00:00Z" level=info method=GET path="{PATH}" status=404 '
        f'user_agent="{AGENT}" referer={FROM} duration=1.2ms'),
        [Asked()],
    ),
    "names with values behind a prefix": (
        (f"I, [2026-05-01T10:00:00.123456 #12]  INFO -- : method=GET path={PATH} format=html status=404 "
        "duration=3.20 time=2026-05-01T10:00:00Z"),
        [_BARE],
    ),
    "a table under a heading": (
        (f'time,method,host,path,status,user_agent,referer\n2026-05-01T10:00:00Z,GET,{HOST},{PATH},404,'
        f'"{AGENT}",{FROM}'),
        [_AT_HOST],
    ),
    "a table with tabs": (
        (f"timestamp\tmethod\turl\tstatus\tuser agent\n2026-05-01 10:00:00\tGET\thttps://{HOST}{PATH}\t404\t"
        f"{AGENT}"),
        [_of_site(HOST, referrer="")],
    ),
    "W3C fields": (
        ("#Fields: date time cs-method cs-uri-stem cs-uri-query cs(User-Agent) cs(Referer) sc-status\n"
        f"2026-05-01 10:00:00 GET /visit/room.html id=3 {_PLUS} {FROM} 404"),
        [Asked()],
    ),
    "W3C fields, host of the viewer": (
        ("#Fields: date time cs-method cs(Host) cs-uri-stem sc-status cs(Referer) cs(User-Agent) "
        "cs-uri-query x-host-header\n"
        f"2026-05-01\t10:00:00\tGET\td1.cdn.example\t/visit/room.html\t404\t{FROM}\t{_ESCAPED}\tid=3\t{HOST}"),
        [_AT_HOST],
    ),
}  # fmt: skip

_ISO = "2026-05-01T10:00:00.1Z"
_INNER = {
    "time": _ISO,
    "method": "GET",
    "uri": PATH,
    "status": 404,
    "user_agent": AGENT,
    "referer": FROM,
}
OBJECTS: dict[str, tuple[dict[str, Any], Asked]] = {
    "names of nginx": (
        {"time_local": "01/May/2026:10:00:00 +0000", "remote_addr": "192.0.2.1",
            "request": f"GET {PATH} HTTP/1.1", "status": "404", "http_referrer": FROM,
            "http_user_agent": AGENT, "http_host": HOST},
        _AT_HOST,
    ),
    "headers as lists, below the request": (
        {"ts": 1777629600.123, "logger": "http.log.access", "msg": "handled request",
            "request": {"method": "GET", "host": HOST, "uri": PATH,
                "headers": {"User-Agent": [AGENT], "Referer": [FROM]}}, "status": 404},
        _AT_HOST,
    ),
    "a router's": (
        {"ClientAddr": "192.0.2.1:1", "DownstreamStatus": 404, "OriginStatus": 200, "RequestAddr": HOST,
            "RequestHost": HOST, "RequestMethod": "GET", "RequestPath": PATH, "StartUTC": _ISO,
            "request_User-Agent": AGENT, "request_Referer": FROM},
        _AT_HOST,
    ),
    "a common schema, nested": (
        {"@timestamp": _ISO, "log": {"file": {"path": "/var/log/nginx/access.log"}},
            "http": {"request": {"method": "GET", "referrer": FROM}, "response": {"status_code": 404}},
            "url": {"original": PATH, "domain": HOST}, "user_agent": {"original": AGENT},
            "host": {"name": "web1"}, "agent": {"name": "web1", "type": "x"}},
        _AT_HOST,
    ),
    "a common schema, with dots": (
        {"@timestamp": _ISO, "http.request.method": "GET", "http.request.referrer": FROM,
            "http.response.status_code": 404, "url.original": PATH, "url.domain": HOST,
            "user_agent.original": AGENT},
        _AT_HOST,
    ),
    "an edge's": (
        {"ClientRequestHost": HOST, "ClientRequestMethod": "GET", "ClientRequestURI": PATH,
            "EdgeEndTimestamp": _ISO, "EdgeResponseStatus": 404, "ClientRequestUserAgent": AGENT,
            "ClientRequestReferer": FROM},
        _AT_HOST,
    ),
    "another edge's": (
        {"timestamp": "2026-05-01T10:00:00+0000", "host": HOST, "url": PATH, "request_method": "GET",
            "response_status": 404, "request_user_agent": AGENT, "request_referer": FROM},
        _AT_HOST,
    ),
    "a cloud's balancer": (
        {"httpRequest": {"requestMethod": "GET", "requestUrl": f"https://{HOST}{PATH}", "status": 404,
            "userAgent": AGENT, "referer": FROM}, "timestamp": _ISO, "resource": {"type": "x"}},
        _of_site(HOST),
    ),
    "a cloud's front door": (
        {"time": _ISO, "category": "AccessLog", "properties": {"httpMethod": "GET",
            "requestUri": f"https://{HOST}:443{PATH}", "httpStatusCode": "404", "userAgent": AGENT,
            "referer": FROM}},
        _of_site(f"{HOST}:443"),
    ),
    "a cloud's firewall": (
        {"timestamp": 1777629600123, "httpRequest": {"clientIp": "192.0.2.1", "headers": [
            {"name": "Host", "value": HOST}, {"name": "User-Agent", "value": AGENT},
            {"name": "Referer", "value": FROM}], "uri": "/visit/room.html", "args": "id=3",
            "httpMethod": "GET"}, "status": 404},
        _AT_HOST,
    ),
    "a cloud's gateway": (
        {"requestTime": "01/May/2026:10:00:00 +0000", "httpMethod": "GET", "path": PATH,
            "status": "404", "userAgent": AGENT, "domainName": HOST},
        Asked(referrer="", host=HOST),
    ),
    "a logger of requests": (
        {"level": 30, "time": 1777629600123, "hostname": "web1", "req": {"id": 1, "method": "GET",
            "url": PATH, "headers": {"host": HOST, "user-agent": AGENT, "referer": FROM}},
            "res": {"statusCode": 404}, "msg": "request completed"},
        _AT_HOST,
    ),
    "pseudo-headers": (
        {":authority": HOST, "method": "GET", "path": PATH, "response_code": 404, "start_time": _ISO,
            "user_agent": AGENT},
        Asked(referrer="", host=HOST),
    ),
    "a framework's": (
        {"time": _ISO, "id": "", "remote_ip": "192.0.2.1", "host": HOST, "method": "GET", "uri": PATH,
            "user_agent": AGENT, "status": 404, "error": "", "latency": 1},
        Asked(referrer="", host=HOST),
    ),
    "a container's line": ({"log": f"{_COMBINED}\n", "stream": "stdout", "time": _ISO}, Asked()),
    "a container's line without a time": (
        {"log": f"INFO:     192.0.2.1:5000 - {_REQUEST} 404 Not Found\n", "stream": "stdout",
            "time": _ISO},
        _BARE,
    ),
    "an object in a container's line": (
        {"log": json.dumps(_INNER) + "\n", "stream": "stdout", "time": _ISO}, Asked(),
    ),
    "a journal's": (
        {"__REALTIME_TIMESTAMP": "1777629600123456", "_COMM": "nginx", "MESSAGE": _COMBINED}, Asked(),
    ),
    "nanoseconds": (_INNER | {"time": 1777629600123456789}, Asked()),
    "a status as a number with a point": (_INNER | {"status": 404.0}, Asked()),
}  # fmt: skip

SAMPLES: dict[str, tuple[str, list[Asked]]] = {
    **{name: (f"{text}\n", asked) for name, (text, asked) in LINES.items()},
    **{f"JSON: {n}": (json.dumps(told) + "\n", [asked]) for n, (told, asked) in OBJECTS.items()},
    "JSON: an array, a line each": (
        "[\n" + ",\n".join(json.dumps(_INNER) for _ in range(3)) + "\n]\n", [Asked()] * 3,
    ),
}  # fmt: skip
