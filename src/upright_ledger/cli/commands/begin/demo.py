"""upright demo"""

from __future__ import annotations

import csv
import time
from pathlib import Path

import click

from upright_ledger.app.collect.surveys.audit import audited
from upright_ledger.app.live.triage import triage
from upright_ledger.app.move_state import MoveState
from upright_ledger.cli.main import cli
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output
from upright_ledger.demo import nodes, story
from upright_ledger.demo.faulty_site import make_faulty_site
from upright_ledger.demo.live_phase import make_live_phase
from upright_ledger.demo.sample import write_sample
from upright_ledger.demo.servers import new_site, site_as_found
from upright_ledger.errors import RefusedError, UprightError
from upright_ledger.ledger.store import open_ledger
from upright_ledger.web.local.stand_in import serve_whole


@click.command("demo")
@click.argument(
    "folder",
    metavar="[DIR]",
    default="quillhaven-demo",
    type=click.Path(path_type=Path, file_okay=False),
)
@json_option
def command(folder: Path, as_json: bool) -> None:
    """The whole story on a sample site that is made up for it: the Quillhaven Clock Museum moves.

    Writes the sample into DIR (quillhaven-demo by default), runs the real commands on it, and
    compares what they find with the truth that the sample was generated from. It ends with the
    built rules in a real nginx, where one is installed.
    """
    if folder.exists() and any(folder.iterdir()):
        raise RefusedError(f"{folder} is not empty", "name another folder, or remove this one")
    began = time.monotonic()
    folder.mkdir(parents=True, exist_ok=True)
    teller = _Teller(folder, quiet=as_json)
    sample = write_sample(folder / story.FILES)
    teller.say(
        f"The sample is in {folder / story.FILES}: {len(sample.museum.old):,} old pages, "
        f"{len(sample.museum.new):,} new ones, a log, and the truth."
    )
    for scene in story.opening(folder):
        teller.run(scene)
    found = story.compare_findings(sample, _move(folder).compiled.findings)
    teller.compare("check", found)
    for scene in story.settling(folder):
        teller.run(scene)
    accuracy = story.compare_answers(sample, _move(folder))
    teller.say(
        f"Truth: {accuracy.right:,} of {len(sample.museum.old):,} old pages are answered rightly, "
        f"{len(accuracy.wrong):,} wrongly, {accuracy.open:,} are open."
    )
    surveyed = _survey(teller, folder)
    with site_as_found(sample) as (address, server):
        teller.say(f"(served by {server} at {address})")
        teller.run(story.replay_as_found(folder, address))
    seen = story.compare_verdicts(sample, _verdicts(folder / "before.csv"))
    teller.compare("replay", seen)
    move = _move(folder)
    with new_site(folder / story.RULES, move.compiled.rules, sample) as (address, server):
        teller.say(f"(served by {server} at {address})")
        teller.run(story.replay_built(folder, address))
        _ask_nodes(teller, folder, move, address)
    teller.run(story.side_by_side())
    lived = _live(teller, folder)
    seconds = time.monotonic() - began
    if as_json:
        wrong = {
            "wrong_answers": accuracy.wrong,
            "right_answers": accuracy.right,
            "open": accuracy.open,
        }
        output.json_out(
            {
                "folder": str(folder),
                "check": _as_dict(found),
                "survey": _as_dict(surveyed),
                "replay": _as_dict(seen),
                "triage": _as_dict(lived),
                "server": server,
                "seconds": round(seconds, 1),
            }
            | wrong
        )
    else:
        _farewell(folder, seconds)
    faulty = any(c.missed or c.invented for c in (found, surveyed, seen, lived))
    raise click.exceptions.Exit(1 if faulty else 0)


def _survey(teller: _Teller, folder: Path) -> story.Comparison:
    """A crawl of the new site as it stands on its staging server, against what was planted in
    it.
    """
    site = make_faulty_site(story.STAGED, story.STAGED_PAGES)
    with serve_whole(lambda _, target: site.answer(target)) as address:
        teller.run(story.survey_staging(folder, address))
    result = audited(open_ledger(folder / story.LEDGER), "staging")
    surveyed = story.compare_faults(
        site, {f.kind: {url for url, _ in f.rows} for f in result.faults}
    )
    teller.compare("survey", surveyed)
    return surveyed


