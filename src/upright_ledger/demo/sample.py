"""Writing the sample: the files a specialist is handed in such a move, and the truth beside
them.
"""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from upright_ledger.app.live.reindexing import urlset
from upright_ledger.demo.accesslog import write_access_log
from upright_ledger.demo.faults import EarlierMove, plant
from upright_ledger.demo.site import BARE, NEW, OLD, SUFFIX, Museum, OldPage, make_museum
from upright_ledger.formats.files.atomic import csv_bytes, write_whole

SEED = 1887
TRACKING = (
    "utm_source=newsletter&utm_medium=email&utm_campaign=spring",
    "gclid=Cj0KCQ77",
    "fbclid=IwAR2x",
    "utm_source=poster",
)


@dataclass(frozen=True)
class Sample:
    """The sample in memory: both sites, the earlier move, and the planted variants (spelling, plain
    address).
    """

    museum: Museum
    earlier: EarlierMove
    variants: list[tuple[str, str]]


def make_sample(seed: int = SEED) -> Sample:
    """Generate everything from a seed."""
    words = random.Random(seed)
    museum = make_museum(words)
    earlier = plant(museum, words)
    return Sample(museum, earlier, _variants(museum, words))


def write_sample(folder: Path, seed: int = SEED) -> Sample:
    """Write all files of the sample into a folder."""
    sample = make_sample(seed)
    words = random.Random(seed + 1)
    _write_old(folder, sample, words)
    _write_new(folder, sample, words)
    _write_pairs(folder, sample)
    _write_truth(folder, sample)
    write_access_log(
        folder / "access.log",
        sample.museum,
        sample.earlier,
        sample.variants,
        random.Random(seed + 2),
    )
    return sample


def _variants(museum: Museum, words: random.Random) -> list[tuple[str, str]]:
    """Other spellings of old pages, as people and programs produce them."""
    found = []
    for page in museum.old:
        head, mark, query = page.url.partition("?")
        tail = f"{mark}{query}"
        if page.kind == "catalogue":
            found += [(f"{page.url}&view={view}", page.url) for view in ("large", "print")]
        roll = words.random()
        if roll < 0.04:
            found.append(
                (
                    head.upper()
                    .replace("HTTP://WWW.QUILLHAVEN.EXAMPLE", OLD)
                    .replace("HTTP://DE.", "http://de.")
                    + tail,
                    page.url,
                )
            )
        elif roll < 0.09:
            found.append((f"{page.url}{'&' if query else '?'}{words.choice(TRACKING)}", page.url))
        elif roll < 0.12 and page.url.startswith(OLD):
            found.append((page.url.replace(OLD, BARE), page.url))
        elif roll < 0.14 and head.endswith("/"):
            found.append((f"{head}index.html", page.url))
        elif roll < 0.17:
            found.append((head.replace("-", "%2D", 1) + tail, page.url))
        elif roll < 0.19 and head.count("/") > 4:
            found.append(
                (
                    head.replace("/journal/", "//journal/").replace("/files/", "/./files/") + tail,
                    page.url,
                )
            )
        elif (
            roll < 0.21
            and not head.endswith("/")
            and ".htm" not in head
            and ".php" not in head
            and ".pdf" not in head
        ):
            found.append((f"{head}/", page.url))
    # Case is damaged in host names too where the whole address was shouted.
    return [
        (url.replace(".QUILLHAVEN.EXAMPLE", ".quillhaven.example"), plain)
        for url, plain in found
        if url != plain
    ]


def _write_old(folder: Path, sample: Sample, words: random.Random) -> None:
    pages = sample.museum.old
    crawled = [p.url for p in pages if p.kind not in {"code", "german"} or words.random() < 0.5]
    crawled += [url for url, _ in sample.variants]
    words.shuffle(crawled)
    write_whole(
        folder / "crawl-list.txt",
        ("# Crawl of the old site\n" + "\n".join(crawled) + "\n").encode(),
    )
    write_whole(folder / "analytics.csv", _analytics(pages, words))
    write_whole(folder / "search-errors.csv", _search_errors(sample, words))
    write_whole(folder / "backlinks.csv", _backlinks(pages, words))
    write_whole(
        folder / "old-sitemap.xml",
        urlset(
            (p.url, "")
            for p in pages
            if p.answer != "gone" and p.kind in {"journal", "visit", "maker", "shop", "keep"}
        ),
    )


