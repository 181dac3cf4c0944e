"""How the results of rehearse and replay are shown."""

from __future__ import annotations

from upright_ledger.app.results import Results
from upright_ledger.cli import show
from upright_ledger.core.verdicts import ORDER

SHOWN = 20
_GRAVE = ORDER.index("wrong-status")


def show_results(results: Results, *, all_rows: bool) -> None:
    """Verdicts by count and by hits, then the URLs that are not ok."""
    urls, hits = len(results.rows), sum(r.hits for r in results.rows)
    show.say(f"{show.plural(urls, 'distinct URL')} with {show.plural(hits, 'hit')}.")
    if results.left_out:
        show.say("Left out: " + ", ".join(f"{n:,} {why}" for why, n in results.left_out.most_common()) + " (lines).")
    show.say()
    show.table(
        ("verdict", "URLs>", "share>", "hits>", "share of hits>"),
        [(v, n, _share(n, urls), results.hits[v], _share(results.hits[v], hits)) for v, n in results.counts.items()],
        [_style(v) for v in results.counts],
    )
    faults = results.faults
    if not faults:
        return
    show.say()
    shown = faults if all_rows else faults[:SHOWN]
    show.table(
        ("verdict", "hits>", "URL", "ends", "expected"),
        [
            (
                r.verdict,
                r.hits,
                r.trace.url,
                _end(r.trace.final_status, r.trace.final_url, r.trace.url),
                r.expected_text,
            )
            for r in shown
        ],
        [_style(r.verdict) for r in shown],
    )
    if len(shown) < len(faults):
        show.say(f"… and {len(faults) - len(shown):,} more; --all lists them, --out FILE.csv keeps every URL")


def _style(verdict: str) -> str:
    if verdict == "ok":
        return ""
    return "red" if ORDER.index(verdict) < _GRAVE else "yellow"


def _end(status: int, final: str, start: str) -> str:
    where = "there" if final == start else final
    return f"{status} {where}" if status else where


def _share(part: int, whole: int) -> str:
    return f"{100 * part / whole:.1f} %" if whole else "–"
