"""Small logs, one a kind, each with the requests that it tells of."""

from __future__ import annotations

import json

from asked import (
    AGENT,
    AT_HOST,
    BARE,
    COMBINED,
    ESCAPED,
    FROM,
    HOST,
    OTHER,
    PATH,
    PLUS,
    REQUEST,
    REST,
    TIME,
    Asked,
    of_site,
)
from framework_samples import LINES as FRAMEWORKS
from json_log_samples import INNER, OBJECTS
from printed_samples import LINES as PRINTED
from server_samples import LINES as SERVERS

LINES: dict[str, tuple[str, list[Asked]]] = {
    "combined": (COMBINED, [Asked()]),
    "common": (f"192.0.2.1 - - {TIME} {REQUEST} 404 12", [BARE]),
    "client by its name": (COMBINED.replace("192.0.2.1", "dsl-1.isp.example"), [Asked()]),
    "host and port first": (f"{HOST}:80 {COMBINED}", [Asked(host=f"{HOST}:80")]),
    "host first, no port": (f"{HOST} {COMBINED}", [AT_HOST]),
    "host second": (f"192.0.2.1 {HOST} - {TIME} {REQUEST} {REST}", [AT_HOST]),
    "another host second": (f"192.0.2.1 {OTHER} - {TIME} {REQUEST} {REST}", [Asked(host=OTHER)]),
    "host last, quoted": (f'{COMBINED} "{HOST}"', [AT_HOST]),
    "host last, with a time": (f'{COMBINED} "-" {HOST} 0.003', [AT_HOST]),
    "a duration behind": (f"{COMBINED} 0.003 0.002", [Asked()]),
    "forwarded for, quoted, first": (
        f'"192.0.2.1, 198.51.100.7" - - {TIME} {REQUEST} {REST}',
        [Asked()],
    ),
    "forwarded for, quoted, last": (f'{COMBINED} "198.51.100.7"', [Asked()]),
    "syslog": (f"<190>May  1 10:00:00 web1 nginx: {COMBINED}", [Asked()]),
    "journal": (f"May 01 10:00:00 web1 gunicorn[99]: {COMBINED}", [Asked()]),
    "container runtime": (f"2026-05-01T10:00:00.123456789Z stdout F {COMBINED}", [Asked()]),
    "compose": (f"web-1  | {COMBINED}", [Asked()]),
    "colours": (COMBINED.replace('"GET', '"\x1b[33mGET').replace("1.1", "1.1\x1b[0m"), [Asked()]),
    "Python's own server": (f"192.0.2.1 - - [01/May/2026 10:00:00] {REQUEST} 404 -", [BARE]),
    "a Python framework": (f"[01/May/2026 10:00:00] {REQUEST} 404 1234", [BARE]),
    "status in words behind": (
        f"2026-05-01 10:00:00,123 INFO:     192.0.2.1:5000 - {REQUEST} 404 Not Found",
        [BARE],
    ),
    "words with colours": (
        f"2026-05-01T10:00:00.123Z \x1b[0mGET {PATH} \x1b[33m404\x1b[0m 1.234 ms - 19\x1b[0m",
        [BARE],
    ),
    "bars": (
        f'[GIN] 2026/05/01 - 10:00:00 | 404 |     123.4us |       192.0.2.1 | GET      "{PATH}"',
        [BARE],
    ),
    "bars without quotes": (
        f"2026-05-01 10:00:00 | 404 | 1.2ms | 192.0.2.1 | GET | {PATH}",
        [BARE],
    ),
    "address behind": (
        (
            f'2026/05/01 10:00:00 "GET http://{HOST}{PATH} HTTP/1.1" from 192.0.2.1:50 - '
            "404 19B in 1ms"
        ),
        [of_site(HOST, "http", agent=None, referrer="")],
    ),
    "status in brackets before": (
        f"[Fri May  1 10:00:00 2026] 192.0.2.1:5000 [404]: GET {PATH} - No such file or directory",
        [BARE],
    ),
    "a router with names behind": (
        f'{COMBINED} 12 "web@docker" "http://10.0.0.2:80" 1ms',
        [Asked()],
    ),
    "a mesh proxy": (
        (
            f'[2026-05-01T10:00:00.123Z] {REQUEST} 404 - 0 19 2 1 "192.0.2.1" "{AGENT}" '
            f'"d5-11" "{HOST}" '
            '"10.0.0.2:80"'
        ),
        [Asked(referrer="", host=HOST)],
    ),
    "HAProxy's httplog": (
        (
            "May  1 10:00:00 lb haproxy[12]: 192.0.2.1:5000 [01/May/2026:10:00:00.123] web~ app/s1 "
            f"0/0/1/2/3 404 200 - - ---- 1/1/0/0/0 0/0 {REQUEST}"
        ),
        [BARE],
    ),
    "HAProxy's clf": (
        (
            f'192.0.2.1 - - {TIME} {REQUEST} 404 200 "" "" 5000 123 "web" "app" "s1" 0 0 '
            "0 1 1 ---- 1 1 "
            '0 0 0 0 0 "" "" '
        ),
        [BARE],
    ),
    "a cloud's balancer": (
        (
            "https 2026-05-01T10:00:00.123456Z app/lb/50dc 192.0.2.1:2817 10.0.0.1:80 "
            "0.086 0.048 0.037 404 "
            f'404 57 366 "GET https://{HOST}:443{PATH} HTTP/2.0" "{AGENT}" ECDHE TLSv1.2 '
            'arn:x:tg "Root=1" '
            f'"{HOST}" "arn:cert" 1 2026-05-01T10:00:00.000Z "forward" "-" "-" '
            '"10.0.0.1:80" "404" "-" "-"'
        ),
        [of_site(f"{HOST}:443", referrer="", host=HOST)],
    ),
    "a cloud's older balancer": (
        (
            "2026-05-01T10:00:00.123456Z my-lb 192.0.2.1:2817 10.0.0.1:80 0.00007 0.001 "
            "0.00006 404 404 0 29 "
            f'"GET http://{HOST}:80{PATH} HTTP/1.1" "{AGENT}" - -'
        ),
        [of_site(f"{HOST}:80", "http", referrer="")],
    ),
    "a cloud's storage": (
        (
            f"79a5 quillhaven {TIME} 192.0.2.1 - 3E57 WEBSITE.GET.OBJECT visit/room.html "
            f"{REQUEST} 404 "
            f'NoSuchKey 346 - 17 - "{FROM}" "{AGENT}" -'
        ),
        [Asked()],
    ),
    "a cache": (
        (
            f"1777629600.123    200 192.0.2.1 TCP_MISS/404 1234 GET http://{HOST}{PATH} - "
            "DIRECT/10.0.0.1 x"
        ),
        [of_site(HOST, "http", agent=None, referrer="")],
    ),
    "words and no quotes": (
        f'2026-05-01T10:00:00.123+00:00 192.0.2.1 GET {PATH} HTTP/1.1 404 12 "{FROM}" "{AGENT}"',
        [Asked()],
    ),
    "no protocol": (
        f'[2026-05-01 10:00:00] 192.0.2.1 "GET {PATH}" 404 0.003 "{AGENT}"',
        [Asked(referrer="")],
    ),
    "nginx's error log": (
        (
            '2026/05/01 10:00:00 [error] 12#12: *3 open() "/var/www/visit/room.html" '
            "failed (2: No such file "
            f"or directory), client: 192.0.2.1, server: {HOST}, request: {REQUEST}, host: "
            f'"{HOST}", '
            f'referrer: "{FROM}"'
        ),
        [Asked(agent=None, host=HOST)],
    ),
    "LTSV": (
        (
            f"time:{TIME}\thost:192.0.2.1\treq:GET {PATH} "
            f"HTTP/1.1\tstatus:404\tsize:12\treferer:{FROM}\t"
            f"ua:{AGENT}\tvhost:{HOST}"
        ),
        [AT_HOST],
    ),
    "names with values": (
        (
            f'time="2026-05-01T10:00:00Z" level=info method=GET path="{PATH}" status=404 '
            f'user_agent="{AGENT}" referer={FROM} duration=1.2ms'
        ),
        [Asked()],
    ),
    "names with values behind a prefix": (
        (
            f"I, [2026-05-01T10:00:00.123456 #12]  INFO -- : method=GET path={PATH} "
            "format=html status=404 "
            "duration=3.20 time=2026-05-01T10:00:00Z"
        ),
        [BARE],
    ),
    "a table under a heading": (
        (
            "time,method,host,path,status,user_agent,referer\n2026-05-01T10:00:00Z,GET,"
            f"{HOST},{PATH},404,"
            f'"{AGENT}",{FROM}'
        ),
        [AT_HOST],
    ),
    "a table with tabs": (
        (
            "timestamp\tmethod\turl\tstatus\tuser agent\n2026-05-01 "
            f"10:00:00\tGET\thttps://{HOST}{PATH}\t404\t"
            f"{AGENT}"
        ),
        [of_site(HOST, referrer="")],
    ),
    "W3C fields": (
        (
            "#Fields: date time cs-method cs-uri-stem cs-uri-query cs(User-Agent) "
            "cs(Referer) sc-status\n"
            f"2026-05-01 10:00:00 GET /visit/room.html id=3 {PLUS} {FROM} 404"
        ),
        [Asked()],
    ),
    "W3C fields, host of the viewer": (
        (
            "#Fields: date time cs-method cs(Host) cs-uri-stem sc-status cs(Referer) "
            "cs(User-Agent) "
            "cs-uri-query x-host-header\n"
            f"2026-05-01\t10:00:00\tGET\td1.cdn.example\t/visit/room.html\t404\t{FROM}\t"
            f"{ESCAPED}\tid=3\t{HOST}"
        ),
        [AT_HOST],
    ),
    "an address in the request": (
        f'192.0.2.1 - - {TIME} "GET http://{HOST}{PATH} HTTP/1.1" {REST}',
        [of_site(HOST, "http")],
    ),
    "another status far behind": (
        f"{COMBINED} 300 0.003 [default-web-80] [] 10.0.0.2:8080 12 0.003 200 d5d6",
        [Asked()],
    ),
    "an ISO time in brackets": (
        f"192.0.2.1 - - [2026-05-01T10:00:00+00:00] {REQUEST} {REST}",
        [Asked()],
    ),
    "milliseconds": (
        f"192.0.2.1 - - [01/May/2026:10:00:00.123 +0000] {REQUEST} {REST}",
        [Asked()],
    ),
    "no zone": (f"192.0.2.1 - - [01/May/2026:10:00:00] {REQUEST} {REST}", [Asked()]),
    "names with values behind a time": (
        (
            f'2026-05-01T10:00:00.123456+00:00 app[router]: at=info method=GET path="{PATH}" '
            f'host={HOST} fwd="192.0.2.1" service=3ms status=404 bytes=12'
        ),
        [Asked(agent=None, referrer="", host=HOST)],
    ),
    "a table of microseconds": (
        (
            '"time_micros","c_ip","cs_method","cs_uri","sc_status","time_taken_micros","cs_host",'
            '"cs_referer","cs_user_agent"\n'
            f'"1777629600123456","192.0.2.1","GET","{PATH}","404","3","{HOST}","{FROM}","{AGENT}"'
        ),
        [AT_HOST],
    ),
    "tabs without a heading": (
        f"192.0.2.1\t2026-05-01 10:00:00\tGET {PATH} HTTP/1.1\t404\t12\t{FROM}\t{AGENT}",
        [Asked()],
    ),
    "bars between cells": (
        f"2026-05-01T10:00:00Z|192.0.2.1|GET|{HOST}|{PATH}|404|{AGENT}|{FROM}",
        [AT_HOST],
    ),
    "semicolons between cells": (
        f'192.0.2.1;2026-05-01 10:00:00;{REQUEST};404;12;"{FROM}";"{AGENT}"',
        [Asked()],
    ),
    "all in brackets": (
        f"{TIME} [192.0.2.1] [GET] [{PATH}] [404] [{AGENT}]",
        [Asked(referrer="")],
    ),
    "thousandths since 1970": (
        f"192.0.2.1 - - [1777629600123] {REQUEST} {REST}",
        [Asked()],
    ),
    "commas without a heading": (
        f'192.0.2.1,2026-05-01 10:00:00,GET,{PATH},404,"{AGENT}",{FROM}',
        [Asked()],
    ),
}

