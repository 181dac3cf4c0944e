"""The story the demo tells: the commands of one move, in order, and what the truth says of each
result.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.rules.finding import Finding
from upright_ledger.core.tracing.verdicts import Verdict
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.destination import page_key
from upright_ledger.demo.faulty_site import FaultySite
from upright_ledger.demo.live_phase import CLAIMED, LAUNCH, MENDED, LivePhase
from upright_ledger.demo.sample import Sample
from upright_ledger.demo.site import BARE, GERMAN, NEW, OLD

LEDGER = "museum"
FILES = "files"
RULES = "rules"
SERVER = "nginx"  # for which those are
LIVE = "live"
FIGURES = "figures"
STAGED = "http://relaunch.quillhaven.example"
STAGED_PAGES = 600


@dataclass(frozen=True, slots=True)
class Scene:
    """One command of the story. intro: what it is for. faults_expected: exit code 1 is right
    here.
    """

    intro: str
    command: tuple[str, ...]
    faults_expected: bool = False


def opening(folder: Path) -> list[Scene]:
    """From an empty ledger to the faults of the earlier move's list."""
    files = folder / FILES
    return [
        Scene(
            "A new ledger: two old sites (the second in German), one new one",
            (
                "open",
                str(folder / LEDGER),
                "--old",
                OLD,
                "--old",
                BARE,
                "--old",
                GERMAN,
                "--new",
                NEW,
            ),
        ),
        Scene(
            "Old URLs from six places that overlap and disagree",
            (
                "gather",
                *(
                    str(files / n)
                    for n in (
                        "crawl-list.txt",
                        "analytics.csv",
                        "search-errors.csv",
                        "backlinks.csv",
                        "old-sitemap.xml",
                        "access.log",
                    )
                ),
            ),
        ),
        Scene("Which parameters choose a page? The data tell", ("fold",)),
        Scene("That is right, so all entries are folded anew", ("fold", "--accept")),
        Scene(
            "The pages of the new site",
            ("stock", str(files / "new-sitemap.xml"), str(files / "new-pages.csv")),
        ),
        Scene(
            "The rule list of an earlier move, as it was handed over",
            ("decide", "--from", str(files / "earlier-rules.csv"), "--as-given"),
            faults_expected=True,
        ),
        Scene("What is wrong with it", ("check",), faults_expected=True),
    ]


def settling(folder: Path) -> list[Scene]:
    """From the corrections to rules that are built and rehearsed."""
    files = folder / FILES
    return [
        Scene("The corrections", ("decide", "--from", str(files / "corrections.csv"))),
        Scene("What the two sites say by themselves", ("match",)),
        Scene(
            "What only the client knows: pages without successor, workshops, printed codes",
            ("decide", "--from", str(files / "client-decisions.csv")),
        ),
        Scene("Where the books stand", ("balance",)),
        Scene("Is anything wrong now?", ("check",)),
        Scene("The rules for nginx", ("build", "--for", SERVER, "--out", str(folder / RULES))),
        Scene(
            "All old URLs and a month of the log through the rules, offline",
            ("rehearse", str(files / "old-urls.txt"), str(files / "access.log")),
            faults_expected=True,
        ),
    ]


def replay_as_found(folder: Path, address: str) -> Scene:
    """The earlier list's addresses against the site as it was found."""
    command = (
        "replay",
        str(folder / FILES / "earlier-urls.txt"),
        "--at",
        address,
        "--as",
        AS_FOUND,
        "--out",
        str(folder / "before.csv"),
    )
    return Scene(
        "Before: the earlier list pasted into the server as it stands",
        command,
        faults_expected=True,
    )


def survey_staging(folder: Path, address: str) -> Scene:
    """The new site on its staging server, crawled and audited."""
    host = STAGED.partition("://")[2]
    command = (
        "survey",
        f"{STAGED}/",
        "--connect",
        f"{host}={address.partition('://')[2]}",
        "--name",
        "staging",
        "--out",
        str(folder / "survey.xlsx"),
    )
    return Scene(
        "The new site before its launch, with faults of every kind planted in it",
        command,
        faults_expected=True,
    )


def replay_built(folder: Path, address: str) -> Scene:
    """Every old URL against the new site with the built rules."""
    command = (
        "replay",
        str(folder / FILES / "old-urls.txt"),
        "--at",
        address,
        "--as",
        BUILT,
        "--out",
        str(folder / "after.csv"),
    )
    return Scene("After: every old URL against the built rules", command, faults_expected=True)


def other_nodes(folder: Path, names: Iterable[str]) -> list[Scene]:
    """The same rules for other servers."""
    return [
        Scene(
            f"Another web node runs {name}",
            ("build", "--for", name, "--out", str(folder / f"{RULES}-{name}")),
        )
        for name in names
    ]


