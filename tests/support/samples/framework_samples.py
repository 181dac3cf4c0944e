"""Small logs of frameworks, functions, edges and collectors, one a kind, each with the request that
it tells of.
"""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from typing import Any

from asked import (
    AGENT,
    AT_HOST,
    BARE,
    COMBINED,
    ESCAPED,
    FROM,
    HOST,
    PATH,
    PLUS,
    REQUEST,
    TIME,
    Asked,
    of_site,
)

ISO, SECONDS = "2026-05-01T10:00:00.123Z", 1777629600
UNDATED = BARE._replace(day="")
QUOTED = COMBINED.replace('"', '""')
NUMBER = "[d5f2b1c4-0000-4000-8000-000000000001]"
RUBY = f"I, [2026-05-01T10:00:00.123456 #12]  INFO -- : {NUMBER}"
FIELDS = (
    "#Software: Server 10.0\n#Date: 2026-05-01 09:59:00\n#Fields: date time s-ip cs-method "
    "cs-uri-stem cs-uri-query s-port cs-username c-ip cs(User-Agent) cs(Referer) sc-status "
    "sc-substatus sc-win32-status time-taken\n"
)
KERNEL = (
    "#Date: 2026-05-01 09:00:00\n#Fields: date time c-ip c-port s-ip s-port cs-version cs-method "
    "cs-uri sc-status s-siteid s-reason s-queuename\n"
)


def _last_year_of(month: int, day: int) -> int:
    """The year of a day that names none: the last one in which it was."""
    today = datetime.now(UTC) + timedelta(days=1)
    return today.year - ((month, day) > (today.month, today.day))


def _json(*told: dict[str, Any]) -> str:
    return "\n".join(map(json.dumps, told))


