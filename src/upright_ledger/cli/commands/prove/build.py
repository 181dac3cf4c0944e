"""upright build"""

from __future__ import annotations

import re
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

import click

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.builds.build import BuildRequest, Built, Condensing, build
from upright_ledger.app.prove.builds.build_files import CHANGES, roll_back, take_back_from
from upright_ledger.app.waves import wave_called
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output
from upright_ledger.core.rules.compiler import Exclusion
from upright_ledger.core.rules.proofs.proof import ProofState
from upright_ledger.errors import UsageError
from upright_ledger.servers import DIALECTS, LISTS

if TYPE_CHECKING:
    from upright_ledger.core.rules.condenser import Condensed

SHOWN = 10
SHOWN_TEMPLATES = 8


@click.command("build")
@click.option(
    "--for",
    "server",
    default="",
    metavar="SERVER",
    help=(
        f"Who will read the rules: {', '.join([*DIALECTS, *LISTS])}, or a profile of upright.toml."
    ),
)
@click.option(
    "--out",
    "out",
    type=click.Path(path_type=Path, file_okay=False),
    required=True,
    metavar="DIR",
    help="Where the files go.",
)
@click.option(
    "--condense",
    "condensing",
    is_flag=False,
    flag_value=str(Condensing.CAUTIOUS),
    default="",
    type=click.Choice(["", str(Condensing.CAUTIOUS), str(Condensing.BOLD)]),
    metavar="[LEVEL]",
    help=(
        "Put template rules in the place of exact ones where no known answer changes, and what is "
        "known bears out the rest; LEVEL bold asks for less, and takes whole folders."
    ),
)
@click.option(
    "--against",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help=(
        "Compare with this list of rules, or with the file that a server runs now, instead of the "
        "last build in DIR."
    ),
)
@click.option(
    "--into",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Replace the block of rules in FILE, too, after a backup.",
)
@click.option(
    "--wave",
    default="",
    metavar="NAME",
    help="Only what is live with this wave of [waves]: its sections, and those before.",
)
@click.option("--dry-run", is_flag=True, help="Only say what would be built.")
@click.option(
    "--force",
    is_flag=True,
    help="Write more rules than a .htaccess can bear, and over built files that were changed.",
)
@click.option(
    "--roll-back",
    "back",
    is_flag=True,
    help="Put the build before this one back in its place (with --into, the file's last backup).",
)
@json_option
@click.pass_obj
def command(
    folder: Path,
    server: str,
    out: Path,
    condensing: str,
    against: Path | None,
    into: Path | None,
    wave: str,
    dry_run: bool,
    force: bool,
    back: bool,
    as_json: bool,
) -> None:
    """Write the rules of all sound answers for a server, with a manifest and a plain list.

    Answers that cannot be executed safely (loops, rules onto themselves, two answers for one
    address) are held back and named; the exit code is then 1. Before anything is put in place the
    files are read back: every exact rule is compared, and requests of all kinds are put to the
    files as the server would read them.
    """
    if back:
        _roll_back(out, into, as_json=as_json)
        return
    if not server:
        raise UsageError("it is not said for whom", "upright build --for nginx --out rules/")
    ledger = open_ledger(folder)
    named = wave_called(ledger.settings, wave) if wave else None
    wanted = BuildRequest(server, out, condensing, against, into, named, force, dry_run)
    result = build(MoveState(ledger), wanted)
    manifest = result.manifest(ledger.settings.name)
    if as_json:
        output.json_out(manifest | {"folder": str(out)})
    else:
        by_status = ", ".join(f"{n:,} with {status}" for status, n in manifest["by_status"].items())
        told = f"{output.plural(manifest['rules'], 'rule')} for {server}"
        told += f" ({by_status})" if by_status else ""
        output.say(
            f"{told} would be built; nothing is written."
            if dry_run
            else f"Built {told} into {out}."
        )
        output.say(f"  digest {manifest['digest'][:16]}…; {_read_back(result)}")
        output.say(f"  files: {', '.join(result.files)}")
        _say_wave(result)
        if result.compared:
            counts = Counter(c.kind for c in result.changes)
            told = ", ".join(
                f"{counts[k]:,} {k}" for k in ("added", "changed", "removed") if counts[k]
            ) or (
                "no listed address changed; spellings, passes or site-wide forms did"
                if result.other_digest
                else "nothing changed"
            )
            output.say(
                f"  against {result.compared}: {told}"
                + (f"; {out / CHANGES} lists them" if result.changes and not dry_run else "")
            )
        if into is not None and not dry_run:
            output.say(
                f"  put into {into}"
                + (f"; the file as it was is {result.backup}" if result.backup else "")
            )
        if condensing:
            _show_condensed(
                result, (ledger.settings.sites.old[0].origins[0], ledger.settings.sites.new[0])
            )
        answers = [h for h in result.held_back if h.kind != Exclusion.PATTERN]
        patterns = [h for h in result.held_back if h.kind == Exclusion.PATTERN]
        for held, title in (
            (answers, f"{output.plural(len(answers), 'answer')} held back"),
            (
                patterns,
                (
                    f"{output.plural(len(patterns), 'pattern')} of imported rules not built: their "
                    "entries are"
                ),
            ),
        ):
            if held:
                output.say()
                output.table(
                    ("held back", "because"),
                    [(h.legacy_url, h.reason) for h in held[:SHOWN]],
                    title=title,
                )
                if len(held) > SHOWN:
                    output.say(
                        f"… and {len(held) - SHOWN:,} more; {out / 'manifest.json'} lists all"
                    )
        if dry_run:
            output.next_step("write them", f"upright build --for {server} --out {out}")
        else:
            output.next_step("try all requests on them", "upright rehearse old-urls.txt access.log")
    raise click.exceptions.Exit(1 if result.held_back else 0)


