"""How the results of rehearse and replay are shown."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from upright_ledger.app.prove.coverage import Covered
from upright_ledger.app.prove.results import Results
from upright_ledger.cli.terminal import output
from upright_ledger.core.tracing.results import Row, whose
from upright_ledger.core.tracing.verdicts import MEANINGS, ORDER, Verdict
from upright_ledger.core.url.origins import Sites

SHOWN = 20
SHOWN_CAUSES = 6


def show_results(results: Results, sites: Sites, *, all_rows: bool, hops: bool = False) -> None:
    """Verdicts by count and by hits, then the URLs that are not ok; with `hops`, each of them hop
    by hop.
    """
    urls, hits = len(results.rows), sum(results.rows.hits)
    output.say(
        f"{output.plural(urls, 'distinct URL')} with {output.plural(hits, 'hit')}."
        if hits
        else f"{output.plural(urls, 'distinct URL')}."
    )
    asked = results.asked
    if asked.left_out:
        output.say(
            f"Left out: {', '.join(f'{n:,} {why}' for why, n in asked.left_out.most_common())} "
            "(lines)."
        )
    if asked.without.total():
        told = (
            f"a {kind} in {output.plural(n, 'line')}"
            for kind, n in asked.without.most_common()
            if n
        )
        output.say(f"Read without {', '.join(told)}.")
    output.say()
    columns = ("verdict", "URLs>", "share>", "hits>", "share of hits>")
    lines = [
        (v, n, _share(n, urls), results.hits[v], _share(results.hits[v], hits))
        for v, n in results.counts.items()
    ]
    shown_columns = len(columns) if hits else 3
    output.table(
        columns[:shown_columns],
        [line[:shown_columns] for line in lines],
        [_style(v) for v in results.counts],
    )
    known = (sites.old[0].origins[0], sites.new[0])
    if results.causes:
        output.say()
        output.table(
            ("URLs>", "hits>", "hops that are too many, or loop"),
            [
                (c.urls, int(c.hits), [c.text, f"as  {output.path(c.example, known)}"])
                for c in results.causes[:SHOWN_CAUSES]
            ],
        )
    if not results.faults:
        return
    output.say()
    shown = results.worst(0 if all_rows else max(3, SHOWN // len(results.ranked)))
    if hops:
        way = [line for r in shown for line in _hop_lines(r, known)]
        output.table(
            ("verdict", "hop>", "status>", "address, and what the hop changes", "ms>"),
            way,
            [_style(line[0]) for line in way],
        )
    else:
        output.table(
            ("verdict", "hits>", "URL, where it ends, and what was due"),
            [(r.verdict, r.hits, _lines(r, known)) for r in shown],
            [_style(r.verdict) for r in shown],
        )
    if len(shown) < results.faults:
        output.say(
            f"… and {results.faults - len(shown):,} more; --all lists them, --out FILE.csv keeps "
            "every URL"
        )


def _lines(row: Row, known: Sequence[str]) -> list[str]:
    """One URL in up to three lines."""
    t = row.trace
    if t.loops:
        found = [
            output.path(t.url, known),
            f"never ends, comes back to {output.path(t.final_url, known)}",
        ]
    elif t.final_url == t.url:
        found = [f"{output.path(t.url, known)}  answers {t.first_status or 'nothing'}"]
    else:
        status = f"{t.final_status} " if t.final_status else ""
        found = [output.path(t.url, known), f"ends {status}{output.path(t.final_url, known)}"]
    if row.detail:
        found.append(f"way  {row.detail}")
    if row.expected:
        due = output.path(row.expected, known)
        same_path = due == output.path(t.final_url, known) and row.expected != t.final_url
        found.append(f"due  {row.expected if same_path else due}")
    return found


def _hop_lines(row: Row, known: Sequence[str]) -> list[tuple[Any, ...]]:
    """One URL, a line a hop."""
    found: list[tuple[Any, ...]] = []
    for number, hop in enumerate(row.trace.hops, 1):
        said = [output.path(hop.url, known)]
        if hop.resolved:
            how = "a refresh changes" if hop.how == "refresh" else "changes"
            said.append(f"{how} {' and '.join(hop.changed) or 'nothing'}{whose(hop.rule)}")
        if hop.error:
            said.append(hop.error)
        found.append(
            (
                row.verdict if number == 1 else "",
                number,
                hop.status or "none",
                said,
                round(hop.seconds * 1000),
            )
        )
    if row.trace.hops and row.trace.hops[-1].resolved:
        found.append(("", "", "", [f"on to {output.path(row.trace.final_url, known)}"], ""))
    return found


def _style(verdict: str) -> str:
    return output.STYLES[MEANINGS[Verdict(verdict)].rank] if verdict else ""


def _share(part: int, whole: int) -> str:
    return f"{100 * part / whole:.1f} %" if whole else "–"


def show_coverage(lines: Sequence[Covered], by: str) -> None:
    """How much of each section, source or site is well."""
    output.say()
    output.table(
        (by, "URLs>", "ok>", "hits>", "ok by hits>"),
        [
            (c.name or "none", c.urls, _share(c.ok, c.urls), c.hits, _share(c.ok_hits, c.hits))
            for c in lines
        ],
    )


def compared_dict(runs: Sequence[Results]) -> dict[str, Any]:
    """Several runs of one list as data, and the URLs that they do not agree on."""
    from upright_ledger.app.prove.replay import disagreements

    return {
        "runs": [r.as_dict() for r in runs],
        "disagreements": [
            {
                "url": url,
                "answers": [
                    {
                        "at": at,
                        "status": r.trace.first_status,
                        "location": r.trace.first_location,
                        "cache": _cache(r),
                    }
                    for at, r in by.items()
                ],
            }
            for url, by in disagreements(runs)
        ],
    }


def show_several(runs: Sequence[Results]) -> None:
    """The verdicts of several runs of one list, beside each other."""
    urls = len(runs[0].rows)
    output.say(f"{output.plural(urls, 'distinct URL')}, asked {len(runs)} times.")
    output.say()
    verdicts = [v for v in ORDER if any(v in r.counts for r in runs)]
    output.table(
        ("asked", *(f"{v}>" for v in verdicts)),
        [(r.at or "as usual", *(r.counts.get(v, 0) for v in verdicts)) for r in runs],
    )
    output.say()


def show_disagreements(runs: Sequence[Results], sites: Sites) -> None:
    """The URLs that places, or profiles, answer differently, with what the answers say of
    caching.
    """
    from upright_ledger.app.prove.replay import disagreements

    found = disagreements(runs)
    if not found:
        output.say("All give the same first answer to every URL.")
        return
    known = (sites.old[0].origins[0], sites.new[0])
    output.say(f"{output.plural(len(found), 'URL')} answered differently:")
    rows = []
    for url, by in found[:SHOWN]:
        lines = [output.path(url, known)]
        for at, row in by.items():
            cache = f"  ({_cache(row)})" if _cache(row) else ""
            lines.append(
                (
                    f"{at or 'as usual'}: {row.trace.first_status or 'nothing'} "
                    f"{output.path(row.trace.first_location, known)}{cache}"
                ).rstrip()
            )
        rows.append((lines,))
    output.table(("URL, and what each answers",), rows)
    if len(found) > SHOWN:
        output.say(f"… and {len(found) - SHOWN:,} more; --json has them all")


def _cache(row: Row) -> str:
    return row.trace.hops[0].cache if row.trace.hops else ""
