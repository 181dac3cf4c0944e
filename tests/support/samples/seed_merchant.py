"""A second made-up move with its truth: the seed merchant Mohnfeld, in German and English.

Old: a shop of numbered addresses that tell nothing, a blog, service pages, and a .htaccess that
grew over years. New: speaking addresses, item numbers with a prefix, some articles gone, some under
another pack size beside them.
"""

from __future__ import annotations

import csv
import random
from dataclasses import dataclass, field
from pathlib import Path

OLD, NEW = "http://www.mohnfeld.example", "https://mohnfeld.example"
FILES = ("old-pages.csv", "articles.csv", "links.csv", "visits.csv", "htaccess.txt")
_TREES = {
    ("gemuese", "vegetables", "Gemüse", "Vegetables"): [
        ("tomate", "tomato", "Tomate", "Tomato"), ("kuerbis", "squash", "Kürbis", "Squash"),
        ("bohne", "bean", "Bohne", "Bean"), ("salat", "lettuce", "Salat", "Lettuce"),
        ("moehre", "carrot", "Möhre", "Carrot"), ("paprika", "pepper", "Paprika", "Pepper"),
    ],
    ("kraeuter", "herbs", "Kräuter", "Herbs"): [
        ("basilikum", "basil", "Basilikum", "Basil"), ("minze", "mint", "Minze", "Mint"),
        ("thymian", "thyme", "Thymian", "Thyme"),
    ],
    ("blumen", "flowers", "Blumen", "Flowers"): [
        ("mohn", "poppy", "Mohn", "Poppy"), ("aster", "aster", "Aster", "Aster"),
        ("wicke", "sweet-pea", "Wicke", "Sweet pea"), ("malve", "mallow", "Malve", "Mallow"),
    ],
}  # fmt: skip
_NAMES = [
    "Abendrot",
    "Morgentau",
    "Waldfee",
    "Sommerwind",
    "Goldkind",
    "Bergliesel",
    "Nordlicht",
    "Silberhauch",
    "Kornmuhme",
    "Glockenspiel",
    "Federwolke",
    "Rotkehlchen",
    "Tausendschön",
    "Mondsichel",
    "Eisvogel",
    "Lerchenruf",
    "Sternstunde",
    "Feuervogel",
    "Honigmund",
    "Zaunkönig",
    "Nebelkind",
    "Wiesengrund",
    "Himmelblau",
    "Pfauenauge",
    "Kupferdach",
    "Elfenhain",
    "Dreikäsehoch",
    "Schneekönig",
    "Wirbelwind",
    "Lausbub",
]
_TOOLS = [
    ("Anzuchtschale {}-fach", "Seed tray {} cells", (6, 9, 10, 12, 24)),
    ("Tontopf {} cm", "Clay pot {} cm", (8, 10, 12, 14, 18)),
    ("Pflanzstab {} cm", "Plant stake {} cm", (60, 90, 120, 150)),
]
_BLOG = [
    "Tomaten vorziehen auf der Fensterbank", "Wann Kürbisse ins Freie dürfen",
    "Bohnen richtig legen", "Kräuter über den Winter bringen", "Kompost anlegen ohne Geruch",
    "Schnecken fernhalten", "Mohn säen im Herbst", "Mischkultur für Anfänger",
    "Saatgut selbst gewinnen", "Keimprobe mit Küchenpapier", "Der Garten im Januar",
    "Der Garten im Februar", "Der Garten im März", "Der Garten im April", "Giessen im Hochsommer",
    "Hochbeet füllen Schicht für Schicht", "Blumenwiese statt Rasen", "Aussaat nach dem Mond",
    "Alte Sorten und warum wir sie führen", "Besuch auf dem Zuchtfeld",
    "Was unsere Tütchen verraten", "Minze bändigen", "Frühbeet bauen", "Gründüngung im Überblick",
    "Wicken ranken lassen", "Unser Stand auf dem Markt", "Bienen im Blumenbeet",
    "Paprika überwintern", "Salat das ganze Jahr", "Möhren ohne Fliege",
]  # fmt: skip
_SERVICE = [
    ("versand", "shipping", "Versand und Zahlung", "Shipping and payment"),
    ("agb", "terms", "Allgemeine Geschäftsbedingungen", "Terms of business"),
    ("impressum", "imprint", "Impressum", "Imprint"),
    ("datenschutz", "privacy", "Datenschutz", "Privacy"),
    ("ueber-uns", "about-us", "Über uns", "About us"),
    ("kontakt", "contact", "Kontakt", "Contact"),
    ("katalog", "catalogue", "Katalog bestellen", "Order the catalogue"),
]
_UMLAUTS = str.maketrans(
    {"ä": "ae", "ö": "oe", "ü": "ue", "ß": "ss", "Ä": "ae", "Ö": "oe", "Ü": "ue"}
)


