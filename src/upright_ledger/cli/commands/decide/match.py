"""upright match"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from upright_ledger.app.collect.surveys.crawling import start_surveying
from upright_ledger.app.decide.look import look, unseen_pages
from upright_ledger.app.decide.match import MAX_ERROR, Matched, match
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.http import asking_options, manner_of, say_who_gets_the_login
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.core.matching.auto_accept import PRUDENCE, Acceptance
from upright_ledger.core.url.address import address_of
from upright_ledger.errors import UsageError
from upright_ledger.formats.tables.item_table import read_item_numbers
from upright_ledger.ledger.store import Ledger

AGENT = "upright-ledger (match)"
SHOWN = 8
SHOWN_FAMILIES = 5


class Share(click.ParamType[float]):
    """A share, as "1%" or 0.01."""

    name = "share"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        text = str(value).strip()
        try:
            share = float(text[:-1]) / 100 if text.endswith("%") else float(text)
        except ValueError:
            share = -1.0
        if not 0 <= share < 1:
            self.fail(f"{text!r} is no share: write 1% or 0.01", param, ctx)
        return share


@click.command("match")
@click.option(
    "--max-error",
    type=Share(),
    metavar="SHARE",
    help=(
        "Answer as many entries as can be answered with this share of errors expected among them. "
        f" [default: {MAX_ERROR:.0%}]"
    ),
)
@click.option(
    "--accept-above",
    type=click.FloatRange(0, 1.01),
    metavar="CONFIDENCE",
    help=(
        "Answer entries whose best proposal has this confidence or more instead; 1.01 accepts none "
        "but equal addresses."
    ),
)
@click.option(
    "--items",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="FILE",
    help="A table of two columns: old item numbers, and the new ones in their place.",
)
@click.option(
    "--look",
    "looking",
    is_flag=True,
    help="Ask first for the old pages that are still up, those of open entries that no survey has "
    "seen: their titles and texts are compared, too.",
)
@asking_options
@json_option
@click.pass_obj
def command(
    folder: Path,
    /,
    max_error: float | None,
    accept_above: float | None,
    items: Path | None,
    looking: bool,
    as_json: bool,
    **asking: Any,
) -> None:
    """Propose destinations for all open entries, and answer the certain ones.

    Certain are entries whose address is a page of the new site, and the proposals that are surest:
    confidence is the chance that a proposal is right, so the errors among those accepted can be
    foretold. Answers that are known teach how sections moved, and where they are other than match
    would say, less is accepted. What surveys saw the pages of both sites say is compared as well.
    The home page is never proposed for an inner page, nor a page in another language. One undoable
    step.
    """
    if max_error is not None and accept_above is not None:
        raise UsageError("--max-error and --accept-above contradict each other", "give one of them")
    ledger = open_ledger(folder)
    if looking:
        _look(ledger, asking, as_json=as_json)
    result = match(
        ledger,
        max_error=MAX_ERROR if max_error is None else max_error,
        threshold=accept_above,
        items=read_item_numbers(items) if items is not None else None,
    )
    if as_json:
        output.json_out(_as_json(result))
        return
    accepted = result.acceptance
    output.say(f"{output.plural(result.open_before, 'entry was', 'entries were')} open.")
    for count, text in (
        (result.same_address, "answered: the address is a page of the new site"),
        (accepted.accepted, _accepted_in_words(accepted)),
        (result.proposed, "left open with a proposal"),
        (result.without, "left open without one: no page is alike enough"),
    ):
        output.say(f"  {count:>7,}  {text}")
    for side in result.untitled:
        output.say(
            f"None of the {side} pages has a title, so addresses alone were compared: an export "
            "with titles finds more.",
            output.DOUBTFUL,
        )
    if result.renumbering:
        output.say(f"Item numbers changed: {result.renumbering}.")
    if result.fallbacks:
        output.say(
            f"           for {result.fallbacks:,} of them the page of their section is kept as a "
            "fallback"
        )
    if accepted.accepted:
        wrong = "less than 1" if accepted.errors < 1 else f"about {accepted.errors:,.0f}"
        output.say()
        support = (
            "estimated, for no sample was reviewed yet (upright review --sample 300 --out "
            "sample.xlsx draws one)"
        )
        if result.sample.reviewed:
            reviewed = result.sample
            support = ("supported: " if result.supported else "still estimated: ") + (
                f"a random sample of {len(reviewed.reviewed):,} had {reviewed.wrong:,} wrong, "
                "which allows "
                f"{100 * reviewed.most_wrong:.1f} % at most (with 95 % certainty)"
            )
        output.say(
            f"Of the {accepted.accepted:,} accepted proposals {wrong} may be wrong "
            f"({100 * accepted.share:.1f} %): {support}."
        )
    answered = result.known
    if answered.prudence > PRUDENCE:
        output.say(
            f"Of {output.plural(len(answered.reviewed), 'page')} that somebody answered, and of "
            f"which match is sure, {answered.wrong:,} lead elsewhere: errors are taken to be "
            f"{answered.prudence:.1f} times as likely as the confidence says, and less is "
            "accepted.",
            output.DOUBTFUL,
        )
    for count, one, many in (
        (
            result.merged,
            "new page takes in several old ones",
            "new pages take in several old ones each",
        ),
        (
            result.split,
            "entry seems to be split: two new pages share it out",
            "entries seem to be split: two new pages share each out",
        ),
        (result.swapped, "pair of pages swaps addresses", "pairs of pages swap addresses"),
    ):
        if count:
            output.say(f"{output.plural(count, one, many)}.")
    if result.bands:
        output.say()
        output.table(
            ("confidence", "best proposals>", "right, as expected>"),
            [
                (f"{b.least:.2f} to {b.below:.2f}", f"{b.proposals:,}", f"{b.right:,.0f}")
                for b in result.bands
            ],
        )
    if result.moved:
        output.say()
        output.table(
            ("pages>", "how families moved"),
            [
                (f"{c.pairs:,} of {c.of:,}", [c.old, f"to  {c.new}"])
                for c in result.moved[:SHOWN_FAMILIES]
            ],
        )
    if result.proposals:
        output.say()
        known = (ledger.settings.sites.old[0].origins[0], ledger.settings.sites.new[0])
        output.table(
            (
                "confidence>",
                f"the proposals worth most, {min(SHOWN, result.proposed):,} of {result.proposed:,}",
            ),
            [
                (
                    f"{p.confidence:.2f}",
                    [
                        output.path(e.legacy_url, known),
                        f"to  {output.path(p.destination, known)}",
                        f"it  {'; '.join(p.reasons)}",
                    ],
                )
                for e, p in result.proposals[:SHOWN]
            ],
        )
    output.next_step("decide on what is open", "upright review")


def _look(ledger: Ledger, asking: dict[str, Any], *, as_json: bool) -> None:
    """Ask for old pages, and say what was seen."""
    pages = unseen_pages(ledger)
    if not pages:
        click.echo("All open entries were looked at before.", err=as_json)
        return
    begin = [address_of(page) for page in pages]
    asking["agent"] = asking["agent"] or AGENT
    hosts = [a.host for a in begin] if not asking["connect"] else []
    manner = manner_of(asking, hosts, begin)
    say_who_gets_the_login(manner)
    with start_surveying() as surveying, output.progress_counts("looking at old pages") as progress:
        seen = look(ledger, pages, manner, surveying, progress)
    up = seen.counts[CrawlOutcome.ANSWERED]
    click.echo(
        f"{output.plural(seen.counts.total(), 'old page was', 'old pages were')} asked for, "
        f"{up:,} {'is' if up == 1 else 'are'} still up."
        + (" Stopped: `upright match --look` goes on with the others." if seen.stopped else ""),
        err=as_json,
    )


def _accepted_in_words(accepted: Acceptance) -> str:
    if not accepted.accepted:
        return "answered: no proposal is sure enough"
    return f"answered: a proposal with a confidence of {min(accepted.threshold, 1.0):.3g} or more"


def _as_json(result: Matched) -> dict[str, Any]:
    return {
        "open_before": result.open_before,
        "same_address": result.same_address,
        "accepted": result.acceptance.accepted,
        "threshold": round(result.acceptance.threshold, 4),
        "expected_errors": round(result.acceptance.errors, 2),
        "estimated": not result.supported,
        "sample": {"reviewed": len(result.sample.reviewed), "wrong": result.sample.wrong},
        "proposed": result.proposed,
        "without_proposal": result.without,
        "fallbacks": result.fallbacks,
        "merged": result.merged,
        "swapped": result.swapped,
        "untitled": result.untitled,
        "renumbering": result.renumbering,
        "known": {"sure": len(result.known.reviewed), "elsewhere": result.known.wrong},
        "bands": [
            {"from": b.least, "to": b.below, "proposals": b.proposals, "right": round(b.right, 1)}
            for b in result.bands
        ],
        "split": result.split,
        "moved": [{"old": c.old, "new": c.new, "pairs": c.pairs, "of": c.of} for c in result.moved],
        "proposals": [
            {
                "legacy_url": entry.legacy_url,
                "destination": p.destination,
                "confidence": p.confidence,
                "reason": "; ".join(p.reasons),
                "value": round(entry.evidence.value, 2),
            }
            for entry, p in result.proposals
        ],
    }
