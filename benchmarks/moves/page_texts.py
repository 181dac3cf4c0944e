"""Texts for the pages of made-up moves: what became of them on the way is drawn anew for each
move.
"""

from __future__ import annotations

import random
from dataclasses import replace

from moves.site_move import SiteMove
from upright_ledger.core.contents.sketches import sketch_of
from upright_ledger.core.url.tokens import tokens


def with_texts(move: SiteMove, seed: int) -> SiteMove:
    """The same move, its pages with texts. Texts stay, are edited, shortened or written anew, a
    page at a time; both sites have their own boilerplate; pages of one folder are written alike on
    some sites. On some of them pages get other names and titles as well.
    """
    r = random.Random(f"texts {seed}")
    words = [_word(r) for _ in range(3000)]
    edited, anew = r.choice([0.0, 0.02, 0.1, 0.25]), r.choice([0.0, 0.0, 0.1, 0.4, 1.0])
    unseen = r.choice([0.0, 0.05, 0.4])  # pages of which no text is known
    common = r.choice([0.0, 0.0, 0.3, 0.8])  # of a text that its folder's pages share
    shortest = r.choice([10, 40, 120])
    renamed, untitled = r.choice([0.0, 0.05, 0.3, 1.0]), r.choice([True, False])

    def some(count: int) -> list[str]:
        return [words[int(len(words) * r.random() ** 2)] for _ in range(count)]

    old_around, new_around = some(r.choice([0, 40, 200])), some(r.choice([0, 40, 200]))
    alike: dict[str, list[str]] = {}

    def text_of(path: str, title: str) -> list[str]:
        folder = path.rpartition("/")[0]
        shared = alike.setdefault(folder, some(r.randint(shortest, 400)))
        own = [*tokens(f"{path} {title}"), *some(r.randint(shortest, shortest * 6))]
        return [*shared[: int(len(own) * common)], *own]

    def edit(text: list[str]) -> list[str]:
        if r.random() < anew:
            return some(len(text))
        kept = [w if r.random() >= edited else r.choice(words) for w in text]
        return kept[: r.randint(len(kept) // 3, len(kept))] if r.random() < 0.1 else kept

    def sketch(text: list[str], around: list[str]) -> str:
        return "" if r.random() < unseen else sketch_of(" ".join([*around, *text]))

    old_texts = {p.name: text_of(p.path, p.title) for p in move.old}
    came_from: dict[str, list[str]] = {}
    for old, goals in move.truth.items():
        for goal in goals:
            came_from.setdefault(goal, []).append(old)
    new = []
    for page in move.new:
        sources = came_from.get(page.name, [])
        text = edit(old_texts[sources[0]]) if sources else text_of(page.path, page.title)
        for merged in sources[1:4]:
            # Variants of one page say nearly what it says; others are taken up in it, or lost.
            if r.random() < 0.5:
                old_texts[merged] = edit(old_texts[sources[0]])
        if r.random() < renamed:
            name = "-".join(some(r.randint(1, 4)))
            path = f"{page.path.rstrip('/').rpartition('/')[0]}/{name}/"
            title = "" if untitled or not page.title else " ".join(some(r.randint(1, 5)))
            new.append(replace(page, path=path, title=title, params=()))
        else:
            new.append(page)
        new[-1] = replace(new[-1], text=sketch(text, new_around))
    old = [replace(p, text=sketch(old_texts[p.name], old_around)) for p in move.old]
    return SiteMove(old, new, move.truth)


def _word(r: random.Random) -> str:
    return "".join(r.choice("bdfgklmnprst") + r.choice("aeiou") for _ in range(r.randint(1, 4)))