@dataclass
class SeedMerchant:
    """The move. old: address → (title, item number); new: address → (title, item number); truth:
    old address → its successor, empty where it has none; visits, links: old address → figures;
    lead_there: addresses of before the shop → old ones.
    """

    old: dict[str, tuple[str, str]] = field(default_factory=dict)
    new: dict[str, tuple[str, str]] = field(default_factory=dict)
    truth: dict[str, str] = field(default_factory=dict)
    visits: dict[str, int] = field(default_factory=dict)
    links: dict[str, list[str]] = field(default_factory=dict)
    lead_there: dict[str, str] = field(default_factory=dict)

    def write(self, folder: Path) -> None:
        """The files that the merchant hands over: the shop's pages and articles, links as rows, an
        export of analytics, the grown .htaccess, and the list of new pages.
        """
        by_item = {url: item for url, (_, item) in self.old.items() if item}
        _write(
            folder / "old-pages.csv",
            ("Adresse", "Titel"),
            ((u, t) for u, (t, _) in self.old.items()),
        )
        _write(folder / "articles.csv", ("URL", "Artikelnummer"), by_item.items())
        _write(
            folder / "links.csv",
            ("Source URL", "Target URL", "Anchor text"),
            ((source, url, "Mohnfeld") for url, pages in self.links.items() for source in pages),
        )
        _write(folder / "visits.csv", ("Seitenpfad", "Sitzungen"), (
            (url.removeprefix(OLD), f"{n:,}".replace(",", ".")) for url, n in self.visits.items()
        ))  # fmt: skip
        rules = (f"Redirect 301 {a.removeprefix(OLD)} {b}\n" for a, b in self.lead_there.items())
        (folder / "htaccess.txt").write_text("RewriteEngine On\n" + "".join(rules), "utf-8")
        rows = ((url, title, item) for url, (title, item) in self.new.items())
        _write(folder / "new-pages.csv", ("url", "title", "sku"), rows)


def _write(path: Path, head: tuple[str, ...], rows: object) -> None:
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(head)
        writer.writerows(rows)  # type: ignore[arg-type]


def make_seed_merchant(seed: int = 7) -> SeedMerchant:
    """The move, the same for each seed."""
    return _Maker(random.Random(f"mohnfeld {seed}")).make()


