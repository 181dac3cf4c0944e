"""Rule files in nginx's language as people write them, drawn at random, and what a real nginx does
with them.
"""

from __future__ import annotations

import random
import re
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from rule_judge import ROOT, Asked, RuleFile, Server, one, run_server

HOSTS = ("www.old.example", "shop.old.example", "m.old.example", "a.sub.old.example")
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
    "m-a",
    "m-b",
    "m-c/1",
    "p",
)


def goal(rng: random.Random, *, groups: bool = True) -> str:
    plain = [
        "/n", "https://new.example/n", "/n?x=1", "https://new.example$request_uri",
        "https://$host/n", "https://new.example/n$is_args$args", "$scheme://new.example/n",
        "/n%20m", "https://$server_name/n", "/n$uri", "https://new.example$uri?y=1", "$uri/", "n",
        '"/n m"', "https://${host}/n", "$new", "/n$new", "$arg_u",
        "https://new.example/n#part", "/ü", "/n[1]", "$over", "//new.example/x",
    ]  # fmt: skip
    return one(
        rng,
        *plain,
        *(
            ["/n/$1", "https://new.example/$1", "/n?id=$1", "$1", "/n/$2/$1", "/n/$word", "/$1"]
            if groups
            else []
        ),
    )


def pattern(rng: random.Random) -> str:
    word = one(rng, "a", "b", "s", "s/a", "keep", "u", "A", "x.php", "caf", "m-")
    return one(
        rng, f"^/{word}$", f"^/{word}", f"^/{word}/(.*)$", f"^/({word})/?$", "\\.php$",
        "^/(.*)\\.php$", "^/(?<word>[a-z]+)$", f"^/(?!keep){word}", "^(.*)$", "^/[ab]$",
        "\\.htm$", f"^/{word}(.)", "^/(a|b)/(.*)$", "^/café", "^/x[ ]y", f"{word}",
    )  # fmt: skip


def returned(rng: random.Random, *, groups: bool = True) -> str:
    roll = rng.random()
    if roll < 0.12:
        return one(
            rng,
            "return 404;",
            "return 403;",
            "return 444;",
            "return 200 ok;",
            "return 410;",
            "return 303 /n;",
            "return 301;",
        )
    status = one(rng, "301", "301", "302", "307", "308", "")
    text = goal(rng, groups=groups)
    return (
        f"return {status} {text};"
        if status
        else f"return {one(rng, 'https://new.example/r', '$scheme://new.example/r')};"
    )


def rewrite(rng: random.Random) -> str:
    text = goal(rng)
    if rng.random() < 0.2:
        text = text.rstrip('"') + "?" if not text.startswith('"') else text
    flag = one(rng, " permanent", " permanent", " redirect", " last", " break", "")
    expression = pattern(rng)
    return f"rewrite {expression} {text}{flag};"


def condition(rng: random.Random) -> str:
    return one(
        rng, "$host = www.old.example", "$host != www.old.example", "$host ~ ^www\\.",
        "$host ~* ^(www|m)\\.", "$arg_id = 7", "$arg_id", "$args", "$args ~ ^x=(\\d)", "$args = x",
        "$request_uri ~ ^/a", "$request_uri ~ ^/s\\?x=(\\w+)", "$uri ~ ^/b/(\\w+)",
        "$uri !~ ^/keep", "$request_method = POST", "$scheme = http", "-f $request_filename",
        "$http_user_agent ~ curl", "$new", '$new != ""', "$over", "$cookie_x", "$flag",
        "$over = /dflt", "$is_args", '$https = ""', "$http_x_forwarded_proto != https",
    )  # fmt: skip


def steps(rng: random.Random, *, groups: bool, most: int = 3) -> list[str]:
    out = []
    for _ in range(rng.randint(0, most)):
        roll = rng.random()
        if roll < 0.45:
            inside = one(
                rng,
                returned(rng),
                returned(rng),
                rewrite(rng),
                "break;",
                "set $flag 1;",
                "set $flag 1; break;",
            )
            out.append(f"if ({condition(rng)}) {{ {inside} }}")
        elif roll < 0.8:
            out.append(rewrite(rng))
        elif roll < 0.84:
            out.append("break;")
        elif roll < 0.9:
            out.append("set $flag 0;")
        elif roll < 0.92:
            out.append(f"include {ROOT}/../part.inc;")
    return out


