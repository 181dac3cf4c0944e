"""upright survey"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from upright_ledger.app.auditing import Audited, audited
from upright_ledger.app.replacing import DIFF, Mended, mend_files, moved_table
from upright_ledger.cli import show
from upright_ledger.cli.asking import asking_options, manner_of
from upright_ledger.cli.common import json_option, out_option
from upright_ledger.core.addresses import Address, NotAnAddressError, parse_address
from upright_ledger.core.audits.renamings import ASTRAY, GONE, Renamed
from upright_ledger.core.audits.site import ERROR, NOTE, Fault
from upright_ledger.core.surveying import OUTCOMES, Limits
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import open_ledger

SHOWN = 12
_EACH = 3


@click.command("survey")
@click.argument("starts", nargs=-1, metavar="URL…")
@click.option(
    "--as",
    "side",
    type=click.Choice(["old", "new"]),
    default=None,
    help="Feed what is found to gather (old) or stock (new).",
)
@click.option("--own-site", is_flag=True, help="Go everywhere: robots.txt and nofollow are no bounds.")
@click.option(
    "--staging", is_flag=True, help="The site is not public yet: that it is closed to search engines is one note."
)
@click.option("--host", "hosts", multiple=True, metavar="HOST", help="Another host that may be asked.")
@click.option(
    "--sitemap", "sitemaps", multiple=True, metavar="URL", help="A sitemap besides those in the usual places."
)
@click.option("--within", multiple=True, metavar="PATTERN", help="Only paths like /journal/*.")
@click.option("--without", multiple=True, metavar="PATTERN", help="No paths like /search*.")
@click.option("--ignore", "ignored", multiple=True, metavar="NAME", help="A parameter that makes no other page.")
@click.option("--depth", type=click.IntRange(0), default=None, help="Links from a start.  [default: 100]")
@click.option("--most", type=click.IntRange(1), default=None, help="Addresses at most.  [default: 500,000]")
@asking_options
@click.option("--name", default="", metavar="NAME", help="Call this survey so, for comparing.")
@click.option("--resume", is_flag=True, help="Go on with the last survey there, which was stopped.")
@click.option("--again", "shown", default="", metavar="RUN", help="Ask nothing: show the audits of a survey again.")
@click.option("--since", default="", metavar="RUN", help="Compare with an earlier survey: what was renamed.")
@click.option(
    "--pairs",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.csv",
    help="Keep renamings without a redirect as pairs, for upright decide --from.",
)
@out_option
@click.option(
    "--mends",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Keep the links to mend, as .csv or .xlsx.",
)
@click.option(
    "--in",
    "exports",
    multiple=True,
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="FILE",
    help="Put the final addresses into a copy of exported text; with --into.",
)
@click.option(
    "--into",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="DIR",
    help="Where those copies, and a diff, go.",
)
@click.option("--all", "all_rows", is_flag=True, help="List every address of every fault.")
@json_option
@click.pass_obj
def command(
    folder: Path,
    /,
    starts: tuple[str, ...],
    side: str | None,
    own_site: bool,
    staging: bool,
    hosts: tuple[str, ...],
    sitemaps: tuple[str, ...],
    within: tuple[str, ...],
    without: tuple[str, ...],
    ignored: tuple[str, ...],
    depth: int | None,
    most: int | None,
    name: str,
    resume: bool,
    shown: str,
    since: str,
    pairs: Path | None,
    out: Path | None,
    mends: Path | None,
    exports: tuple[Path, ...],
    into: Path | None,
    all_rows: bool,
    as_json: bool,
    **how: Any,
) -> None:
    """Crawl a site from start addresses and its sitemaps, and audit what a relaunch breaks.

    \b
    upright survey http://www.quillhaven.example/ --as old
    upright survey https://www.quillhaven.example/ --as new --staging --connect www.quillhaven.example=192.0.2.7

    It keeps to the hosts of the starts and of the side it is of, and obeys robots.txt unless --own-site is said. Ctrl-C keeps what is
    done. Exit code 1 when an audit finds an error.
    """
    from upright_ledger.app.survey import hosts_of, start_surveying, survey
    from upright_ledger.core.audits.server import probes
    from upright_ledger.web.client import Place
    from upright_ledger.web.crawler import PAGE_BYTES, Start

    if bool(exports) != bool(into):
        raise UsageError("--in and --into go together", "such as --in export.sql --into mended/")
    ledger = open_ledger(folder)
    if shown:
        result = audited(ledger, shown, side=side or "new", staging=staging, since=since)
    else:
        if not starts:
            raise UsageError(
                "no address was given to start from", "such as upright survey https://www.quillhaven.example/"
            )
        begin = tuple(_address(text) for text in starts)
        manner = manner_of(
            how | {"agent": how["agent"] or "upright-ledger (survey)"},
            [a.host for a in begin] if not how["connect"] else [],
        )
        usual = Limits(frozenset())
        limits = Limits(
            hosts_of(ledger, side or "", begin) | {_address(h).authority for h in hosts}, most or usual.most,
            usual.depth if depth is None else depth, within, without, frozenset(ignored),
        )  # fmt: skip
        where = Start(
            begin,
            tuple(map(_address, sitemaps)),
            probes=tuple(_address(p) for a in dict.fromkeys(b.origin for b in begin) for p in probes(a)),
        )
        from dataclasses import replace

        with start_surveying() as surveying, show.progress_counts("surveying") as progress:
            kept = survey(
                ledger, where, limits, Place(limits.hosts), replace(manner, body=PAGE_BYTES), surveying, side=side or "", own_site=own_site, name=name,
                resume=resume, progress=progress,
            )  # fmt: skip
        if kept.stopped:
            show.say(f"Stopped: {kept.counts.total():,} addresses are done and kept.")
            show.next_step("go on where it stopped", "upright survey … --resume, with the same addresses and options")
            raise click.exceptions.Exit(130)
        result = audited(ledger, str(kept.run), side=side or "new", staging=staging, site=kept.site, since=since)
        if not as_json:
            asked = sum(n for outcome, n in result.counts.items() if outcome != "not asked")
            show.say(
                f"{show.plural(asked, 'address', 'addresses')} in {kept.seconds:.0f} seconds, {result.site.pages:,} of them pages."
            )
            if side:
                show.say(
                    f"{show.plural(kept.fed, 'new entry', 'new entries')} gathered."
                    if side == "old"
                    else f"{show.plural(kept.fed, 'page')} in stock."
                )
    if out is not None:
        result.write(out)
    if mends is not None:
        result.write_mends(mends)
    if pairs is not None:
        result.write_pairs(pairs)
    mended = mend_files(exports, moved_table(result.site), into) if into is not None else []
    if as_json:
        told = (
            {"mended": [{"file": str(m.file), "changes": m.changes, "left": m.left} for m in mended]} if mended else {}
        )
        show.json_out(result.as_dict() | told)
    elif mended:
        _show_mended(mended, into)
    else:
        if result.renamed is not None:
            _show_renamed(result.renamed, result.at.split()[:1], all_rows=all_rows)
        _show(result, all_rows=all_rows)
        _ends(result, out, mends)
    raise click.exceptions.Exit(1 if any(f.severity == ERROR for f in result.faults) else 0)


def _show_mended(mended: list[Mended], into: Path | None) -> None:
    for m in mended:
        show.say(f"{m.file}: {show.plural(m.changes, 'address', 'addresses')} changed.")
        if m.left:
            show.say(
                f"  {m.left:,} stand in serialised data, whose lengths would be wrong, and were left: export them in another form."
            )
    show.say(f"Every change is in {into}/{DIFF}.")


def _address(text: str) -> Address:
    try:
        return parse_address(text)
    except NotAnAddressError as error:
        raise UsageError(f"{text} cannot be used: {error}", "such as https://www.quillhaven.example/") from None


def _show(result: Audited, *, all_rows: bool) -> None:
    """The gate first, then what answers how, then each audit's faults and the links to mend."""
    known = [result.at.split()[0]]
    _show_outcomes(result)
    for audit in dict.fromkeys(f.audit for f in result.faults):
        faults = [f for f in result.faults if f.audit == audit]
        show.say()
        show.table(
            (audit, "severity", "what"),
            [(f.kind, f.severity, _lines(f, known, all_rows=all_rows)) for f in faults],
            [_style(f) for f in faults],
        )
    if result.mends:
        _show_mends(result, known, all_rows=all_rows)
    if result.forms:
        show.say()
        show.table(
            ("written in", "scheme", "host", "closing slash", "letters"),
            [(f.use, *(_counted(c) for c in (f.schemes, f.hosts, f.slashes, f.cases))) for f in result.forms],
        )


