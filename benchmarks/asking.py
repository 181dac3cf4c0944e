"""Questions and small changes on large ledgers: seconds beyond the start of the program, in units
of U, and memory; what filled the ledgers; and the start itself, relative to importing click.

python benchmarks/asking.py [ENTRIES…] [--keep FOLDER] [--only NAME,…] [--work] [--beside ADDRESS]
    [--plot FILE.png]

U is the time, measured in the same round, in which a fresh Python adds ten million numbers. Each
ledger holds ENTRIES entries with hits and titles, an answer for each but one in a hundred, and as
many pages. With --keep, ledgers are made once and used again; with --work, `check`, `build` and
`rehearse` are measured, too. With --beside, the same is asked of a ledger in that database of
PostgreSQL, and the ratio of both is told.
"""

from __future__ import annotations

import argparse
import csv
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from rules import NEW, OLD, PROGRAM, WORDS, draw, measured

LOOP = "x = 0\nfor i in range(10_000_000): x += i\n"
ROUNDS = 3
ONE = "/clock/dial-0.html"

QUESTIONS: dict[str, tuple[str, ...]] = {
    "upright": (),
    "balance": ("balance",),
    "entries --sort value": ("entries", "--sort", "value"),
    "entries --sort hits": ("entries", "--sort", "hits"),
    "entries --answer gone": ("entries", "--answer", "gone"),
    "entries '*bell*'": ("entries", "*bell*"),
    "entries --families": ("entries", "--families"),
    "entries --sections": ("entries", "--sections"),
    "entries /one": ("entries", ONE),
    "history": ("history",),
    "runs": ("runs",),
    "decide /one": ("decide", ONE, "--gone"),
    "undo": ("undo",),
}
"""In their order: the last one takes back what the one before it did."""
WORK: dict[str, tuple[str, ...]] = {
    "check": ("check",),
    "build for nginx": ("build", "--for", "nginx", "--out", "{held}/rules"),
    "build after check": ("build", "--for", "nginx", "--out", "{held}/rules"),
    "rehearse": ("rehearse",),
}
"""Work on all of a ledger. The first two work out what answers amount to, the others take what was
kept of that.
"""


def make_ledger(folder: Path, entries: int, database: str = "") -> dict[str, float]:
    """A ledger of so many entries; seconds of each command that filled it."""
    place = ("--database", database) if database else ()
    rng = random.Random(7)
    took: dict[str, float] = {}
    with tempfile.TemporaryDirectory() as held:
        old, pages, pairs = (Path(held) / f"{n}.csv" for n in ("old", "pages", "pairs"))
        with old.open("w") as a, pages.open("w") as b, pairs.open("w") as c:
            to_old, to_pages, to_pairs = csv.writer(a), csv.writer(b), csv.writer(c)
            to_old.writerow(("url", "hits", "title"))
            to_pages.writerow(("url", "title", "status"))
            to_pairs.writerow(("old", "new", "status"))
            for n in range(entries):
                folder_name, name = rng.choice(WORDS), rng.choice(WORDS)
                url = OLD + (ONE if n == 0 else f"/{folder_name}/{name}-{n}.html")
                page = f"{NEW}/{name}/{folder_name}-{n}/"
                to_old.writerow((url, rng.randrange(1, 5000), f"{name} {folder_name} {n}"))
                to_pages.writerow((page, f"{name} {folder_name} {n}", 200))
                if n % 100:
                    to_pairs.writerow(
                        (url, "" if n % 20 == 1 else page, 410 if n % 20 == 1 else 301)
                    )
        measured("open", str(folder), "--old", OLD, "--new", NEW, *place)
        for name, words in (
            ("gather", ("gather", str(old))),
            ("stock", ("stock", str(pages))),
            ("decide --from", ("decide", "--from", str(pairs))),
            ("undo of it", ("undo",)),
            ("decided again", ("decide", "--from", str(pairs))),
        ):
            took[name] = measured("--ledger", str(folder), *words)[0]
    return took


def unit() -> float:
    """U, now."""
    began = time.perf_counter()
    subprocess.run([sys.executable, "-c", LOOP], check=True)
    return time.perf_counter() - began


def start() -> float:
    """Seconds of `upright --help`, now."""
    return measured("--help")[0]


