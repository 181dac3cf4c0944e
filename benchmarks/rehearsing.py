"""Rehearsing at scale: a million distinct URLs through 100,000 exact rules and 200 templates, and a
log beside gathering it.

python benchmarks/rehearsing.py [--share 1.0]   (0.1 takes a tenth of everything)
"""

from __future__ import annotations

import argparse
import random
import statistics
import subprocess
import tempfile
from pathlib import Path

from gathering import LINES, UPRIGHT, fresh, run, write_log
from rules import NEW, OLD, WORDS, machine, write_pairs

EXACT, TEMPLATES, URLS, ROUNDS = 100_000, 200, 1_000_000, 3


def write_urls(file: Path, pairs: Path, urls: int, templates: int) -> None:
    """Distinct old URLs: three in ten in the spellings of an exact rule, four that templates
    answer, three that nobody knows.
    """
    rng = random.Random(11)
    known = [
        line.partition(",")[0] for line in pairs.read_text().splitlines()[1:] if "{" not in line
    ]
    with file.open("w", encoding="utf-8") as out:
        for n in range(urls):
            sort = n % 10
            if sort < 3:
                old = known[n // 10 % len(known)]
                tail = ("", "?utm_source=letter&utm_medium=mail", f"?print={n}")[sort]
                out.write(f"{old.replace('.html', '.HTML') if n % 50 == 1 else old}{tail}\n")
            elif sort < 7:
                out.write(
                    f"{OLD}/{WORDS[n % templates % len(WORDS)]}-{n % templates}/"
                    f"{rng.choice(WORDS)}-{n}.php\n"
                )
            else:
                out.write(f"{OLD}/{rng.choice(WORDS)}/{rng.choice(WORDS)}/{n}/\n")


def rehearsed(ledger: Path, file: Path) -> tuple[float, float]:
    """Seconds and megabytes of one rehearsal; its exit code says that something is open."""
    return run(["sh", "-c", f"{UPRIGHT} --ledger {ledger} rehearse {file} || [ $? = 1 ]"])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--share", type=float, default=1.0)
    share = parser.parse_args().share
    with tempfile.TemporaryDirectory(prefix="upright-bench-") as name:
        work = Path(name)
        pairs, urls, log = work / "pairs.csv", work / "urls.txt", work / "access.log"
        write_pairs(pairs, int(EXACT * share), TEMPLATES)
        write_urls(urls, pairs, int(URLS * share), TEMPLATES)
        decide = [*fresh(work / "rules", NEW), "decide", "--from", str(pairs)]
        subprocess.run(decide, check=True, stdout=subprocess.DEVNULL)
        for _ in range(ROUNDS):
            seconds, peak = rehearsed(work / "rules", urls)
            print(
                f"{int(URLS * share):,} URLs: {seconds:.1f} s, {peak:,.0f} MB   (loop "
                f"{machine():.2f} s)",
                flush=True,
            )
        write_log(log, int(LINES * share))
        ratios = []
        for _ in range(ROUNDS):
            gathered, _ = run([*fresh(work / "log"), "gather", str(log)])
            seconds, peak = rehearsed(work / "log", log)
            ratios.append(seconds / gathered)
            print(
                f"{int(LINES * share):,} lines: {seconds:.1f} s, {peak:,.0f} MB; gather "
                f"{gathered:.1f} s",
                flush=True,
            )
        print(f"  ratio {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})")


if __name__ == "__main__":
    main()
