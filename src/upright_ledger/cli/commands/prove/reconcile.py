"""upright reconcile"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.compare_runs import OutcomeChange, Reconciled, reconcile
from upright_ledger.app.prove.results import Results
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.output_files import FILE, force_option
from upright_ledger.cli.options.shared import choice_of, json_option
from upright_ledger.cli.terminal import output
from upright_ledger.core.tracing.comparison import Compared
from upright_ledger.core.tracing.verdicts import ORDER

SHOWN = 20
_WORDS = {
    Compared.WORSE: "got worse",
    Compared.CONTENT: "land on a page about something else",
    Compared.ELSEWHERE: "end elsewhere than before",
    Compared.MISSING: "asked before only",
    Compared.ADDED: "asked now only",
    Compared.BETTER: "got better",
    Compared.SAME: "as before",
}


@click.command("reconcile")
@click.argument("before")
@click.argument("after")
@click.option(
    "--allow",
    multiple=True,
    type=choice_of([Compared.WORSE, Compared.CONTENT, *ORDER]),
    metavar="WHAT",
    help="What is no regression: worse, content-changed, or a verdict in which a URL may end.",
)
@click.option(
    "--out", type=FILE, metavar="FILE", help="Write one row a URL: .csv, .xlsx or .jsonl."
)
@click.option("--all", "all_rows", is_flag=True, help="List every URL that changed.")
@force_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    before: str,
    after: str,
    allow: tuple[str, ...],
    out: Path | None,
    all_rows: bool,
    as_json: bool,
) -> None:
    """Lay two runs side by side: what got better, what got worse.

    \b
    upright reconcile before-launch after-launch
    upright reconcile 3 last --allow chain --out changes.xlsx

    BEFORE and AFTER are numbers or names of runs (upright runs); "last" is the newest. Where titles
    of the old page and the new one are known, pages that share hardly a word are named, too: a
    redirect may lead to the wrong page with every status right. Answers that a person gave are
    taken for meant. Exit code 1 on regressions.
    """
    ledger = open_ledger(folder)
    found = reconcile(MoveState(ledger), before, after, frozenset(allow))
    if out is not None:
        found.write(out)
    if as_json:
        output.json_out(found.as_dict())
    else:
        _show(
            found,
            (ledger.settings.sites.old[0].origins[0], ledger.settings.sites.new[0]),
            all_rows=all_rows,
        )
        if out is not None:
            output.say(f"Every URL is in {out}.")
        if found.regressions:
            output.next_step("see how they end now", f"upright runs {found.after.run} --all")
        else:
            output.next_step("see where you are", "upright")
    raise click.exceptions.Exit(1 if found.regressions else 0)


def _show(found: Reconciled, known: tuple[str, ...], *, all_rows: bool) -> None:
    output.say(f"{_called(found.before)}, and {_called(found.after)}.")
    output.say()
    output.table(
        ("URLs>", "what became of them"),
        [(n, _WORDS[kind]) for kind, n in found.counts.items()],
        [_style(k) for k in found.counts],
    )
    if found.moves:
        output.say()
        output.table(
            ("URLs>", "before", "now"),
            [(n, b, a) for (b, a), n in list(found.moves.items())[:SHOWN]],
        )
    if found.judged:
        output.say()
        pages = output.plural(found.judged, "page")
        output.say(
            f"By titles and texts, {pages} were compared with what is known of the old ones."
        )
    told = [
        c
        for c in found.changes
        if c.kind in {Compared.WORSE, Compared.CONTENT, Compared.ELSEWHERE}
        or (all_rows and c.kind != Compared.SAME)
    ]
    if not told:
        return
    shown = told
    if not all_rows:
        shown = output.some_of_each(
            told, lambda c: c.kind, max(3, SHOWN // len({c.kind for c in told}))
        )
    output.say()
    output.table(
        ("change", "value>", "URL, and what happened"),
        [(c.kind, f"{c.value:,.0f}", _lines(c, known)) for c in shown],
        [_style(c.kind) for c in shown],
    )
    if len(shown) < len(told):
        output.say(
            f"… and {len(told) - len(shown):,} more; --all lists them, --out FILE keeps every URL"
        )


def _called(run: Results) -> str:
    return f"{run.name or f'run {run.run}'} ({output.plural(len(run.rows), 'URL')})"


def _lines(change: OutcomeChange, known: tuple[str, ...]) -> list[str]:
    lines = [output.path(change.url, known)]
    if change.before != change.after:
        lines.append(f"{change.before or 'not asked'}, now {change.after or 'not asked'}")
    if change.before_url != change.after_url and change.before_url and change.after_url:
        lines.append(
            f"ended {output.path(change.before_url, known)}, now "
            f"{output.path(change.after_url, known)}"
        )
    if change.kind == Compared.CONTENT:
        lines += [f"was  {change.old_title}", f"is   {change.new_title}"]
    return lines


def _style(kind: str) -> str:
    return (
        output.GRAVE
        if kind in {Compared.WORSE, Compared.CONTENT}
        else output.DOUBTFUL
        if kind in {Compared.ELSEWHERE, Compared.MISSING}
        else ""
    )
