"""Rule files in Apache's language as people write them, drawn at random, and what a real Apache
does with them.
"""

from __future__ import annotations

import random
import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import lxml.html

from rule_judge import ROOT, Asked, RuleFile, Server, one, run_server

MODULES = (
    "mpm_event authz_core rewrite alias dir headers proxy proxy_http access_compat env setenvif"
)
FOLDERS = ("s", "s/t", "u")
HOSTS = ("www.old.example", "shop.old.example", "m.old.example")
EVERY = (*HOSTS, "other.example", "main.example")
NAMES = (
    "a",
    "b",
    "a/b",
    "s",
    "s/a",
    "s/t/b",
    "u/x.php",
    "keep",
    "keep/a",
    "p.php",
    "caf%C3%A9",
    "x%20y",
    "A",
    "tag[1]",
    "b.htm",
    "über",
)


def pattern(rng: random.Random, *, inner: bool) -> str:
    """A pattern as it stands in a rule of a folder, or of a server."""
    lead = "" if inner else "/"
    word = one(rng, "a", "b", "s", "s/a", "keep", "u", "A", "x.php", "caf", "s/t")
    core = one(
        rng, f"^{lead}{word}$", f"^{lead}{word}", f"^{lead}{word}/(.*)$", f"^{lead}({word})/?$",
        f"^{lead}(.*)\\.php$", "(.*)", "^", ".",
        f"^{lead}(.+)$", f"{word}", f"^{lead}(a|b)/(.*)$", f"^{lead}({word}.*)$", "\\.htm$",
        f"^{lead}(?!keep){word}", f"^{lead}[ab]$", f"!^{lead}{word}",
        f"^{lead}x\\ y$", f"^{lead}caf.", f"^{lead}caf(é)$", f"^/{word}$", f"^{word}",
    )  # fmt: skip
    return f'"{core}"' if rng.random() < 0.1 else core


def goal(rng: random.Random) -> str:
    return one(
        rng, "/n", "/n/$1", "https://new.example/$1", "https://new.example/n/$1", "/n?x=1",
        "/n?id=$1", "n", "n/$1", "$1", "/$1", "/n#part", "/n%20m",
        "/n\\%20m", "https://new.example%{REQUEST_URI}", "/n?q=%{QUERY_STRING}", "/n/%1",
        "http://www.old.example/in", "/n?", "/n[1]", "/ü",
        "https://%{HTTP_HOST}/n", "https://%{HTTP_HOST}%{REQUEST_URI}", "/index.php", "index.php",
        "/n/$2/$1", "/n/$0",
    )  # fmt: skip


def flags(rng: random.Random) -> str:
    base = one(
        rng,
        "R=301,L",
        "R=301,L",
        "R=301,L",
        "R=302,L",
        "L",
        "R",
        "R=301",
        "F",
        "G",
        "R=404,L",
        "",
        "END",
        "S=1",
        "C",
        "PT",
        "R=307,L",
        "R=303,L",
        "N=3,R",
        "NE,R=301,L",
    )
    extra = [x for x in ("NC", "QSA", "QSD", "NE", "B", "E=x:1") if rng.random() < 0.08]
    found = ",".join(x for x in [base, *extra] if x)
    return f" [{found}]" if found else ""


