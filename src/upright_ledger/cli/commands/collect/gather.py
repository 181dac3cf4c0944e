"""upright gather"""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import replace
from pathlib import Path

import click

from upright_ledger.app.collect.gather import SHOWN_REJECTS, Gathered, gather
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.reading import workbook_options
from upright_ledger.cli.options.shared import json_option, paths_argument
from upright_ledger.cli.options.workers import on_option, workers
from upright_ledger.cli.terminal import output
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.monitoring.deploy_days import is_day
from upright_ledger.errors import UsageError
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.server_config.rules_read import ServerSetup

SHOWN = 200
"""Sources that are listed one by one."""


@click.command("gather")
@paths_argument
@workbook_options
@click.option(
    "--period",
    default="",
    metavar="FROM..TO",
    help="The days an export covers, as in 2026-01-01..2026-03-31.",
)
@click.option(
    "--with",
    "present",
    multiple=True,
    metavar="NAME",
    help="Of a rule file: a module or define that the server has.",
)
@click.option(
    "--without",
    "absent",
    multiple=True,
    metavar="NAME",
    help=(
        "Of a rule file: a module or define that the server lacks, or an included file without "
        "redirects."
    ),
)
@click.option(
    "--document-root",
    default="",
    metavar="FOLDER",
    help=(
        "The root of the site: as a rule file, an error log or a list of files names it, or as the "
        "path of a .htaccess does."
    ),
)
@on_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    paths: tuple[str, ...],
    reading: ReadOptions,
    period: str,
    present: tuple[str, ...],
    absent: tuple[str, ...],
    document_root: str,
    scheduler: str | None,
    as_json: bool,
) -> None:
    """Gather old URLs from files of any kind into the ledger.

    PATHS are files, folders, patterns (logs/*.gz), web addresses of sitemaps, addresses in object
    storage (s3://bucket/logs/*.gz, gs://, abfs://, hdfs://, sftp://), or - for standard input;
    plain or packed with gzip, bzip2, xz or zstd. Each file becomes a source; spellings of
    one page are folded into one entry and keep their evidence. Gathering the same file again
    changes nothing, and a log line that stands in two files counts once.

    \b
    Kinds, recognised by content:
      text           URLs, one a line or amid other words
      table          CSV, TSV and the like, printed tables, tables of wikis
      sheet          workbooks: XLSX, XLS, ODS, with links behind words
      columns        files of columns: Parquet, ORC and Arrow
      records        values beside their names: YAML, TOML, key=value, objects of scripts
      json, xml      documents and lines, wherever the rows lie in them
      sql            dumps of databases; database: SQLite
      sitemap, feed  XML sitemaps; RSS and Atom
      robots         the sitemaps of robots.txt
      page           the links of saved HTML; page-table: a table in it
      access-log     logs of servers, proxies and clouds: text, JSON, W3C, LTSV
      archive-index  CDX lines of web archives; warc: web archives
      har            recorded requests
      rules          redirects of Apache, nginx and Caddy, maps, lists of pairs
    The members of ZIP and TAR archives and of mails are read, too.
    """
    around = ServerSetup(frozenset(present), frozenset(absent), document_root)
    if both := around.present & around.absent:
        raise UsageError(
            f"{min(both)} cannot be there and be missing", "name it with --with or with --without"
        )
    options = replace(reading, around=around)
    ledger = open_ledger(folder)
    with output.progress_words("Gathering") as progress, workers(ledger.settings, scheduler) as on:
        found = gather(
            ledger,
            list(paths),
            options,
            period=_period(period),
            progress=progress,
            on=on,
        )
    failed = [r.failed for r in found.sources if r.failed]
    output.say_pruned(found.pruned)
    if as_json:
        output.json_out({"sources": [_as_dict(r) for r in found.sources], "entries": found.entries})
    else:
        _show(found.sources, found.entries)
    for error in failed:
        output.error_sentence(error)
    if failed:
        raise click.exceptions.Exit(3)


def _show(results: list[Gathered], entries: int) -> None:
    poor = [r for r in results if _went_wrong(r)]
    for result in poor[:SHOWN]:
        _warn(result)
    if poor:
        output.say()
    shown = _shown(results)
    rows: list[tuple[object, ...]] = [(r.name, _state(r), *_figures([r])) for r in shown]
    if len(shown) < len(results):
        rows.append((f"all {len(results):,}", "", *_figures(results)))
    output.table(
        ("source", "kind|", "lines>", "accepted>", "set aside>", "rejected>", "new>"), rows
    )
    output.say()
    for result in shown:
        _details(result)
    if len(shown) < len(results):
        output.say(f"… and {len(results) - len(shown):,} more sources; --json lists all.")
    output.say()
    output.say(f"The ledger holds {output.plural(entries, 'entry', 'entries')}.")
    if not entries:
        output.next_step("see what was set aside, and why", "upright entries --aside all")
    elif not any(r.accepted for r in results) and poor:
        output.next_step(
            "see what was set aside, then gather the right lines", "upright entries --aside all"
        )
    else:
        output.next_step(
            "look at how URLs are folded, then take stock of the new pages", "upright fold"
        )


def _shown(results: list[Gathered]) -> list[Gathered]:
    """The sources that are listed: of very many those of which something is to be said, and some of
    the others.
    """
    if len(results) <= SHOWN:
        return results
    notable = [n for n, r in enumerate(results) if r.failed or r.rejected or _went_wrong(r)][:SHOWN]
    chosen = {*notable, *range(SHOWN - len(notable))}
    return [results[n] for n in sorted(chosen)]


