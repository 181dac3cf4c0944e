"""Addresses drawn of pieces each of which matters to somebody: to folding, secrets, mending, bots."""

from __future__ import annotations

import random

OLD = "http://www.quillhaven.example"
HOSTS = [
    OLD, OLD, OLD, "https://quillhaven.example", "http://WWW.quillhaven.example", "//quillhaven.example",
    "http://m.quillhaven.example", "https://shop.quillhaven.example:8443", "http://other.example",
    "http://m.fern.example", "http://fern.example", "http://quillhaven.example:80", "",
]  # fmt: skip
SEGMENTS = [
    "a", "A", "Room-1", "2026", "05", "index.html", "INDEX.HTML", "start.html", "amp", "print", "page",
    "logo.png", "style.css", "robots.txt", "favicon.ico", "wp-admin", "admin", "login", "login.php",
    ".env", "..", ".", "", "a.b.c", "a..b", "a.", "-x", "reset", "verify", "optics", "x" * 39, "X1" * 20,
    "Q7f3K9zP2", "caf%C3%A9", "café", "a b", "a+b", "(x)", "a;sid=3", "www.fern.example",
    "http:", "httpd", "config.php", "eyJhbGciOi", "me@fern.example", "~me", "phpmyadmin", "c99.php",
    "browserconfig.xml", "site.webmanifest", "id_rsa", "12a", "0", "a_b",
]  # fmt: skip
PARTS = [
    "id=3", "id=", "id", "ID=4", "page=2", "utm_source=x", "utm_x=1", "gclid=EAIaIQ9", "sid=7",
    "sid=9fK3x8Q2mm", "token=abc", "amp=1", "print=1", "session=2", "ref=mail", "a=b=c", "=x", "", "&",
    f"long={'q' * 33}", "x=eyJhbGciOiJIUzI1NiJ9.abcd", "key=Q7f3K9zP2mW8", "b=1", "a=1", "a=2", "b=%41",
    "c=a+b", "d=../x", "page[]=1", "user@x=1", "q=union", "id=3",
]  # fmt: skip
ENDINGS = ["", "", "", "/", "//", "#top", ".", "-", "?", " "]


def an_address(rng: random.Random) -> str:
    """An address of pieces each of which matters to somebody."""
    path = "".join(f"/{rng.choice(SEGMENTS)}" for _ in range(rng.randrange(0, 4)))
    query = "&".join(rng.choice(PARTS) for _ in range(rng.randrange(0, 4)))
    mark = "?" if query or rng.random() < 0.05 else ""
    return f"{rng.choice(HOSTS)}{path}{mark}{query}{rng.choice(ENDINGS)}"
