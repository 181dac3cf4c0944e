"""Fits the weights of upright_ledger.core.matching.choice_model on made-up site moves, and prints
them.

    python benchmarks/fit_matching.py [FIRST_SEED LAST_SEED] [DIR…]

The seeds are others than those that benchmarks/matching.py measures on. DIR: moves that happened,
each with moves.csv (old, title, new) and pages.csv (url, title).
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
from moves.made import make_move
from moves.site_move import SiteMove
from moves.told import read_move
from scipy.optimize import minimize

from upright_ledger.core.matching import learned_features, scoring
from upright_ledger.core.matching.choice_model import Choice, soft_max

RISING = {
    "same slug", "slug words", "slug letters", "same title", "title words", "old words found",
    "new words found", "shared information",
    "context", "same number", "same year", "both found", "place moved there", "number carried",
    "slug carried", "number alone", "taken where pages merge", "same name", "name letters",
    "same words", "title alone", "title of a number", "information alone", "name carried",
    "rewritten as others", "same item",
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
    "other item",
}
PENALTY = 0.00005


def truth_of(move: SiteMove, old: np.ndarray, new: np.ndarray) -> np.ndarray:
    return np.array(
        [
            move.new[j].name in move.truth[move.old[i].name]
            for i, j in zip(old.tolist(), new.tolist(), strict=True)
        ],
        float,
    )


def fit(
    cases: list[tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]], names: tuple[str, ...]
) -> Choice:
    """Fit a choice on (old page of each pair, figures, page figures, truth) of several moves."""
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
    some = np.bincount(old, weights=y, minlength=len(page)) > 0
    width = x.shape[1]

    def loss(w: np.ndarray) -> tuple[float, np.ndarray]:
        p = soft_max(old, x @ w[:width], page @ w[width:])
        mine = np.bincount(old, weights=p * y, minlength=len(page))
        none = 1.0 - np.bincount(old, weights=p, minlength=len(page))
        good = np.maximum(np.where(some, mine, none), 1e-9)
        # d log(good): the share of each right pair in what is right, less its chance.
        pull = np.where(some[old], p * y / np.maximum(mine, 1e-9)[old], 0.0) - p
        pull_none = np.where(some, 0.0, 1.0) - none
        value = -np.log(good).mean() + PENALTY * float(w @ w)
        slope = -np.concatenate([x.T @ pull, page.T @ pull_none]) / len(page) + 2 * PENALTY * w
        return value, slope

    bounds = [
        (0, None) if n in RISING else (None, 0) if n in FALLING else (None, None) for n in names
    ] + [(None, None)] * page.shape[1]
    start = np.zeros(width + page.shape[1])
    found = minimize(
        loss, start, jac=True, method="L-BFGS-B", bounds=bounds, options={"maxiter": 400}
    )
    print(f"# loss {found.fun:.4f} over {len(page):,} pages")
    w = np.round(found.x, 3)
    return Choice(tuple(w[:width].tolist()), tuple(w[width:].tolist()))


def main() -> None:
    first, last = (int(a) for a in sys.argv[1:3]) if len(sys.argv) > 2 else (1000, 1060)
    made = [make_move(seed, 300 + 131 * (seed % 11)) for seed in range(first, last)]
    made += [read_move(Path(folder)) for folder in sys.argv[3:]]
    looks = [scoring.first_look(m.old, m.new, {}) for m in made]
    truths = [truth_of(m, seen.old, seen.new) for m, (_, seen) in zip(made, looks, strict=True)]
    alone = fit(
        [
            (seen.old, seen.figures, scoring.page_figures(sides, None), y)
            for (sides, seen), y in zip(looks, truths, strict=True)
        ],
        scoring.FIRST,
    )
    cases = []
    for (sides, seen), y in zip(looks, truths, strict=True):
        chances = alone.chances(seen.old, seen.figures, scoring.page_figures(sides, None))
        learned, rate = learned_features.learn(
            sides,
            seen,
            chances,
            scoring.seeds_of(seen, chances, {}, len(sides.old), len(sides.new)),
        )
        cases.append(
            (seen.old, np.hstack([seen.figures, learned]), scoring.page_figures(sides, rate), y)
        )
    taught = fit(cases, scoring.SECOND)
    for name, choice, names in (
        ("FIRST", alone, scoring.FIRST),
        ("SECOND", taught, scoring.SECOND),
    ):
        print(f"{name} = Choice(\n    weights=(")
        for value, figure in zip(choice.weights, names, strict=True):
            print(
                "        "
                f"{figure.upper().replace(' ', '_') if figure.endswith(' item') else value},  # "
                f"{figure}"
            )
        print("    ),\n    none=(")
        for value, figure in zip(choice.none, scoring.PAGE_FIGURES, strict=True):
            print(f"        {value},  # {figure}")
        print("    ),\n)")


if __name__ == "__main__":
    main()
