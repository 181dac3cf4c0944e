"""Checking and building large rule sets: seconds and memory of the whole command, in a process of
its own.

python benchmarks/rules.py [EXACT…] [--servers nginx,apache] [--plot FILE.png]

Each ledger holds EXACT exact answers and a hundredth of that as templates. As a measure of the
machine, the time in which a Python loop adds ten million numbers is given beside each line.
"""

from __future__ import annotations

import argparse
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PROGRAM = Path(sys.executable).with_name("upright")
OLD, NEW = "http://www.quillhaven.example", "https://quillhaven.example"
PARTS = [
    "clock",
    "dial",
    "pendulum",
    "escapement",
    "bell",
    "hour",
    "spring",
    "wheel",
    "tower",
    "marine",
]
WORDS = [f"{part}{end}" for part in PARTS for end in ("", "s", "-room", "-hall", "work", "maker")]


def write_pairs(file: Path, exact: int, templates: int) -> None:
    """A sheet of answers: one in twenty is gone."""
    rng = random.Random(7)
    with file.open("w", encoding="utf-8") as out:
        out.write("old,new,status,kind\n")
        for n in range(exact):
            folder, name = rng.choice(WORDS), rng.choice(WORDS)
            old = f"{OLD}/{folder}/{name}-{n}.html"
            out.write(f"{old},{NEW}/{name}/{folder}-{n}/,301,\n" if n % 20 else f"{old},,410,\n")
        for n in range(templates):
            out.write(
                f"{OLD}/{WORDS[n % len(WORDS)]}-{n}/{{slug}}.php,{NEW}/t{n}/{{slug}}/,301,"
                "template\n"
            )


def measured(*arguments: str) -> tuple[float, int]:
    """Seconds and megabytes of one run of the program."""
    done = subprocess.run(
        ["/usr/bin/time", "-f", "%e %M", PROGRAM, *arguments],
        check=False,
        capture_output=True,
        encoding="utf-8",
    )
    if done.returncode > 1:
        raise SystemExit(done.stderr)
    seconds, kilobytes = done.stderr.strip().splitlines()[-1].split()
    return float(seconds), int(kilobytes) // 1024


def machine() -> float:
    """Seconds in which this machine adds ten million numbers now."""
    began, total = time.process_time(), 0
    for n in range(10_000_000):
        total += n
    return time.process_time() - began


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("exact", nargs="*", type=int, default=[100_000])
    parser.add_argument("--servers", default="nginx,apache,haproxy,lighttpd,caddy")
    parser.add_argument("--plot", default="")
    options = parser.parse_args()
    figures: dict[str, list[tuple[int, float]]] = {}
    for exact in options.exact:
        with tempfile.TemporaryDirectory() as held:
            ledger, pairs = Path(held) / "ledger", Path(held) / "pairs.csv"
            write_pairs(pairs, exact, exact // 100)
            measured("open", str(ledger), "--old", OLD, "--new", NEW)
            measured("--ledger", str(ledger), "decide", "--from", str(pairs))
            runs = {"check": ["check"]}
            runs |= {
                f"build for {s}": ["build", "--for", s, "--out", f"{held}/{s}"]
                for s in options.servers.split(",")
            }
            for name, arguments in runs.items():
                seconds, megabytes = measured("--ledger", str(ledger), *arguments)
                figures.setdefault(name, []).append((exact, seconds))
                print(
                    f"{exact:9,}  {name:20} {seconds:6.1f} s  {megabytes:6,} MB   (loop "
                    f"{machine():.2f} s)",
                    flush=True,
                )
    if options.plot:
        rules = "exact rules (and a hundredth of that as templates)"
        draw(figures, Path(options.plot), rules, "seconds", scale="linear")


def draw(
    figures: dict[str, list[tuple[int, float]]],
    file: Path,
    over: str,
    what: str,
    scale: str = "log",
) -> None:
    """What took how long, over how many."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib import pyplot as plt

    figure, axes = plt.subplots(figsize=(8, 5), layout="constrained")
    for n, (name, points) in enumerate(figures.items()):
        style = "o-" if n < 10 else "s--"  # there are ten colours
        axes.plot(*zip(*points, strict=True), style, label=name)
    axes.set(xlabel=over, ylabel=what, xscale=scale, yscale=scale)
    if scale == "linear":
        axes.set(xlim=(0, None), ylim=(0, None))
    else:
        axes.yaxis.set_major_formatter(lambda value, _: f"{value:g}")
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    axes.grid(alpha=0.3)
    if len(figures) > 10:
        figure.legend(loc="outside right upper", frameon=False)
    else:
        axes.legend(frameon=False)
    figure.savefig(file, dpi=120)


if __name__ == "__main__":
    main()
