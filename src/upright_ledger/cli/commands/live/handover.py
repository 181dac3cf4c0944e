"""upright handover"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from upright_ledger.app.live.drift import Drift, drift
from upright_ledger.app.live.handover import behind, builds, live_build, mark, take_off
from upright_ledger.app.live.inbound_links import write_inbound
from upright_ledger.app.live.reindexing import write_moved, write_sitemap
from upright_ledger.app.move_state import MoveState
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.output_files import FILE, force_option
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output
from upright_ledger.core.monitoring.deploy_days import to_the_minute
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import Ledger

SHOWN = 12


@click.command("handover")
@click.argument("which", required=False, default="", metavar="[BUILD]")
@click.option("--given", is_flag=True, help="The build was handed over to whoever runs the server.")
@click.option("--live", is_flag=True, help="The build is live: the server runs it.")
@click.option(
    "--off", is_flag=True, help="The build is not live any more: the one before it was put back."
)
@click.option("--at", metavar="TIME", help="When, such as 2026-05-14T14:30.  [default: now]")
@click.option(
    "--running",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="FILE",
    help="Compare the file that the server runs with the answers of the ledger.",
)
@click.option(
    "--moved",
    "moved_file",
    type=FILE,
    metavar="FILE",
    help="Write which addresses moved where and when (.csv, .xlsx or .jsonl), for search engines.",
)
@click.option(
    "--sitemap",
    type=FILE,
    metavar="FILE",
    help="Write the sitemap of the new site, with the days on which pages took addresses in.",
)
@click.option(
    "--inbound",
    type=FILE,
    metavar="FILE",
    help="Write the links of other sites to what is no more, with the right address, for those who "
    "link.",
)
@force_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    which: str,
    given: bool,
    live: bool,
    off: bool,
    at: str | None,
    running: Path | None,
    moved_file: Path | None,
    sitemap: Path | None,
    inbound: Path | None,
    as_json: bool,
) -> None:
    """Say that a build was handed over or is live, or list the builds.

    \b
    upright handover rules/ --given
    upright handover rules/ --live --at 2026-05-14T14:30
    upright handover --running /etc/nginx/redirects.conf
    upright handover --moved moved.csv --sitemap sitemap.xml
    upright handover --inbound links.csv

    BUILD is its number or its folder; without one it is the newest. From the time on at which it
    went live, requests that fail count against its answers: see upright triage. Exit code 1 when
    the server runs something else than the ledger says.
    """
    if given + live + off > 1:
        raise UsageError(
            "--given, --live and --off contradict each other", "say first the one, then the other"
        )
    if at is not None and not at.strip():
        raise UsageError("--at is empty", "such as --at 2026-05-14T14:30; leave it out for now")
    if at and not (given or live):
        raise UsageError("--at says when something happened", "add --given or --live")
    ledger = open_ledger(folder)
    if running is not None:
        _show_drift(drift(MoveState(ledger), running), as_json=as_json)
        return
    if moved_file is not None or sitemap is not None or inbound is not None:
        if given or live or off or which:
            raise UsageError(
                "--moved, --sitemap and --inbound tell of the whole ledger",
                "give them without a build",
            )
        _tell_others(MoveState(ledger), moved_file, sitemap, inbound, as_json=as_json)
        return
    if off:
        _take_off(ledger, which, as_json=as_json)
        return
    if given or live:
        marked = mark(ledger, which, live=live, at=at or "")
        if as_json:
            output.json_out(marked.as_dict())
            return
        said = (
            f"live since {to_the_minute(marked.live_from)}"
            if live
            else f"handed over, {to_the_minute(marked.handed_over)}"
        )
        output.say(
            f"Build {marked.number} ({output.plural(marked.rules, 'rule')} for {marked.server}) is "
            f"{said}."
        )
        if live:
            output.next_step(
                "see what still fails, with the logs from then on", "upright triage access.log"
            )
        else:
            output.next_step(
                "say so when the server runs it", f"upright handover {marked.number} --live"
            )
        return
    told, late = builds(ledger), behind(ledger)
    if as_json:
        output.json_out({"builds": [b.as_dict() for b in told], "behind": late})
        return
    if not told:
        output.say("Nothing was built yet.")
        output.next_step("build the rules", "upright build --for nginx --out rules/")
        return
    output.table(
        ("build>", "rules>", "live since|", "for whom, when it was made, and where it is"),
        [
            (
                b.number,
                b.rules,
                to_the_minute(b.live_from) or "not live",
                [
                    f"{b.server}{f', wave {b.wave}' if b.wave else ''}, made "
                    f"{to_the_minute(b.time)}"
                    + (f", handed over {to_the_minute(b.handed_over)}" if b.handed_over else ""),
                    b.folder,
                ],
            )
            for b in told[:SHOWN]
        ],
    )
    if late:
        output.say(f"Behind: {late}.", output.DOUBTFUL)
    output.next_step("say which one the server runs", "upright handover BUILD --live")


def _take_off(ledger: Ledger, which: str, *, as_json: bool) -> None:
    """Note that a build is not live any more, and say which one is."""
    taken, left = take_off(ledger, which), live_build(ledger)
    if as_json:
        output.json_out(taken.as_dict() | {"live_from": "", "live": left and left.number})
        return
    said = f"; {left.said}" if left is not None else ", and none is"
    output.say(f"Build {taken.number} is not live any more{said}.")
    output.next_step("see what fails now", "upright triage access.log")


def _tell_others(
    move: MoveState,
    moved_file: Path | None,
    sitemap: Path | None,
    inbound: Path | None,
    *,
    as_json: bool,
) -> None:
    told: dict[str, Any] = {}
    if moved_file is not None:
        rows = write_moved(move, moved_file)
        waiting = sum(not row.date for row in rows)
        told["moved"] = {"file": str(moved_file), "addresses": len(rows), "not_live": waiting}
        if not as_json:
            late = f"; {waiting:,} are not live yet, and have no date" if waiting else ""
            output.say(f"{moved_file}: {output.plural(len(rows), 'address', 'addresses')}{late}.")
    if sitemap is not None:
        done = write_sitemap(move, sitemap)
        told["sitemap"] = {"files": [str(f) for f in done.files], "pages": done.addresses}
        if not as_json:
            parts = len(done.files) - 1
            more = f", in {parts:,} files that it names" if parts else ""
            output.say(f"{sitemap}: {output.plural(done.addresses, 'page')}{more}.")
    if inbound is not None:
        links = write_inbound(move, inbound)
        dead = len({link.dead for link in links})
        told["inbound"] = {
            "file": str(inbound),
            "links": len(links),
            "addresses": dead,
            "no_longer": sum(link.seen == "no longer" for link in links),
        }
        if not as_json:
            output.say(
                f"{inbound}: {output.plural(len(links), 'link')} of other sites to "
                f"{output.plural(dead, 'address', 'addresses')}, those to which most sites link "
                "first."
            )
            if not links:
                output.say("No list of links names one: upright gather links.csv takes them up.")
    if as_json:
        output.json_out(told)
    elif sitemap is not None:
        output.next_step(
            "put it where robots.txt names it, and see that its addresses answer",
            f"upright survey {move.sites.new[0]}",
        )


def _show_drift(found: Drift, *, as_json: bool) -> None:
    if as_json:
        output.json_out(
            {
                "file": str(found.file),
                "build": found.which.number if found.which else None,
                "compared": found.asked,
                "differing": [
                    {"old": c.old, "running": c.before, "ledger": c.after} for c in found.differing
                ],
            }
        )
    else:
        named = (
            f"says it is build {found.which.number}"
            if found.which
            else "names no build of this ledger"
        )
        output.say(f"{found.file} {named}; {found.asked:,} addresses compared.")
        if found.differing:
            output.table(
                ("address", "runs", "ledger says"),
                [
                    (c.old, c.before or "nothing", c.after or "nothing")
                    for c in found.differing[:SHOWN]
                ],
                title=f"{output.plural(len(found.differing), 'answer')} differ",
            )
            if len(found.differing) > SHOWN:
                output.say(f"… and {len(found.differing) - SHOWN:,} more; --json lists all")
        else:
            output.say("The server's file answers as the ledger says.")
    raise click.exceptions.Exit(1 if found.differing else 0)