def rewrite(rng: random.Random, *, inner: bool) -> list[str]:
    lines = []
    while rng.random() < 0.3:
        test = one(
            rng, "%{HTTP_HOST} ^www\\.", "%{HTTP_HOST} !^www\\.old",
            "%{HTTP_HOST} =shop.old.example", "%{QUERY_STRING} ^id=(\\d+)$", "%{QUERY_STRING} (x)",
            "%{REQUEST_URI} ^/s", "%{REQUEST_URI} !^/(keep|u)", "%{REQUEST_FILENAME} !-f",
            "%{HTTPS} off", "%{HTTPS} !=on", "%{HTTP_USER_AGENT} curl",
            "%{THE_REQUEST} \\s/a", "%{REQUEST_METHOD} POST", "%{QUERY_STRING} ^$",
            "%{HTTP:X-Forwarded-Proto} !https", "%{REQUEST_URI} ^/(.)",
        )  # fmt: skip
        lines.append(f"RewriteCond {test}{one(rng, '', '', '', ' [NC]', ' [OR]', ' [NC,OR]')}")
    if lines and "OR]" in lines[-1]:
        lines[-1] = lines[-1].partition(" [")[0]
    change = "-" if rng.random() < 0.2 else goal(rng)
    return [*lines, f"RewriteRule {pattern(rng, inner=inner)} {change}{flags(rng)}"]


def alias(rng: random.Random) -> str:
    path = one(rng, "/a", "/a/b", "/s", "/s/a", "/s/t/", "/keep", "/u", "/x\\ y", "/caf", "/café")
    path = f'"{path}"'.replace("\\ ", " ") if rng.random() < 0.2 or " " in path else path
    there = one(
        rng,
        "/n",
        "https://new.example/n",
        "https://new.example",
        "/n?x=1",
        "/n#part",
        "/n%20m",
        "/n[1]",
    )
    status = one(
        rng, "301", "302", "permanent", "gone", "404", "", "seeother", "temp", "403", "308"
    )
    if rng.random() < 0.4:
        expression = one(
            rng,
            "^/a(.*)$",
            "^/(s|u)/(.*)$",
            "\\.php$",
            "^/keep",
            "(.*)\\.htm$",
            "^/caf(.*)",
            "^/(?=a)",
            "/b$",
        )
        back = one(
            rng,
            "/n$1",
            "https://new.example/$1",
            "/n?p=$1",
            "/n#$1",
            "/m/$0",
            "$1",
            "/n/&/$1",
            "/n%20$1",
        )
        return (
            (
                f"RedirectMatch {status} {expression} "
                f"{back if status not in {'gone', '404', '403'} else ''}"
            )
            .replace("  ", " ")
            .rstrip()
        )
    if status in {"gone", "404", "403"}:
        return f"Redirect {status} {path}"
    return f"Redirect {status} {path} {there}".replace("  ", " ")


def rules(rng: random.Random, *, inner: bool, most: int = 5) -> list[str]:
    out: list[str] = []
    for _ in range(rng.randint(1, most)):
        lines = rewrite(rng, inner=inner) if rng.random() < 0.6 else [alias(rng)]
        wrap = rng.random()
        if wrap < 0.14:
            what = one(
                rng, "IfModule mod_rewrite.c", "IfModule !mod_rewrite.c", "IfDefine THERE",
                "IfDefine !THERE", "IfDefine NOT_THERE", "IfModule mod_strange.c",
                "IfModule !mod_strange.c", "IfVersion >= 2.4",
            )  # fmt: skip
            out += [f"<{what}>", *lines, f"</{what.split()[0]}>"]
        else:
            out += lines
    return out


def guards(rng: random.Random) -> list[str]:
    """What a folder says besides."""
    out = []
    if rng.random() < 0.15:
        out += ['<FilesMatch "\\.php$">', "Require all denied", "</FilesMatch>"]
    if rng.random() < 0.08:
        out += ["<Files keep>", "Order allow,deny", "Deny from all", "</Files>"]
    if rng.random() < 0.06:
        out.append(one(rng, "Require all denied", "Require all granted", "Require ip 10.1.2.3"))
    if rng.random() < 0.06:
        out.append("Options -FollowSymLinks")
    if rng.random() < 0.15:
        out.append(
            one(
                rng,
                "ErrorDocument 410 https://new.example/sorry",
                "ErrorDocument 410 /sorry.html",
                "ErrorDocument 404 https://new.example/none",
                "ErrorDocument 403 https://new.example/no",
            )
        )
    if rng.random() < 0.08:
        out += [
            '<If "%{REQUEST_URI} =~ m#^/a#">',
            "Redirect 301 /a https://new.example/if",
            "</If>",
        ]
        if rng.random() < 0.5:
            out += ["<Else>", "Redirect 301 /b https://new.example/else", "</Else>"]
    return out


