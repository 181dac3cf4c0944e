"""Time of `upright --help` relative to `python -c "import click"`: median of interleaved runs."""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from pathlib import Path

ROUNDS = 15


def seconds(command: list[str]) -> float:
    """Wall seconds of one run."""
    began = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - began


def main() -> None:
    upright = str(Path(sys.executable).with_name("upright"))
    bare = [sys.executable, "-c", "import click"]
    seconds(bare)
    seconds([upright, "--help"])
    pairs = [(seconds([upright, "--help"]), seconds(bare)) for _ in range(ROUNDS)]
    ours, theirs = (statistics.median(p) for p in zip(*pairs, strict=True))
    ratio = statistics.median(a / b for a, b in pairs)
    print(
        f"upright --help {ours * 1000:.0f} ms, import click {theirs * 1000:.0f} ms, ratio "
        f"{ratio:.2f}"
    )


if __name__ == "__main__":
    main()
