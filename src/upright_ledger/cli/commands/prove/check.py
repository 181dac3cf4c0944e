"""upright check"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.live.handover import behind
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.builds.imported_listing import ImportedLine, imported_lines
from upright_ledger.app.prove.check import Checked, check_ledger
from upright_ledger.app.prove.fix import MENDABLE, fix
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.reading import pair_options, show_columns
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output
from upright_ledger.core.rules.finding import FindingKind
from upright_ledger.errors import UsageError
from upright_ledger.formats.records import ReadOptions

SHOWN = 8
SHOWN_IMPORTED = 30
SHOWN_CAUSES = 15
SHOWN_OF_EACH = 3


@click.command("check")
@click.argument("sheet", metavar="[PAIRS.csv]", required=False, type=click.Path(path_type=Path))
@click.option(
    "--old", multiple=True, metavar="URL", help="With a sheet: an origin its old paths lie on."
)
@click.option(
    "--new", multiple=True, metavar="URL", help="With a sheet: an origin its new paths lie on."
)
@click.option(
    "--slash",
    type=click.Choice(["always", "never", "as-stock"]),
    default="as-stock",
    help="With a sheet: the site's closing slash.",
)
@click.option(
    "--stock",
    type=click.Path(path_type=Path),
    help="With a sheet: a CSV of the new pages (url, status).",
)
@click.option(
    "--fix",
    "fixing",
    is_flag=True,
    help="Mend chains, closing slashes and rules onto themselves, as one undoable step.",
)
@click.option(
    "--imported",
    is_flag=True,
    help="List the rules that were read from servers' files: where each stands, what it answers, "
    "and whether it is built.",
)
@click.option("--all", "all_rows", is_flag=True, help="List everything.")
@pair_options
@json_option
@click.pass_obj
def command(
    folder: Path,
    sheet: Path | None,
    old: tuple[str, ...],
    new: tuple[str, ...],
    slash: str,
    stock: Path | None,
    fixing: bool,
    imported: bool,
    all_rows: bool,
    reading: ReadOptions | None,
    as_json: bool,
) -> None:
    """Find faults in the answers, without any server; with a sheet of pairs, without any ledger.

    Chains, loops, rules onto themselves, two answers for one address, closing slashes, temporary
    moves, destinations that are unknown, dead or redirect themselves, pages that a rule would hide,
    and inner pages sent to the home page. For the rules as a whole it is proved that no URL at all
    runs into a chain or loop, or an address that does is shown. Exit code 1 when there are faults.
    """
    if imported:
        if sheet is not None or fixing:
            raise UsageError("--imported lists the rules of a ledger", "give it alone")
        lines = imported_lines(MoveState(open_ledger(folder)))
        _show_imported(lines, all_rows=all_rows, as_json=as_json)
        return
    if sheet is None:
        if old or new or stock:
            raise UsageError(
                "--old, --new and --stock go with a sheet of pairs",
                "a ledger has its own settings and stock",
            )
        ledger = open_ledger(folder)
        mends = fix(ledger) if fixing else []
        move = MoveState(ledger)
        result, late = check_ledger(move, mends), behind(ledger)
    else:
        if fixing:
            raise UsageError(
                "--fix mends the answers of a ledger",
                "upright decide --from takes a sheet into one",
            )
        from upright_ledger.app.prove.check_sheet import check_pairs

        options = reading
        result, late = (
            check_pairs(sheet, old=old, new=new, slash=slash, stock=stock, options=options),
            "",
        )
    if as_json:
        output.json_out(result.as_dict() | ({"behind": late} if late else {}))
    else:
        if late:
            output.say(f"Behind: {late}.", output.DOUBTFUL)
        _show(result, all_rows=all_rows, sheet=sheet)
    raise click.exceptions.Exit(1 if result.faults or result.rejected else 0)


def _show_imported(lines: list[ImportedLine], *, all_rows: bool, as_json: bool) -> None:
    if as_json:
        output.json_out({"rules": [line._asdict() for line in lines]})
        return
    if not lines:
        output.say("No rule was read from a server's file: upright gather .htaccess does that.")
        return
    shown = lines if all_rows else lines[:SHOWN_IMPORTED]
    output.table(
        ("status>", "entries>", "rule, what it answers, and whether it is built"),
        [
            (
                line.status or "–",
                line.entries,
                [
                    line.where + (f"  for {line.hosts}" if line.hosts else ""),
                    line.asks,
                    *([f"to  {line.answers}"] if line.answers else []),
                    f"built: {line.built}",
                ],
            )
            for line in shown
        ],
    )
    if len(shown) < len(lines):
        output.say(f"… and {len(lines) - len(shown):,} more; --all lists them")
    output.next_step("look for faults", "upright check")


def _show(result: Checked, *, all_rows: bool, sheet: Path | None) -> None:
    if sheet is not None:
        show_columns(sheet.name, result.mapping, result.unused)
    for text in result.assumed:
        output.say(f"Note: {text}.")
    _show_mends(result)
    _show_proof(result)
    for line, text, why in result.rejected[:SHOWN]:
        named = f": {text[:100]}" if text else ""
        output.say(f"Row {line:,} cannot be checked: {why}{named}", output.DOUBTFUL)
    if (more := len(result.rejected) - SHOWN) > 0:
        output.say(f"and {more:,} more; --json lists all", output.DOUBTFUL)
    if not result.findings:
        output.say(f"{output.plural(result.rules, 'answer')} with a rule checked: no faults.")
        if sheet is None:
            output.next_step(
                "write the rules for a server", "upright build --for nginx --out rules/"
            )
        return
    notes = len(result.findings) - result.faults
    told = (
        output.plural(len(result.findings), "finding")
        if result.faults
        else f"no faults, {output.plural(notes, 'note')}"
    )
    output.say(f"{output.plural(result.rules, 'answer')} with a rule checked: {told}.")
    output.say()
    causes = result.causes
    output.table(
        ("findings>", "kind", "explained by"),
        [(c.count, c.kind, c.text) for c in causes[:SHOWN_CAUSES]],
    )
    if len(causes) > SHOWN_CAUSES:
        output.say(f"… and {len(causes) - SHOWN_CAUSES:,} more causes")
    shown = (
        result.findings
        if all_rows
        else output.some_of_each(result.findings, lambda f: f.kind, SHOWN_OF_EACH)
    )
    output.say()
    output.table(
        ("finding", "old address, what is wrong, and what to do"),
        [
            (
                f.kind,
                [output.path(f.legacy_url, result.origins), _without(f.detail, result.origins)],
            )
            for f in shown
        ],
        [output.SEVERITY_STYLE[f.severity] for f in shown],
    )
    if len(shown) < len(result.findings):
        output.say(
            f"… and {len(result.findings) - len(shown):,} more; --all lists them, --json has them "
            "as data"
        )
    if sheet is None and MENDABLE & {f.kind for f in result.findings} and not result.mends:
        output.next_step(
            "let those be mended that have one right mend, as one undoable step",
            "upright check --fix",
        )
    elif sheet is None and not result.faults:
        output.next_step("write the rules for a server", "upright build --for nginx --out rules/")
    elif sheet is None:
        output.next_step(
            "settle them, one by one or from a corrected sheet", "upright decide --from pairs.csv"
        )


def _show_mends(result: Checked) -> None:
    if not result.mends:
        return
    output.say(
        f"{output.plural(len(result.mends), 'answer')} mended, as one step that `upright undo` "
        "takes back."
    )
    output.table(
        ("mended", "old address, and where it led and leads"),
        [
            (
                ", ".join(m.kinds),
                [
                    output.path(m.entry.legacy_url, result.origins),
                    f"-  {output.path(m.before.destination, result.origins)}",
                    f"+  {output.path(m.after.destination, result.origins) or m.after.kind}",
                ],
            )
            for m in result.mends[:SHOWN_CAUSES]
        ],
    )
    if len(result.mends) > SHOWN_CAUSES:
        output.say(f"… and {len(result.mends) - SHOWN_CAUSES:,} more; --json lists all")
    output.say()


def _show_proof(result: Checked) -> None:
    """Say what holds for every URL, and of which rules, before the faults that are known by their
    addresses.
    """
    proof = result.proof
    if proof is None or not result.rules:
        return
    held = max(result.rules - proof.rules, 0)
    which = "these rules"
    if held:
        # Chains of exact rules are built as they were decided; those of templates are held back.
        kinds = {f.kind for f in result.findings} & (
            {FindingKind.LOOP, FindingKind.CHAIN} if proof.held_back else {FindingKind.LOOP}
        )
        named = (
            f", {' and '.join(f'{k}s' for k in sorted(kinds, reverse=True))} among them"
            if kinds
            else ""
        )
        output.say(
            f"{held:,} of {output.plural(result.rules, 'answer')} {'is' if held == 1 else 'are'} "
            f"held back{named}.",
            output.DOUBTFUL,
        )
        which = f"the {output.plural(proof.rules, 'rule')} that can be built"
    loops = sum(w.loops for w in proof.witnesses)
    told = (
        f"{output.plural(len(proof.witnesses), 'address', 'addresses')} that "
        f"{'is' if len(proof.witnesses) == 1 else 'are'} sent on again"
    )
    told += f", {loops:,} of them without end" if loops else ""
    if proof.witnesses:
        output.say(
            f"Not free of chains: {told}"
            + ("; what leads there is held back." if proof.held_back else ".")
        )
        for witness in proof.witnesses[:SHOWN_OF_EACH]:
            output.say("  " + " → ".join(witness.way[:6]), output.DOUBTFUL)
    elif proof.rules and not proof.undecided:
        output.say(
            f"Proved of {which}: no URL at all is sent on a second time; they have no chains and "
            "no loops."
        )
    if proof.undecided:
        output.say("Undecided, and tested on known addresses only:")
        for text in proof.undecided[:SHOWN_OF_EACH]:
            output.say(f"  {text}")
        if len(proof.undecided) > SHOWN_OF_EACH:
            output.say(f"  and {len(proof.undecided) - SHOWN_OF_EACH:,} more; --json lists all")
    output.say()


def _without(text: str, origins: tuple[str, ...]) -> str:
    for origin in origins:
        text = text.replace(f"{origin}/", "/")
    return text