def folder(rng: random.Random, *, base: bool = True) -> list[str]:
    out = guards(rng)
    if rng.random() < 0.85:
        out.append("RewriteEngine On")
    if base and rng.random() < 0.6:
        out.append(f"RewriteBase {one(rng, '/', '/', '/s/', '/bs')}")
    out += rules(rng, inner=True)
    if rng.random() < 0.05:
        out.append("RewriteEngine Off")
    return out


def directories(rng: random.Random) -> list[str]:
    out: list[str] = []
    for path in rng.sample(["", "/s", "/s/t", "/u"], rng.choice([0, 1, 1, 2])):
        out += [f"<Directory {ROOT}{path}>", *folder(rng), "</Directory>"]
    return out


def server(rng: random.Random) -> list[str]:
    out = ["RewriteEngine On"] if rng.random() < 0.85 else []
    out += rules(rng, inner=False)
    if rng.random() < 0.1:
        out += [
            f"<Location {one(rng, '/s', '/keep')}>",
            one(rng, "Require all denied", "Redirect 301 /s https://new.example/loc"),
            "</Location>",
        ]
    if rng.random() < 0.08:
        out.append(
            f"ProxyPass {one(rng, '/a', '/keep', '/u')} {one(rng, '!', 'http://127.0.0.1:1/')}"
        )
    if rng.random() < 0.08:
        out.append(f"Alias /u {ROOT}/s")
    out += directories(rng)
    if rng.random() < 0.06:
        out.append(f"ErrorDocument {one(rng, '404', '403', '410')} https://new.example/error")
    if rng.random() < 0.3:
        rng.shuffle(out) if not any(x.startswith(("<", "RewriteCond")) for x in out) else None
    return out


def draw(rng: random.Random) -> RuleFile:
    """A .htaccess, a configuration without virtual hosts, or one with some."""
    kind = rng.random()
    if kind < 0.35:
        return RuleFile(".htaccess", "\n".join(folder(rng)) + "\n")
    if kind < 0.55:
        return RuleFile("site.conf", "\n".join([f"DocumentRoot {ROOT}", *server(rng)]) + "\n")
    lines = [f"DocumentRoot {ROOT}"]
    if rng.random() < 0.3:
        lines += server(rng)
    if rng.random() < 0.2:
        lines.append("ServerName main.example")
    hosts = list(HOSTS)
    named: set[tuple[str, str]] = set()
    rng.shuffle(hosts)
    for host in hosts[: rng.randint(1, 3)]:
        name = [f"ServerName {host}"] if rng.random() < 0.85 else []
        known = {host} if name else {*EVERY}
        if name and rng.random() < 0.2:
            name.append(f"ServerAlias {one(rng, '*.old.example', 'other.example')}")
            known |= {"other.example"} if name[1].endswith("other.example") else set(HOSTS)
        inside = server(rng)
        at = rng.choice([0, len(inside)])
        port = one(rng, "*:80", "*:80", "*:80", "*:443", "_default_:80", "*:80 *:443")
        if not name and any(p in line for line in lines for p in (":80", ":443") if p in port):
            # Another virtual host comes first: nothing reaches it, unless it takes over the name of
            # what stands outside.
            known = {"main.example"} if "ServerName main.example" in lines else set()
        named |= {(s, h) for s, p in (("http", "80"), ("https", "443")) if p in port for h in known}
        lines += [f"<VirtualHost {port}>", *inside[:at], *name, *inside[at:], "</VirtualHost>"]
    if not any(
        "443" in line for line in lines
    ):  # what no virtual host listens for goes to the server outside of them
        named |= {("https", h) for h in EVERY}
    if not any(":80" in line for line in lines):
        named |= {("http", h) for h in EVERY}
    return RuleFile("site.conf", "\n".join(lines) + "\n", frozenset(named))


