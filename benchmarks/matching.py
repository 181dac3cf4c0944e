"""How well and how fast old pages are matched: made-up moves of many kinds, and the sample site.

python benchmarks/matching.py quality [FIRST_SEED LAST_SEED]
python benchmarks/matching.py speed          against RapidFuzz scoring all pairs
python benchmarks/matching.py growth [FILE.png]
python benchmarks/matching.py large          300,000 old pages and 100,000 new ones
"""

from __future__ import annotations

import gc
import random
import resource
import sys
import time
from collections.abc import Iterable, Mapping, Sequence
from itertools import pairwise
from pathlib import Path

import numpy as np
from moves.made import make_move
from moves.relaunches import make_relaunch
from moves.site_move import SiteMove

from upright_ledger.core.matching import MatchPage, propose
from upright_ledger.core.matching.auto_accept import accept_within
from upright_ledger.demo.site import make_museum

MAX_ERROR = 0.01
BANDS = (0.0, 0.1, 0.3, 0.5, 0.7, 0.8, 0.9, 0.95, 0.99, 0.999, 1.001)


def sample(*, titled: bool) -> SiteMove:
    """The sample site: pages that can be found by looking at both sites, and those without
    successor.
    """
    museum = make_museum(random.Random(20_260_501))
    move = SiteMove()
    seen = set()
    for page in museum.old:
        if (
            page.answer != "keep"
            and page.kind != "home"
            and (page.certain or page.answer == "gone")
            and page.url not in seen
        ):
            seen.add(page.url)
            move.truth[page.url] = {page.destination} if page.destination else set()
            move.old.append(_page(page.url, page.title if titled else ""))
    move.new = [
        _page(p.url, p.title) for p in museum.new if p.status == 200 and p.url.count("/") > 3
    ]
    return move


def _page(url: str, title: str) -> MatchPage:
    path, _, query = url.split("/", 3)[3].partition("?")
    return MatchPage(
        url, f"/{path}", title, tuple(p.partition("=")[2] for p in query.split("&") if p)
    )


def measure(move: SiteMove) -> tuple[dict[str, float], list[tuple[float, bool]]]:
    """Figures of one move, and (confidence, right) of every best proposal."""
    found = propose(move.old, move.new).found
    ranked = {name: [p.name for p in choices] for name, choices in found.items()}
    answerable = [name for name, right in move.truth.items() if right]
    without = [name for name, right in move.truth.items() if not right]
    acceptance = accept_within([choices[0].confidence for choices in found.values()], MAX_ERROR)
    accepted = {n for n, choices in found.items() if choices[0].confidence >= acceptance.threshold}
    wrong = sum(1 for n in accepted if ranked[n][0] not in move.truth[n])
    figures = {
        "pages": len(move.old),
        "top 1": sum(1 for n in answerable if ranked.get(n, [""])[0] in move.truth[n])
        / len(answerable),
        "top 3": sum(1 for n in answerable if move.truth[n] & set(ranked.get(n, ())))
        / len(answerable),
        "accepted": sum(1 for n in answerable if n in accepted) / len(answerable),
        "wrong": wrong / max(1, len(accepted)),
        "left alone": sum(1 for n in without if n not in accepted) / max(1, len(without)),
    }
    return figures, [(c[0].confidence, ranked[n][0] in move.truth[n]) for n, c in found.items()]


def calibration_error(told: Sequence[tuple[float, bool]]) -> float:
    """How far confidence is from what was right, in ten bands of equal width, by their pages."""
    confidence, right = (np.array(x, float) for x in zip(*told, strict=True))
    band = np.minimum((confidence * 10).astype(int), 9)
    gaps = [
        abs(confidence[band == n].sum() - right[band == n].sum()) for n in np.unique(band).tolist()
    ]
    return float(sum(gaps) / len(told))


def quality(seeds: range) -> None:
    for name, move in (
        ("sample", sample(titled=True)),
        ("sample, no titles", sample(titled=False)),
    ):
        print(_line(name, measure(move)[0]))
    _quality_of("move", ((s, make_move(s, 600 + 173 * (s % 9))) for s in seeds))
    _quality_of("relaunch", ((s, make_relaunch(s)) for s in seeds))


def _line(name: str, figures: Mapping[str, float]) -> str:
    told = (f"{k} {v:5.0f}" if k == "pages" else f"{k} {v:7.3f}" for k, v in figures.items())
    return f"{name:18} {'  '.join(told)}"