def replay_nodes(addresses: Iterable[str], certificate: Path) -> Scene:
    """The most valuable old URLs at every node, over HTTPS."""
    at = [word for address in addresses for word in ("--at", address)]
    command = ("replay", "--top", "300", *at, "--ca", str(certificate))
    return Scene("Launch night: what is worth most, at every node, over HTTPS", command)


AS_FOUND, BUILT = "as-found", "built"
"""Names of the two replays."""


def side_by_side() -> Scene:
    """The two replays against each other."""
    return Scene(
        "What became of each address; pages that were renamed are named, too",
        ("reconcile", AS_FOUND, BUILT),
        faults_expected=True,
    )


@dataclass(frozen=True, slots=True)
class Comparison:
    """Planted faults against found ones: how many were planted, found, missed, and found but not
    planted.
    """

    planted: int
    found: int
    missed: list[str]
    invented: list[str]


def compare_findings(sample: Sample, findings: list[Finding]) -> Comparison:
    """What `check` found against what was planted."""
    return _compare(
        {f.legacy_url: f.found_as for f in sample.earlier.faults},
        Counter((f.legacy_url, f.kind) for f in findings),
    )


def compare_verdicts(sample: Sample, results: Mapping[str, str]) -> Comparison:
    """Verdicts by URL against the verdicts the planted faults must give."""
    return _compare(
        {f.legacy_url: f.seen_as for f in sample.earlier.faults},
        Counter((url, v) for url, v in results.items() if v != Verdict.OK),
    )


def builds_going_live(folder: Path) -> list[Scene]:
    """Three builds, each with the answers of its time; the last one was said to be live and is
    not.
    """
    ledger, files = folder / LIVE, folder / FILES
    scenes = [Scene("", ("open", str(ledger), "--old", OLD, "--new", NEW))]
    for name, day in (("launch", LAUNCH), ("mended", MENDED), ("claimed", CLAIMED)):
        rules = str(folder / f"{RULES}-{name}")
        scenes += [
            Scene("", ("decide", "--from", str(files / f"{name}.csv"))),
            Scene("", ("build", "--for", SERVER, "--out", rules)),
            Scene("", ("handover", rules, "--live", "--at", f"{day}T03:00")),
        ]
    return [*scenes, Scene("", ("decide", "--from", str(files / "waiting.csv")))]


def after_launch(folder: Path) -> list[Scene]:
    """What the log tells."""
    log = str(folder / FILES / "sixty-days.log")
    return [
        Scene("Which builds went live", ("handover",)),
        Scene(
            "What fails now, and what fails again",
            ("triage", log, "--figures", str(folder / FIGURES)),
            faults_expected=True,
        ),
    ]


def compare_states(phase: LivePhase, states: Mapping[str, str]) -> Comparison:
    """States of failing entries, with their reasons, against what was planted."""
    planted = {OLD + path: f"{state} {why}".strip() for path, (state, why) in phase.states.items()}
    return _compare(planted, Counter(states.items()))


def compare_faults(site: FaultySite, audited: Mapping[str, Iterable[str]]) -> Comparison:
    """What the audits of a survey found (kind → addresses) against what was planted."""
    wanted = Counter((url, kind) for kind, urls in site.truth.items() for url in urls)
    found = Counter((url, kind) for kind, urls in audited.items() for url in urls)
    return _difference(wanted, found)


def _compare(planted: dict[str, str], found: Counter[tuple[str, str]]) -> Comparison:
    return _difference(Counter(planted.items()), found)


def _difference(wanted: Counter[tuple[str, str]], found: Counter[tuple[str, str]]) -> Comparison:
    missed = sorted(f"{kind} at {url}" for url, kind in (wanted - found).elements())
    invented = sorted(f"{kind} at {url}" for url, kind in (found - wanted).elements())
    return Comparison(wanted.total(), wanted.total() - len(missed), missed, invented)


@dataclass(frozen=True, slots=True)
class Accuracy:
    """The ledger's answers against the truth: right, wrong and open entries."""

    right: int
    wrong: list[str]
    open: int


def compare_answers(sample: Sample, move: MoveState) -> Accuracy:
    """Look up the answer of every old page and compare it with the truth."""
    right, waiting, wrong = 0, 0, []
    for page in sample.museum.old:
        entry = move.entry_of(parse_address(page.url))
        if entry is None or entry.answer.kind == "open":
            waiting += 1
            continue
        expected = page.destination if page.answer == "move" else ""
        given = entry.answer.destination
        same = entry.answer.kind == page.answer and (
            not expected or page_key(parse_address(given)) == page_key(parse_address(expected))
        )
        if same:
            right += 1
        else:
            wrong.append(f"{page.url} → {given or entry.answer.kind}")
    return Accuracy(right, wrong, waiting)