def _live(teller: _Teller, folder: Path) -> story.Comparison:
    """The time after a launch, in a ledger of its own: three builds, a log of sixty days, and what
    became of it all.
    """
    phase = make_live_phase()
    phase.write_log(folder / story.FILES / "sixty-days.log")
    phase.write_pairs(folder / story.FILES)
    teller.say(
        "The launch is over. In a ledger of its own: three builds went out, and a log of sixty "
        "days tells what they did."
    )
    teller.ledger = folder / story.LIVE
    for scene in story.builds_going_live(folder):
        teller.run(scene, aloud=False)
    for scene in story.after_launch(folder):
        teller.run(scene)
    result = triage(MoveState(open_ledger(folder / story.LIVE)))
    states = {r.entry.legacy_url: f"{r.account.state} {r.why}".strip() for r in result.rows}
    lived = story.compare_states(phase, states)
    teller.compare("triage", lived)
    return lived


def _ask_nodes(teller: _Teller, folder: Path, move: MoveState, site: str) -> None:
    """The rules on three real servers over HTTPS, where this machine has them."""
    if lacking := nodes.missing():
        teller.say(
            f"Left out, for this machine lacks {lacking}: the same over HTTPS at "
            f"{', '.join(nodes.NODES)}."
        )
        return
    for scene in story.other_nodes(folder, (n for n in nodes.NODES if n != story.SERVER)):
        teller.run(scene)
    builds = {
        name: folder / (story.RULES if name == story.SERVER else f"{story.RULES}-{name}")
        for name in nodes.NODES
    }
    nodes.make_certificate(folder / story.FILES, sorted(move.sites.hosts))
    with nodes.web_nodes(builds, folder / story.FILES, site) as addresses:
        teller.say(
            "(" + ", ".join(f"{name} at {address}" for name, address in addresses.items()) + ")"
        )
        teller.run(story.replay_nodes(addresses.values(), folder / story.FILES / nodes.CERTIFICATE))


def _move(folder: Path) -> MoveState:
    return MoveState(open_ledger(folder / story.LEDGER))


def _verdicts(path: Path) -> dict[str, str]:
    with path.open(encoding="utf-8", newline="") as file:
        return {row["url"]: row["verdict"] for row in csv.DictReader(file)}


def _as_dict(c: story.Comparison) -> dict[str, object]:
    return {"planted": c.planted, "found": c.found, "missed": c.missed, "invented": c.invented}


class _Teller:
    """Runs the scenes as the commands they are, and shows each one as it would be typed."""

    def __init__(self, folder: Path, *, quiet: bool) -> None:
        self.ledger = folder / story.LEDGER
        self.quiet = quiet
        self.number = 0

    def say(self, text: str) -> None:
        if not self.quiet:
            output.say()
            output.say(text)

    def run(self, scene: story.Scene, *, aloud: bool = True) -> None:
        """Run one command; its exit code must be the one the story expects."""
        self.number += aloud
        quiet = self.quiet or not aloud
        arguments = list(scene.command)
        if arguments[0] != "open":
            arguments = ["--ledger", str(self.ledger), *arguments]
        if quiet:
            arguments.append("--json")
        else:
            output.say()
            output.say(f"{self.number}. {scene.intro}", "bold")
            click.echo(f"$ upright {' '.join(scene.command)}")
        with output.swallowed(quiet), output.without_hints():
            code = cli.main(arguments, prog_name="upright", standalone_mode=False)
        if code not in ({0, 1} if scene.faults_expected else {0, None}):
            raise UprightError(
                f"the demo's command {scene.command[0]} ended with exit code {code}",
                "report this as a fault of the program",
            )

    def compare(self, what: str, result: story.Comparison) -> None:
        """Say what was planted, and what was found of it."""
        self.say(
            f"Truth: {result.planted:,} faults were planted; {what} found {result.found:,} of "
            f"them, and {len(result.invented):,} that were not planted.",
        )
        for text in [*result.missed, *result.invented][:10]:
            self.say(f"  not as planted: {text}")


def _farewell(folder: Path, seconds: float) -> None:
    output.say()
    output.say(f"That was the whole story, in {seconds:.0f} seconds. What to look at now:", "bold")
    for path, text in (
        (folder / story.RULES / "README.md", "how an engineer puts the rules in place"),
        (folder / story.RULES / "redirects.conf", "the rules, as nginx reads them"),
        (folder / story.RULES / "redirects.csv", "the same as a plain list"),
        (folder / "after.csv", "every old URL with its verdict"),
        (
            folder / story.FIGURES / "not-found.png",
            "what was not found, day by day, around the launch",
        ),
        (folder / story.FILES / "truth.csv", "the right answer of every old page"),
    ):
        output.say(f"  {path}  {text}")
    click.echo(f"  upright --ledger {folder / story.LEDGER} history")
    output.next_step("begin with your own site", "upright open DIR --old URL --new URL")
