"""Fits the weights of upright_ledger.core.matching.choice_model on made-up site moves, and prints
them.

    python benchmarks/fit_matching.py [FIRST_SEED LAST_SEED] [DIR…]

The seeds are others than those that benchmarks/matching.py measures on. DIR: moves that happened,
each with moves.csv (old, title, new) and pages.csv (url, title).
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from moves.made import make_move
from moves.page_texts import with_texts
from moves.relaunches import make_relaunch
from moves.site_move import SiteMove
from moves.told import read_move
from scipy.optimize import minimize

from upright_ledger.core.matching import learned_features, scoring
from upright_ledger.core.matching.choice_model import OTHER_ITEM, SAME_ITEM, TWIN, Choice, nested
from upright_ledger.core.matching.pages.sides import Sides
from upright_ledger.core.matching.pair_features import Likeness
from upright_ledger.core.matching.proposals import FLOOR, SUREST

RISING = {
    "same slug", "slug words", "slug letters", "same title", "title words", "old words found",
    "new words found", "shared information",
    "context", "same number", "same year", "both found", "place moved there", "number carried",
    "slug carried", "number alone", "taken where pages merge", "same name", "name letters",
    "same words", "title alone", "title of a number", "information alone", "name carried",
    "rewritten as others", "says the same", "says the same alone",
    "own words alike", "no own word missing",
    "words gone elsewhere", "same text", "text found", "text shared", "text carried",
}  # fmt: skip
FALLING = {
    "old words missing",
    "new words missing",
    "other number",
    "other year",
    "place moved elsewhere",
    "number not carried",
    "slug not carried",
    "words replaced",
    "old words unmatched",
    "taken by another",
    "opposed",
    "place elsewhere",
    "new place elsewhere",
    "name not carried",
    "other text",
    "text not carried",
    "no own word found",
}
FIXED = {
    "taken by another": (-0.7, -0.7),
    "taken where pages merge": (0.0, 0.0),
    "taken by a variant": (0.0, 0.0),
    "its twin ends alike": (TWIN, TWIN),
    "same item": (SAME_ITEM, SAME_ITEM),
    "other item": (OTHER_ITEM, OTHER_ITEM),
}
"""Made-up moves are one to one more strictly than those that happen, on which other old pages say
little of which candidate is right.
"""
AT_LEAST = {"rewritten as others": 4.5}
"""Made-up moves seldom change all names in one way."""
AT_MOST = {"opposed": -2.0}
"""Nor do they often lack the page that a name is the opposite of: to be sent there is a bad
mistake.
"""
SET_BY_HAND = {
    "same item": "SAME_ITEM",
    "other item": "OTHER_ITEM",
    "its twin ends alike": "TWIN",
}
PENALTY = 0.0002
REAL = 0.3

Case = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]


def truth_of(move: SiteMove, old: np.ndarray, new: np.ndarray) -> np.ndarray:
    return np.array(
        [
            move.new[j].name in move.truth[move.old[i].name]
            for i, j in zip(old.tolist(), new.tolist(), strict=True)
        ],
        float,
    )


def fit(
    cases: Sequence[Case],
    names: tuple[str, ...],
    lost: tuple[str, ...] = (),
    *,
    made: int,
) -> Choice:
    """Fit a choice on (old page of each pair, figures, page figures, truth) of several moves, the
    first `made` of them made up. lost: the last of the names, which speak for none.
    """
    shift, olds, figures, pages, right = 0, [], [], [], []
    for old, x, page, y in cases:
        olds.append(old + shift)
        shift += len(page)
        figures.append(x)
        pages.append(page)
        right.append(y)
    old, x, page, y = (
        np.concatenate(olds),
        np.concatenate(figures).astype(float),
        np.concatenate(pages).astype(float),
        np.concatenate(right),
    )
    weight = np.repeat(_weights([len(c[2]) for c in cases], made), [len(c[2]) for c in cases])
    some = np.bincount(old, weights=y, minlength=len(page)) > 0
    width, last = x.shape[1], x[:, x.shape[1] - len(lost) :]

    def loss(w: np.ndarray) -> tuple[float, np.ndarray]:
        of_pairs, of_lost, of_pages = np.split(w, [width, width + len(lost)])
        adds = last @ of_lost
        within, any_one, added = nested(old, x @ of_pairs, page @ of_pages, adds)
        mine = np.bincount(old, weights=within * y, minlength=len(page))
        good = np.maximum(np.where(some, any_one * mine, 1.0 - any_one), 1e-9)
        # d log(good): by what a page's pairs and none are worth, and by each pair's chance.
        pull_none = np.where(some, any_one - 1.0, any_one)
        pull = np.where(some[old], within * y / np.maximum(mine, 1e-9)[old] - within, 0.0)
        pull -= pull_none[old] * within * (1.0 - (adds - added[old]))
        by_chance = np.stack(
            [np.bincount(old, weights=within * c, minlength=len(page)) for c in last.T], axis=1
        ) if lost else np.zeros((len(page), 0))  # fmt: skip
        value = -(weight * np.log(good)).mean() + PENALTY * float(w @ w)
        slopes = (
            x.T @ (pull * weight[old]),
            by_chance.T @ (pull_none * weight),
            page.T @ (pull_none * weight),
        )
        return value, -np.concatenate(slopes) / len(page) + 2 * PENALTY * w

    bounds = [FIXED.get(n, _sign(n)) for n in names]
    bounds += [(None, None)] * (len(lost) + page.shape[1])
    least, most = np.array(bounds, float).T  # None is no number: nan, which bounds nothing
    start = np.fmin(np.fmax(0.0, least), most)
    found = minimize(
        loss, start, jac=True, method="L-BFGS-B", bounds=bounds, options={"maxiter": 400}
    )
    print(f"# loss {found.fun:.4f} over {len(page):,} pages")
    of_pairs, of_lost, of_pages = np.split(np.round(found.x, 3), [width, width + len(lost)])
    return Choice(tuple(of_pairs.tolist()), tuple(of_pages.tolist()), tuple(of_lost.tolist()))


NEARLY = 1.01
SHARPER = np.arange(1.0, 2.6, 0.25)
LESS_NONE = np.arange(0.0, 1.55, 0.1)


def settled(taught: Choice, cases: Sequence[Case]) -> Choice:
    """The taught choice, as much sharper, and with none as much less likely, as makes confidence
    tell what is right (by its logarithmic loss) on moves that it was not fitted on: the penalty
    draws weights to 0, and so says too little. Of what is nearly the best that which makes none
    least unlikely: to send a page on that has no successor is the worse error.
    """
    losses: dict[tuple[float, float], float] = {}
    for sharper in SHARPER.tolist():
        for less in LESS_NONE.tolist():
            choice = _turned(taught, sharper, less)
            told = [_told(choice, case) for case in cases]
            said, right = (np.concatenate(parts) for parts in zip(*told, strict=True))
            said = np.clip(said, 1e-6, 1 - 1e-6)
            losses[sharper, less] = -float(
                (right * np.log(said) + (1 - right) * np.log(1 - said)).mean()
            )
    near = [at for at, loss in losses.items() if loss <= NEARLY * min(losses.values())]
    best = min(near, key=lambda at: (at[1], at[0]))
    print(
        f"# loss {losses[1.0, 0.0]:.5f}; {best[0]} times as sharp, none less likely by {best[1]}:"
    )
    print(f"# {losses[best]:.5f}")
    return _turned(taught, *best)


def _turned(choice: Choice, sharper: float, less: float) -> Choice:
    """A choice that is as much sharper, and with none less likely."""
    always, *others = choice.none
    return replace(choice, none=(round(always - less, 3), *others), sharper=sharper)


def _told(choice: Choice, case: Case) -> tuple[np.ndarray, np.ndarray]:
    """The confidence of the best proposal of each page that has any, and whether it is right."""
    old, figures, pages, right = case
    chances = choice.chances(old, pages, figures)
    order = np.lexsort((-chances, old))
    best = order[np.unique(old[order], return_index=True)[1]]
    best = best[chances[best] >= FLOOR]
    return np.minimum(chances[best], SUREST), right[best]


def _sign(name: str) -> tuple[float | None, float | None]:
    if name in AT_LEAST:
        return (AT_LEAST[name], None)
    if name in AT_MOST:
        return (None, AT_MOST[name])
    return (0, None) if name in RISING else (None, 0) if name in FALLING else (None, None)


def _weights(pages: list[int], made: int) -> np.ndarray:
    """What a page of each move counts for: those of moves that happened have REAL of the whole,
    each move as much as the root of its pages.
    """
    many = np.array(pages, float)
    each = np.ones(len(many))
    if made < len(many):
        roots = np.sqrt(many[made:])
        each[made:] = REAL * roots / roots.sum() / many[made:]
        each[:made] = (1 - REAL) / many[:made].sum()
        each *= many.sum()
    return each


def taught_case(alone: Choice, sides: Sides, seen: Likeness, right: np.ndarray) -> Case:
    """What the second choice sees of a move, after the first one."""
    chances = alone.chances(seen.old, scoring.page_figures(sides, None), seen.figures)
    seeds = scoring.seeds_of(seen, chances, {}, len(sides.old), len(sides.new))
    learned = learned_features.learn(sides, seen, chances, seeds)
    figures = np.hstack([seen.figures, learned.figures])
    return seen.old, figures, scoring.page_figures(sides, learned.rate), right


def held_out(alone: Choice, move: SiteMove) -> Case:
    """A made-up move that nothing was fitted on."""
    sides, seen = scoring.first_look(move.old, move.new, {})
    return taught_case(alone, sides, seen, truth_of(move, seen.old, seen.new))


def main() -> None:
    first, last = (int(a) for a in sys.argv[1:3]) if len(sys.argv) > 2 else (1000, 1060)
    moves = [make_move(seed, _size(seed)) for seed in range(first, last)]
    moves += [
        with_texts(make_move(s, _size(s)), s) for s in range(last, last + (last - first) // 3)
    ]
    moves += [make_relaunch(s) for s in range(first, first + (last - first) // 2)]
    made = len(moves)
    moves += [read_move(Path(folder)) for folder in sys.argv[3:]]
    looks = [scoring.first_look(m.old, m.new, {}) for m in moves]
    truths = [truth_of(m, seen.old, seen.new) for m, (_, seen) in zip(moves, looks, strict=True)]
    alone = fit(
        [
            (seen.old, seen.figures, scoring.page_figures(sides, None), y)
            for (sides, seen), y in zip(looks, truths, strict=True)
        ],
        scoring.FIRST,
        made=made,
    )
    cases = [taught_case(alone, *look, y) for look, y in zip(looks, truths, strict=True)]
    taught = fit(cases, scoring.SECOND, learned_features.LOST, made=made)
    after = last + (last - first) // 3
    unseen = [make_move(s, _size(s)) for s in range(after, after + 20)]
    unseen += [make_relaunch(s) for s in range(after, after + 10)]
    taught = settled(taught, [held_out(alone, move) for move in unseen])
    for name, choice, names in (
        ("FIRST", alone, scoring.FIRST),
        ("SECOND", taught, scoring.SECOND),
    ):
        print(f"{name} = Choice(\n    weights=(")
        for value, figure in zip(choice.weights, names, strict=True):
            print(f"        {SET_BY_HAND.get(figure, value)},  # {figure}")
        print("    ),\n    none=(")
        for value, figure in zip(choice.none, scoring.PAGE_FIGURES, strict=True):
            print(f"        {value},  # {figure}")
        print("    ),")
        if choice.lost:
            print("    lost=(")
            for value, figure in zip(choice.lost, learned_features.LOST, strict=True):
                print(f"        {value},  # {figure}")
            print(f"    ),\n    sharper={choice.sharper},")
        print(")")


def _size(seed: int) -> int:
    return 300 + 131 * (seed % 11)


if __name__ == "__main__":
    main()
