"""Several commands on one ledger at once; see torture.py."""

from __future__ import annotations

import csv
import json
import random
import threading
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from conftest import OLD, Warm
from torture_bench import Bench, WrongError
from torture_cases import CASES, Case, nothing_left, told_by


def paired(bench: Bench, times: int, seed: int) -> tuple[Counter[str], list[str]]:
    """Two commands at once, every one with every other: nobody dies, and what stands is what one
    after the other leads to, or somebody says what it left alone.
    """
    rng = random.Random(seed)
    pairs = [(a, b) for n, a in enumerate(CASES) for b in CASES[n:]]
    rng.shuffle(pairs)
    counts, wrong = Counter[str](), list[str]()
    second = bench.another_program()
    for a, b in pairs[:times]:
        try:
            counts[_at_once(bench, second, a, b)] += 1
        except WrongError as error:
            wrong.append(f"{a.name} and {b.name}: {error}")
    second.end()
    return counts, wrong


_MEANWHILE = ("meanwhile", "somebody else")


def _at_once(bench: Bench, second: Warm, a: Case, b: Case) -> str:
    serial = set()
    for order in ((a, b), (b, a)):
        folder = bench.copy("reference")
        for case in order:
            bench.run(case.arguments, folder)
        serial.add(bench.state(folder))
    folder = bench.copy("disturbed")
    with ThreadPoolExecutor(2) as both:
        running = [
            both.submit(bench.run, a.arguments, folder),
            both.submit(bench.run, b.arguments, folder, warm=second),
        ]
        done = [r.result() for r in running]
    told = "\n".join(d.err for d in done)
    if any(d.code not in {0, 1, 2} for d in done):
        raise WrongError(f"exit codes {[d.code for d in done]}\n{told}")
    state = bench.state(folder)
    for name in {*a.out, *b.out}:
        told_by(folder / name)
    bench.run(("balance", "--json"), folder, code=0)
    nothing_left(bench, folder)
    if state in serial:
        return "as one after the other"
    if any(word in told for word in _MEANWHILE):
        return "left alone, or refused, and said"
    if any(d.code == 2 for d in done):
        return "refused"
    if a.works or b.works:
        return "each by what it had read"
    if a.parts or b.parts:
        return "steps of one between those of the other"
    raise WrongError(
        f"neither one after the other nor the other way round: {state} of "
        f"{serial}\n{told}{done[0].out}{done[1].out}"
    )


