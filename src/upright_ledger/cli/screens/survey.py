"""What `upright survey` shows: the gate first, then what answers how, each audit's faults, and the
links to mend.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from upright_ledger.app.collect.surveys.audit import Audited
from upright_ledger.app.collect.surveys.known_links import LEFT
from upright_ledger.app.collect.surveys.rewrite_links import DIFF, MendedContent
from upright_ledger.cli.terminal import output
from upright_ledger.core.crawl.audits.launch_gate import GATE
from upright_ledger.core.crawl.audits.site_index import AuditFinding
from upright_ledger.core.crawl.audits.url_consistency import PARTS
from upright_ledger.core.crawl.observation import OUTCOMES, CrawlOutcome
from upright_ledger.core.inventory.advice import NO_LINK_DATA
from upright_ledger.core.severity import Severity

SHOWN = 12
_EACH = 3


def show_survey(result: Audited, *, all_rows: bool) -> None:
    """All audits of a survey."""
    known = [result.at.split()[0]]
    audits = list(dict.fromkeys(f.audit for f in result.faults))
    if GATE in audits:
        _show_faults(result, GATE, known, all_rows=all_rows)
    _show_outcomes(result)
    for audit in (a for a in audits if a != GATE):
        _show_faults(result, audit, known, all_rows=all_rows)
    if result.mends:
        _show_mends(result, known, all_rows=all_rows)
    if result.inbound:
        _show_inbound(result, known, all_rows=all_rows)
    if result.forms:
        output.say()
        output.table(
            ("written in", *PARTS),
            [
                (f.use, *(_counted(f.counts.get(part, Counter())) for part in PARTS))
                for f in result.forms
            ],
        )


def show_rows(result: Audited, what: str, part: str, *, all_rows: bool) -> None:
    """The rows behind one figure."""
    known = [result.at.split()[0]]
    found = result.parts(what, part)
    rows = found if all_rows else found[: SHOWN * 4]
    output.say(
        f"{what}{f' in {part}' if part else ''}: "
        f"{output.plural(len(found), 'address', 'addresses')}."
    )
    output.table(
        ("linked from>", "address", "beside it"),
        [
            (result.site.inbound[url], output.path(url, known), output.path(beside, known))
            for url, beside in rows
        ],
    )
    if len(rows) < len(found):
        output.say(f"… and {len(found) - len(rows):,} more; --all lists them")


def show_mended(mended: MendedContent, into: Path) -> None:
    """What was changed in a content export."""
    for m in mended.files:
        output.say(f"{m.file}: {output.plural(m.changes, 'address', 'addresses')} changed.")
        if m.left:
            output.say(
                f"  {m.left:,} stand in serialised data, whose lengths would be wrong, and were "
                "left: export them in another form."
            )
    if mended.why:
        output.say()
        output.table(("addresses>", "put right"), [(n, why) for why, n in mended.why.most_common()])
    if mended.named:
        output.say()
        output.table(
            ("addresses>", "left as they are"),
            [(n, why) for why, n in sorted(mended.named.items(), key=lambda item: -item[1])],
            [output.DOUBTFUL] * len(mended.named),
        )
        output.say(f"Each of them, with the page that is proposed, is in {into}/{LEFT}.")
    output.say(f"Every change is in {into}/{DIFF}.")


def _show_faults(result: Audited, audit: str, known: Sequence[str], *, all_rows: bool) -> None:
    faults = [f for f in result.faults if f.audit == audit]
    output.say()
    output.table(
        (audit, "severity|", "what"),
        [(f.kind, f.severity, _lines(f, known, all_rows=all_rows)) for f in faults],
        [_style(f) for f in faults],
    )


def _show_outcomes(result: Audited) -> None:
    output.say()
    told = [o for o in OUTCOMES if result.counts.get(o)]
    groups = list(dict.fromkeys(r.group for r in result.groups))
    counts = {(r.group, r.outcome): r.addresses for r in result.groups}
    linked: Counter[str] = Counter()
    for row in result.groups:
        linked[row.group] += row.linked
    rows = [
        (group, *(counts.get((group, o), 0) for o in told), linked[group])
        for group in groups[:SHOWN]
    ]
    if len(groups) > SHOWN:
        rest = groups[SHOWN:]
        rows.append(
            (
                f"{len(rest):,} more",
                *(sum(counts.get((g, o), 0) for g in rest) for o in told),
                sum(linked[g] for g in rest),
            )
        )
    whole = ("all", *(result.counts[o] for o in told), linked.total())
    output.table(("part", *(f"{o}>" for o in told), "links to it>"), [*rows, whole])
    if result.not_asked:
        why = ", ".join(f"{n:,} {reason}" for reason, n in result.not_asked.most_common())
        output.say(f"Not asked: {why}.")
    example = next((o for o in told if o != CrawlOutcome.ANSWERED), CrawlOutcome.ANSWERED)
    quoted = f"'{example}'" if " " in example else example
    output.say(
        f"The addresses behind a figure: --again {result.run} --list {quoted} --part {groups[0]}"
    )


def _show_mends(result: Audited, known: Sequence[str], *, all_rows: bool) -> None:
    output.say()
    mends = result.mends if all_rows else result.mends[:SHOWN]
    output.table(
        ("pages>", "where", "link to mend, and the address to put there"),
        [
            (
                m.pages,
                f"{m.place}, in the template" if m.in_template else m.place,
                [
                    f"{m.status or 'no answer:'} {output.path(m.target, known)}"
                    + (f"  “{m.text}”" if m.text else ""),
                    f"put  {output.path(m.final, known)}"
                    if m.final
                    else "put nothing: no page is there",
                    f"on   {output.path(m.source, known)}",
                ],
            )
            for m in mends
        ],
    )
    if len(mends) < len(result.mends):
        output.say(
            f"… and {len(result.mends) - len(mends):,} more; --mends FILE.csv keeps them all"
        )
    if result.left_alone:
        output.say(f"Left out, as [links.ignored] says: {result.left_alone:,} more.")


def _show_inbound(result: Audited, known: Sequence[str], *, all_rows: bool) -> None:
    output.say()
    rows = result.inbound if all_rows else result.inbound[:SHOWN]
    output.table(
        ("linking domains>", "hits>", "clicks>", "status>", "dead, though others lead there"),
        [
            (
                r.linking_domains,
                r.hits,
                r.clicks,
                str(r.status or "none"),
                f"{output.path(r.url, known)}"
                + (f"  goes to {output.path(r.ends, known)}" if r.ends else ""),
            )
            for r in rows
        ],
    )
    if not result.links_known:
        output.say(f"{NO_LINK_DATA[0].upper()}{NO_LINK_DATA[1:]}.", output.DOUBTFUL)
    if len(rows) < len(result.inbound):
        output.say(
            f"… and {len(result.inbound) - len(rows):,} more; --out FILE.xlsx keeps them all"
        )


def _lines(fault: AuditFinding, known: Sequence[str], *, all_rows: bool) -> list[str]:
    rows = fault.rows if all_rows else fault.rows[:_EACH]
    lines = [fault.text, *(_pair(row, fault.beside, known) for row in rows)]
    return (
        [*lines, f"… and {len(fault.rows) - len(rows):,} more"]
        if len(rows) < len(fault.rows)
        else lines
    )


def _pair(row: tuple[str, str], beside: str, known: Sequence[str]) -> str:
    address, other = (output.path(part, known) for part in row)
    return f"{address}  {beside} {other}" if other else address


def _counted(counts: Counter[str]) -> str:
    return ", ".join(f"{form} {n:,}" for form, n in counts.most_common(3))


def _style(fault: AuditFinding) -> str:
    return (
        output.GRAVE
        if fault.severity == Severity.ERROR
        else ""
        if fault.severity == Severity.NOTE
        else output.DOUBTFUL
    )