def _figures(results: list[Gathered]) -> tuple[int, ...]:
    """Lines, and what became of them; new entries."""
    columns = [(r.lines, r.accepted, r.set_aside, r.rejected, r.new_entries) for r in results]
    return tuple(map(sum, zip(*columns, strict=True)))


_HARMLESS = frozenset([AsideClass.BLANK, AsideClass.COUNTED_BEFORE, AsideClass.PATTERN_RULE])
_OTHER_KIND = (
    "where the file is another kind or in another encoding, name it: --kind, --encoding, --column"
)
_HELP: dict[str, str] = {
    AsideClass.OFF_SITE: (
        "where these are hosts of the old site, add them to [sites] in upright.toml, then upright "
        "fold --apply"
    ),
    AsideClass.FURNITURE: "where they are pages all the same: upright fold --take-back furniture",
    AsideClass.PROBE: (
        "where they are pages all the same: upright fold --take-back probe, or a path such as "
        "'/admin/*'"
    ),
    AsideClass.RANDOM: "where they are pages all the same: upright fold --take-back random",
    AsideClass.BOTS_ONLY: "where they are pages all the same: upright fold --take-back 'bots only'",
    AsideClass.ASSET: (
        "where they are pages all the same: upright fold --take-back 'page asset', or a path such "
        "as '/images/*'"
    ),
    AsideClass.PROSE: "where the file is another kind, name it: --kind table, access-log, ...",
}


def _went_wrong(result: Gathered) -> bool:
    """Whether most lines of a source came to nothing."""
    lost = result.set_aside + result.rejected - sum(result.aside[k] for k in _HARMLESS)
    return not result.failed and not result.known and lost * 2 > result.lines


def _warn(result: Gathered) -> None:
    """Say first what weighs most where most lines came to nothing, and what helps."""
    shares = Counter({kind: n for kind, n in result.aside.items() if kind not in _HARMLESS})
    if result.rejected:
        shares["rejected"] = result.rejected
    kind, count = shares.most_common(1)[0]
    inside = {AsideClass.OFF_SITE: result.hosts, "rejected": result.reasons}.get(
        kind, Counter[str]()
    )
    named = ", ".join(f"{name} ({n:,})" for name, n in inside.most_common(3))
    output.say(
        f"{result.name}: {count:,} of {result.lines:,} lines are "
        f"{kind}{f': {named}' if named else ''}.",
        output.GRAVE,
    )
    output.say(f"  {_HELP.get(kind, _OTHER_KIND)}.")


def _state(result: Gathered) -> str:
    if result.failed:
        return "could not be read"
    return "known" if result.known else result.kind


def _details(result: Gathered) -> None:
    name = result.name
    if result.failed:
        return
    if result.known:
        output.say(f"{name} was gathered before; nothing changed.")
        for note in result.notes:
            output.say(f"{name}: {note}")
        return
    if result.anew:
        output.say(
            f"{name} was gathered before in another way: it was read anew, in the place of that "
            "reading."
        )
    if result.mapping:
        columns = ", ".join(f"{meaning} = {header}" for meaning, header in result.mapping.items())
        output.say(f"{name}: columns {columns}")
    for note in result.notes:
        output.say(f"{name}: {note}")
    if result.aside:
        output.say(f"{name}: set aside {_counts(result.aside)}")
    if result.mended:
        output.say(f"{name}: mended {_counts(result.mended)}")
    if result.folded:
        output.say(f"{name}: folded {_counts(result.folded)}")
    for reject in result.rejects:
        output.say(
            f"{name} line {reject.line:,}: {reject.reason}: {reject.text[:100]}", output.DOUBTFUL
        )
    if result.rejected > SHOWN_REJECTS:
        output.say(f"{name}: {result.rejected - len(result.rejects):,} more rejected lines")
    if result.rejects_file:
        output.say(f"{name}: all rejected lines are in {result.rejects_file}")


def _counts(counts: Counter[str]) -> str:
    return ", ".join(
        f"{n:,} {kind}"
        for kind, n in sorted(counts.items(), key=lambda item: (-item[1], item[0]))
        if n
    )


def _as_dict(result: Gathered) -> dict[str, object]:
    return {
        "name": result.name,
        "kind": result.kind,
        "lines": result.lines,
        "accepted": result.accepted,
        "set_aside": result.set_aside,
        "rejected": result.rejected,
        "new_entries": result.new_entries,
        "known": result.known,
        "read_anew": result.anew,
        "period": list(result.period) if any(result.period) else [],
        "columns": result.mapping,
        "set_aside_by_class": dict(result.aside),
        "off_site_hosts": dict(result.hosts.most_common(10)),
        "reject_reasons": dict(result.reasons.most_common(10)),
        "mended": dict(result.mended),
        "folded": dict(result.folded),
        "notes": result.notes,
        "rejects_file": result.rejects_file,
        "rejects": [
            {"line": r.line, "reason": r.reason, "text": r.text[:200]} for r in result.rejects
        ],
        "failed": f"{result.failed}; {result.failed.hint}" if result.failed else "",
    }


def _period(text: str) -> tuple[str, str]:
    if not text:
        return "", ""
    match = re.fullmatch(r"(\d{4}-\d{2}-\d{2})\.\.(\d{4}-\d{2}-\d{2})", text)
    if match is None or match[1] > match[2]:
        raise UsageError(f"--period {text} is no period", "write it as in 2026-01-01..2026-03-31")
    for day in match.groups():
        if not is_day(day):
            raise UsageError(
                f"--period {text}: the calendar has no {day}",
                "write it as in 2026-01-01..2026-03-31",
            )
    return match[1], match[2]