def crowded(
    bench: Bench, seconds: int, seed: int, *, writers: int = 8, readers: int = 2
) -> tuple[Counter[str], list[str]]:
    """Writers and long readers on one ledger for so many seconds: what each did, in sheets, too,
    stands once, and what each took back does not; the numbers of steps have no gaps, and nobody
    dies.
    """
    folder = bench.copy("disturbed")
    until = time.monotonic() + seconds
    counts, wrong = Counter[str](), list[str]()
    done: list[tuple[str, str]] = []  # what must stand: address, answer

    def write(who: int) -> None:
        rng, warm = random.Random(seed + who), bench.another_program()
        number = 0
        while time.monotonic() < until:
            number += 1
            name = f"/by/{who}/{number}"
            kind = rng.choice(
                ("decide", "decide", "gather", "several", "log", "taken back", "sheet")
            )
            if kind == "decide":
                command: tuple[str, ...] = ("decide", name, "--gone")
                due = [(name, "gone")]
            elif kind == "gather":
                (folder / f"{who}-{number}.txt").write_text(
                    "".join(f"{OLD}{name}/{n}\n" for n in range(50))
                )
                command, due = (
                    ("gather", f"{who}-{number}.txt"),
                    [(f"{name}/{n}", "open") for n in range(50)],
                )
            elif kind == "several":
                rows = "".join(f"{name}/{n},/new/{n},301\n" for n in range(30))
                (folder / f"{who}-{number}.csv").write_text(f"old,new,status\n{rows}")
                command, due = (
                    ("decide", "--from", f"{who}-{number}.csv"),
                    [(f"{name}/{n}", "move") for n in range(30)],
                )
            elif kind in {"taken back", "sheet"}:
                (folder / f"{who}-{number}.txt").write_text(f"{OLD}{name}/x\n")
                _note(("gather", f"{who}-{number}.txt"), warm, "gather")
                if kind == "sheet":
                    sheet = folder / f"{who}-{number}.csv"
                    told = ("review", "--out", sheet.name, "--answer", "open")
                    _note(told, warm, "sheet written")
                    _decided(sheet, f"{OLD}{name}/x")
                    command, due = ("review", "--in", sheet.name), [(f"{name}/x", "gone")]
                else:
                    _note(("decide", f"{name}/x", "--gone"), warm, "decide")
                    command, due = (
                        _undoing(bench, folder, warm, f"{name}/x"),
                        [(f"{name}/x", "open")],
                    )
            else:
                line = (
                    '198.51.100.9 - - [03/May/2026:10:{m:02}:{s:02} +0000] "GET {name}/{n} '
                    'HTTP/1.1" 200 5 "-" "Mozilla/5.0 ExampleBrowser/1.0"\n'
                )
                lines = (line.format(m=number % 60, s=n, name=name, n=n) for n in range(40))
                (folder / f"{who}-{number}.log").write_text("".join(lines))
                command, due = (
                    ("gather", f"{who}-{number}.log"),
                    [(f"{name}/{n}", "open") for n in range(40)],
                )
            _note(command, warm, kind)
            done.extend(due)
        warm.end()

    def read() -> None:
        warm = bench.another_program()
        while time.monotonic() < until:
            _note(("entries", "--json", "--limit", "0"), warm, "list")
            _note(("check",), warm, "check")
        warm.end()

    def _note(command: tuple[str, ...], warm: Warm, kind: str) -> None:
        try:
            told = bench.run(command, folder, warm=warm)
        except WrongError as error:
            wrong.append(str(error))
            return
        counts[kind] += 1
        counts["said for whom it waits"] += told.err.count("waiting for")
        if told.code not in {0, 1}:
            wrong.append(f"{command}: exit code {told.code}: {told.out}{told.err}")

    threads = [threading.Thread(target=write, args=(who,)) for who in range(writers)] + [
        threading.Thread(target=read) for _ in range(readers)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    entries = json.loads(bench.run(("entries", "--json", "--limit", "0"), folder, code=0).out)[
        "entries"
    ]
    found = Counter(
        (e["legacy_url"].removeprefix(OLD), e["answer"])
        for e in entries
        if "/by/" in e["legacy_url"]
    )
    if found != Counter(done):
        wrong.append(
            f"lost or doubled: {list((Counter(done) - found).items())[:5]}, "
            f"{list((found - Counter(done)).items())[:5]}"
        )
    if any(e["hits"] not in {0, 1} for e in entries if "/by/" in e["legacy_url"]):
        wrong.append("a request counts twice")
    steps = json.loads(bench.run(("history", "--json"), folder, code=0).out)["steps"]
    kinds = ("decide", "gather", "several", "log", "taken back", "sheet")
    ours = sum(counts[kind] for kind in kinds)
    if len(steps) - len(_steps_before(bench)) != ours:
        wrong.append(f"{len(steps)} steps, but {ours} commands")
    numbers = sorted(step["step"] for step in steps)
    if numbers != list(range(1, len(steps) + 1)):
        wrong.append(f"the numbers of steps have gaps: {numbers}")
    bench.state(folder)
    return counts, wrong


def _decided(sheet: Path, url: str) -> None:
    """Answer one entry in a review sheet."""
    with sheet.open(newline="") as file:
        rows = list(csv.DictReader(file))
    for row in rows:
        if row["legacy_url"] == url:
            row["answer"] = "gone"
    with sheet.open("w", newline="") as file:
        writer = csv.DictWriter(file, list(rows[0]))
        writer.writeheader()
        writer.writerows(rows)


def _undoing(bench: Bench, folder: Path, warm: Warm, name: str) -> tuple[str, ...]:
    """What takes back the step that answered an entry."""
    steps = json.loads(bench.run(("history", "--json"), folder, code=0, warm=warm).out)["steps"]
    number = next(s["step"] for s in steps if s["summary"] == f"{name}: gone")
    return "undo", "--step", str(number)


def _steps_before(bench: Bench) -> list[Any]:
    return list(json.loads(bench.run(("history", "--json"), bench.base, code=0).out)["steps"])
