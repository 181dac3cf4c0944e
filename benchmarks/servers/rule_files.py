"""Rule files drawn at random, and what real servers do with them: how much is understood, and
nothing otherwise than it is.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[2] / "tests"))
sys.path.insert(0, str(Path(__file__).resolve().parents[2] / "tests/support"))
sys.path.insert(0, str(Path(__file__).resolve().parents[2] / "tests/support/rule_files"))

import apache_files
import nginx_files
from rule_judge import REQUESTS, drawn

REQUESTS_IN_ALL = 20_000
CLASSES = (
    "answered alike",
    "left alike",
    "not understood",
    "for a host that the file does not name",
)


def main() -> None:
    files = (
        int(sys.argv[1]) if len(sys.argv) > 1 else REQUESTS_IN_ALL * 3 // 2 // REQUESTS
    )  # some files are refused by the server
    print(f"{'server':8}" + "".join(f"{c:>40}" for c in CLASSES) + f"{'seconds':>10}")
    for language in (apache_files, nginx_files):
        begun = time.monotonic()
        found = drawn(language, range(100_000, 100_000 + files))
        name = language.__name__.partition("_")[0]
        print(
            f"{name:8}"
            + "".join(f"{found[c]:>40,}" for c in CLASSES)
            + f"{time.monotonic() - begun:>10.0f}"
        )


if __name__ == "__main__":
    main()