SAMPLES: dict[str, tuple[str, list[Asked]]] = {
    "day and clock apart, and agents that hold the delimiter": (
        "\n".join(
            [
                "data;ora;indirizzo IP;metodo;percorso;stato;programma",
                f"01/05/2026;10:00:00;192.0.2.1;GET;{PATH};404;{AGENT}",
                f"13/05/2026;10:00:01;192.0.2.1;GET;{PATH};404;{AGENT}\n",
            ]
        ),
        [Asked(referrer=""), Asked(referrer="", day="2026-05-13")],
    ),
    "what became of connections": (
        "".join(
            f"[Fri May  1 10:00:0{n} 2026] 192.0.2.1:512{n} {said}\n"
            for n in (1, 2)
            for said in ("Accepted", f"[404]: GET {PATH} - No such file", "Closing")
        ),
        [BARE, BARE],
    ),
    **{name: (f"{text}\n", asked) for name, (text, asked) in LINES.items()},
    **{name: (f"{text}\n", [asked]) for name, (text, asked) in FRAMEWORKS.items()},
    **{name: (f"{text}\n", [asked]) for name, (text, asked) in PRINTED.items()},
    **{
        f"server: {n}": (f"{text}\n", asked if isinstance(asked, list) else [asked])
        for n, (text, asked) in SERVERS.items()
    },
    **{f"JSON: {n}": (json.dumps(told) + "\n", [asked]) for n, (told, asked) in OBJECTS.items()},
    "JSON: an array, a line each": (
        "[\n" + ",\n".join(json.dumps(INNER) for _ in range(3)) + "\n]\n",
        [Asked()] * 3,
    ),
}
