"""Links to other sites: those that fail or moved for good are to be mended, but for those that are
said to be all right.
"""

from __future__ import annotations

import csv
from pathlib import Path

from conftest import OLD, Program
from upright_ledger.web.local.stand_in import Served, serve_whole


def test_links_to_other_sites_are_among_those_to_mend(tmp_path: Path) -> None:
    def other(_: str, target: str) -> Served:
        if target == "/moved":
            return Served(301, "", "/there")
        if target == "/for-now":
            return Served(302, "", "/there")
        return Served(404 if target in {"/dead", "/members/x"} else 200, "")

    with serve_whole(other) as there:
        partner = "http://partner.example"
        links = "".join(
            f'<a href="{partner}/{n}">about {n}</a>'
            for n in ("dead", "moved", "for-now", "fine", "members/x")
        )

        def respond(_: str, target: str) -> Served:
            if target in {"/", "/second/"}:
                return Served(200, f'<title>Page</title>{links}<a href="/second/">s</a>')
            return Served(404, "")

        with serve_whole(respond) as origin:
            Program(tmp_path)("open", "own", "--old", OLD, "--new", origin)
            own = Program(tmp_path / "own")
            settings = own.folder / "upright.toml"
            text = settings.read_text().replace(
                "[links.ignored]", f'[links.ignored]\n"{partner}/members/*" = "asks for a login"'
            )
            settings.write_text(text)
            survey = ("survey", f"{origin}/", "--external", "--rate", "0", "--mends", "mends.csv")
            survey += ("--connect", f"partner.example:80={there.removeprefix('http://')}")
            said = own(*survey, code=None).out
    with (own.folder / "mends.csv").open(newline="") as file:
        rows = [r for r in csv.DictReader(file) if r["external"]]
    mends = {(r["source"].removeprefix(origin), r["url"], r["final_url"], r["text"]) for r in rows}
    assert mends == {
        (page, f"{partner}/{name}", goal, f"about {name}")
        for page in ("/", "/second/")
        for name, goal in (("dead", ""), ("moved", f"{partner}/there"))
    }
    assert "Left out, as [links.ignored] says: 2 more." in said