def location(rng: random.Random, depth: int = 0, under: str = "") -> list[str]:
    sign = one(rng, "", "", "", "=", "^~", "~", "~*")
    if under and rng.random() < 0.8:
        sign = one(rng, "", "=", "~") if sign != "^~" else sign
    if sign in {"~", "~*"}:
        expression = pattern(rng)
        head = f"location {sign} {expression}"
        path = ""
    else:
        ends = ("/a", "/b", "/s", "/s/", "/s/t", "/keep", "/u/", "/p/", "/", "/A", "/m-")
        path = f"{under}{one(rng, *ends)}"
        head = f"location {sign} {path}".replace("  ", " ")
    roll = rng.random()
    body: list[str] = []
    if roll < 0.1:
        body = [
            one(
                rng,
                "proxy_pass http://127.0.0.1:1;",
                "try_files $uri =404;",
                "try_files $uri /a;",
                "try_files $uri @there;",
                "internal;",
                "deny all;",
            )
        ]
    if rng.random() < 0.35:
        body += steps(rng, groups=bool(sign), most=2)
    if rng.random() < 0.6 and not (body and "proxy" in body[0]):
        body.append(returned(rng, groups=sign in {"~", "~*"}))
    if depth < 2 and rng.random() < 0.2 and sign != "=":
        for _ in range(rng.randint(1, 2) if path else 0):
            body += location(rng, depth + 1, path.rstrip("/"))
    return [f"{head} {{", *body, "}"]


def server(rng: random.Random) -> list[str]:
    out = steps(rng, groups=True)
    for _ in range(rng.randint(0, 5)):
        out += location(rng)
    if rng.random() < 0.3:
        out += ["location @there {", one(rng, "return 301 /there;", "return 404;"), "}"]
    if rng.random() < 0.08:
        out.append(returned(rng))
    if rng.random() < 0.08:
        out.append(
            one(
                rng,
                "error_page 404 =301 /n;",
                "error_page 404 /a;",
                "error_page 403 404 /nf;",
                "error_page 404 https://new.example/nf;",
                "error_page 410 =302 /a;",
            )
        )
    return out


def maps(rng: random.Random) -> list[str]:
    entries = [x for x in ("/m-a /to-a;", '/m-b "";', "/m-b 0;", "~^/m-c/(.)$ /c/$1;", '~^/m- "";',
        (
        "~^/m-(?<rest>.*)$ https://new.example/$rest;"
    ), "/a /to/a;", '"/x y" /xy?q=1;')
               if rng.random() < 0.5]  # fmt: skip
    if '/m-b "";' in entries and "/m-b 0;" in entries:
        entries.remove("/m-b 0;")
    if rng.random() < 0.5:
        entries.append(one(rng, 'default "";', "default 0;", "default /other;"))
    source = one(rng, "$uri", "$uri", "$request_uri", "$host$uri")
    over = ["default /dflt;", '/keep "";', "/b /to-b;"] if rng.random() < 0.7 else ["/keep /kept;"]
    return [
        f"map {source} $new {{",
        *entries,
        "}",
        f"map {one(rng, '$uri', '$arg_u')} $over {{",
        *over,
        "}",
    ]


def unique(lines: list[str]) -> list[str]:
    """Without locations that stand twice at one level, which nginx refuses."""
    levels: list[set[str]] = [set()]
    out: list[str] = []
    drop = 0
    for line in lines:
        opens = line.endswith("{")
        if drop:
            drop += opens - (line == "}")
            continue
        if opens and line.startswith("location"):
            name = line.replace("^~ ", "")
            if name in levels[-1]:
                drop = 1
                continue
            levels[-1].add(name)
        if opens:
            levels.append(set())
        elif line == "}":
            levels.pop()
        out.append(line)
    return out