def _say_wave(result: Built) -> None:
    """Of a build for a wave: what is live with it, what waits, and what is proved of it."""
    if result.wave is None or result.of_wave is None:
        return
    found = result.of_wave
    named = ", ".join(sorted(result.wave.sections)) or "the whole site"
    told = f"  wave {result.wave.name}: {named}"
    output.say(told + (f"; {output.plural(found.later, 'rule')} wait" if found.later else ""))
    if found.waiting:
        output.say(f"  templates that reach beyond it wait, too: {', '.join(found.waiting[:3])}")
    if found.proof.state == ProofState.PROVED:
        output.say("  proved of it: no URL at all is sent on a second time")


def _read_back(result: Built) -> str:
    """What was read back from the files before they were put in place, in words."""
    if result.server not in DIALECTS:
        return "read back from the list, row by row"
    return "read back: the files answer as the rules do"


def _show_condensed(result: Built, origins: tuple[str, ...]) -> None:
    """Say which templates took the place of exact rules, and what else each would answer."""
    output.say()
    now = len(result.rules.answering)
    output.say(
        f"Condensed from {result.before:,} rules to {now:,} ({100 * now / result.before:.1f} %); "
        "every known address is answered as before."
    )
    output.say()
    output.table(
        ("rules>", "replaced by"),
        [
            (
                f"{c.replaced:,}",
                [
                    _shortened(c.template.source.text),
                    f"to  {output.path(to, origins) if (to := c.template.destination) else '410'}",
                    f"as  {output.path(c.examples[0], origins)}",
                    *_beyond(c, origins),
                ],
            )
            for c in result.condensed[:SHOWN_TEMPLATES]
        ],
    )
    if len(result.condensed) > SHOWN_TEMPLATES:
        output.say(
            f"… and {len(result.condensed) - SHOWN_TEMPLATES:,} more templates; manifest.json "
            "lists all"
        )
    if any(c.beyond for c in result.condensed):
        output.say()
        output.say("Addresses of these forms that nobody knows are answered alike: see 'and'.")


def _beyond(condensed: Condensed, origins: tuple[str, ...]) -> list[str]:
    """A made-up address that a template would answer besides, and where it would lead."""
    if condensed.beyond is None:
        return []
    old, new = condensed.beyond
    return [f"and {old}, which nobody knows, to {output.path(new, origins) if new else '410'}"]


def _shortened(text: str) -> str:
    """A template whose lists of values are cut short."""
    return re.sub(r"([^,{|]*\|[^,}]*,[^,}]*),[^}]*", r"\1,…", text)


def _roll_back(out: Path, into: Path | None, *, as_json: bool) -> None:
    if into is not None:
        backup = take_back_from(into)
        told = {"file": str(into), "from": str(backup)}
        text = f"{into} is again as it was before the rules were put into it ({backup})."
    else:
        before, now = roll_back(out)
        told = {"folder": str(out), "before": before, "digest": now}
        text = (
            f"{out} holds the build before again: digest {now[:16]}… in the place of "
            f"{before[:16]}…."
        )
    if as_json:
        output.json_out(told)
        return
    output.say(text)
    output.next_step("let the server read them: README.md tells how", f"less {out / 'README.md'}")