def _quality_of(kind: str, moves: Iterable[tuple[int, SiteMove]]) -> None:
    """Figures of moves of a kind, and what their confidence was worth."""
    rows: list[dict[str, float]] = []
    told: list[tuple[float, bool]] = []
    for seed, move in moves:
        figures, confidences = measure(move)
        rows.append(figures)
        told += confidences
        print(_line(f"{kind} {seed}", figures))
    table = {name: np.array([row[name] for row in rows]) for name in rows[0]}
    worst = {n: np.quantile(row, 0.9 if n == "wrong" else 0.1) for n, row in table.items()}
    print(_line("mean", {name: row.mean() for name, row in table.items()}))
    print(_line("worst tenth", worst))
    print(f"\ncalibration error {calibration_error(told):.4f}")
    print("\nconfidence said        pages   said   right")
    confidence, right = (np.array(x, float) for x in zip(*told, strict=True))
    for low, high in pairwise(BANDS):
        here = (confidence >= low) & (confidence < high)
        if here.any():
            print(
                f"{low:5.3f} to {min(high, 1):5.3f}     {here.sum():8,}  "
                f"{confidence[here].mean():.3f}   {right[here].mean():.3f}"
            )
    print()


def speed(count: int = 50_000) -> None:
    from rapidfuzz import fuzz, process

    gc.set_threshold(200_000, 20, 100)  # as the program does
    move = make_move(8, count * 4)  # more than enough; what is left over is cut off
    old, new = move.old[:count], move.new[:count]
    known = {p.name for p in new}
    start = time.perf_counter()
    found = propose(old, new).found
    ours = time.perf_counter() - start
    part = 400
    texts = [_words(p) for p in new]
    start = time.perf_counter()
    scores = process.cdist(
        [_words(p) for p in old[:part]], texts, scorer=fuzz.token_set_ratio, workers=2
    )
    theirs = (time.perf_counter() - start) * len(old) / part
    best = scores.argmax(axis=1)
    asked = [n for n, p in enumerate(old[:part]) if move.truth[p.name] & known]
    mine = sum(
        1
        for n in asked
        if old[n].name in found and found[old[n].name][0].name in move.truth[old[n].name]
    ) / len(asked)
    other = sum(1 for n in asked if new[best[n]].name in move.truth[old[n].name]) / len(asked)
    print(
        f"{len(old):,} x {len(new):,}: {ours:.1f} s; all pairs by token_set_ratio {theirs:,.0f} s: "
        f"{theirs / ours:.0f} times"
    )
    print(f"top 1 of {len(asked)}: {mine:.3f}; by token_set_ratio {other:.3f}")
    print(f"peak memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6:.2f} GB")


def _words(page: MatchPage) -> str:
    return page.path.replace("/", " ").replace("-", " ").replace("_", " ")


def growth(picture: str) -> None:
    sizes, seconds = [], []
    for size in (5_000, 20_000, 80_000, 320_000, 520_000):
        move = make_move(8, size)
        start = time.perf_counter()
        propose(move.old, move.new)
        sizes.append(len(move.old) * len(move.new))
        seconds.append(time.perf_counter() - start)
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
        print(
            f"{len(move.old):>8,} x {len(move.new):>8,}  {seconds[-1]:6.1f} s  {memory:.2f} GB",
            flush=True,
        )
    if picture:
        import matplotlib as mpl

        mpl.use("Agg")
        from matplotlib import pyplot as plt

        pages = np.sqrt(sizes)
        figure, axes = plt.subplots(figsize=(8, 5))
        axes.loglog(pages, seconds, "o-", color="#1f4e79", label="measured")
        axes.loglog(pages, seconds[0] * pages / pages[0], ":", color="grey", label="linear")
        axes.loglog(
            pages, seconds[0] * (pages / pages[0]) ** 2, "--", color="grey", label="quadratic"
        )
        axes.set_xlabel("pages on each side (geometric mean)")
        axes.set_ylabel("seconds")
        axes.legend(frameon=False)
        figure.tight_layout()
        figure.savefig(Path(picture), dpi=110)


def large(olds: int = 300_000, news: int = 100_000) -> None:
    move = make_move(8, olds * 2)
    old, new = move.old[:olds], move.new[:news]
    del move
    start = time.perf_counter()
    propose(old, new)
    seconds = time.perf_counter() - start
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    print(f"{len(old):,} x {len(new):,}: {seconds:.0f} s, peak memory {memory:.2f} GB")


def main() -> None:
    task, *rest = sys.argv[1:] or ["quality"]
    if task == "quality":
        first, last = (int(a) for a in rest[:2]) if len(rest) > 1 else (0, 40)
        quality(range(first, last))
    elif task == "speed":
        speed()
    elif task == "large":
        large()
    else:
        growth(rest[0] if rest else "")


if __name__ == "__main__":
    main()