def _show_renamed(renamed: Renamed, known: list[str], *, all_rows: bool) -> None:
    show.say()
    show.say(
        f"Since then {len(renamed.vanished):,} pages vanished, {len(renamed.appeared):,} appeared, and {len(renamed.renamings):,} have another address:"
    )
    shown = renamed.renamings if all_rows else renamed.renamings[:SHOWN]
    if shown:
        show.table(
            ("the old address is", "linked from>", "page, and its addresses"),
            [
                (
                    r.state,
                    r.inbound,
                    [r.title or "(no title)", f"was {show.path(r.old, known)}", f"is  {show.path(r.new, known)}"],
                )
                for r in shown
            ],
            [show.GRAVE if r.state == GONE else show.DOUBTFUL if r.state == ASTRAY else "" for r in shown],
        )
    if len(shown) < len(renamed.renamings):
        show.say(f"… and {len(renamed.renamings) - len(shown):,} more; --pairs FILE.csv keeps those without a redirect")


def _show_outcomes(result: Audited) -> None:
    show.say()
    told = [o for o in OUTCOMES if result.counts.get(o)]
    groups = list(dict.fromkeys(r.group for r in result.groups))
    counts = {(r.group, r.outcome): r.addresses for r in result.groups}
    rows = [(group, *(counts.get((group, o), 0) for o in told)) for group in groups[:SHOWN]]
    if len(groups) > SHOWN:
        rest = [sum(counts.get((g, o), 0) for g in groups[SHOWN:]) for o in told]
        rows.append((f"{len(groups) - SHOWN:,} more", *rest))
    show.table(("part", *(f"{o}>" for o in told)), [*rows, ("all", *(result.counts[o] for o in told))])


