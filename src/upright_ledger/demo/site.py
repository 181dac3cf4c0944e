"""The old site and the new one, page by page, with the right answer of every old page."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from itertools import islice

from upright_ledger.demo import vocabulary as v

OLD = "http://www.quillhaven.example"
BARE = "http://quillhaven.example"
GERMAN = "http://de.quillhaven.example"
NEW = "https://www.quillhaven.example"
SUFFIX = " | Quillhaven Clock Museum"


@dataclass(frozen=True, slots=True)
class OldPage:
    """One old page. url: its plain address. answer: move, gone or keep. destination: on the new
    site, or empty.

    fame: relative number of visits. certain: whether its destination can be found by looking at
    both sites.
    """

    url: str
    title: str
    answer: str
    destination: str = ""
    fame: float = 1.0
    kind: str = ""
    certain: bool = True


@dataclass(frozen=True, slots=True)
class NewPage:
    """One page of the new site. redirects_to: when it answers 301 itself."""

    url: str
    title: str
    status: int = 200
    redirects_to: str = ""


@dataclass
class Museum:
    """Both sites."""

    old: list[OldPage] = field(default_factory=list)
    new: list[NewPage] = field(default_factory=list)

    def move(
        self,
        path: str,
        title: str,
        new_path: str,
        new_title: str = "",
        *,
        fame: float = 1.0,
        kind: str = "",
        certain: bool = True,
    ) -> None:
        """Add an old page and the new page that takes its place."""
        url = path if "://" in path else OLD + path
        self.old.append(OldPage(url, title, "move", NEW + new_path, fame, kind, certain))
        if new_path not in self._known:
            self._known.add(new_path)
            self.new.append(NewPage(NEW + new_path, new_title or title))

    def gone(self, path: str, title: str, *, fame: float = 0.5, kind: str = "") -> None:
        """Add an old page without a successor."""
        self.old.append(
            OldPage(path if "://" in path else OLD + path, title, "gone", "", fame, kind)
        )

    def keep(self, path: str, title: str, fame: float = 5.0) -> None:
        """Add a page that lives on at its address."""
        self.old.append(OldPage(OLD + path, title, "keep", NEW + path, fame, "keep"))
        self.page(path, title)

    def page(self, path: str, title: str) -> None:
        """Add a page that only the new site has, or that several old ones lead to."""
        if path not in self._known:
            self._known.add(path)
            self.new.append(NewPage(NEW + path, title))

    _known: set[str] = field(default_factory=set)


def make_museum(words: random.Random) -> Museum:
    """Generate both sites."""
    museum = Museum()
    _fixed_pages(museum)
    _journal(museum, words)
    _catalogue(museum, words)
    _makers(museum, words)
    _print_room(museum, words)
    _workshops(museum, words)
    _files(museum, words)
    _retired(museum)
    _german(museum)
    return museum


def _fixed_pages(museum: Museum) -> None:
    museum.old.append(
        OldPage(f"{OLD}/index.html", "Quillhaven Clock Museum", "move", f"{NEW}/", 400.0, "home")
    )
    museum.page("/", "Quillhaven Clock Museum")
    for path, title in (
        ("/about/", "About the museum"),
        ("/press/", "Press"),
        ("/imprint/", "Imprint"),
        ("/friends/", "Friends of the museum"),
    ):
        museum.keep(path, title)
    for name, title in (
        ("opening-hours", "Opening hours"),
        ("getting-here", "Getting here"),
        ("admission", "Admission prices"),
        ("accessibility", "Accessibility"),
        ("cafe", "The café"),
        ("guided-tours", "Guided tours"),
        ("school-visits", "School visits"),
        ("floor-plan", "Floor plan"),
        ("the-tower", "Climbing the tower"),
        ("hire-a-room", "Hire a room"),
    ):
        museum.move(f"/visit/{name}.html", title, f"/visit/{name}/", fame=40.0, kind="visit")
    for name, title in (
        ("support", "Support us"),
        ("volunteering", "Volunteering"),
        ("contact", "Contact"),
        ("newsletter", "Newsletter"),
    ):
        museum.move(f"/{name}", title, f"/{name}/", fame=10.0, kind="slash")
    museum.move(
        "/catalogue.php",
        "The catalogue",
        "/collection/",
        "The collection",
        fame=60.0,
        kind="overview",
        certain=False,
    )
    museum.move(
        "/journal/",
        "The journal",
        "/stories/",
        "Stories",
        fame=50.0,
        kind="overview",
        certain=False,
    )


def _journal(museum: Museum, words: random.Random) -> None:
    titles = v.story_titles(words)
    for n, title in enumerate(islice(titles, 1320)):
        year, month = 2004 + n // 110, 1 + (n // 9) % 12
        path = f"/journal/{year}/{month:02}/{v.slug(title)}.html"
        fame = 30.0 / (1 + n % 97)
        if n % 8 == 3:
            museum.gone(path, title, fame=fame / 3, kind="journal")
        else:
            museum.move(path, title, f"/stories/{v.slug(title)}/", fame=fame, kind="journal")
    for title in islice(titles, 60):
        museum.page(f"/stories/{v.slug(title)}/", title)


def _catalogue(museum: Museum, words: random.Random) -> None:
    for n, title in enumerate(islice(v.object_titles(words), 1250)):
        item = 1001 + n * 3
        if n % 9 == 5:
            museum.gone(f"/catalogue.php?item={item}", title, kind="catalogue")
        else:
            museum.move(
                f"/catalogue.php?item={item}",
                title,
                f"/collection/objects/{item}/",
                fame=12.0 / (1 + n % 53),
                kind="catalogue",
            )


def _makers(museum: Museum, words: random.Random) -> None:
    names = [f"{first} {last}" for first in v.FIRST_NAMES for last in v.LAST_NAMES]
    words.shuffle(names)
    for n, name in enumerate(names[:180]):
        first, last = name.lower().split()
        museum.move(
            f"/makers/{last}_{first}.html",
            f"{name}, clockmaker",
            f"/collection/makers/{first}-{last}/",
            fame=4.0 / (1 + n % 19),
            kind="maker",
        )


def _print_room(museum: Museum, words: random.Random) -> None:
    for subject in v.SUBJECTS:
        for size in ("small", "medium", "large", "framed"):
            title = f"{subject} ({size} poster)"
            museum.move(
                f"/printroom/{v.slug(subject)}-{size}.htm",
                title,
                f"/shop/posters/{v.slug(subject)}-{size}/",
                fame=words.uniform(1, 6),
                kind="shop",
            )
    museum.move(
        "/printroom/", "The print room", "/shop/", "Shop", fame=25.0, kind="overview", certain=False
    )


def _workshops(museum: Museum, words: random.Random) -> None:
    """Dated workshop pages: all dates of one workshop lead to its one new page."""
    for title in v.WORKSHOPS:
        new_path = f"/learn/workshops/{v.slug(title)}/"
        for n in range(20):
            date = f"{2009 + n // 2}-{1 + words.randrange(12):02}-{1 + words.randrange(28):02}"
            museum.move(
                f"/workshops/{date}-{v.slug(title)}.htm",
                f"{title}, {date}",
                new_path,
                title,
                fame=0.8,
                kind="workshop",
                certain=False,
            )


def _files(museum: Museum, words: random.Random) -> None:
    for year in range(1998, 2025):
        museum.move(
            f"/files/annual-report-{year}.pdf",
            "",
            f"/documents/annual-report-{year}.pdf",
            f"Annual report {year}",
            fame=2.0,
            kind="file",
        )
    for n, title in enumerate(islice(v.story_titles(words), 90)):
        name = v.slug(title)
        if n % 6 == 1:
            museum.gone(f"/files/{name}.pdf", "", kind="file")
        else:
            museum.move(
                f"/files/{name}.pdf", "", f"/documents/{name}.pdf", title, fame=1.0, kind="file"
            )
    museum.move(
        "/journal/feed.xml",
        "",
        "/stories/feed.xml",
        "Stories (feed)",
        fame=80.0,
        kind="file",
        certain=False,
    )


def _retired(museum: Museum) -> None:
    museum.gone("/tickets/", "Ticket desk", fame=30.0, kind="tickets")
    for n in range(70):
        museum.gone(
            f"/tickets/event-{2300 + n * 7}.html", f"Ticket desk: evening {n + 1}", kind="tickets"
        )
    for n in range(110):
        museum.gone(
            f"/guestbook/{2001 + n // 12}-{1 + n % 12:02}.html",
            f"Guest book, page {n + 1}",
            fame=0.3,
            kind="guestbook",
        )
    for n in range(36):
        museum.move(
            f"/QH{10 + n}",
            "",
            f"/visit/audio-guide/stop-{10 + n}/",
            f"Audio guide, stop {10 + n}",
            fame=6.0,
            kind="code",
            certain=False,
        )


def _german(museum: Museum) -> None:
    for path, title, new in (
        ("/besuch/oeffnungszeiten.html", "Öffnungszeiten", "/de/besuch/oeffnungszeiten/"),
        ("/besuch/anfahrt.html", "Anfahrt", "/de/besuch/anfahrt/"),
        ("/besuch/preise.html", "Eintrittspreise", "/de/besuch/eintrittspreise/"),
        ("/museum/geschichte.html", "Geschichte des Museums", "/de/museum/geschichte/"),
        ("/museum/turmuhr.html", "Die Turmuhr", "/de/museum/turmuhr/"),
        ("/museum/sammlung.html", "Die Sammlung", "/de/museum/sammlung/"),
        ("/fuehrungen.html", "Führungen", "/de/fuehrungen/"),
        ("/kontakt.html", "Kontakt und Anfahrtsskizze", "/de/kontakt/"),
    ):
        museum.move(GERMAN + path, title, new, fame=9.0, kind="german")
