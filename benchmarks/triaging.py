"""Triage at scale: a log of two million lines, and one of ten million, in one call each: seconds,
memory, and the ratio of both.

python benchmarks/triaging.py [--share 1.0]   (0.1 takes a tenth)
"""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

from gathering import LINES, UPRIGHT, fresh, run, write_log
from rules import machine

MONTHS = ("May", "Jun", "Jul", "Aug", "Sep")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--share", type=float, default=1.0)
    lines = int(LINES * parser.parse_args().share)
    with tempfile.TemporaryDirectory(prefix="upright-bench-") as name:
        work = Path(name)
        small, large = work / "small.log", work / "large.log"
        write_log(small, lines)
        with small.open("rb") as source, large.open("wb") as out:
            for month in MONTHS:
                source.seek(0)
                out.writelines(line.replace(b"/May/", f"/{month}/".encode(), 1) for line in source)
        taken = []
        for log, count in ((small, lines), (large, len(MONTHS) * lines)):
            opened = fresh(work / log.stem)
            command = f"{UPRIGHT} --ledger {opened[2]} triage {log} > {work}/out.txt || [ $? = 1 ]"
            seconds, peak = run(["sh", "-c", command])
            taken.append(seconds)
            print(
                f"{count:,} lines: {seconds:.1f} s, {peak:,.0f} MB   (loop {machine():.2f} s)",
                flush=True,
            )
        print(f"  five times the lines in {taken[1] / taken[0]:.1f} times the time")


if __name__ == "__main__":
    main()
