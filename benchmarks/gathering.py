"""Gathering at scale: a log of two million lines against mawk, a million URLs from CSV, and folding
them all anew.

Usage: python benchmarks/gathering.py [--share 1.0]   (0.1 takes a tenth of everything)
"""

from __future__ import annotations

import argparse
import random
import re
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from itertools import accumulate
from pathlib import Path

LINES, URLS, ROUNDS = 2_000_000, 1_000_000, 3
OLD = "http://www.quillhaven.example"
MAWK = "$9==404{c[$7]++} END{for(k in c) print c[k],k}"
UPRIGHT = str(Path(sys.executable).with_name("upright"))
_PEAK = re.compile(r"Maximum resident set size \(kbytes\): (\d+)")


def write_log(path: Path, lines: int) -> None:
    """A month of a busy site in the Combined Log Format: 12,000 pages by a power law, 12 % of
    requests with campaign parameters, 1,600 user agents, 3,000 referrers, and a damaged line in a
    hundred thousand.
    """
    draw = random.Random(1887)
    word = lambda: "".join(draw.choices("abcdefghilmnoprstu", k=draw.randint(3, 9)))  # noqa: E731
    pages = []
    for n in range(12_000):
        forms = (
            f"/journal/{1998 + n % 27}/{1 + n % 12:02}/{word()}-{word()}.html",
            f"/catalogue.php?item={n}&view={draw.choice(('large', 'print'))}",
            f"/visit/{word()}/{word()}/",
            f"/files/{word()}-{word()}.pdf",
        )
        pages.append(forms[n % 4])
    fame = list(accumulate(1 / (n + 1) for n in range(len(pages))))
    browsers = [
        f"Mozilla/5.0 (X11; Linux x86_64; rv:{n % 80}.{n}) Gecko/20100101 ExampleBrowser/{n}.0 "
        "(like Example)"
        for n in range(1500)
    ]
    agents = browsers + [f"FernCrawler/{n} (+https://fern.example/bot)" for n in range(100)]
    referrers = (
        ["-"] * 1500
        + [f"{OLD}/"] * 600
        + [f"https://{word()}.example/post/{n}" for n in range(3000)]
    )
    statuses = [200] * 80 + [301] * 8 + [404] * 11 + [500]
    with path.open("w", encoding="utf-8") as file:
        for n in range(lines):
            target = draw.choices(pages, cum_weights=fame)[0]
            if draw.random() < 0.12:
                mark = "&" if "?" in target else "?"
                target += f"{mark}utm_source=newsletter&gclid=EAIaIQ{draw.randrange(10**9)}"
            second = n * 30 * 86400 // lines
            stamp = (
                f"{1 + second // 86400:02}/May/"
                f"2026:{second // 3600 % 24:02}:{second // 60 % 60:02}:{second % 60:02} +0000"
            )
            client = f"198.51.100.{draw.randrange(256)} - - [{stamp}]"
            rest = (
                f'{draw.choice(statuses)} {draw.randrange(60000)} "{draw.choice(referrers)}" '
                f'"{draw.choice(agents)}"'
            )
            file.write(
                f"{client} cut off\n"
                if n % 100_000 == 7
                else f'{client} "GET {target} HTTP/1.1" {rest}\n'
            )


def write_csv(path: Path, urls: int) -> None:
    """Distinct URLs of four sorts, a quarter in mixed case, a quarter with two parameters."""
    with path.open("w", encoding="utf-8") as file:
        file.write("URL,Clicks,Title\n")
        for n in range(urls):
            forms = (
                f"journal/{1998 + n % 27}/{1 + n % 12:02}/The-clock-{n * 7919 % urls}.html",
                f"catalogue.php?item={n}&view=large",
                f"visit/room-{n}/",
                f"files/report-{n}.pdf?utm_source=x",
            )
            file.write(f"{OLD}/{forms[n % 4]},{n % 50},Clock number {n}\n")


def run(command: list[str]) -> tuple[float, float]:
    """Wall seconds and peak memory (MB) of one run."""
    began = time.perf_counter()
    done = subprocess.run(
        ["/usr/bin/time", "-v", *command],
        check=True,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
    )
    seconds = time.perf_counter() - began
    peak = _PEAK.search(done.stderr)
    return seconds, int(peak[1]) / 1000 if peak else 0.0


def fresh(folder: Path, new: str = "https://new.example") -> list[str]:
    """A new ledger; the beginning of every command for it."""
    shutil.rmtree(folder, ignore_errors=True)
    subprocess.run(
        [UPRIGHT, "open", str(folder), "--old", OLD, "--new", new],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    return [UPRIGHT, "--ledger", str(folder)]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--share", type=float, default=1.0)
    share = parser.parse_args().share
    with tempfile.TemporaryDirectory(prefix="upright-bench-") as name:
        work, ledger = Path(name), Path(name) / "ledger"
        log(work, ledger, int(LINES * share))
        table(work, ledger, int(URLS * share))


def log(work: Path, ledger: Path, lines: int) -> None:
    """The log against mawk, interleaved; and the memory of one four times as long."""
    path, long = work / "access.log", work / "long.log"
    write_log(path, lines)
    ours, peers, ratios, peaks = [], [], [], []
    for _ in range(ROUNDS):
        peer, _ = run(["mawk", MAWK, str(path)])
        mine, peak = run([*fresh(ledger), "gather", str(path)])
        ours.append(mine)
        peers.append(peer)
        ratios.append(mine / peer)
        peaks.append(peak)
    print(
        f"log, {lines:,} lines, {path.stat().st_size / 1e6:,.0f} MB: {statistics.median(ours):.1f} "
        f"s, mawk {statistics.median(peers):.1f} s"
    )
    print(
        f"  ratio {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f}), peak "
        f"{max(peaks):,.0f} MB"
    )
    write_log(long, 4 * lines)
    seconds, peak = run([*fresh(ledger), "gather", str(long)])
    print(f"  four times as long: {seconds:.1f} s, peak {peak:,.0f} MB")


def table(work: Path, ledger: Path, urls: int) -> None:
    """Distinct URLs from CSV, half as many for the growth, and folding anew."""
    times = {}
    for count in (urls // 2, urls):
        path = work / f"{count}.csv"
        write_csv(path, count)
        times[count], peak = run([*fresh(ledger), "gather", str(path)])
        print(f"CSV, {count:,} distinct URLs: {times[count]:.1f} s, peak {peak:,.0f} MB")
    print(f"  twice the rows take {times[urls] / times[urls // 2]:.2f} times as long")
    loop = run([sys.executable, "-c", "s = 0\nfor i in range(10_000_000): s += i"])[0]
    print(f"  (ten million additions in Python take {loop:.2f} s here)")
    for what in (["--case", "exact"], ["--significant", "/catalogue.php=item"]):
        seconds, peak = run([UPRIGHT, "--ledger", str(ledger), "fold", *what])
        print(f"fold {' '.join(what)}: {seconds:.1f} s, peak {peak:,.0f} MB")
    seconds, _ = run([UPRIGHT, "--ledger", str(ledger), "undo"])
    print(f"undo of it: {seconds:.1f} s")


if __name__ == "__main__":
    main()