def ask(ledger: Path, wanted: dict[str, tuple[str, ...]], rounds: int) -> dict[str, list[float]]:
    """Name → the median seconds beyond the start, U, the ratio, and the most megabytes."""
    found: dict[str, list[tuple[float, float, int]]] = {name: [] for name in wanted}
    for _ in range(rounds):
        for name, words in wanted.items():
            u, began = unit(), start()
            seconds, megabytes = measured("--ledger", str(ledger), *words)
            found[name].append((seconds - began, u, megabytes))
    return {
        name: [
            statistics.median(s for s, _, _ in rows),
            statistics.median(u for _, u, _ in rows),
            statistics.median(s / u for s, u, _ in rows),
            max(m for _, _, m in rows),
        ]
        for name, rows in found.items()
    }


def work(ledger: Path) -> dict[str, list[float]]:
    """As `ask`, of one run each."""
    found = {}
    with tempfile.TemporaryDirectory() as held:
        for name, words in WORK.items():
            if name in {"check", "build for nginx"}:
                (ledger / ".compiled-rules").unlink(missing_ok=True)
            u, asked = unit(), [word.format(held=held) for word in words]
            seconds, megabytes = measured("--ledger", str(ledger), *asked)
            u = (u + unit()) / 2
            found[name] = [seconds, u, seconds / u, megabytes]
    return found


def beginning() -> str:
    """The start of the program relative to importing click: median of interleaved runs."""
    bare = [sys.executable, "-c", "import click"]
    rows = []
    for _ in range(15):
        began = time.perf_counter()
        subprocess.run(bare, check=True)
        between = time.perf_counter()
        subprocess.run([PROGRAM, "--help"], check=True, stdout=subprocess.DEVNULL)
        rows.append((time.perf_counter() - between) / (between - began))
    return f"upright --help takes {statistics.median(rows):.2f} times as long as importing click"


def beside(
    folder: Path,
    entries: int,
    address: str,
    ledger: Path,
    wanted: dict[str, tuple[str, ...]],
    options: argparse.Namespace,
) -> None:
    """The same questions to PostgreSQL and to SQLite in turns: seconds from begin to end, and their
    ratio.
    """
    if not folder.exists():
        for name, seconds in make_ledger(folder, entries, address).items():
            print(f"{entries:10,}  {name:22} {seconds:7.2f} s on PostgreSQL", flush=True)
    for name, words in wanted.items():
        rows = [
            [measured("--ledger", str(one), *words)[0] for one in (folder, ledger)]
            for _ in range(options.rounds)
        ]
        there, here = (statistics.median(row[n] for row in rows) for n in (0, 1))
        ratio = statistics.median(a / b for a, b in rows)
        print(
            f"{entries:10,}  {name:22} {there:7.2f} s on PostgreSQL, {here:.2f} s on SQLite: "
            f"{ratio:.2f} x",
            flush=True,
        )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("entries", nargs="*", type=int, default=[100_000])
    parser.add_argument("--keep", type=Path)
    parser.add_argument("--only", default="")
    parser.add_argument("--rounds", type=int, default=ROUNDS)
    parser.add_argument("--work", action="store_true")
    parser.add_argument("--beside", default="")
    parser.add_argument("--plot", type=Path)
    options = parser.parse_args()
    chosen = options.only.split(",") if options.only else [*QUESTIONS]
    wanted = {n: w for n, w in QUESTIONS.items() if n in chosen}
    print(beginning())
    figures: dict[str, list[tuple[int, float]]] = {}
    for entries in options.entries:
        keep = options.keep or Path(tempfile.mkdtemp())
        ledger = keep / f"ledger-{entries}"
        if not ledger.exists():
            keep.mkdir(parents=True, exist_ok=True)
            u = unit()
            for name, seconds in make_ledger(ledger, entries).items():
                print(
                    f"{entries:10,}  {name:22} {seconds:7.2f} s  {seconds / u:6.2f} U", flush=True
                )
        if options.beside:
            beside(keep / f"server-{entries}", entries, options.beside, ledger, wanted, options)
        found = ask(ledger, wanted, options.rounds)
        found |= work(ledger) if options.work else {}
        for name, (seconds, u, ratio, megabytes) in found.items():
            figures.setdefault(name, []).append((entries, ratio))
            print(
                f"{entries:10,}  {name:22} {seconds:7.2f} s  {ratio:6.2f} U  {megabytes:6,.0f} MB"
                f"   (U {u:.2f} s)",
                flush=True,
            )
        if options.keep is None:
            shutil.rmtree(keep)
    if options.plot:
        draw(figures, options.plot, "entries", "U")


if __name__ == "__main__":
    main()
