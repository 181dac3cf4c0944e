"""The new Quillhaven site with faults of every kind that a survey looks for, and the truth about
them.
"""

from __future__ import annotations

import random
from collections import defaultdict
from dataclasses import dataclass, field
from html import escape
from urllib.parse import parse_qs

from upright_ledger.demo.vocabulary import LAST_NAMES, OBJECTS
from upright_ledger.web.local.stand_in import Served

TRAPS = ("/calendar/", "/spiral/")
"""Addresses from which a crawl would never come back; nothing links to them."""


@dataclass
class FaultySite:
    """A site: path → answer, and what was planted: kind of fault → addresses; mends: (source,
    target, final) of links, as paths.
    """

    origin: str
    answers: dict[str, Served] = field(default_factory=dict)
    truth: dict[str, set[str]] = field(default_factory=lambda: defaultdict(set))
    mends: set[tuple[str, str, str]] = field(default_factory=set)
    pages: int = 0

    def answer(self, target: str) -> Served:
        """What a request target gets; traps have no end."""
        found = self.answers.get(target)
        if found is not None:
            return found
        path, _, query = target.partition("?")
        if path == "/calendar/":
            month = int(parse_qs(query).get("month", ["0"])[0] or 0) + 1
            return Served(
                200,
                _page(
                    "Calendar",
                    f'<a href="/calendar/?month={month}">next month</a>',
                    f"What is on in month {month}.",
                ),
            )
        if path.startswith("/spiral/"):
            return Served(
                200,
                _page(
                    "Spiral",
                    '<a href="again/">again</a>',
                    "A link that was meant to begin with a slash.",
                ),
            )
        return Served(404, _page("Page not found", "", "There is no such page."))


def make_faulty_site(origin: str, pages: int = 400, seed: int = 1887) -> FaultySite:
    """A site of about as many pages, with its faults and the truth."""
    return _Maker(origin, pages, random.Random(seed)).made()


def _page(title: str, links: str, text: str, head: str = "", language: str = "en") -> str:
    return (
        f'<!doctype html><html lang="{language}"><head><title>{escape(title)} | '
        f"Quillhaven</title>{head}</head><body>"
        '<header><nav><a href="/">Home</a> <a href="/collection/">Collection</a></nav></header>'
        f"<main><h1>{escape(title)}</h1>{links}<p>{escape(text)}</p></main>"
        '<footer><a href="/imprint-old/">Imprint</a></footer></body></html>'
    )