def draw(rng: random.Random) -> RuleFile:
    """One server or some, with maps."""
    lines = maps(rng)
    named: set[tuple[str, str]] = set()
    every = {*HOSTS, "other.example"}
    if rng.random() < 0.45:
        lines += ["server {", "listen 127.0.0.1:80;", *server(rng), "}"]
        return RuleFile("site.conf", "\n".join(unique(lines)) + "\n")
    hosts = list(HOSTS)
    rng.shuffle(hosts)
    default = rng.random() < 0.3
    two = rng.random() < 0.3
    for number, host in enumerate(hosts[: rng.randint(1, 3)]):
        names = one(
            rng, host, host, host, f"{host} other.example", "*.old.example", ".sub.old.example", "_"
        )
        if f"server_name {names};" in lines:
            continue
        chosen = default and number == 0
        port = one(rng, "80", "443") if two and not chosen else "80"
        first = not any(f":{port}" in x for x in lines)
        lines += [
            "server {",
            f"listen 127.0.0.1:{port}{' default_server' if chosen else ''};",
            f"server_name {names};",
            *server(rng),
            "}",
        ]
        fits = {
            h
            for h in every
            if h in names.split() or (names[0] in "*." and h.endswith(names.lstrip("*")))
        }
        named |= {
            ("http" if port == "80" else "https", h)
            for h in (every if chosen or (names == "_" and first and not default) else fits)
        }
    if not any(":80" in x for x in lines):
        lines += ["server {", "listen 127.0.0.1:80;", "server_name none.example;", "}"]
    return RuleFile(
        "site.conf", "\n".join(unique(lines)) + "\n", frozenset(named) or frozenset({("", "")})
    )


def requests(rng: random.Random, file: RuleFile, count: int) -> list[Asked]:
    """Addresses that the rules of a file may be about."""
    tls = (
        0.3
        if ":443" in file.text and "$scheme" not in file.text and "$https" not in file.text
        else 0.0
    )
    out = []
    for _ in range(count):
        path = "/" + "/".join(rng.choice(NAMES) for _ in range(rng.choice([1, 1, 1, 2])))
        path += one(
            rng, "", "", "", "", "/", "/x%3Fy", "/x%23y%25+", "//z", "/%E9", ".htm", "/q.php", "/1"
        )
        query = one(
            rng,
            "",
            "",
            "",
            "?id=7",
            "?x=1&id=7",
            "?z[]=1",
            "?",
            "?x",
            "?id=8&id=7",
            "?u=/a",
            "?u=https://e.example",
        )
        host = one(rng, *HOSTS, "www.old.example", "other.example")
        out.append(Asked("https" if rng.random() < tls else "http", host, path + query))
    return out


@contextmanager
def running(file: RuleFile) -> Iterator[Server]:
    """A real nginx with a file; what speaks on its port 443 is plain all the same."""

    def lay_out(folder: Path) -> list[str]:
        (folder / "www").mkdir()
        for params in Path("/etc/nginx").glob("*_params"):
            shutil.copy(params, folder)
        (folder / "part.inc").write_text("rewrite ^/b$ /part permanent;\n")
        temps = "".join(
            f"{k}_temp_path {folder}/{k};"
            for k in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
        )
        text = file.text.replace(ROOT, f"{folder}/www")
        main = (
            f"daemon off; pid {folder}/nginx.pid; error_log {folder}/error.log;\nevents {{}}\nhttp "
            f"{{ access_log off; {temps} root {folder}/www;\n{text}\n}}\n"
        )
        (folder / "nginx.conf").write_text(main)
        return [
            "/usr/sbin/nginx",
            "-p",
            str(folder),
            "-e",
            str(folder / "error.log"),
            "-c",
            str(folder / "nginx.conf"),
        ]

    with run_server("nginx", lay_out, "nginx.conf") as place:
        yield place


EXAMPLES = Path("/usr/share/doc/nginx/examples")
"""The examples of sites that Debian packs with nginx."""


def examples() -> list[RuleFile]:
    """Those examples, on the port that is tried, for the hosts that they name."""
    found = []
    for path in sorted(EXAMPLES.glob("*")):
        text = path.read_text(encoding="utf-8") if path.is_file() else ""
        if not re.search(r"^\s*server\s*\{", text, re.MULTILINE) or "http {" in text:
            continue
        text = re.sub(r"^(\s*#?)\s*listen\b.*$", "", text, flags=re.MULTILINE)
        text = re.sub(r"^(\s*server\s*\{)", r"\1 listen 127.0.0.1:80;", text, flags=re.MULTILINE)
        names = re.findall(r"^\s*server_name\s+([^;]*);", text, re.MULTILINE)
        hosts = {
            (s, h.lstrip("*.")) for line in names for h in line.split() for s in ("http", "https")
        }
        found.append(RuleFile(f"{path.name}.conf", text, frozenset(hosts)))
    return found