def _analytics(pages: Sequence[OldPage], words: random.Random) -> bytes:
    """A spreadsheet of another country: semicolons, and dots between thousands."""
    lines = ["Page path;Sessions;Page title"]
    for page in pages:
        if not page.url.startswith(OLD) or words.random() < 0.2:
            continue
        path = page.url.removeprefix(OLD)
        visits = int(page.fame * words.uniform(20, 60)) + 1
        figure = f"{visits:,}".replace(",", ".")
        title = f"{page.title}{SUFFIX}" if page.title else "(not set)"
        lines.append(f'{path};{figure};"{title}"')
    return ("\r\n".join(lines) + "\r\n").encode()


def _search_errors(sample: Sample, words: random.Random) -> bytes:
    urls = [
        OLD + old for old, _, _ in sample.earlier.rules[:180] for _ in range(words.randrange(1, 3))
    ]
    urls += [page.url for page in words.sample(sample.museum.old, 120)]
    rows = (
        (url, 404, f"2026-0{words.randrange(1, 7)}-1{words.randrange(10)}", _blog(words))
        for url in urls
    )
    return csv_bytes(("URL", "Response code", "Last crawled", "Linked from"), rows)


def _backlinks(pages: Sequence[OldPage], words: random.Random) -> bytes:
    rows = [
        (p.url, words.randrange(1, 25), words.randrange(1, 90), _blog(words))
        for p in words.sample(list(pages), 420)
    ]
    rows.append(("https://elsewhere.example/clocks", 3, 4, _blog(words)))
    return csv_bytes(("Target URL", "Referring domains", "Backlinks", "Linking page"), rows)


def _blog(words: random.Random) -> str:
    topic = words.choice(("horology", "oldtowns", "daytrips", "schools", "makers"))
    return f"https://{topic}-{words.randrange(40)}.example/post/{words.randrange(900)}"


def _write_new(folder: Path, sample: Sample, words: random.Random) -> None:
    pages = list(sample.museum.new)
    words.shuffle(pages)
    rows = (
        (p.url, p.status, f"{p.title}{' – Quillhaven' if p.title else ''}", p.redirects_to)
        for p in pages
    )
    write_whole(
        folder / "new-pages.csv",
        csv_bytes(("Address", "Status code", "Title", "Redirect URL"), rows),
    )
    write_whole(folder / "new-sitemap.xml", urlset((p.url, "") for p in pages if p.status == 200))


def _write_pairs(folder: Path, sample: Sample) -> None:
    write_whole(
        folder / "earlier-rules.csv", csv_bytes(("old", "new", "status"), sample.earlier.rules)
    )
    write_whole(
        folder / "corrections.csv", csv_bytes(("old", "new", "status"), sample.earlier.corrections)
    )
    decided = [
        (
            p.url.removeprefix(OLD),
            p.destination.removeprefix(NEW),
            "gone" if p.answer == "gone" else 301,
        )
        for p in sample.museum.old
        if p.answer == "gone" or not p.certain
    ]
    lines = [
        "old;new;status",
        *(
            f"{old.removeprefix('/') if n % 50 == 7 else old};{new};{status}"
            for n, (old, new, status) in enumerate(decided)
        ),
    ]
    write_whole(folder / "client-decisions.csv", ("\n".join(lines) + "\n").encode())


def _write_truth(folder: Path, sample: Sample) -> None:
    status = {"move": 301, "gone": 410, "keep": ""}
    rows = [(p.url, p.answer, status[p.answer], p.destination, p.kind) for p in sample.museum.old]
    faulty = {f.legacy_url: f.right for f in sample.earlier.faults}
    seen = set()
    for old, new, _ in sample.earlier.rules:
        url = OLD + old
        if url not in seen:
            seen.add(url)
            rows.append((url, "move", 301, faulty.get(url, NEW + new), "earlier"))
    write_whole(
        folder / "truth.csv",
        csv_bytes(("legacy_url", "answer", "status", "destination", "kind"), rows),
    )
    write_whole(folder / "variants.csv", csv_bytes(("url", "legacy_url"), sample.variants))
    faults = ((f.legacy_url, f.found_as, f.seen_as, f.right) for f in sample.earlier.faults)
    write_whole(
        folder / "faults.csv",
        csv_bytes(("legacy_url", "check", "replay", "right_destination"), faults),
    )
    earlier = "\n".join(dict.fromkeys(OLD + old for old, _, _ in sample.earlier.rules))
    write_whole(folder / "earlier-urls.txt", (earlier + "\n").encode())
    every = dict.fromkeys([*(p.url for p in sample.museum.old), *(u for u, _ in sample.variants)])
    write_whole(folder / "old-urls.txt", ("\n".join([*every, earlier]) + "\n").encode())
