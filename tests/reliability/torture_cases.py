"""Commands that write, disturbed at drawn calls of the system, and what must hold after each; see
torture.py.
"""

from __future__ import annotations

import hashlib
import json
import random
import sys
import traceback
from collections import Counter
from collections.abc import Callable
from contextlib import chdir, nullcontext
from dataclasses import dataclass, field
from pathlib import Path

from conftest import NEW, OLD
from torture_bench import ANOTHER, LEFTOVERS, SITE, Bench, Faults, State, WrongError, different
from upright_ledger.app.collect.gather import ErrorList, gather
from upright_ledger.ledger.store import open_ledger


@dataclass(frozen=True)
class Case:
    """A command that writes. parts: the same command with fewer files, whose steps may stand alone.
    out: files and folders that it writes. again: whether it leads to the same when it is done
    twice.
    """

    name: str
    arguments: tuple[str, ...]
    parts: tuple[tuple[str, ...] | Callable[[], None], ...] = ()
    out: tuple[str, ...] = ()
    again: bool = True
    works: bool = False


def _gather_failing() -> None:
    """What `triage` does first with a list of failing addresses."""
    ledger = open_ledger(Path())
    gather(ledger, ["errors.csv"], errors=ErrorList())
    ledger.end()


CASES = (
    Case("gather a list", ("gather", "more.txt")),
    Case("gather a log", ("gather", "access.log")),
    Case(
        "gather three",
        ("gather", "more.txt", "export.csv", "access.log"),
        (("gather", "more.txt"), ("gather", "more.txt", "export.csv")),
    ),
    Case("stock", ("stock", "more-pages.csv")),
    Case("match", ("match", "--max-error", "5%"), works=True),
    Case("decide one", ("decide", "/page/3", "--gone")),
    Case("decide many", ("decide", "--from", "pairs.csv")),
    Case("mend", ("check", "--fix"), works=True),
    Case("review", ("review", "--in", "review.csv"), works=True),
    Case("fold", ("fold", "--case", "exact")),
    Case("retire", ("retire", "--unused-for", "30", "--accept"), works=True),
    Case("undo", ("undo",), again=False),
    Case("undo three", ("undo", "3"), again=False),
    Case("build", ("build", "--for", "nginx", "--out", "rules"), out=("rules",)),
    Case("build anew", ("build", "--for", "haproxy", "--out", "fresh"), out=("fresh",)),
    Case(
        "build into",
        ("build", "--for", "nginx", "--out", "rules", "--into", "site.conf"),
        out=("rules", "site.conf"),
    ),
    Case("go back", ("build", "--roll-back", "--out", "rules"), out=("rules",), again=False),
    Case("go live", ("handover", "rules", "--live", "--at", "2026-05-02T10:00Z")),
    Case("replay", ("replay", "pages.txt", "--at", SITE, "--out", "asked.csv")),
    Case("survey", ("survey", SITE, "--most", "10")),
    Case("rehearse", ("rehearse", "access.log", "--out", "rows.csv"), out=("rows.csv",)),
    Case(
        "watch",
        ("triage", "--new", "access.log", "--message", "news.json"),
        (("gather", "access.log"),),
        out=("news.json",),
    ),
    Case(
        "triage", ("triage", "errors.csv", "--out", "failing.xlsx"), (_gather_failing,), works=True
    ),
    Case("list", ("entries", "--csv", "list.csv"), out=("list.csv",)),
    Case("sheet", ("review", "--out", "sheet.xlsx"), out=()),
    Case("open", ("open", "another", "--old", OLD, "--new", NEW)),
    Case("open a team's", ("open", "another", "--old", OLD, "--new", NEW, "--database", ANOTHER)),
)


@dataclass
class Reference:
    """What an undisturbed command does. calls: how many can be struck; states: those that may
    stand; files: what its files hold before and behind it.
    """

    calls: int
    code: int
    states: list[State]
    files: dict[str, set[str]] = field(default_factory=dict)


def reference(bench: Bench, case: Case, *, sent: bool = False) -> Reference:
    folder = bench.copy("reference")
    states = [bench.state(folder)]
    files = {name: {told_by(folder / name)} for name in case.out}
    for part in case.parts:
        if callable(part):
            with chdir(folder):
                part()
        else:
            bench.run(part, folder)
        states.append(bench.state(folder))
    if case.parts:
        folder = bench.copy("reference")
    done = bench.run(case.arguments, folder, Faults(bench.library, sent=sent))
    states.append(bench.state(folder))
    calls = int.from_bytes(bench.count.read_bytes(), sys.byteorder)
    for name in case.out:
        files[name].add(told_by(folder / name))
    nothing_left(bench, folder)
    return Reference(calls, done.code, states, files)


