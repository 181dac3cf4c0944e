"""Small logs as programs print objects, as databases draw tables, and as people find lines, one a
kind, each with the request that it tells of.
"""

from __future__ import annotations

import json

from asked import AGENT, AT_HOST, BARE, COMBINED, FROM, HOST, PATH, PLUS, REST, TIME, Asked, of_site

ISO, AT = "2026-05-01T10:00:00.123Z", "2026-05-01 10:00:00"
UNLED = Asked(referrer="")
UNDATED = BARE._replace(day="")
LINES: dict[str, tuple[str, Asked]] = {
    "an object of JavaScript": (
        f"{ISO} handled {{ method: 'GET', url: '{PATH}', status: 404, ua: '{AGENT}' }}",
        UNLED,
    ),
    "a dictionary of Python": (
        (
            f"{AT},123 - access - INFO - {{'method': 'GET', 'path': '{PATH}', 'status': 404, "
            f"'agent': '{AGENT}', 'user': None}}"
        ),
        UNLED,
    ),
    "a hash of Ruby": (
        f'{ISO} INFO {{:method=>"GET", :path=>"{PATH}", :status=>404, :user_agent=>"{AGENT}"}}',
        UNLED,
    ),
    "a map of EDN": (
        (
            f'{AT},123 INFO [w-1] ring: {{:request-method :get, :uri "/visit/room.html", '
            f':query-string "id=3", :server-name "{HOST}", :status 404}}'
        ),
        Asked(agent=None, referrer="", host=HOST),
    ),
    "an object before others": (
        f"[{AT}] app.INFO: request "
        + json.dumps({"method": "GET", "uri": PATH, "status": 404, "ua": AGENT})
        + ' [] {"uid":"a7"}',
        UNLED,
    ),
    "JSON with bytes as escapes": (
        f'{{"time":"{ISO}","method":"GET","uri":"{PATH}","status":404,"note":"caf\\xc3\\xa9"}}',
        BARE,
    ),
    "headers as pairs": (
        json.dumps(
            {
                "datetime": ISO,
                "request": {
                    "url": f"http://{HOST}{PATH}",
                    "method": "GET",
                    "headers": [["User-Agent", AGENT], ["Referer", FROM]],
                },
                "response": {"status_code": 404},
            }
        ),
        of_site(HOST, "http"),
    ),
    "headers as texts": (
        json.dumps(
            {
                "time": ISO,
                "method": "GET",
                "url": PATH,
                "status": 404,
                "headers": [f"Host: {HOST}", f"User-Agent: {AGENT}", f"Referer: {FROM}"],
            }
        ),
        AT_HOST,
    ),
    "headers one after the other": (
        json.dumps(
            {
                "time": ISO,
                "method": "GET",
                "url": PATH,
                "statusCode": 404,
                "rawHeaders": ["Host", HOST, "User-Agent", AGENT, "Referer", FROM],
            }
        ),
        AT_HOST,
    ),
    "parameters as an object": (
        json.dumps(
            {
                "requestTime": ISO,
                "httpMethod": "GET",
                "path": "/visit/room.html",
                "queryStringParameters": {"id": "3"},
                "headers": {"Host": HOST, "User-Agent": AGENT},
                "statusCode": 404,
            }
        ),
        Asked(host=HOST, referrer=""),
    ),
    "the host of the request, not that of the site": (
        json.dumps(
            {
                "timestamp": ISO,
                "host": "built-7.sites.example",
                "proxy": {"method": "GET", "host": HOST, "path": PATH, "userAgent": [AGENT]},
                "status": 404,
            }
        ),
        Asked(host=HOST, referrer=""),
    ),
    "a status under a name of one's own": (
        f'ts={ISO} vhost="{HOST}" verb=GET resource="{PATH}" rc=404 browser="{AGENT}"',
        Asked(host=HOST, referrer=""),
    ),
    "values in single quotes": (
        f"{ISO} [info     ] finished   code=404 ip=192.0.2.1 request='GET {PATH}' ua='{AGENT}'",
        UNLED,
    ),
    "colons between names and values": (
        f'time: {ISO}, method: GET, url: {PATH}, status: 404, agent: "{AGENT}"',
        UNLED,
    ),
    "a table drawn by a database": (
        (
            " ts | method | path | status | agent \n----+--------+------+--------+-------\n"
            f" {AT}+00 | GET | {PATH} | 404 | {AGENT}\n(1 row)"
        ),
        UNLED,
    ),
    "a table in a frame": (
        (
            "+----+------+-----+------+-------+\n| ts | verb | uri | code | agent |\n"
            f"+----+------+-----+------+-------+\n| {AT} | GET | {PATH} | 404 | {AGENT} |\n"
            "+----+------+-----+------+-------+"
        ),
        UNLED,
    ),
    "other signs between cells": (f"{AT}^192.0.2.1^GET^{PATH}^404^{AGENT}", UNLED),
    "the fixed fields of IIS": (
        (
            "192.0.2.1, -, 5/1/2026, 10:00:00, W3SVC1, WEB1, 10.0.0.1, 12, 300, 145, 404, 0, GET, "
            "/visit/room.html, id=3,"
        ),
        BARE,
    ),
    "W3C without its directives": (
        f"{AT} 10.0.0.1 GET /visit/room.html id=3 443 - 192.0.2.1 {PLUS} {FROM} 404 0 2 15",
        Asked(),
    ),
    "a host behind the name of a file": (
        f"access.log.2.gz:{HOST}:80 {COMBINED}",
        Asked(host=f"{HOST}:80"),
    ),
    "captured headers": (
        (
            "May  1 10:00:00 lb haproxy[7]: 192.0.2.1:5 [01/May/2026:10:00:00.123] web static/a "
            f'10/0/30/69/109 404 2750 - - ---- 1/1/1/1/0 0/0 {{{HOST}|{AGENT}}} {{}} "GET {PATH} '
            'HTTP/1.1"'
        ),
        Asked(host=HOST, referrer=""),
    ),
    "a status in brackets": (f"2026-05-01T10:00:00.123456  0:00:00.012 GET     [404] {PATH}", BARE),
    "a request in brackets": (f"[{ISO}] [192.0.2.1] [GET {PATH}] [404] [{AGENT}]", UNLED),
    "an agent without quotes": (
        (
            f"[Nest] 12  - 05/01/2026, 10:00:00 AM     LOG [HTTP] GET {PATH} 404 12ms - {AGENT} "
            "192.0.2.1"
        ),
        UNLED,
    ),
    "a level glued to it": (f"WARNING:server.access:404 GET {PATH} (192.0.2.1) 0.60ms", UNDATED),
    "a host with its name": (
        f'192.0.2.1 - - {TIME} "GET {PATH} HTTP/1.1" {REST} vhost={HOST} rt=0.01',
        AT_HOST,
    ),
}
ISSUED = f"GET {PATH} HTTP/1.1\nHost: {HOST}\nUser-Agent: {AGENT}\nReferer: {FROM}\n\n"
RECORDS: dict[str, str] = {
    "an object of JavaScript": (
        f"{{\n  time: '{ISO}',\n  method: 'GET',\n  url: '{PATH}',\n  status: 404,\n"
        f"  userAgent: '{AGENT}'\n}}\n"
    ),
    "a hash of Ruby": (
        f'{{\n       "message" => "GET {PATH} 404",\n    "@timestamp" => {ISO},\n'
        '          "host" => "web1"\n}\n'
    ),
    "an array of PHP": (
        f"[{AT}] Array\n(\n    [REQUEST_METHOD] => GET\n    [REQUEST_URI] => {PATH}\n"
        f"    [HTTP_USER_AGENT] => {AGENT}\n    [status] => 404\n)\n\n"
    ),
    "YAML": (
        f"- time: {ISO}\n  method: GET\n  host: {HOST}\n  path: {PATH}\n  status: 404\n"
        f'  user_agent: "{AGENT}"\n'
    ),
    "a row on its side": (
        f"*************************** 1. row ***************************\n    ts: {AT}\n"
        f"method: GET\n   uri: {PATH}\nstatus: 404\n agent: {AGENT}\n"
    ),
    "a record of a database": (
        f"-[ RECORD 1 ]-----\nts     | {AT}+00\nmethod | GET\npath   | {PATH}\nstatus | 404\n"
        f"agent  | {AGENT}\n"
    ),
    "names with values, in columns": (
        "date            : 2026-05-01\ncs-method       : GET\ncs-uri-stem     : /visit/room.html\n"
        f"cs-uri-query    : id=3\nsc-status       : 404\ncs(User-Agent)  : {PLUS}\n\n"
    ),
    "what a cache saw": (
        "*   << BeReq    >> 32771\n-   Begin          bereq 32770 fetch\n"
        f"-   BereqMethod    GET\n-   BereqURL       {PATH}\n-   BerespStatus   404\n-   End\n\n"
        "*   << Request  >> 32770\n-   Begin          req 1 rxreq\n"
        "-   Timestamp      Start: 1777629600.123456 0.000000 0.000000\n"
        f"-   ReqMethod      GET\n-   ReqURL         {PATH}\n-   ReqHeader      Host: {HOST}\n"
        f"-   ReqHeader      User-Agent: {AGENT}\n-   RespStatus     404\n-   End\n\n"
    ),
    "an audit in parts": (
        f"--a7-A--\n{TIME} aBc 192.0.2.1 5 10.0.0.1 80\n--a7-B--\n{ISSUED}--a7-F--\n"
        "HTTP/1.1 404 Not Found\nContent-Length: 145\n\n--a7-Z--\n\n"
    ),
    "messages as they were sent": (
        f"{ISSUED}HTTP/1.1 404 Not Found\nDate: Fri, 01 May 2026 10:00:00 GMT\n\n"
    ),
    "messages with their sides": "".join(
        f"{side} {line}\n"
        for side, text in (
            (">", ISSUED),
            ("<", "HTTP/1.1 404 Not Found\nDate: Fri, 01 May 2026 10:00:00 GMT\n"),
        )
        for line in text.splitlines()
    ),
}
"""Of several lines each; all tell of one request by a person."""