def requests(rng: random.Random, file: RuleFile, count: int) -> list[Asked]:
    """Addresses that the rules of a file may be about. What speaks on the port of HTTPS is plain,
    so that a rule must not look.
    """
    tls = 0.0 if "{HTTPS}" in file.text else 0.15
    ports = {p for p in (":80", ":443") if f"{p}" in file.text}
    if len(ports) == 1:  # what has one port alone is read for both schemes
        tls = float(":443" in ports)
    out = []
    for _ in range(count):
        path = "/" + "/".join(rng.choice(NAMES) for _ in range(rng.choice([1, 1, 1, 2])))
        path += one(rng, "", "", "", "/", "/x%3Fy", "/x%23y", "//z", "/%E9", ".htm", "/q.php")
        query = one(rng, "", "", "", "?id=7", "?x=1&y=a%20b", "?z[]=1", "?", "?x")
        host = one(rng, *HOSTS, "www.old.example", "other.example", "main.example")
        out.append(Asked("https" if rng.random() < tls else "http", host, path + query))
    return out


@contextmanager
def running(file: RuleFile) -> Iterator[Server]:
    """A real Apache with a file; what speaks on its port 443 is plain all the same."""

    def lay_out(folder: Path) -> list[str]:
        for name in FOLDERS:
            (folder / "www" / name).mkdir(parents=True, exist_ok=True)
        modules = "".join(
            f"LoadModule {m}_module /usr/lib/apache2/modules/mod_{m}.so\n" for m in MODULES.split()
        )
        text = (
            f"{modules}PidFile {folder}/httpd.pid\nDefaultRuntimeDir {folder}\nErrorLog "
            f"{folder}/error.log\nMutex pthread\nListen 127.0.0.1:80\n"
            "Listen 127.0.0.1:443\nDefine THERE\nServerName localhost\nDocumentRoot "
            f"{ROOT}\n<Directory />\nAllowOverride All\nDirectorySlash Off\nRequire all "
            "granted\n</Directory>\n"
        )
        if file.name == ".htaccess":
            (folder / "www/.htaccess").write_text(file.text)
        else:
            text += file.text
        (folder / "httpd.conf").write_text(text.replace(ROOT, f"{folder}/www"))
        return [
            "/usr/sbin/apache2",
            "-d",
            str(folder),
            "-f",
            str(folder / "httpd.conf"),
            "-DFOREGROUND",
        ]

    with run_server("apache", lay_out, "httpd.conf") as place:
        yield place


MANUAL = Path("/usr/share/doc/apache2-doc/manual/en")
"""Apache's own documentation, as Debian packs it."""


def manual() -> list[RuleFile]:
    """The examples of Apache's documentation, as a server's file and as a folder's."""
    found = []
    for page in [
        *sorted(MANUAL.glob("rewrite/*.html")),
        *(
            MANUAL / f"{n}.html"
            for n in ("mod/mod_alias", "mod/mod_rewrite", "urlmapping", "vhosts/examples")
        ),
    ]:
        for example in lxml.html.parse(str(page)).xpath("//pre"):
            text = example.text_content().replace("\xa0", " ")
            if re.search(r"^\s*(?:Redirect|Rewrite(?:Rule|Cond))", text, re.MULTILINE):
                engine = "" if "rewriteengine" in text.lower() else "RewriteEngine On\n"
                lines = re.findall(r"^\s*Server(?:Name|Alias)\s+(.*)$", text, re.MULTILINE)
                hosts = frozenset(
                    (s, h) for line in lines for h in line.split() for s in ("http", "https")
                )
                found.append(RuleFile("site.conf", f"DocumentRoot {ROOT}\n{engine}{text}\n", hosts))
                found.append(RuleFile(".htaccess", f"{engine}{text}\n"))
    return found