HANDLED = {
    "request": {
        "remote_ip": "192.0.2.1",
        "method": "GET",
        "host": HOST,
        "uri": PATH,
        "headers": {"User-Agent": [AGENT], "Referer": [FROM]},
    },
    "status": 404,
}
LINES: dict[str, tuple[str, Asked]] = {
    "no day: a server of Python": (f"INFO:     192.0.2.1:5000 - {REQUEST} 404 Not Found", UNDATED),
    "no day: words with colours": (
        f"\x1b[0mGET {PATH} \x1b[33m404 \x1b[0m3.214 ms - 145\x1b[0m",
        UNDATED,
    ),
    "no day: words": (f"GET {PATH} 404 145 - 3.214 ms", UNDATED),
    "no day: client first": (f"192.0.2.1 - GET {PATH} HTTP/1.1 404 145 - 3.214 ms", UNDATED),
    "no day: a server of pages": (f" GET {PATH} 404 in 34ms", UNDATED),
    "no day: names with values": (
        f"method=GET path={PATH} format=html controller=Visit action=show status=404 view=40.43",
        UNDATED,
    ),
    "no day: only a clock": (f"10:00:00 | 404 |   3ms | 192.0.2.1 | GET | {PATH} | -", UNDATED),
    "no day: JSON": (
        _json({"level": "info", "method": "GET", "path": PATH, "status": 404, "took": 3.2}),
        UNDATED,
    ),
    "no day, but the container's": (
        _json({"log": f"INFO:   192.0.2.1:50 - {REQUEST} 404 Not Found\n", "time": ISO}),
        BARE,
    ),
    "told before it is answered": (
        f"  <-- GET {PATH}\n  --> GET {PATH} 404 12ms -",
        UNDATED,
    ),
    "an answer in words": (
        (
            f'[2026-05-01T10:00:00.123Z]  "GET {PATH}" "{AGENT}"\n'
            f'[2026-05-01T10:00:00.124Z]  "GET {PATH}" Error (404): "Not found"'
        ),
        BARE,
    ),
    "two lines, in their order": (
        (
            f'Started GET "{PATH}" for 192.0.2.1 at 2026-05-01 10:00:00 +0000\n'
            "Processing by VisitController#show as HTML\n"
            '  Parameters: {"id"=>"3"}\n'
            "Completed 404 Not Found in 5ms (Views: 0.1ms | Allocations: 122)"
        ),
        BARE,
    ),
    "two lines with a number": (
        (
            f'{RUBY} Started GET "{PATH}" for 192.0.2.1 at 2026-05-01 10:00:00 +0000\n'
            f"{RUBY} Processing by VisitController#show as HTML\n"
            f"{RUBY} Completed 404 Not Found in 2ms"
        ),
        BARE,
    ),
    "two lines, no day": (
        (
            f"10:00:00.123 request_id=F8x [info] GET {PATH}\n"
            "10:00:00.125 request_id=F8x [info] Sent 404 in 2ms"
        ),
        UNDATED,
    ),
    "two objects": (
        _json(
            {
                "time": SECONDS * 1000,
                "hostname": "web1",
                "reqId": "req-1",
                "req": {"method": "GET", "url": PATH, "host": HOST},
            },
            {"time": SECONDS * 1000 + 5, "reqId": "req-1", "res": {"statusCode": 404}},
        ),
        Asked(agent=None, referrer="", host=HOST),
    ),
    "an object behind words": (
        f"2026/05/01 10:00:00.123\tINFO\thttp.log.access\thandled\t{_json(HANDLED)}",
        AT_HOST,
    ),
    "an object behind a tag": (
        "2026-05-01T10:00:00+00:00\tweb.access\t"
        + _json({"method": "GET", "path": PATH, "code": "404", "referer": FROM, "agent": AGENT}),
        Asked(),
    ),
    "names within braces": (
        (
            f"2026-05-01T10:00:00.123456Z  INFO request{{method=GET uri={PATH} version=HTTP/1.1}}: "
            "trace::on_response: finished latency=1 ms status=404"
        ),
        BARE,
    ),
    "lines within a table": (
        f'_time,_raw,host\n2026-05-01T10:00:00.000+0000,"{QUOTED}",web1',
        Asked(),
    ),
    "lines within a table, other time": (
        f'"@timestamp",message,"host.name"\n"May 1, 2026 @ 10:00:00.000","{QUOTED}",web1',
        Asked(),
    ),
    "no route, in words": (
        (
            "[2026-05-01T10:00:00.123456+00:00] request.ERROR: Uncaught exception: "
            f'"No route found for "GET http://{HOST}{PATH}"" at /srv/x.php line 12 {{}} []'
        ),
        of_site(HOST, "http", agent=None, referrer=""),
    ),
    "not found, in words": (f"WARNING 2026-05-01 10:00:00,123 log 12 Not Found: {PATH}", BARE),
    "a short day": (f"[W 260501 10:00:00 web:2348] 404 GET {PATH} (192.0.2.1) 1.23ms", BARE),
    "only the version of the protocol": (
        (
            f'[2026-05-01 10:00:00 +0000] [12] [INFO] 192.0.2.1:5 - {TIME} "GET {PATH} 1.1" 404 12 '
            f'"{FROM}" "{AGENT}"'
        ),
        Asked(),
    ),
    "bars, address and agent": (
        (f"MISS|404|{SECONDS}000|0|1234|192.0.2.1|{FROM}|https://{HOST}{PATH}|WA|{AGENT}|abc|US"),
        of_site(HOST),
    ),
    "bars and a day in words": (
        (f"192.0.2.1|Fri 01 May 2026 10:00:00 +0000|404|512||GET {PATH} HTTP/1.1|{FROM}|{AGENT}"),
        Asked(),
    ),
    "a time without brackets": (f'192.0.2.1 -  01/May/2026:10:00:00 +0000 "GET {PATH}" 404', BARE),
    "W3C with directives": (
        (
            f"{FIELDS}2026-05-01 10:00:00 10.0.0.1 GET /visit/room.html id=3 443 - 192.0.2.1 "
            f"{PLUS} {FROM} 404 0 2 15"
        ),
        Asked(),
    ),
    "W3C of the kernel": (
        f"{KERNEL}2026-05-01 10:00:00 192.0.2.1 5000 10.0.0.1 80 HTTP/1.1 GET {PATH} 404 - Lost -",
        BARE,
    ),
    "a finished request": (
        (
            "info: Hosting.Diagnostics[2]\n"
            f"      Request finished HTTP/1.1 GET http://{HOST}{PATH} - 404 0 - 12.3ms"
        ),
        of_site(HOST, "http", agent=None, referrer="", day=""),
    ),
    "an edge's names": (
        _json(
            {
                "reqTimeSec": f"{SECONDS}.123",
                "cliIP": "192.0.2.1",
                "reqHost": HOST,
                "reqMethod": "GET",
                "reqPath": "visit/room.html",
                "queryStr": "id=3",
                "statusCode": "404",
                "UA": ESCAPED,
                "referer": FROM,
            }
        ),
        AT_HOST,
    ),
    "a function's proxy": (
        _json(
            {
                "message": "x",
                "timestamp": SECONDS * 1000,
                "proxy": {
                    "timestamp": SECONDS * 1000,
                    "method": "GET",
                    "host": HOST,
                    "path": PATH,
                    "userAgent": [AGENT],
                    "referer": FROM,
                    "statusCode": 404,
                },
            }
        ),
        AT_HOST,
    ),
    "a gateway's properties": (
        _json(
            {
                "timeStamp": "2026-05-01T10:00:00+00:00",
                "properties": {
                    "clientIP": "192.0.2.1",
                    "httpMethod": "GET",
                    "requestUri": "/visit/room.html",
                    "requestQuery": "id=3",
                    "userAgent": AGENT,
                    "httpStatus": 404,
                    "host": HOST,
                },
            }
        ),
        Asked(host=HOST, referrer=""),
    ),
    "labels before a line": (f'{ISO} {{app="web", pod="web-1"}} {COMBINED}', Asked()),
    "labels beside a line": (
        _json({"labels": {"app": "web"}, "line": COMBINED, "timestamp": ISO}),
        Asked(),
    ),
    "a pod in brackets": (f"[pod/web-5d7/web] {COMBINED}", Asked()),
    "a pod and its container": (f"web-5d7 web {COMBINED}", Asked()),
    "a name for the user": (
        f'192.0.2.1 - Anonymous {TIME} {REQUEST} 404 0 "" "{AGENT}"',
        Asked(referrer=""),
    ),
    "more in brackets": (f"192.0.2.1 - - {TIME} [ecid: 1.005^kY] {REQUEST} 404 12", BARE),
    "a request and its answer, by a correlation": (
        _json(
            {
                "type": "request",
                "correlation": "c7",
                "remote": "192.0.2.1",
                "method": "GET",
                "uri": f"http://{HOST}{PATH}",
                "headers": {"user-agent": [AGENT], "referer": [FROM]},
                "@timestamp": ISO,
            },
            {"type": "response", "correlation": "c7", "duration": 3, "status": 404},
        ),
        Asked(target=f"http://{HOST}{PATH}"),
    ),
    "names of one's own": (
        _json(
            {
                "z1": ISO,
                "z2": "192.0.2.1",
                "z3": f"GET {PATH} HTTP/1.1",
                "z4": "404",
                "z5": HOST,
                "z6": AGENT,
                "z7": FROM,
            }
        ),
        AT_HOST,
    ),
    "day and month in figures": (
        f"[INFO] [05/01/2026 10:00:00.123] [srv-5] [pool] server: GET {PATH} 404 Not Found",
        BARE,
    ),
    "words whose request is apart": (
        (
            f'20260501100000 192.0.2.1 {HOST} {PATH} 512 1 2 404 NULL 12 "{AGENT}" "{FROM}" GET '
            "HTTP/1.1 hit"
        ),
        AT_HOST,
    ),
    "a level with month and day": (
        (
            f'I0501 10:00:00.123456       1 httplog.go:132] "HTTP" verb="GET" URI="{PATH}" '
            f'latency="1.2ms" userAgent="{AGENT}" srcIP="192.0.2.1:1234" resp=404'
        ),
        Asked(referrer="", day=f"{_last_year_of(5, 1)}-05-01"),
    ),
    "a request with a blank as value": (
        (
            f"2026-05-01 10:00:00 [info     ] request_finished    [app.requests] code=404 "
            f"ip=192.0.2.1 request=GET {PATH} request_id=abc-7 user_id=None"
        ),
        BARE,
    ),
    "an event with labels": (
        (
            f"CEF:0|Maker|Wall|1.0|100|access|3|rt=May 01 2026 10:00:00 src=192.0.2.1 "
            f"requestMethod=GET request=http://{HOST}{PATH} cn1Label=status cn1=404 "
            f"requestClientApplication={AGENT}"
        ),
        of_site(HOST, "http", referrer=""),
    ),
    "an event with escapes": (
        (
            f"May  1 10:00:00 edge CEF:0|Maker|Wall|1.0|100|access|3|end=1777629600000 "
            f"src=192.0.2.1 requestMethod=GET request={PATH.replace('=', chr(92) + '=')} "
            f"dhost={HOST} outcome=404 requestClientApplication={AGENT}"
        ),
        Asked(referrer="", host=HOST),
    ),
    "an event with tabs": (
        (
            f"LEEF:1.0|Maker|Proxy|1|access|devTime=May 01 2026 10:00:00\tsrc=192.0.2.1\tmethod=GET"
            f"\turl=http://{HOST}{PATH}\tstatus=404\tuserAgent={AGENT}"
        ),
        of_site(HOST, "http", referrer=""),
    ),
    "names and values between commas": (
        (
            f'ts=2026-05-01T10:00:00Z, client=192.0.2.1, vhost={HOST}, req="GET {PATH} HTTP/1.1", '
            f'st=404, len=12, ref="{FROM}", ua="{AGENT}"'
        ),
        AT_HOST,
    ),
    "the host between method and path": (
        (f"192.0.2.1 | 2026-05-01 10:00:00 | GET {HOST} {PATH} | 404 | 0.012 | {FROM} | {AGENT}"),
        of_site(HOST, "http"),
    ),
    "an object behind a date in brackets": (
        (
            f'[2026-05-01 10:00:00] production.INFO: request handled {{"method":"GET","uri":'
            f'"{PATH}","status":404,"ip":"192.0.2.1","ua":"{AGENT}"}}'
        ),
        Asked(referrer=""),
    ),
    "attributes as keys with typed values": (
        json.dumps(
            {
                "name": f"GET {PATH}",
                "startTimeUnixNano": "1777629600000000000",
                "attributes": [
                    {"key": key, "value": {kind: value}}
                    for key, kind, value in (
                        ("http.request.method", "stringValue", "GET"),
                        ("url.path", "stringValue", PATH),
                        ("http.response.status_code", "intValue", "404"),
                        ("user_agent.original", "stringValue", AGENT),
                    )
                ],
            }
        ),
        Asked(referrer=""),
    ),
    "headers as keys with values": (
        "2026-05-01T10:00:00.123Z\tabc-7\tINFO\t"
        + json.dumps(
            {
                "request": {
                    "clientIp": "192.0.2.1",
                    "method": "GET",
                    "uri": PATH,
                    "headers": {
                        "host": [{"key": "Host", "value": HOST}],
                        "user-agent": [{"key": "User-Agent", "value": AGENT}],
                        "referer": [{"key": "Referer", "value": FROM}],
                    },
                },
                "response": {"status": "404"},
            }
        ),
        AT_HOST,
    ),
}
