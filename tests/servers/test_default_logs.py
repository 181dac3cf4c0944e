"""What real servers write by default of what they are asked, and what is gathered of it."""

from __future__ import annotations

import http.client
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import pytest

from conftest import OLD, Program, needs_server

HOST = "www.quillhaven.example"
PERSON = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
SEARCH = "Mozilla/5.0 (compatible; Googlebot/2.1; +http://www.google.com/bot.html)"
LED = "https://fern.example/post?q=1"
ASKED = [
    (HOST, "GET", "/visit/room.html?id=3", PERSON, LED),
    (HOST, "HEAD", "/visit/room.html?id=3", PERSON, ""),
    (HOST, "GET", '/caf%C3%A9/a"b%20c', PERSON, ""),
    (HOST, "GET", "/only-search/x.html", SEARCH, ""),
    (HOST, "POST", "/form", PERSON, ""),
    ("www.other.example", "GET", "/of-another", PERSON, ""),
]


class Kind(NamedTuple):
    """A server and a format that it writes by default. config: @folder, @port and @form stand for
    where it runs and what it writes. hosts: whether that names the host; agents: who asked.
    """

    server: str
    config: str
    hosts: bool
    agents: bool
    form: str = ""
    log: str = "access.log"


_APACHE = r"""ServerRoot /usr/lib/apache2
LoadModule mpm_event_module modules/mod_mpm_event.so
LoadModule authz_core_module modules/mod_authz_core.so
PidFile @folder/pid
ErrorLog @folder/error.log
Listen 127.0.0.1:@port
ServerName localhost
UseCanonicalName Off
DocumentRoot @folder/pages
<Directory @folder/pages>
Require all granted
</Directory>
LogFormat "%h %l %u %t \"%r\" %>s %O \"%{Referer}i\" \"%{User-Agent}i\"" combined
LogFormat "%V:%p %h %l %u %t \"%r\" %>s %O \"%{Referer}i\" \"%{User-Agent}i\"" vhost_combined
LogFormat "%h %l %u %t \"%r\" %>s %O" common
CustomLog @folder/access.log @form
"""
_HAPROXY = """global
  log stdout format raw local0
defaults
  mode http
  log global
  option @form
  timeout client 5s
  timeout server 5s
  timeout connect 5s
frontend web
  bind 127.0.0.1:@port
  http-request return status 404
"""
_NGINX = """pid @folder/pid; error_log @folder/error.log; events {}
http { access_log @folder/access.log; server { listen 127.0.0.1:@port; root @folder/pages; } }
"""
_LIGHTTPD = """server.modules = ("mod_accesslog")
server.document-root = "@folder/pages"
server.bind = "127.0.0.1"
server.port = @port
accesslog.filename = "@folder/access.log"
"""
_CADDY = """{
 admin off
 auto_https off
}
http://:@port {
 bind 127.0.0.1
 log {
  output file @folder/access.log
 }
 respond 404
}
"""
_COMMANDS = {
    "nginx": ("nginx", "-c", "@folder/conf", "-p", "@folder", "-g", "daemon off;"),
    "apache": ("apache2", "-f", "@folder/conf", "-D", "FOREGROUND"),
    "haproxy": ("haproxy", "-db", "-f", "@folder/conf"),
    "lighttpd": ("lighttpd", "-D", "-f", "@folder/conf"),
    "caddy": ("caddy", "run", "--config", "@folder/conf", "--adapter", "caddyfile"),
}
KINDS = {
    "nginx": Kind("nginx", _NGINX, hosts=False, agents=True),
    "Apache, combined": Kind("apache", _APACHE, hosts=False, agents=True, form="combined"),
    "Apache, by host": Kind("apache", _APACHE, hosts=True, agents=True, form="vhost_combined"),
    "Apache, common": Kind("apache", _APACHE, hosts=False, agents=False, form="common"),
    "HAProxy": Kind("haproxy", _HAPROXY, hosts=False, agents=False, form="httplog", log="out"),
    "HAProxy, clf": Kind(
        "haproxy", _HAPROXY, hosts=False, agents=False, form="httplog clf", log="out"
    ),
    "lighttpd": Kind("lighttpd", _LIGHTTPD, hosts=True, agents=True),
    "Caddy": Kind("caddy", _CADDY, hosts=True, agents=True),
}


@contextmanager
def running(kind: Kind, folder: Path) -> Iterator[int]:
    """The server, with its log in the folder; yields its port."""
    (folder / "pages").mkdir()
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    put = {"@folder": str(folder), "@port": str(port), "@form": kind.form}

    def told(text: str) -> str:
        for name, value in put.items():
            text = text.replace(name, value)
        return text

    (folder / "conf").write_text(told(kind.config))
    command = [*map(told, _COMMANDS[kind.server])]
    with (folder / "out").open("wb") as out:
        run = subprocess.Popen(command, stdout=out, stderr=subprocess.PIPE, cwd=folder)
        try:
            for _ in range(300):
                with socket.socket() as attempt:
                    if attempt.connect_ex(("127.0.0.1", port)) == 0:
                        break
                assert run.poll() is None, run.stderr.read() if run.stderr else ""
                time.sleep(0.1)
            yield port
        finally:
            run.terminate()
            run.communicate(timeout=30)


def asked(port: int) -> None:
    for host, method, target, agent, led in ASKED:
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=10)
        connection.putrequest(method, target, skip_host=True)
        headers = {"Host": host, "User-Agent": agent, "Content-Length": "0"} | (
            {"Referer": led} if led else {}
        )
        for name, value in headers.items():
            connection.putheader(name, value)
        connection.endheaders()
        connection.getresponse().read()
        connection.close()


@pytest.mark.parametrize(
    "name", [pytest.param(n, marks=needs_server(k.server)) for n, k in KINDS.items()]
)
def test_what_a_server_logs_by_default_is_gathered_whole(
    name: str, museum: Program, tmp_path: Path
) -> None:
    kind = KINDS[name]
    with running(kind, tmp_path) as port:
        asked(port)
        time.sleep(1.5)  # lighttpd writes its log once a second
    source = museum.json("gather", str(tmp_path / kind.log))["sources"][0]
    assert (source["kind"], source["rejected"]) == ("access-log", 0)
    entries = {e["legacy_url"].removeprefix(OLD): e for e in museum.json("entries")["entries"]}
    wanted = {"/visit/room.html?id=3", "/caf%C3%A9/a%22b%20c", "/only-search/x.html"}
    assert set(entries) == wanted | (set() if kind.hosts else {"/of-another"})
    assert source["set_aside_by_class"].get("off-site", 0) == int(kind.hosts)
    assert entries["/visit/room.html?id=3"]["hits"] == 2
    searched = entries["/only-search/x.html"]
    assert (searched["hits"], searched["bots"]) == ((0, 1) if kind.agents else (1, 0))
    (said,) = museum.json("entries", "/only-search/x.html")["evidence"]
    assert said["agent"] == ("search engines" if kind.agents else "people")
    assert ("fern.example/post" in museum("entries", "/visit/room.html?id=3").out) == kind.agents
