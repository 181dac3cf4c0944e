"""upright replay"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any, NoReturn

import click

from upright_ledger.app.live.drift import drift_seen
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.fix import fix
from upright_ledger.app.prove.results import Results
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.http import (
    asking_options,
    manner_of,
    read_place,
    say_who_gets_the_login,
)
from upright_ledger.cli.options.reading import reading_options
from upright_ledger.cli.options.runs import RunView, view_options
from upright_ledger.cli.options.shared import choice_of, json_option, optional_paths_argument
from upright_ledger.cli.screens.results import (
    compared_dict,
    show_disagreements,
    show_results,
    show_several,
)
from upright_ledger.cli.terminal import output
from upright_ledger.core.tracing.verdicts import ORDER
from upright_ledger.formats.records import ReadOptions


@click.command("replay")
@optional_paths_argument
@reading_options
@click.option(
    "--at",
    "places",
    multiple=True,
    metavar="URL",
    help="The server to ask in place of the production hosts; several are compared.",
)
@click.option(
    "--profile",
    "profiles",
    multiple=True,
    metavar="WHO",
    help="Ask as phone, crawler, or a language such as de; several are compared.",
)
@asking_options
@click.option(
    "--matrix", is_flag=True, help="Ask for every scheme, www and slash of all hosts instead."
)
@click.option("--section", default="", help="Without files: the entries of one section.")
@click.option(
    "--verdict",
    type=choice_of(ORDER),
    metavar="VERDICT",
    default=None,
    help="Without files: what the last run found so.",
)
@click.option(
    "--sample", type=click.IntRange(0), default=0, help="Without files: as many entries, by chance."
)
@click.option("--top", type=click.IntRange(0), default=0, help="Only so many, the most valuable.")
@click.option("--as", "name", default="", metavar="NAME", help="Call this run so, for comparing.")
@click.option(
    "--fix",
    "fixing",
    is_flag=True,
    help="Afterwards mend our own rules, as upright check --fix does.",
)
@click.option("--resume", is_flag=True, help="Go on with the last run there, which was stopped.")
@view_options
@json_option
@click.pass_obj
def command(
    folder: Path,
    /,
    paths: tuple[str, ...],
    reading: ReadOptions,
    places: tuple[str, ...],
    profiles: tuple[str, ...],
    matrix: bool,
    section: str,
    verdict: str | None,
    sample: int,
    top: int,
    name: str,
    fixing: bool,
    resume: bool,
    view: RunView,
    as_json: bool,
    **how: Any,
) -> None:
    """Ask a server for old URLs over HTTP, and record every hop.

    \b
    upright replay old-urls.txt access.log --at http://127.0.0.1:8080
    upright replay --top 500 --connect www.quillhaven.example=192.0.2.7
    upright replay --verdict chain --as after-the-fix
    upright replay --matrix --at http://192.0.2.7 --at http://192.0.2.8

    Without files, all entries of the ledger are asked for. With --at everything goes to one
    address, with the production host in each request; --connect keeps the scheme, too, and TLS asks
    for the production name. With neither, the hosts themselves are asked. robots.txt plays no part:
    these are your own addresses. A name and password for a staging server come from
    UPRIGHT_HTTP_LOGIN (name:password) or your .netrc. Ctrl-C keeps what is done. Exit code 1 when
    anything is not ok.
    """
    from upright_ledger.app.prove.replay import StoppedError, replay
    from upright_ledger.app.prove.replay_request import ReplayRequest
    from upright_ledger.app.prove.tracing import start_tracing

    at = tuple(map(read_place, places))
    manner = replace(manner_of(how, [p.host for p in at]), leave=True)
    say_who_gets_the_login(manner, at or [None])
    request = ReplayRequest(
        paths=paths,
        reading=reading,
        matrix=matrix,
        section=section,
        verdict=verdict or "",
        sample=sample,
        top=top,
        places=at,
        profiles=profiles,
        name=name,
        resume=resume,
    )
    told: list[Results] = []
    with start_tracing(manner) as tracing:
        ledger = open_ledger(folder)
        move = MoveState(ledger)
        asked = request.requests(move)
        try:
            for run in request.runs(manner):
                with output.progress_counts(f"replaying {run.label}".strip()) as progress:
                    told.append(replay(move, asked, run, tracing, progress))
        except StoppedError as stopped:
            if not stopped.by_hand:
                raise
            _say_stopped(stopped.done, stopped.total, as_json=as_json)
    faults = any(r.faults for r in told)
    mends = fix(ledger) if fixing and faults else []
    view.write(told[-1], quiet=as_json)
    if as_json:
        drifted = drift_seen(move, told[0])
        output.json_out(
            (told[0].as_dict() if len(told) == 1 else compared_dict(told))
            | ({"drift": drifted} if drifted else {})
        )
        raise click.exceptions.Exit(1 if faults else 0)
    first = next((r for r in told if r.faults), told[0])
    drifted = drift_seen(move, first)
    if len(told) > 1:
        show_several(told)
        show_disagreements(told, ledger.settings.sites)
        if first.faults:
            output.say()
            output.say(f"What is not ok at {first.at or 'the hosts themselves'}:")
    if len(told) == 1 or first.faults:
        show_results(first, ledger.settings.sites, all_rows=view.all_rows, hops=view.with_hops)
    output.say()
    if drifted:
        output.say(f"Drift: {drifted}.", output.DOUBTFUL)
    if mends:
        output.say(
            f"{output.plural(len(mends), 'answer')} mended, as one step that `upright undo` takes "
            "back."
        )
        output.next_step(
            "build the rules anew, and replay", "upright build --for nginx --out rules/"
        )
    elif faults:
        output.next_step(
            "settle what is not ok, build again and replay", "upright decide OLD --to NEW"
        )
    else:
        output.next_step("see where you are", "upright")
    raise click.exceptions.Exit(1 if faults else 0)


def _say_stopped(done: int, total: int, *, as_json: bool) -> NoReturn:
    if as_json:
        output.json_out({"stopped": {"done": done, "total": total}})
    else:
        output.say(f"Stopped: {done:,} of {total:,} URLs are done and kept.")
        output.next_step(
            "go on where it stopped",
            "upright replay … --resume, with the same files and options",
        )
    raise click.exceptions.Exit(130) from None
