"""What fails now, as a specialist reads it."""

from __future__ import annotations

from shlex import quote

from upright_ledger.app.live.triaged import Failing, Triaged
from upright_ledger.cli.terminal import output
from upright_ledger.core.monitoring.day_totals import totals, weekly_shares
from upright_ledger.core.monitoring.deploy_days import to_the_minute
from upright_ledger.core.monitoring.failure_account import FailureState

SHOWN = 12


def show_triage(result: Triaged, known: list[str], *, all_rows: bool) -> None:
    """What fails, by state, and what could be decided at once."""
    _show_summary(result)
    if not result.rows:
        output.say("Nothing fails in what was gathered.")
    if result.states:
        output.say()
        output.table(
            ("state", "entries>", "lost requests>", "what it means"),
            [
                (
                    state,
                    n,
                    result.lost[state],
                    _MEANS[state],
                )
                for state, n in result.states.items()
            ],
            [
                output.GRAVE
                if s == FailureState.RECURRING
                else output.DOUBTFUL
                if s == FailureState.NEW
                else ""
                for s in result.states
            ],
        )
    _show_again(result.by_reason(), known, all_rows=all_rows)
    if result.decisions:
        _show_decisions(result, known, all_rows=all_rows)
    if result.origins:
        output.say()
        output.table(
            ("they come from", "requests>", "entries>"),
            [(origin, requests, entries) for origin, requests, entries in result.origins],
        )
    if result.campaigns:
        _show_campaigns(result, known, all_rows=all_rows)
    if result.own_pages:
        pages = result.own_pages if all_rows else result.own_pages[:5]
        output.say()
        output.table(
            ("requests>", "link to mend"),
            [
                (n, [f"on  {output.path(page, known)}", f"to  {output.path(url, known)}"])
                for page, url, n in pages
            ],
        )
        show_more(len(result.own_pages), len(pages))
        output.say("Mended one? upright decide ADDRESS --link-mended says so.", output.FAINT)
    if result.noise:
        output.say()
        output.table(
            ("set aside as noise", "addresses>", "by people>", "by bots>", "why"),
            [(kind, n, people, bots, _WHY.get(kind, "")) for kind, n, people, bots in result.noise],
        )
        output.say(
            "upright entries --aside CLASS lists a class; upright fold --take-back CLASS makes "
            "entries of it."
        )


def _show_again(
    reasons: list[tuple[str, list[Failing]]], known: list[str], *, all_rows: bool
) -> None:
    """What fails after its fix, reason by reason."""
    if not reasons:
        return
    output.say()
    output.table(
        ("fails again>", "entries>", "the likely reason, and where"),
        [
            (
                sum(r.account.since for r in found),
                len(found),
                [
                    why,
                    *(
                        f"  {output.path(r.entry.legacy_url, known)}"
                        for r in (found if all_rows else found[:3])
                    ),
                ],
            )
            for why, found in reasons
        ],
    )


def _show_campaigns(result: Triaged, known: list[str], *, all_rows: bool) -> None:
    """What the owners of campaigns and newsletters should know."""
    shown = result.campaigns if all_rows else result.campaigns[:5]
    rows = []
    for campaign in shown:
        lines = [campaign.name]
        for url, _, page in campaign.addresses if all_rows else campaign.addresses[:2]:
            lines.append(f"  {output.path(url, known)}")
            if page:
                lines.append(f"    to  {page}")
        rows.append((campaign.requests, len(campaign.addresses), lines))
    output.say()
    output.table(("lost>", "entries>", "campaign or newsletter, for its owner"), rows)
    show_more(len(result.campaigns), len(shown))


_MEANS = {
    FailureState.RECURRING: "fails although its fix is live",
    FailureState.NEW: "nobody has answered it",
    FailureState.ANSWERED: "has an answer that is not live yet",
    FailureState.DEPLOYED: "its answer is live, and nobody asked since",
    FailureState.PROVEN: "asked since it went live, and answered rightly",
    FailureState.LINK_MENDED: "a link of the site was mended, and nobody asked since",
    FailureState.IGNORED: "needs no answer, as somebody said",
}


_WHY = {
    "probe": "scanners ask for it on every site",
    "random": "letters drawn by chance, as scanners try them",
    "bots only": "asked for by declared bots alone",
    "page asset": "images that pages show, and what browsers ask for by themselves",
    "furniture": "style sheets, scripts, fonts and icons",
    "off-site": "a host that is no old site of this ledger",
    "own request": "the program's own look at what a server answers where no page can be",
    "unanswerable": "no rule can answer it safely",
}


def _show_summary(result: Triaged) -> None:
    if not result.days:
        return
    whole, days = totals(result.days), list(result.days)
    output.say(
        f"{days[0]} to {days[-1]}: {whole.requests:,.0f} requests by people, "
        f"{whole.not_found:,.0f} of them not found ({100 * whole.share:.1f} %), "
        f"{whole.errors:,.0f} server errors."
    )
    if result.strays:
        count = sum(result.strays.values())
        output.say(
            f"Left out of these days, as a wrong clock wrote them: {count:,.0f} requests dated "
            f"{', '.join(list(result.strays)[:3])}."
        )
    if shares := weekly_shares(result.days):
        before, last = (100 * share for share in shares)
        output.say(f"Last seven days {last:.1f} %, the seven before {before:.1f} %.")
    if result.live:
        output.say(
            "Live: "
            + ", ".join(
                f"{server} since {to_the_minute(time)}" for time, server in result.live[-3:]
            )
            + "."
        )


def _show_decisions(result: Triaged, known: list[str], *, all_rows: bool) -> None:
    output.say()
    if result.enough:
        output.say(
            f"These {result.enough:,} answers cover 90 % of what is lost:"
            if result.enough > 1
            else "This answer covers 90 % of what is lost:"
        )
    rows = result.decisions if all_rows else result.decisions[: min(SHOWN, max(result.enough, 3))]
    output.table(
        ("lost>", "value>", "entries>", "to decide, and what is proposed"),
        [
            (
                d.lost,
                d.value,
                len(d.entries),
                [
                    output.path(d.name, known),
                    *(
                        [f"to  {d.proposal}  ({d.reason or 'proposed'}, {d.confidence:.2f})"]
                        if d.proposal
                        else [f"review them: upright review --family {quote(output.clean(d.name))}"]
                        if d.differ
                        else []
                    ),
                ],
            )
            for d in rows
        ],
    )
    show_more(len(result.decisions), len(rows))


def show_more(whole: int, shown: int) -> None:
    """Say how many rows are left out."""
    if shown < whole:
        output.say(f"… and {whole - shown:,} more; --all lists them")


def show_next_step(result: Triaged) -> None:
    """What to do about it."""
    if any(r.account.state == FailureState.NEW and r.account.lost for r in result.rows):
        output.next_step(
            "answer what is lost", "upright triage --review, or upright decide OLD --to NEW"
        )
    elif any(r.account.state == "answered" for r in result.rows):
        output.next_step(
            "build the rules again, and see what changed", "upright build --for nginx --out rules/"
        )
    elif _unmarked(result.rows):
        output.next_step(
            "say which build is live, so that later failures count", "upright handover --live"
        )
    else:
        output.next_step("see where you are", "upright")


def _unmarked(rows: list[Failing]) -> bool:
    return any(r.fix.answered and not r.fix.live for r in rows)
