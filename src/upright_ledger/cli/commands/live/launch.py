"""upright launch"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.results import Results
from upright_ledger.app.request_list import Requests
from upright_ledger.app.waves import wave_called
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.http import (
    asking_options,
    manner_of,
    read_place,
    say_who_gets_the_login,
)
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output

_PAGES = 300


@click.command("launch")
@click.option(
    "--at",
    default="",
    metavar="URL",
    help="The server to ask in place of the production hosts, before the switch.",
)
@asking_options
@click.option(
    "--running",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="FILE",
    help="Compare the file that the server runs with the answers of the ledger, too.",
)
@click.option(
    "--wave",
    default="",
    metavar="NAME",
    help="Look at what goes live with this wave of [waves], and leave the rest aside.",
)
@click.option(
    "--top",
    type=click.IntRange(1),
    default=500,
    show_default=True,
    help="So many of the most valuable entries must be answered and ok.",
)
@json_option
@click.pass_obj
def command(
    folder: Path,
    /,
    at: str,
    running: Path | None,
    wave: str,
    top: int,
    as_json: bool,
    **how: Any,
) -> None:
    """Go or no-go, in one look: before the switch, and after it.

    \b
    upright launch --at http://192.0.2.7
    upright launch --connect www.quillhaven.example=192.0.2.7
    upright launch --running /etc/nginx/redirects.conf

    Answers, faults, proof, build, the server's own file, the most valuable old addresses, every
    scheme and host, and what keeps search engines from the new site (a survey of 300 addresses),
    each a line with its remedy. Without --at and --connect the hosts themselves are asked. Exit
    code 1 where a line says no-go.
    """
    from upright_ledger.app.collect.surveys.audit import Audited, audited
    from upright_ledger.app.collect.surveys.crawling import start_surveying
    from upright_ledger.app.collect.surveys.survey import survey
    from upright_ledger.app.collect.surveys.survey_request import NEW, SurveyRequest
    from upright_ledger.app.live.launch import Light, Looks, launch
    from upright_ledger.app.prove.replay import replay
    from upright_ledger.app.prove.replay_request import RunRequest
    from upright_ledger.app.prove.tracing import start_tracing

    place = read_place(at) if at else None
    manner = replace(manner_of(how, [place.host] if place else []), leave=True)
    say_who_gets_the_login(manner, [place])

    def ask(move: MoveState, wanted: Requests, name: str) -> Results:
        with (
            start_tracing(manner) as tracing,
            output.progress_counts(f"asking: {name}") as progress,
        ):
            return replay(move, wanted, RunRequest(place, manner, name), tracing, progress)

    def look() -> Audited:
        request = SurveyRequest((f"{ledger.settings.sites.new[0]}/",), most=_PAGES)
        asking = manner_of({**how, "agent": "upright-ledger (survey)"}, [], request.addresses)
        with start_surveying() as surveying, output.progress_counts("surveying") as progress:
            kept = survey(ledger, request, asking, surveying, progress)
        return audited(ledger, str(kept.run), side=NEW, staging=False, site=kept.site)

    ledger = open_ledger(folder)
    named = wave_called(ledger.settings, wave) if wave else None
    looks = Looks(ask, None if place is not None else look, top, running, named)
    result = launch(MoveState(ledger), looks)
    if as_json:
        output.json_out(result.as_dict())
    else:
        output.table(
            ("line|", "says|", "because, and what to do"),
            [
                (x.about, x.light, [x.told, *([f"  {x.remedy}"] if x.remedy else [])])
                for x in result.lines
            ],
            [output.DOUBTFUL if x.light == Light.NO_GO else "" for x in result.lines],
        )
        output.say()
        against = sum(x.light == Light.NO_GO for x in result.lines)
        left = sum(x.light == Light.OPEN for x in result.lines)
        told = "Go." if result.is_go else f"No-go: {output.plural(against, 'line')}."
        output.say(told + (f" {output.plural(left, 'line')} not looked at." if left else ""))
        if result.is_go:
            output.next_step("say so when the server runs it", "upright handover --live")
        else:
            output.next_step(
                "mend what says no-go, and look again", "upright launch, with the same options"
            )
    raise click.exceptions.Exit(0 if result.is_go else 1)
