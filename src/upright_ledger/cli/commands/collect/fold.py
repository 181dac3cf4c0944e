"""upright fold"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.collect.fold import FoldingReport, folding
from upright_ledger.app.collect.fold import put_back as folding_put_back
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output
from upright_ledger.core.inventory.parameter_inference import Doubt, Suggestion
from upright_ledger.errors import UsageError

SHOWN = 12


@click.command("fold")
@click.option("--accept", is_flag=True, help="Take over all suggestions.")
@click.option("--apply", "apply", is_flag=True, help="Fold under what upright.toml says now.")
@click.option(
    "--put-back", is_flag=True, help="Let upright.toml say again what the entries stand under."
)
@click.option(
    "--significant",
    multiple=True,
    metavar="PATH=NAMES",
    help=(
        "The parameters that choose the page there, as in /catalogue.php=item; none after = for "
        "none."
    ),
)
@click.option(
    "--case", type=click.Choice(["fold", "exact"]), help="Whether A-Z equal a-z in paths."
)
@click.option(
    "--take-back",
    multiple=True,
    metavar="CLASS|PATH",
    help=(
        "Make entries of what was set aside: a class such as furniture, or paths such as "
        "'/downloads/*'."
    ),
)
@json_option
@click.pass_obj
def command(
    folder: Path,
    accept: bool,
    apply: bool,
    put_back: bool,
    significant: tuple[str, ...],
    case: str | None,
    take_back: tuple[str, ...],
    as_json: bool,
) -> None:
    """Show and change which spellings are one entry.

    Without options, says which parameters choose the page and which do not, as worked out from
    titles, statuses and how often each value occurs. A change folds all entries anew, as one step
    that `upright undo` takes back: entries with different answers that become one are a conflict,
    and an entry that is split gives each part its answer.
    """
    ledger = open_ledger(folder)
    if put_back:
        if accept or apply or significant or case or take_back:
            raise UsageError(
                "--put-back changes no entry, and goes with no other change", "say it by itself"
            )
        _say_put_back(folding_put_back(ledger), as_json=as_json)
        return
    report = folding(
        ledger,
        accept=accept,
        apply=apply,
        significant=[_significant(text) for text in significant],
        case=case or "",
        take_back=take_back,
    )
    if as_json:
        output.json_out(_as_dict(report))
        return
    if report.applied is not None:
        _show_applied(report)
    elif accept or apply or significant or case or take_back:
        output.say("Nothing to change: the entries are folded so already.")
    _show_doubts(report.doubts)
    _show_suggestions(report)


def _say_put_back(changes: list[str], *, as_json: bool) -> None:
    if as_json:
        output.json_out({"put_back": changes})
        return
    for change in changes:
        output.say(f"No longer in upright.toml: {change}")
    output.say(
        "upright.toml says what the entries stand under."
        if changes
        else "It did so already: nothing was changed."
    )


def _show_doubts(doubts: list[Doubt]) -> None:
    if not doubts:
        return
    output.say(
        "Named like sessions, and kept, as their values are none; --significant settles a path "
        "either way:"
    )
    rows = [
        (d.path, d.reason.parameter, "yes" if d.reason.chooses else "no", d.reason.why)
        for d in doubts[:SHOWN]
    ]
    output.table(("path", "parameter", "chooses the page", "why"), rows)
    if len(doubts) > SHOWN:
        output.say(f"… and {len(doubts) - SHOWN:,} more (--json shows all)")
    output.say()


def _significant(text: str) -> tuple[str, tuple[str, ...]]:
    path, mark, names = text.rpartition("=")
    if not mark or not path.startswith("/"):
        raise UsageError(
            f"--significant {text} names no path", "write it as in /catalogue.php=item"
        )
    return path, tuple(n for n in names.split(",") if n)


def _show_applied(report: FoldingReport) -> None:
    done = report.applied
    if done is None:
        return
    for change in report.changes:
        output.say(f"Changed: {change}")
    output.say(
        f"{output.plural(report.before, 'entry', 'entries')} became {report.after:,}: of "
        f"{done.spellings:,} spellings"
        f" {done.changed:,} moved."
    )
    if done.split:
        output.say(
            f"{output.plural(done.split, 'entry was', 'entries were')} split; the parts inherit "
            "the answer."
        )
    if done.conflicts:
        output.say(
            f"{output.plural(done.conflicts, 'conflict')}: entries with different answers became "
            "one.",
            output.DOUBTFUL,
        )
    if report.lacking:
        logs = ", ".join(f"{name} (step {step})" for name, step in report.lacking[:5])
        more = f" and {len(report.lacking) - 5:,} more" if len(report.lacking) > 5 else ""
        output.say(
            f"The values of {', '.join(report.needed)} are not known from {logs}{more}: they were "
            "left out when these were gathered. "
            "To have them, undo those steps and gather the files again.",
            output.DOUBTFUL,
        )
    output.next_step(
        "see whether anything is wrong now, or take it back with upright undo", "upright check"
    )


def _show_suggestions(report: FoldingReport) -> None:
    if not report.suggestions:
        doubted = [d.path for d in report.doubts if not d.reason.chooses]
        if doubted:
            output.say("Nothing else to suggest.")
            output.next_step(
                "name the parameters that choose the page there",
                f"upright fold --significant {doubted[0]}=NAMES",
            )
        elif report.applied is None:
            output.say(
                "Every parameter seen chooses a page, or is settled in upright.toml: nothing to "
                "suggest."
            )
            output.next_step("look at the entries", "upright entries")
        return
    rows = [
        (
            s.path if n == 0 else "",
            r.parameter,
            "yes" if r.chooses else "no",
            r.why,
            f"{s.pages_before:,} → {s.pages_after:,}" if n == 0 else "",
        )
        for s in report.suggestions[:SHOWN]
        for n, r in enumerate(s.reasons)
    ]
    output.table(("path", "parameter", "chooses the page", "why", "pages"), rows)
    if len(report.suggestions) > SHOWN:
        output.say(f"… and {len(report.suggestions) - SHOWN:,} more paths (--json shows all)")
    fewer = sum(s.pages_before - s.pages_after for s in report.suggestions)
    output.say()
    output.say(
        f"{output.plural(fewer, 'address', 'addresses')} would fold into others of "
        f"{report.before:,} entries."
    )
    output.next_step(
        "take this over, or set a path yourself with --significant", "upright fold --accept"
    )


def _as_dict(report: FoldingReport) -> dict[str, object]:
    done = report.applied
    return {
        "suggestions": [_suggestion(s) for s in report.suggestions],
        "named_like_sessions": [
            {
                "path": d.path,
                "parameter": d.reason.parameter,
                "chooses_page": d.reason.chooses,
                "why": d.reason.why,
            }
            for d in report.doubts
        ],
        "entries_before": report.before,
        "entries": report.after,
        "changes": report.changes,
        "not_known": {"parameters": report.needed, "sources": [name for name, _ in report.lacking]}
        if report.lacking
        else {},
        "applied": None
        if done is None
        else {
            "spellings": done.spellings,
            "moved": done.changed,
            "made": done.made,
            "split": done.split,
            "conflicts": done.conflicts,
        },
    }


def _suggestion(s: Suggestion) -> dict[str, object]:
    return {
        "path": s.path,
        "significant": list(s.significant),
        "reasons": [
            {"parameter": r.parameter, "chooses_page": r.chooses, "why": r.why} for r in s.reasons
        ],
        "spellings": s.spellings,
        "pages_before": s.pages_before,
        "pages_after": s.pages_after,
    }