class _Maker:
    def __init__(self, chance: random.Random) -> None:
        self.r, self.made = chance, SeedMerchant()
        self._numbers = iter(chance.sample(range(10_000, 20_000), 900))

    def make(self) -> SeedMerchant:
        for tree, kinds in _TREES.items():
            self._category(tree[:2], tree[2:], "")
            for kind in kinds:
                self._category(kind[:2], kind[2:], tree)
                for name in self.r.sample(_NAMES, 12):
                    self._article(tree, kind, f"{kind[2]} {name}", f"{kind[3]} {name}")
        tools = ("zubehoer", "supplies", "Zubehör", "Supplies")
        self._category(tools[:2], tools[2:], "")
        for german, english, sizes in _TOOLS:
            for size in sizes:
                self._article(tools, ("", "", "", ""), german.format(size), english.format(size))
        for n, title in enumerate(_BLOG):
            self._post(n, title)
        for de, en, german, english in _SERVICE:
            self._page(
                f"/service/{de}.php",
                f"/de/{de}/",
                f"{german} | Mohnfeld",
                f"{german} – Mohnfeld Samen",
            )
            self._page(
                f"/en/service/{de}.php",
                f"/en/{en}/",
                f"{english} | Mohnfeld",
                f"{english} – Mohnfeld Seeds",
            )
        self._evidence()
        return self.made

    def _page(
        self, old: str, new: str, old_title: str, new_title: str, item: str = "", sku: str = "",
        *, stays: bool = True,
    ) -> None:  # fmt: skip
        made, url = self.made, OLD + old
        made.old[url] = (old_title, item)
        made.truth[url] = NEW + new if stays else ""
        if stays:
            made.new[NEW + new] = (new_title, sku)

    def _category(
        self, slugs: tuple[str, ...], titles: tuple[str, ...], tree: tuple[str, ...] | str
    ) -> None:
        number = next(self._numbers) % 1_000
        above = (f"{tree[0]}/", f"{tree[1]}/") if tree else ("", "")
        names = (("de", "katalog", "Mohnfeld Samen"), ("en", "catalogue", "Mohnfeld Seeds"))
        for n, (code, place, brand) in enumerate(names):
            self._page(
                f"/{place}.php?gruppe={number}", f"/{code}/{above[n]}{slugs[n]}/",
                f"{titles[n]} | Mohnfeld", f"{titles[n]} – {brand}",
            )  # fmt: skip

    def _article(
        self, tree: tuple[str, ...], kind: tuple[str, ...], german: str, english: str
    ) -> None:
        number, stays = str(next(self._numbers)), self.r.random() > 0.12
        titles = ((german, "Mohnfeld Samen"), (english, "Mohnfeld Seeds"))
        for n, (title, brand) in enumerate(titles):
            place = "/".join(part for part in (tree[n], kind[n]) if part)
            # The shop wrote its titles in full, the new one leaves the kind to the breadcrumb.
            short = title if self.r.random() < 0.7 else title.partition(" ")[2]
            self._page(
                ("/artikel.php?nr=", "/item.php?nr=")[n] + number,
                f"/{('de', 'en')[n]}/{place}/{_slug(short)}/",
                f"{title} | Mohnfeld",
                f"{title} – {brand}",
                number,
                f"SW-{number}",
                stays=stays,
            )

    def _post(self, n: int, title: str) -> None:
        year, month = 2016 + n // 6, 1 + n % 12
        again = title if n % 5 else f"{title} (aktualisiert)"
        self._page(
            f"/blog/{year}/{month:02}/{_slug(title)}.html", f"/de/ratgeber/{_slug(again)}/",
            f"{title} | Mohnfeld-Blog", f"{again} – Mohnfeld Samen", stays=n % 11 != 10,
        )  # fmt: skip

    def _evidence(self) -> None:
        made, r = self.made, self.r
        pages = list(made.old)
        for url in r.sample(pages, 120):
            made.visits[url] = int(3_000 * r.random() ** 6) + 1
        for url in r.sample(pages, 30):
            made.links[url] = [
                f"https://garten-{r.randint(1, 40)}.example/{k}/" for k in range(r.randint(1, 4))
            ]
        for n, url in enumerate(r.sample([u for u in pages if "?" not in u], 12)):
            made.lead_there[f"{OLD}/alt/seite{n}.htm"] = url


def _slug(title: str) -> str:
    words = "".join(c if c.isalnum() else " " for c in title.translate(_UMLAUTS).lower()).split()
    return "-".join(words)
