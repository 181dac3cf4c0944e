"""Bare `upright`: where one is, and what comes next."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

from upright_ledger.app.begin.overview import overview
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.terminal import output
from upright_ledger.core.monitoring.deploy_days import to_the_minute
from upright_ledger.settings.file import FILE_NAME


def show_overview(folder: Path, *, as_json: bool) -> None:
    """Show where the ledger in a folder stands; without one, how to begin."""
    if not (folder / FILE_NAME).is_file():
        if as_json:
            output.json_out(
                {
                    "ledger": None,
                    "next": {"why": "there is no ledger here", "command": "upright open"},
                }
            )
            return
        output.say("There is no ledger in this folder.")
        output.next_step(
            "make one, or see the whole story on a sample site first",
            "upright open DIR --old URL --new URL",
        )
        output.say("  upright demo")
        output.say()
        output.say("upright --help lists all commands.")
        return
    found = overview(open_ledger(folder))
    if as_json:
        values = asdict(found) | {"folder": str(found.folder), "balance": found.balance.as_dict()}
        output.json_out(values)
        return
    output.say(f"Ledger {found.name}", "bold")
    for name, origins in found.old.items():
        output.say(f"  old site {name}: {', '.join(origins)}")
    output.say(f"  new site: {', '.join(found.new)}")
    output.say()
    gathered = sum(1 for s in found.sources if s["purpose"] in {"gather", "errors"})
    b = found.balance
    rows = [
        (
            "collected",
            (
                f"{output.plural(b.entries, 'entry', 'entries')} from "
                f"{output.plural(gathered, 'source')}"
            ),
        ),
        ("in stock", output.plural(found.pages, "page")),
        ("answered", f"{b.answered:,} of {b.entries:,} ({_share(b.answered, b.entries)})"),
        (
            "built",
            f"{output.plural(found.build['rules'], 'rule')} for {found.build['server']}, "
            f"{to_the_minute(found.build['time'])}"
            if found.build
            else "nothing yet",
        ),
        ("rehearsed", _run(found.rehearsal)),
        ("replayed", _run(found.replay)),
    ]
    for label, text in rows:
        output.say(f"  {label:<11}{text}")
    output.next_step(found.next.why, found.next.command)


def _share(part: int, whole: int) -> str:
    return f"{int(1000 * part / whole) / 10:g} %" if whole else "–"


def _run(run: dict[str, object] | None) -> str:
    if run is None:
        return "not yet"
    counts = run["counts"]
    assert isinstance(counts, dict)  # noqa: S101 - what the ledger stores
    wrong = sum(n for v, n in counts.items() if v != "ok")
    return f"{sum(counts.values()):,} URLs, {wrong:,} not ok, {to_the_minute(str(run['time']))}"
