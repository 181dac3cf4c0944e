"""Figures of the time after a launch, as PNG and SVG: the share of requests that are not found, day
by day; coverage by hits; the families that lose most.
"""

from __future__ import annotations

import io
from collections import defaultdict
from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import date, datetime, timedelta
from math import isnan
from pathlib import Path
from typing import Any

from upright_ledger.app.live.triaged import Triaged
from upright_ledger.core.monitoring.day_totals import gaps_of, with_gaps
from upright_ledger.core.monitoring.deploy_days import YEARS, span_of
from upright_ledger.core.monitoring.failure_account import FailureState
from upright_ledger.errors import UsageError
from upright_ledger.formats.files.outputs import write_output
from upright_ledger.ledger.clock import now

_INK, _FAINT, _GRAVE, _DOUBTFUL = "#222222", "#9a9a94", "#b3402a", "#8a6d1f"
_PAPER = "#fbfaf7"
_SIZE = (12.8, 8.0)  # inches, at 100 dots each
_FAMILIES = 12
_NO_DATA = float("nan")


def draw(result: Triaged, folder: Path) -> list[Path]:
    """Write all figures into a folder, each as PNG and SVG; their paths. Raises UsageError where
    there are no days to draw.
    """
    result = replace(result, days=_drawn(result.days))
    if not result.days:
        raise UsageError(
            "there is nothing to draw: no log was gathered", "upright triage access.log"
        )
    from matplotlib import rc_context
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    style: Any = {
        "font.size": 11, "text.color": _INK, "axes.edgecolor": _FAINT, "axes.labelcolor": _INK,
        "xtick.color": _INK, "ytick.color": _INK,
        "axes.spines.top": False, "axes.spines.right": False, "svg.hashsalt": "upright",
    }  # fmt: skip
    parts: dict[str, Callable[[Any, Triaged], None]] = {
        "not-found": _not_found, "coverage": _coverage, "families": _families,
    }  # fmt: skip
    written = []
    for name, paint in parts.items():
        with rc_context(style):
            figure = Figure(figsize=_SIZE, dpi=100, facecolor=_PAPER, layout="constrained")
            FigureCanvasAgg(figure)
            axes = figure.add_subplot(facecolor=_PAPER)
            paint(axes, result)
            for ending in ("png", "svg"):
                data = io.BytesIO()
                figure.savefig(
                    data,
                    format=ending,
                    facecolor=_PAPER,
                    metadata={"Date": None} if ending == "svg" else None,
                )
                path = folder / f"{name}.{ending}"
                write_output(path, data.getvalue())
                written.append(path)
    return written


def _drawn(days: Mapping[str, Any]) -> dict[str, Any]:
    """Days without those that a wrong clock wrote, and those that no calendar of a figure holds."""
    kept = {day: classes for day, classes in days.items() if date.fromisoformat(day).year in YEARS}
    if not kept:
        return kept
    strays = span_of(
        {day: sum(classes.values()) for day, classes in kept.items()}, now()[:10]
    ).strays
    return {day: classes for day, classes in kept.items() if day not in strays}


def _not_found(axes: Any, result: Triaged) -> None:
    days, shares = [], []
    for day, classes in with_gaps(result.days).items():
        whole = sum(classes.values())
        days.append(date.fromisoformat(day))
        shares.append(
            100 * (classes.get("404", 0.0) + classes.get("410", 0.0)) / whole if whole else _NO_DATA
        )
    axes.plot(days, shares, color=_GRAVE, linewidth=2, marker="o", markersize=3)
    axes.fill_between(days, shares, color=_GRAVE, alpha=0.12)
    axes.set_title("Requests by people that are not found", loc="left", pad=28)
    axes.set_ylabel("% of the requests of a day")
    axes.set_ylim(0, max(5.0, max((s for s in shares if not isnan(s)), default=0.0) * 1.15))
    _mark_gaps(axes, result)
    _mark_builds(axes, result, days)
    _date_ticks(axes)


def _mark_gaps(axes: Any, result: Triaged) -> None:
    """Shade the days of which there is no log, within the time that there is."""
    named = False
    for first, last in gaps_of(result.days):
        begin, end = (date.fromisoformat(day) for day in (first, last))
        half = timedelta(hours=12)
        midnight = datetime.min.time()
        axes.axvspan(
            datetime.combine(begin, midnight) - half,
            datetime.combine(end, midnight) + half,
            color=_FAINT,
            alpha=0.18,
            linewidth=0,
            label=None if named else "no log of these days",
        )
        named = True
    if named:
        axes.legend(frameon=False, loc="upper left", ncols=3, bbox_to_anchor=(0, -0.08))


def _mark_builds(axes: Any, result: Triaged, days: list[date]) -> None:
    marks: dict[date, list[str]] = defaultdict(list)
    for number, (time, _) in enumerate(result.live):
        day = date.fromisoformat(time[:10])
        if days[0] <= day <= days[-1]:
            marks[day].append("launch" if number == 0 else f"fix {number}")
    for day, names in marks.items():
        axes.axvline(day, color=_INK, linewidth=1, linestyle=(0, (4, 3)))
        axes.annotate(
            ", ".join(names), (day, 1), xycoords=("data", "axes fraction"), xytext=(0, 4),
            textcoords="offset points", ha="center", va="bottom"
        )  # fmt: skip


def _coverage(axes: Any, result: Triaged) -> None:
    days = [date.fromisoformat(day) for day in result.days]
    served = [
        sum(n for c, n in classes.items() if c in {"2xx", "3xx"})
        for classes in result.days.values()
    ]
    failed = [
        sum(n for c, n in classes.items() if c in {"404", "410", "5xx"})
        for classes in result.days.values()
    ]
    axes.bar(days, served, color=_FAINT, width=0.85, label="answered with a page or a redirect")
    axes.bar(
        days, failed, bottom=served, color=_GRAVE, width=0.85, label="not found, gone, or failed"
    )
    axes.set_title("Requests by people, day by day", loc="left", pad=28)
    axes.set_ylabel("requests")
    _mark_gaps(axes, result)
    axes.legend(frameon=False, loc="upper left", ncols=3, bbox_to_anchor=(0, -0.08))
    _mark_builds(axes, result, days)
    _date_ticks(axes)


def _families(axes: Any, result: Triaged) -> None:
    lost: dict[str, float] = defaultdict(float)
    again: dict[str, float] = defaultdict(float)
    for row in result.rows:
        path = row.entry.key.partition("?")[0]
        name = row.family or (f"/{path.split('/')[1]}/ …" if path.count("/") > 1 else path)
        if row.account.state == FailureState.RECURRING:
            again[name] += row.account.lost
        elif row.account.state == FailureState.NEW:
            lost[name] += row.account.lost
    names = sorted(lost.keys() | again.keys(), key=lambda n: (lost[n] + again[n], n))[-_FAMILIES:]
    axes.barh(names, [again[n] for n in names], color=_GRAVE, label="fails again after its fix")
    axes.barh(
        names,
        [lost[n] for n in names],
        left=[again[n] for n in names],
        color=_DOUBTFUL,
        label="has no answer",
    )
    axes.set_title("What is lost, by family", loc="left")
    axes.set_xlabel("requests by people")
    if names:
        axes.legend(frameon=False, loc="lower right")
    else:
        axes.text(0.5, 0.5, "nothing fails", transform=axes.transAxes, ha="center")


def _date_ticks(axes: Any) -> None:
    from matplotlib import dates

    ticks: Any = dates  # it has no types
    locator = ticks.AutoDateLocator(maxticks=10)
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ticks.ConciseDateFormatter(locator))