def told_by(path: Path) -> str:
    """What a file or a build holds, as far as it does not differ from run to run; raises WrongError
    for a build that is not whole.
    """
    if path.is_dir():
        told = json.loads((path / "manifest.json").read_text())
        for name, due in told["sums"].items():
            if hashlib.sha256((path / name).read_bytes()).hexdigest() != due:
                raise WrongError(f"{path.name}: {name} is not the one of its manifest")
        return (
            f"{told['digest']} {told_by(path / 'previous') if (path / 'previous').exists() else ''}"
        )
    if not path.exists():
        return "missing"
    text = path.read_bytes()
    if path.suffix == ".json":
        return str(json.loads(text)["subject"])
    return hashlib.sha256(text).hexdigest()


def disturbed(bench: Bench, case: Case, undisturbed: Reference, faults: Faults) -> str:
    """Disturb a command, look, and go on; returns what became of it: "before", "after", "between",
    or "done" where nothing was struck. Raises WrongError.
    """
    folder = bench.copy("disturbed")
    with bench.team.lost(faults.at) if bench.team and faults.how == GONE else nullcontext():
        done = bench.run(case.arguments, folder, faults if faults.how != GONE else None)
    before, after = undisturbed.states[0], undisturbed.states[-1]
    state = bench.state(folder)
    if state not in undisturbed.states:
        raise WrongError(
            f"between two steps: other than before in {different(state, before)}, than after in "
            f"{different(state, after)}; exit code {done.code}\n{done.out}{done.err}"
        )
    for name, due in undisturbed.files.items():
        if (told := told_by(folder / name)) not in due:
            raise WrongError(
                f"{name} is neither the old one nor the new one: {told} of {due}; exit code "
                f"{done.code}\n{done.err}"
            )
    if done.code >= 0:
        if done.code in {0, 1} and (done.code != undisturbed.code or state != after):
            raise WrongError(f"exit code {done.code}, but not all was done\n{done.out}{done.err}")
        if done.code not in {0, 1, 3}:
            raise WrongError(f"exit code {done.code}\n{done.out}{done.err}")
        if done.code == 3 and not done.err.startswith("upright: "):
            raise WrongError(f"exit code 3 without a sentence\n{done.out}{done.err}")
    where = (
        "done"
        if done.code == undisturbed.code
        else "before"
        if state == before
        else "after"
        if state == after
        else "between"
    )
    _goes_on(bench, case, undisturbed, folder, state)
    return where


def _goes_on(bench: Bench, case: Case, undisturbed: Reference, folder: Path, state: State) -> None:
    """The next command works, and the same one leads to where it should."""
    json.loads(bench.run(("balance", "--json"), folder, code=0).out)
    done = bench.run(case.arguments, folder)
    refused = case.name.startswith("open") and done.code == 2  # it was made
    if done.code not in {undisturbed.code, 0} and not refused:
        raise WrongError(f"done again: exit code {done.code}\n{done.out}{done.err}")
    if (case.again or state == undisturbed.states[0]) and bench.state(folder) != undisturbed.states[
        -1
    ]:
        raise WrongError(f"done again, it leads elsewhere\n{done.out}{done.err}")
    for name, due in undisturbed.files.items():
        if case.again and told_by(folder / name) not in due:
            raise WrongError(f"done again, {name} is another one")
    if case.name.startswith("open"):
        bench.run(("balance",), folder / "another", code=0)
    nothing_left(bench, folder)


def nothing_left(bench: Bench, folder: Path) -> None:
    left = [str(p) for pattern in LEFTOVERS for p in folder.glob(pattern)] + [
        str(p) for p in bench.temporary.iterdir()
    ]
    if left:
        raise WrongError(f"left behind: {left}")


GONE = "gone"
"""The server closes the connections."""
_HUNDREDTHS = 40  # of a second, in which most commands are done
KILLS, ERRORS = ("kill", "after", "torn"), ("ENOSPC", "EIO", "full")


def torture(
    bench: Bench,
    how: tuple[str, ...],
    times: int,
    seed: int,
    *,
    sent: bool = False,
    cases: tuple[Case, ...] = CASES,
) -> tuple[Counter[str], list[str]]:
    """Disturb commands so many times, at drawn calls; what became of them, and what was wrong."""
    rng = random.Random(seed)
    known: dict[str, Reference] = {}
    counts, wrong = Counter[str](), list[str]()
    for number in range(times):
        case = cases[number % len(cases)]
        try:
            if case.name not in known:
                known[case.name] = reference(bench, case, sent=sent)
            undisturbed = known[case.name]
            chosen = rng.choice(how)
            places = _HUNDREDTHS if chosen == GONE else max(1, undisturbed.calls)
            faults = Faults(bench.library, chosen, rng.randint(1, places), sent)
            counts[disturbed(bench, case, undisturbed, faults)] += 1
        except Exception as error:  # noqa: BLE001 (all of them are told at the end)
            at = faults if case.name in known else "undisturbed"
            text = str(error) if isinstance(error, WrongError) else traceback.format_exc()
            wrong.append(f"{case.name}, {at}: {text}")
            counts["wrong"] += 1
        if sys.stderr.isatty() or (number + 1) % 100 == 0:
            print(f"{number + 1} of {times}, {len(wrong)} wrong", file=sys.stderr, flush=True)
    return counts, wrong
