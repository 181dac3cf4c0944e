"""A family that fails is offered one answer only where its proposals agree; else it is reviewed."""

from __future__ import annotations

from typing import Any

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.core.matching.pattern_moves import moves_alike

SLUGS = [f"{a}-{b}" for a in ("bell", "tide", "clock", "room") for b in ("tower", "house")]
LINE = '192.0.2.{n} - - [01/May/2026:10:00:00 +0000] "GET {p} HTTP/1.1" 404 1 "-" "Mozilla/5.0 X"\n'


def family(museum: Program, pages: list[str], titles: list[str]) -> tuple[dict[str, Any], str]:
    """What triage offers for pages that fail, and what it prints; pages of the new site have the
    titles of the old ones.
    """
    old = [f"/old/{slug}.html" for slug in SLUGS]
    rows = "".join(f"{OLD}{path},{slug} at sea\n" for path, slug in zip(old, SLUGS, strict=True))
    museum.write("titles.csv", f"url,title\n{rows}")
    told = "".join(f"{NEW}{p},{t}\n" for p, t in zip(pages, titles, strict=True))
    museum.write("stock.csv", f"url,title\n{told}")
    museum.write("a.log", "".join(LINE.format(n=n, p=path) for n, path in enumerate(old)))
    museum("gather", "titles.csv")
    museum("stock", "stock.csv")
    museum("match", "--accept-above", "1.01")
    (decision,) = museum.json("triage", "a.log", code=1)["decisions"]
    return decision, museum("triage", code=1).out


@pytest.mark.parametrize(
    ("pairs", "template"),
    [
        ([(f"/old/{s}.html", f"/new/{s}/") for s in SLUGS], "/new/{slug}/"),
        ([(f"/old/{s}.html", f"/new/{s.title()}/") for s in SLUGS], ""),
        ([(f"/old/{s}.html", f"/new/{n}/") for n, s in enumerate(SLUGS)], ""),
        ([(f"/old/{s}.html", f"/new/{s}/") for s in SLUGS[:-1]] + [("/old/x.html", "/y/")], ""),
        ([(f"/old/{s}.html", "/new/") for s in SLUGS], "/new/"),
        ([], ""),
    ],
)
def test_a_template_is_one_by_which_all_move(pairs: list[tuple[str, str]], template: str) -> None:
    assert moves_alike(pairs) == template


def test_a_family_that_moves_alike_is_offered_the_template(museum: Program) -> None:
    told, out = family(museum, [f"/new/{s}/" for s in SLUGS], [f"{s} at sea" for s in SLUGS])
    assert (told["kind"], told["entries"], told["differ"]) == ("family", 8, False)
    assert told["proposal"] == f"{NEW}/new/{{slug}}/"
    assert f"to  {NEW}/new/{{slug}}/  (they move alike" in " ".join(out.split("\n"))


def test_a_family_whose_proposals_differ_is_to_be_reviewed(museum: Program) -> None:
    pages = [f"/{'abcdefgh'[n]}/{slug[::-1]}-{n}/" for n, slug in enumerate(SLUGS)]
    told, out = family(museum, pages, [f"{s} at sea" for s in SLUGS])
    assert (told["kind"], told["entries"], told["proposal"]) == ("family", 8, "")
    assert told["differ"]
    assert f"review them: upright review --family '{told['name']}'" in " ".join(out.split())
    museum("review", "--out", "sheet.csv", "--family", told["name"])
    assert len((museum.folder / "sheet.csv").read_text().splitlines()) == 9
