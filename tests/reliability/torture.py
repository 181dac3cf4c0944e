"""Commands that are killed, run out of room, or meet broken disks, at chosen calls of the system;
and what must hold after each.

`python tests/reliability/torture.py kills 1000 sqlite` does what `make torture` does, and prints
figures. After each fault: the database is sound and stands before the command, behind it, or behind
one of its whole steps; no traceback, no exit code 0 or 1 unless all was done; the files that a
command writes are the old ones or the new ones; the next command works, and the same command, done
again, leads to where an undisturbed one leads, with nothing left behind.
"""

from __future__ import annotations

import signal
import sys
from contextlib import suppress
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "support"))
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "support/machines"))

from torture_bench import bench_on
from torture_cases import ERRORS, GONE, KILLS, torture
from torture_damages import damaged
from torture_together import crowded, paired


def main() -> None:
    kind, times, database = sys.argv[1], int(sys.argv[2]), sys.argv[3]
    seed = int(sys.argv[4]) if len(sys.argv) > 4 else 1
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    with bench_on(database) as bench, suppress(KeyboardInterrupt):
        whole = {"damages": damaged, "pairs": paired, "crowd": crowded}
        if kind in whole:
            counts, wrong = whole[kind](bench, times, seed)
        else:
            how = {"kills": KILLS, "errors": ERRORS, "losses": (GONE,)}[kind]
            counts, wrong = torture(
                bench, how, times, seed, sent=database != "sqlite" and kind == "kills"
            )
    for text in wrong:
        print(text, "\n")
    print(f"{kind} on {database}: {dict(counts)}")
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
