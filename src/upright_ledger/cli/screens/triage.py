"""What fails now, as a specialist reads it."""

from __future__ import annotations

from upright_ledger.app.live.triage import Failing, Triaged
from upright_ledger.cli.terminal import output
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
                    sum(r.account.lost for r in result.rows if r.account.state == state),
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
    _show_again(
        [r for r in result.rows if r.account.state == FailureState.RECURRING],
        known,
        all_rows=all_rows,
    )
    if result.decisions:
        _show_decisions(result, known, all_rows=all_rows)
    if result.origins:
        output.say()
        output.table(
            ("they come from", "requests>", "entries>"),
            [(origin, requests, entries) for origin, requests, entries in result.origins],
        )
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


def _show_again(again: list[Failing], known: list[str], *, all_rows: bool) -> None:
    """What fails after its fix, cause by cause."""
    causes: dict[str, list[Failing]] = {}
    for row in again:
        causes.setdefault(row.why, []).append(row)
    if not causes:
        return
    output.say()
    rows = sorted(causes.items(), key=lambda item: -sum(r.account.since for r in item[1]))
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
            for why, found in rows
        ],
    )


_MEANS = {
    FailureState.RECURRING: "fails although a live build has its answer",
    FailureState.NEW: "nobody has answered it",
    "answered": "has an answer that is not live yet",
    "deployed": "its answer is live, and nobody asked since",
    "proven": "asked since it went live, and answered rightly",
}


_WHY = {
    "probe": "scanners ask for it on every site",
    "random": "letters drawn by chance, as scanners try them",
    "bots only": "asked for by declared bots alone",
    "page asset": "images that pages show, and what browsers ask for by themselves",
    "furniture": "style sheets, scripts, fonts and icons",
    "off-site": "a host that is no old site of this ledger",
    "unanswerable": "no rule can answer it safely",
}


def _show_summary(result: Triaged) -> None:
    if not result.days:
        return
    whole = sum(n for classes in result.days.values() for n in classes.values())
    failed = sum(
        classes.get("404", 0.0) + classes.get("410", 0.0) for classes in result.days.values()
    )
    broken = sum(classes.get("5xx", 0.0) for classes in result.days.values())
    days = list(result.days)
    share = 100 * failed / whole if whole else 0.0
    output.say(
        f"{days[0]} to {days[-1]}: {whole:,.0f} requests by people, {failed:,.0f} of them not "
        f"found ({share:.1f} %), {broken:,.0f} server errors."
    )
    if result.strays:
        count = sum(result.strays.values())
        output.say(
            f"Left out of these days, as a wrong clock wrote them: {count:,.0f} requests dated "
            f"{', '.join(list(result.strays)[:3])}."
        )
    trend = _trend(result)
    if trend:
        output.say(trend)
    if result.live:
        output.say(
            "Live: "
            + ", ".join(
                f"{server} since {to_the_minute(time)}" for time, server in result.live[-3:]
            )
            + "."
        )


def _trend(result: Triaged) -> str:
    """The share of the last seven days beside that of the seven before."""
    days = list(result.days.items())
    if len(days) < 14:
        return ""
    shares = []
    for part in (days[-14:-7], days[-7:]):
        whole = sum(sum(classes.values()) for _, classes in part)
        shares.append(100 * sum(c.get("404", 0.0) for _, c in part) / whole if whole else 0.0)
    return f"Last seven days {shares[1]:.1f} %, the seven before {shares[0]:.1f} %."


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
