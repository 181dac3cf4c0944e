"""Commands on ledgers whose file was damaged; see torture.py."""

from __future__ import annotations

import random
from collections import Counter

from torture_bench import Bench, WrongError

READING = (
    ("balance", "--json"), ("entries", "--json", "--limit", "0"), ("entries", "--families"),
    ("check",), ("fold",), ("history",), ("runs",), ("handover",), (),
    ("build", "--for", "nginx", "--out", "rules"), ("rehearse",), ("match",),
    ("decide", "/page/3", "--gone"), ("undo",), ("triage",), ("gather", "more.txt"),
    ("retire", "--unused-for", "30"), ("review", "--out", "sheet.csv"), ("stock", "more-pages.csv"),
    ("decide", "--from", "pairs.csv"), ("fold", "--case", "exact"),
)  # fmt: skip


def damaged(bench: Bench, times: int, seed: int) -> tuple[Counter[str], list[str]]:
    """Commands on ledgers whose file was damaged: they work, or say in a sentence that they cannot.
    What is damaged and unnoticed is counted, too.
    """
    rng = random.Random(seed)
    counts, wrong = Counter[str](), list[str]()
    sound = (bench.base / "ledger.db").read_bytes()
    for number in range(times):
        folder = bench.copy("disturbed")
        path = folder / "ledger.db"
        how, data = _damage(rng, sound)
        path.write_bytes(data)
        for name in ("ledger.db-wal", "ledger.db-shm"):
            (folder / name).unlink(missing_ok=True)
        command = READING[number % len(READING)]
        try:
            done = bench.run(command, folder)
        except WrongError as error:
            wrong.append(f"{number}, {how}, {command}: {error}")
            continue
        due = {3} if how in {"cut", "emptied", "zeroed head"} else {0, 1, 2, 3}
        if done.code not in due or (done.code == 3 and not done.err.startswith("upright: ")):
            wrong.append(f"{number}, {how}, {command}: exit code {done.code}: {done.out}{done.err}")
        counts[
            f"{how}: "
            f"{'told' if done.code == 3 else 'unnoticed' if data != sound else 'nothing changed'}"
        ] += 1
    return counts, wrong


def _damage(rng: random.Random, sound: bytes) -> tuple[str, bytes]:
    """A file with some damage, and what it is called."""
    how = rng.choice(
        (
            "flipped bits",
            "flipped bits",
            "another byte",
            "letters",
            "zeroed page",
            "cut",
            "emptied",
            "zeroed head",
            "swapped pages",
        )
    )
    data = bytearray(sound)
    pages = len(data) // 4096
    if how == "flipped bits":
        for _ in range(rng.choice((1, 3, 30))):
            data[rng.randrange(100, len(data))] ^= 1 << rng.randrange(8)
    elif how == "another byte":
        for _ in range(rng.choice((1, 5, 200))):
            data[rng.randrange(100, len(data))] = rng.randrange(256)
    elif how == "letters":  # of stored addresses and texts, so that the file itself is sound
        for _ in range(rng.choice((1, 10, 60))):
            at = data.find(
                rng.choice((b"http://", b"/page/", b"move", b"301", b"gone", b"2026", b'{"')),
                rng.randrange(len(data)),
            )
            if at >= 0:
                data[at + rng.randrange(3)] = rng.choice(b"\x00\xff[]%:/ az09{")
    elif how == "zeroed page":
        at = 4096 * rng.randrange(1, pages)
        data[at : at + 4096] = bytes(4096)
    elif how == "swapped pages":
        a, b = (4096 * rng.randrange(1, pages) for _ in range(2))
        data[a : a + 4096], data[b : b + 4096] = data[b : b + 4096], data[a : a + 4096]
    elif how == "zeroed head":
        data[:100] = bytes(100)
    elif how == "cut":
        del data[rng.randrange(1, len(data) - 4096) :]
    else:
        data.clear()
    return how, bytes(data)
