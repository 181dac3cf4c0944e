"""upright replay"""

from __future__ import annotations

import re
from dataclasses import replace
from itertools import product
from pathlib import Path
from typing import Any

import click

from upright_ledger.app.live.handover import drift_seen
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.fix import fix
from upright_ledger.app.prove.request_files import read_requests
from upright_ledger.app.prove.results import Results
from upright_ledger.app.prove.runs import found_requests
from upright_ledger.app.request_list import host_matrix, own_requests
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.http import (
    asking_options,
    manner_of,
    read_place,
    say_who_gets_the_login,
)
from upright_ledger.cli.options.shared import (
    ON_SCREEN,
    choice_of,
    force_option,
    hops_option,
    json_option,
    optional_paths_argument,
    out_option,
    read_options,
    reading_options,
)
from upright_ledger.cli.screens.results import (
    compared_dict,
    show_disagreements,
    show_results,
    show_several,
    write_results,
)
from upright_ledger.cli.terminal import output
from upright_ledger.core.tracing.verdicts import ORDER
from upright_ledger.core.url.address import Address
from upright_ledger.errors import UsageError


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
@out_option
@hops_option
@force_option
@click.option("--all", "all_rows", is_flag=True, help="List every URL that is not ok.")
@json_option
@click.pass_obj
def command(
    folder: Path,
    /,
    paths: tuple[str, ...],
    kind: str,
    columns: tuple[str, ...],
    encoding: str,
    host: str,
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
    out: Path | None,
    hops: Path | None,
    all_rows: bool,
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
    from upright_ledger.app.prove.tracing import start_tracing

    found: list[Address | None] = [*map(read_place, places)] or [None]
    manner = replace(manner_of(how, [p.host for p in found if p is not None]), leave=True)
    say_who_gets_the_login(manner, found)
    if paths and (section or verdict or sample or matrix):
        raise UsageError(
            "--section, --verdict, --sample and --matrix choose what to ask", "leave the files out"
        )
    asking = list(product(found, profiles or ("",)))
    if len(asking) > 1 and resume:
        raise UsageError(
            "--resume goes with one place and one profile", "ask them one after the other"
        )
    told: list[Results] = []
    with start_tracing(manner) as tracing:
        ledger = open_ledger(folder)
        move = MoveState(ledger)
        if matrix:
            asked = host_matrix(move)
        elif paths:
            asked = read_requests(move, list(paths), read_options(columns, encoding), kind, host)
        else:
            asked = (
                found_requests(move, verdict)
                if verdict
                else own_requests(move, section=section, sample=sample)
            )
        asked = asked.most_valuable(move, top)
        try:
            for place, profile in asking:
                as_who = replace(manner, **_profile(profile, manner.headers)) if profile else manner
                called = name if len(asking) == 1 or not name else _called(name, place, profile)
                with output.progress_counts(f"replaying {profile}".strip()) as progress:
                    told.append(
                        replay(
                            move,
                            asked,
                            place,
                            as_who,
                            tracing,
                            name=called,
                            label=profile,
                            resume=resume,
                            progress=progress,
                        )
                    )
        except StoppedError as stopped:
            if not stopped.by_hand:
                raise
            if as_json:
                output.json_out({"stopped": {"done": stopped.done, "total": stopped.total}})
                raise click.exceptions.Exit(130) from None
            output.say(f"Stopped: {stopped.done:,} of {stopped.total:,} URLs are done and kept.")
            output.next_step(
                "go on where it stopped",
                "upright replay … --resume, with the same files and options",
            )
            raise click.exceptions.Exit(130) from None
    faults = any(r.faults for r in told)
    mends = fix(ledger) if fixing and faults else []
    write_results(told[-1], out, hops, quiet=as_json)
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
        show_results(first, ledger.settings.sites, all_rows=all_rows, hops=hops == ON_SCREEN)
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


def _called(name: str, place: Address | None, profile: str) -> str:
    """The name of one run of several, by which they are told apart."""
    return " ".join(part for part in (name, place.authority if place else "", profile) if part)


_PROFILES = {
    "phone": (
        "Mozilla/5.0 (Linux; Android 14; Mobile) AppleWebKit/537.36 (KHTML, like Gecko) Mobile "
        "Safari/537.36"
    ),
    "crawler": "Mozilla/5.0 (compatible; upright-ledger; crawler bot)",
}


def _profile(text: str, headers: tuple[str, ...]) -> dict[str, Any]:
    """What a profile changes: the user agent, or the language."""
    if text in _PROFILES:
        return {"agent": _PROFILES[text]}
    if not re.fullmatch(r"[A-Za-z]{2,3}(?:-[A-Za-z0-9]{2,8})*", text):
        raise UsageError(
            f"--profile {text} is not known",
            f"one of {', '.join(_PROFILES)}, or a language such as de",
        )
    return {"headers": (*headers, f"Accept-Language: {text}")}