class _Maker:
    def __init__(self, origin: str, pages: int, rng: random.Random) -> None:
        self.site = FaultySite(origin, pages=pages)
        self.rng = rng
        self.paths = [f"/collection/{n:05}/" for n in range(pages)]
        self.links: dict[str, list[str]] = defaultdict(list)  # further links of a page, as HTML
        self.heads: dict[str, str] = defaultdict(str)
        self.listed = {"/", "/collection/", *self.paths}

    def made(self) -> FaultySite:
        plain = self.paths[:]
        self.rng.shuffle(plain)
        self._moved_and_dead(plain)
        self._gate(plain)
        self._sitemap(plain)
        self._languages(plain)
        self._doubles(plain)
        self._forms(plain)
        self._write()
        return self.site

    def url(self, path: str) -> str:
        return self.site.origin + path

    def plant(self, kind: str, path: str) -> None:
        self.site.truth[kind].add(self.url(path))

    def _moved_and_dead(self, plain: list[str]) -> None:
        answers, mends = self.site.answers, self.site.mends
        answers["/imprint-old/"] = Served(301, location=self.url("/imprint/"))
        answers["/imprint/"] = Served(200, _page("Imprint", "", self._text()))
        self.listed.add("/imprint/")
        mends.add(("*", "/imprint-old/", "/imprint/"))
        for n in range(6):
            source, goal = plain.pop(), plain.pop()
            old, middle = f"/old-{n}.html", f"/once-{n}/"
            answers[old] = Served(301, location=self.url(middle) if n % 2 else self.url(goal))
            if n % 2:
                answers[middle] = Served(302, location=self.url(goal))
            self.links[source].append(f'<a href="{old}">object {n}</a>')
            mends.add((source, old, goal))
        for n in range(4):
            source = plain.pop()
            self.links[source].append(
                f'<a href="/gone-{n}/">lost {n}</a><img src="/images/lost-{n}.jpg" alt="">'
            )
            mends |= {(source, f"/gone-{n}/", ""), (source, f"/images/lost-{n}.jpg", "")}

    def _gate(self, plain: list[str]) -> None:
        answers = self.site.answers
        answers["/robots.txt"] = Served(
            200,
            f"User-agent: *\nDisallow: /private/\nSitemap: {self.url('/sitemap-index.xml')}\n",
            content_type="text/plain",
        )
        for n in range(3):
            hidden, source, closed = plain.pop(), plain.pop(), f"/members/{n}/"
            self.heads[hidden] += '<meta name="robots" content="noindex, follow">'
            self.listed.discard(hidden)
            self.plant("noindex", hidden)
            self.links[source].append(f'<a href="/private/{n}/">p</a> <a href="{closed}">m</a>')
            self.plant("robots-blocks", f"/private/{n}/")
            answers[closed] = Served(401, "login")
            self.plant("closed", closed)
        source, other = plain.pop(), plain.pop()
        self.links[source].append(
            '<a href="http://staging.quillhaven.example/collection/">draft</a>'
        )
        self.site.truth["staging-in-links"].add("http://staging.quillhaven.example/collection/")
        self.heads[other] += '<link rel="canonical" href="http://staging.quillhaven.example/x/">'
        self.site.truth["staging-in-canonical"].add("http://staging.quillhaven.example/x/")
        self.listed.discard(other)
        scripted = "/app/"
        answers[scripted] = Served(
            200, '<title>App</title><body><div id="app"></div><script src="/app.js"></script>'
        )
        answers["/app.js"] = Served(200, "1", content_type="text/javascript")
        self.links[source].append(f'<a href="{scripted}">app</a>')
        self.plant("needs-script", scripted)
        self.listed.add(scripted)

    def _sitemap(self, plain: list[str]) -> None:
        answers, claimed = self.site.answers, plain.pop()
        for n in range(2):
            answers[f"/listed-moved-{n}/"] = Served(301, location=self.url(plain[n]))
            hidden, double, missing, alone = plain.pop(), plain.pop(), plain.pop(), f"/alone-{n}/"
            self.heads[hidden] += '<meta name="robots" content="noindex">'
            self.heads[double] += f'<link rel="canonical" href="{self.url(claimed)}">'
            self.listed |= {f"/listed-moved-{n}/", f"/listed-dead-{n}/", alone}
            self.listed.discard(missing)
            answers[alone] = Served(200, _page(f"Alone {n}", "", self._text()))
            for kind, path in (
                ("sitemap-redirects", f"/listed-moved-{n}/"),
                ("sitemap-errors", f"/listed-dead-{n}/"), ("sitemap-noindex", hidden),
                ("noindex", hidden),
                ("sitemap-not-canonical", double), ("missing-from-sitemap", missing),
                ("linked-nowhere", alone),
            ):  # fmt: skip
                self.plant(kind, path)
        self.plant("contested-address", claimed)
        self.site.truth["sitemap-other-host"].add("https://elsewhere.example/x/")

    def _languages(self, plain: list[str]) -> None:
        for n in range(3):
            english, german = plain.pop(), f"/de/{n}/"
            self.heads[english] += f'<link rel="alternate" hreflang="de" href="{self.url(german)}">'
            back = (
                f'<link rel="alternate" hreflang="en" href="{self.url(english)}">'
                if n
                else '<link rel="alternate" hreflang="fr" href="/fr/0/">'
            )
            self.site.answers[german] = Served(200, _page(f"Uhr {n}", "", self._text(), back, "de"))
            self.links[plain[0]].append(f'<a href="{german}">d</a>')
            self.listed.add(german)
            if not n:
                self.plant("hreflang-not-returned", german)
                self.plant("hreflang-broken", "/fr/0/")

    def _doubles(self, plain: list[str]) -> None:
        for n in range(2):
            strong, slashed, source = plain.pop(), f"/twin-{n}/", plain[n]
            title, text = f"Object {strong.strip('/').rpartition('/')[2]}", self._text()
            self.site.answers[strong] = self.site.answers[f"/copy-{n}/"] = Served(
                200, _page(title, "", text)
            )
            self.links[source].append(
                f'<a href="/copy-{n}/">c</a> <a href="{slashed}">t</a> <a '
                f'href="{slashed[:-1]}">t</a>'
            )
            self.plant("same-content", f"/copy-{n}/")
            twin = Served(200, _page(f"Twin {n}", "", self._text()))
            self.site.answers[slashed] = self.site.answers[slashed[:-1]] = twin
            self.links[plain[n + 2]].append(f'<a href="{slashed}">t</a>')
            self.plant("both-slash-forms", slashed[:-1])
            self.plant("closing-slash-of-links", slashed[:-1])
            self.plant("closing-slash-of-sitemap", slashed[:-1])
            self.listed |= {f"/copy-{n}/", slashed, slashed[:-1]}

    def _forms(self, plain: list[str]) -> None:
        answers = self.site.answers
        source, page, hall = plain.pop(), plain.pop(), "/hall/"
        answers[page[:-1]] = Served(301, location=self.url(page))
        self.heads[page] += f'<link rel="canonical" href="{self.url(page[:-1])}">'
        for kind in ("canonical-broken", "closing-slash-of-canonical"):
            self.plant(kind, page[:-1])
        self.plant("sitemap-not-canonical", page)
        answers["/Hall/"] = Served(301, location=self.url(hall))
        for path in (hall, "/yard/", "/wing/"):
            answers[path] = Served(200, _page(f"The {path.strip('/')}", "", self._text()))
        answers["/yard/index.html"], answers["/wing/index.html"] = (
            answers["/yard/"],
            answers["/wing/"],
        )
        answers["/wing"] = answers["/wing/"]
        self.plant("index-file-linked", "/yard/index.html")
        self.plant("index-file-answers", "/wing/index.html")
        self.plant("slash-twin-answers", "/wing")
        self.links[source].append(
            '<a href="/Hall/">hall</a> <a href="/yard/">y</a> <a href="/yard/index.html">y</a> <a '
            'href="/wing/">w</a>'
        )
        self.plant("letter-case-of-links", "/Hall/")
        self.site.mends.add((source, "/Hall/", hall))
        self.listed |= {hall, "/yard/", "/yard/index.html", "/wing/"}

    def _text(self) -> str:
        """Sixty words that no other page has in this order."""
        return " ".join(
            f"{self.rng.choice(OBJECTS)} by {self.rng.choice(LAST_NAMES)} of "
            f"{self.rng.randrange(1650, 1990)}"
            for _ in range(15)
        )

    def _write(self) -> None:
        answers = self.site.answers
        size = len(self.paths)
        everything = "".join(
            f'<a href="{path}">Object {n}</a> ' for n, path in enumerate(self.paths)
        )
        answers.setdefault(
            "/collection/", Served(200, _page("Collection", everything, self._text()))
        )
        answers["/"] = Served(200, _page("Home", "", self._text()))
        for n, path in enumerate(self.paths):
            near = "".join(
                f'<a href="{self.paths[(n * k + k) % size]}">Object {(n * k + k) % size}</a> '
                for k in (1, 7, 31)
            )
            answers.setdefault(
                path,
                Served(
                    200,
                    _page(
                        f"Object {n:05}",
                        near + " ".join(self.links[path]),
                        self._text(),
                        self.heads[path],
                    ),
                ),
            )
        listed = [self.url(path) for path in sorted(self.listed)] + ["https://elsewhere.example/x/"]
        entries = "".join(f"<url><loc>{escape(url)}</loc></url>" for url in listed)
        xml = "application/xml"
        answers["/sitemap-index.xml"] = Served(200, (
            '<sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/'
            f'0.9"><sitemap><loc>{self.url("/sitemap-1.xml")}</loc></sitemap></sitemapindex>'
        ), content_type=xml)  # fmt: skip
        answers["/sitemap-1.xml"] = Served(
            200,
            f'<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">{entries}</urlset>',
            content_type=xml,
        )