def _show_mends(result: Audited, known: list[str], *, all_rows: bool) -> None:
    show.say()
    mends = result.mends if all_rows else result.mends[:SHOWN]
    show.table(
        ("pages>", "where", "link to mend, and the address to put there"),
        [
            (
                m.pages,
                f"{m.place}, in the template" if m.in_template else m.place,
                [
                    f"{m.status} {show.path(m.target, known)}" + (f"  “{m.text}”" if m.text else ""),
                    f"put  {show.path(m.final, known)}" if m.final else "put nothing: no page is there",
                    f"on   {show.path(m.source, known)}",
                ],
            )
            for m in mends
        ],
    )
    if len(mends) < len(result.mends):
        show.say(f"… and {len(result.mends) - len(mends):,} more; --mends FILE.csv keeps them all")


def _lines(fault: Fault, known: list[str], *, all_rows: bool) -> list[str]:
    rows = fault.rows if all_rows else fault.rows[:_EACH]
    lines = [fault.text, *(_pair(row, fault.beside, known) for row in rows)]
    return [*lines, f"… and {len(fault.rows) - len(rows):,} more"] if len(rows) < len(fault.rows) else lines


def _pair(row: tuple[str, str], beside: str, known: list[str]) -> str:
    address, other = (show.path(part, known) for part in row)
    return f"{address}  {beside} {other}" if other else address


def _counted(counts: Any) -> str:
    return ", ".join(f"{form} {n:,}" for form, n in counts.most_common(3))


def _style(fault: Fault) -> str:
    return show.GRAVE if fault.severity == ERROR else "" if fault.severity == NOTE else show.DOUBTFUL


def _ends(result: Audited, out: Path | None, mends: Path | None) -> None:
    for path, what in ((out, "Every address"), (mends, "Every link to mend")):
        if path is not None:
            show.say(f"{what} is in {path}.")
    if result.mends and mends is None:
        show.next_step("hand over the links to mend", f"upright survey --again {result.run} --mends links.csv")
    else:
        show.next_step("see where you are", "upright")
