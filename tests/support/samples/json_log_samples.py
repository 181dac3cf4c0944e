"""Objects of JSON logs, one a kind, each with the request that it tells of."""

from __future__ import annotations

import json
from typing import Any

from asked import AGENT, AT_HOST, BARE, COMBINED, FROM, HOST, PATH, REQUEST, Asked, of_site

ISO = "2026-05-01T10:00:00.1Z"
INNER = {
    "time": ISO,
    "method": "GET",
    "uri": PATH,
    "status": 404,
    "user_agent": AGENT,
    "referer": FROM,
}
OBJECTS: dict[str, tuple[dict[str, Any], Asked]] = {
    "names of nginx": (
        {
            "time_local": "01/May/2026:10:00:00 +0000",
            "remote_addr": "192.0.2.1",
            "request": f"GET {PATH} HTTP/1.1",
            "status": "404",
            "http_referrer": FROM,
            "http_user_agent": AGENT,
            "http_host": HOST,
        },
        AT_HOST,
    ),
    "headers as lists, below the request": (
        {
            "ts": 1777629600.123,
            "logger": "http.log.access",
            "msg": "handled request",
            "request": {
                "method": "GET",
                "host": HOST,
                "uri": PATH,
                "headers": {"User-Agent": [AGENT], "Referer": [FROM]},
            },
            "status": 404,
        },
        AT_HOST,
    ),
    "a router's": (
        {
            "ClientAddr": "192.0.2.1:1",
            "DownstreamStatus": 404,
            "OriginStatus": 200,
            "RequestAddr": HOST,
            "RequestHost": HOST,
            "RequestMethod": "GET",
            "RequestPath": PATH,
            "StartUTC": ISO,
            "request_User-Agent": AGENT,
            "request_Referer": FROM,
        },
        AT_HOST,
    ),
    "a common schema, nested": (
        {
            "@timestamp": ISO,
            "log": {"file": {"path": "/var/log/nginx/access.log"}},
            "http": {
                "request": {"method": "GET", "referrer": FROM},
                "response": {"status_code": 404},
            },
            "url": {"original": PATH, "domain": HOST},
            "user_agent": {"original": AGENT},
            "host": {"name": "web1"},
            "agent": {"name": "web1", "type": "x"},
        },
        AT_HOST,
    ),
    "a common schema, with dots": (
        {
            "@timestamp": ISO,
            "http.request.method": "GET",
            "http.request.referrer": FROM,
            "http.response.status_code": 404,
            "url.original": PATH,
            "url.domain": HOST,
            "user_agent.original": AGENT,
        },
        AT_HOST,
    ),
    "an edge's": (
        {
            "ClientRequestHost": HOST,
            "ClientRequestMethod": "GET",
            "ClientRequestURI": PATH,
            "EdgeEndTimestamp": ISO,
            "EdgeResponseStatus": 404,
            "ClientRequestUserAgent": AGENT,
            "ClientRequestReferer": FROM,
        },
        AT_HOST,
    ),
    "another edge's": (
        {
            "timestamp": "2026-05-01T10:00:00+0000",
            "host": HOST,
            "url": PATH,
            "request_method": "GET",
            "response_status": 404,
            "request_user_agent": AGENT,
            "request_referer": FROM,
        },
        AT_HOST,
    ),
    "a cloud's balancer": (
        {
            "httpRequest": {
                "requestMethod": "GET",
                "requestUrl": f"https://{HOST}{PATH}",
                "status": 404,
                "userAgent": AGENT,
                "referer": FROM,
            },
            "timestamp": ISO,
            "resource": {"type": "x"},
        },
        of_site(HOST),
    ),
    "a cloud's front door": (
        {
            "time": ISO,
            "category": "AccessLog",
            "properties": {
                "httpMethod": "GET",
                "requestUri": f"https://{HOST}:443{PATH}",
                "httpStatusCode": "404",
                "userAgent": AGENT,
                "referer": FROM,
            },
        },
        of_site(f"{HOST}:443"),
    ),
    "a cloud's firewall": (
        {
            "timestamp": 1777629600123,
            "httpRequest": {
                "clientIp": "192.0.2.1",
                "headers": [
                    {"name": "Host", "value": HOST},
                    {"name": "User-Agent", "value": AGENT},
                    {"name": "Referer", "value": FROM},
                ],
                "uri": "/visit/room.html",
                "args": "id=3",
                "httpMethod": "GET",
            },
            "status": 404,
        },
        AT_HOST,
    ),
    "a cloud's gateway": (
        {
            "requestTime": "01/May/2026:10:00:00 +0000",
            "httpMethod": "GET",
            "path": PATH,
            "status": "404",
            "userAgent": AGENT,
            "domainName": HOST,
        },
        Asked(referrer="", host=HOST),
    ),
    "a logger of requests": (
        {
            "level": 30,
            "time": 1777629600123,
            "hostname": "web1",
            "req": {
                "id": 1,
                "method": "GET",
                "url": PATH,
                "headers": {"host": HOST, "user-agent": AGENT, "referer": FROM},
            },
            "res": {"statusCode": 404},
            "msg": "request completed",
        },
        AT_HOST,
    ),
    "pseudo-headers": (
        {
            ":authority": HOST,
            "method": "GET",
            "path": PATH,
            "response_code": 404,
            "start_time": ISO,
            "user_agent": AGENT,
        },
        Asked(referrer="", host=HOST),
    ),
    "a framework's": (
        {
            "time": ISO,
            "id": "",
            "remote_ip": "192.0.2.1",
            "host": HOST,
            "method": "GET",
            "uri": PATH,
            "user_agent": AGENT,
            "status": 404,
            "error": "",
            "latency": 1,
        },
        Asked(referrer="", host=HOST),
    ),
    "a container's line": ({"log": f"{COMBINED}\n", "stream": "stdout", "time": ISO}, Asked()),
    "a container's line without a time": (
        {
            "log": f"INFO:     192.0.2.1:5000 - {REQUEST} 404 Not Found\n",
            "stream": "stdout",
            "time": ISO,
        },
        BARE,
    ),
    "an object in a container's line": (
        {"log": json.dumps(INNER) + "\n", "stream": "stdout", "time": ISO},
        Asked(),
    ),
    "a journal's": (
        {"__REALTIME_TIMESTAMP": "1777629600123456", "_COMM": "nginx", "MESSAGE": COMBINED},
        Asked(),
    ),
    "nanoseconds": (INNER | {"time": 1777629600123456789}, Asked()),
    "a status as a number with a point": (INNER | {"status": 404.0}, Asked()),
    "a gateway's, below the request": (
        {
            "request": {
                "method": "GET",
                "uri": PATH,
                "url": f"http://{HOST}:80{PATH}",
                "headers": {"user-agent": AGENT, "referer": FROM, "host": HOST},
            },
            "response": {"status": 404, "size": 1},
            "started_at": 1777629600123,
        },
        AT_HOST,
    ),
    "a platform's, below a proxy": (
        {
            "timestamp": 1777629600123,
            "message": "",
            "proxy": {
                "method": "GET",
                "host": HOST,
                "path": PATH,
                "statusCode": 404,
                "userAgent": [AGENT],
                "referer": FROM,
            },
        },
        AT_HOST,
    ),
    "a network's, paths without a slash": (
        {
            "reqTimeSec": "1777629600.123",
            "reqMethod": "GET",
            "reqHost": HOST,
            "reqPath": "visit/room.html",
            "queryStr": "id=3",
            "statusCode": "404",
            "UA": AGENT,
            "referer": FROM,
        },
        AT_HOST,
    ),
    "an event with a line": (
        {"time": 1777629600.1, "host": "web1", "source": "/var/log/a", "event": COMBINED},
        Asked(),
    ),
    "a shipper's message": (
        {
            "@timestamp": ISO,
            "message": COMBINED,
            "log": {"file": {"path": "/var/log/a"}},
            "host": {"name": "web1"},
        },
        Asked(),
    ),
    "names with underscores before": (
        {
            "version": "1.1",
            "host": "web1",
            "short_message": "GET",
            "timestamp": 1777629600.12,
            "_request": f"GET {PATH} HTTP/1.1",
            "_status": "404",
            "_http_user_agent": AGENT,
            "_http_referer": FROM,
        },
        Asked(),
    ),
    "a summary beside what it sums up": (
        {
            "time": 1777629600123,
            "req": {
                "method": "get",
                "url": PATH,
                "headers": {"user-agent": AGENT, "referer": FROM, "host": HOST},
            },
            "res": {"statusCode": 404},
            "msg": f"[response] get {PATH.partition('?')[0]} 404 (3ms)",
        },
        AT_HOST,
    ),
    "a line under a name of its own": (
        {"log_io": COMBINED, "log_system": "-", "log_time": 1777629600.1},
        Asked(),
    ),
}
