"""Small logs of application servers, edges and watchers of traffic, one a kind, each with the
request that it tells of.
"""

from __future__ import annotations

import json

from asked import (
    AGENT,
    AT_HOST,
    BARE,
    COMBINED,
    FROM,
    HOST,
    PATH,
    REQUEST,
    REST,
    TIME,
    Asked,
    of_site,
)

ISO, SECONDS = "2026-05-01T10:00:00.123Z", 1777629600
UNDATED = BARE._replace(day="")
NAMES = (
    "ts uid id.orig_h id.resp_h method host uri referrer version user_agent status_code status_msg"
)
WATCHED = "\t".join(
    [
        f"{SECONDS}.123", "Cx", "192.0.2.1", "10.0.0.1", "GET", HOST, PATH, FROM, "1.1", AGENT,
        "404", "Lost",
    ]
)  # fmt: skip
LINES: dict[str, tuple[str, Asked]] = {
    "all in quotes": (
        f'"192.0.2.1" "NULL-AUTH-USER" "01/May/2026:10:00:00 +0000" {REQUEST} 404 12',
        BARE,
    ),
    "the whole line in quotes": ('"' + COMBINED.replace('"', '\\"') + '"', Asked()),
    "a storage's": (
        (
            f"1.0;{ISO};GetWebContent;ClientOtherError;404;3;3;anonymous;;quillhaven;web;"
            f'"https://{HOST}:443{PATH}";"/quillhaven/room";d2;0;192.0.2.1:1234;2020;300;0;200;12;'
            f'0;;;;;;"{AGENT}";"{FROM}";'
        ),
        of_site(f"{HOST}:443"),
    ),
    "a heading among comments": (
        "#separator \\x09\n#path\thttp\n#fields\t" + NAMES.replace(" ", "\t") + f"\n{WATCHED}",
        AT_HOST,
    ),
    "an event of a watcher": (
        json.dumps(
            {
                "timestamp": "2026-05-01T10:00:00.123456+0000",
                "event_type": "http",
                "src_ip": "192.0.2.1",
                "dest_ip": "10.0.0.1",
                "http": {
                    "hostname": HOST,
                    "url": PATH,
                    "http_user_agent": AGENT,
                    "http_refer": FROM,
                    "http_method": "GET",
                    "status": 404,
                },
            }
        ),
        AT_HOST,
    ),
    "a status far behind": (
        (
            "[pid: 12|app: 0|req: 3/3] 192.0.2.1 () {40 vars in 600 bytes} "
            f"[Fri May  1 10:00:00 2026] GET {PATH} => generated 12 bytes in 3 msecs "
            "(HTTP/1.1 404) 2 headers in 100 bytes (1 switches on core 0)"
        ),
        BARE,
    ),
    "two lines, the answer without a word": (
        (
            f'[2026-05-01 10:00:00.12345] [12] [debug] [aBcD1234] GET "{PATH}"\n'
            "[2026-05-01 10:00:00.12445] [12] [debug] [aBcD1234] 404 Not Found (0.001s, 1000/s)"
        ),
        BARE,
    ),
    "small letters": (
        f"260501/100000.123, [response] http://web:3000: get {PATH} {{}} 404 (3ms)",
        BARE,
    ),
    "the answer first": (
        f"2026-05-01 10:00:00.123 [loop-1] INFO  web - 404 Not Found: GET - {PATH} in 3ms",
        BARE,
    ),
    "a level in brackets": (f"[ NOTICE ] GET {PATH} 404 [request-id: D5F2] (main:12)", UNDATED),
    "the status between": (
        f'[Web Server ] 2026-05-01 10:00:00 |WARN   | SERVER GET  (404) {PATH} ip="192.0.2.1"',
        BARE,
    ),
    "dots between": (f"  404    GET {PATH} .............. 1.20 mb 3.21 ms", UNDATED),
    "took and returned": (
        f"2026-05-01 10:00:00,123 [INFO] from access in web - GET {PATH} took 3ms and returned 404",
        BARE,
    ),
    "a logger's pattern": (
        (
            "2026-05-01 10:00:00.123  INFO 12 --- [exec-1] c.q.web.LoggingFilter : "
            f"GET {PATH} 404 3ms client=192.0.2.1"
        ),
        BARE,
    ),
    "a gateway's": (
        json.dumps(
            {
                "request": {
                    "method": "GET",
                    "uri": PATH,
                    "url": f"http://{HOST}:80{PATH}",
                    "headers": {"user-agent": AGENT, "host": HOST, "referer": FROM},
                },
                "response": {"status": 404, "size": "12"},
                "client_ip": "192.0.2.1",
                "started_at": SECONDS * 1000,
            }
        ),
        AT_HOST,
    ),
    "names with dots": (
        json.dumps(
            {
                "@timestamp": ISO,
                "http.request.method": "GET",
                "url.path": "/visit/room.html",
                "url.query": "id=3",
                "url.domain": HOST,
                "http.response.status_code": 404,
                "user_agent.original": AGENT,
                "http.request.referrer": FROM,
            }
        ),
        AT_HOST,
    ),
    "columns of blanks": (
        f"2026-05-01  10:00:00  192.0.2.1       GET   {PATH}   404    12",
        BARE,
    ),
    "bars, the agent last": (
        f"2026-05-01 10:00:00 | 192.0.2.1 | GET {PATH} | 404 | {AGENT}",
        Asked(referrer=""),
    ),
    "host, client, quotes": (
        (
            f'2026-05-01T10:00:00+02:00 {HOST} 192.0.2.1 "GET {PATH} HTTP/2.0" 404 12 0.003 '
            f'"{FROM}" "{AGENT}"'
        ),
        AT_HOST,
    ),
    "a client in brackets": (f"[2001:db8::1]:5000 - - {TIME} {REQUEST} {REST}", Asked()),
    "status, then the request": (f"404 GET {PATH} 192.0.2.1 2026-05-01T10:00:00Z", BARE),
    "cells in quotes": (
        (
            f'"01/May/2026:10:00:00 +0000","192.0.2.1","GET {PATH} HTTP/1.1","404","{FROM}",'
            f'"{AGENT}"'
        ),
        Asked(),
    ),
    "all in quotes, the time in brackets": (
        f'"192.0.2.1" "-" "{TIME}" {REQUEST} "404" "12" "{FROM}" "{AGENT}" "12" "{HOST}"',
        AT_HOST,
    ),
    "month first": (
        f'192.0.2.1 - - [05/13/2026:10:00:00 -0000] {REQUEST} {REST} "s" "-" 2083',
        Asked(day="2026-05-13"),
    ),
    "types behind the names": (
        (
            "TimeGenerated,csMethod_s,csUriStem_s,csUriQuery_s,scStatus_d,csUserAgent_s\n"
            f'2026-05-01 10:00:00,GET,/visit/room.html,id=3,404,"{AGENT}"'
        ),
        Asked(referrer=""),
    ),
    "an agent under a name of its own": (
        f"date\tmethod\tpath\tstatus\tasked with\n2026-05-01\tGET\t{PATH}\t404\t{AGENT}",
        Asked(referrer=""),
    ),
    "a table, the day first": (
        "time;method;path;status;ua\n"
        + "".join(f"{d:02}/05/2026 10:00:00;GET;{PATH};404;{AGENT}\n" for d in (1, 2, 3)).strip(),
        [Asked(referrer="", day=f"2026-05-{d:02}") for d in (1, 2, 3)],
    ),
    "a firewall's": (
        (
            f'date=2026-05-01 time=10:00:00 type="traffic" srcip=192.0.2.1 hostname="{HOST}" '
            f'url="{PATH}" httpmethod="GET" httpstatus=404 agent="{AGENT}"'
        ),
        Asked(referrer="", host=HOST),
    ),
    "fields with tabs and quotes": (
        (
            "#Version:\t1.0\n#Fields:\tdate time cs-method cs-uri sc-status c-ip cs(User-Agent)\n"
            f'2026-05-01\t10:00:00\tGET\t{PATH}\t404\t192.0.2.1\t"{AGENT}"'
        ),
        Asked(referrer=""),
    ),
    "fields with blanks in quotes": (
        (
            "#Fields: date time cs-method cs-uri sc-status c-ip cs(User-Agent)\n"
            f'2026-05-01 10:00:00 GET {PATH} 404 192.0.2.1 "{AGENT}"'
        ),
        Asked(referrer=""),
    ),
}
