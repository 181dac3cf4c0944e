"""Site-wide forms: what no rule answers is settled in one hop, and once."""

from __future__ import annotations

import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from conftest import NEW, Program
from upright_ledger.core.rules.canonical_form import ALWAYS, NEVER, CanonicalForm
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.request_target import reject_reason

HOST = "www.quillhaven.example"
_TARGETS = st.lists(
    st.sampled_from(["/", "a", "B", ".html", ".", "..", "%41", "%C3%A9", "%2e", "//", "?", "x=1",
        "'", "é", "|", "robots.txt"]), max_size=8
).map(lambda parts: "/" + "".join(parts))  # fmt: skip


@given(
    _TARGETS,
    st.sampled_from(["", ALWAYS, NEVER]),
    st.booleans(),
    st.sampled_from(["", "connection"]),
)
def test_what_a_form_leads_to_is_in_the_form(
    target: str, slash: str, lower: bool, scheme_from: str
) -> None:
    form = CanonicalForm("quillhaven.example", NEW, slash, lower, scheme_from)
    for host, scheme in (("quillhaven.example", "http"), (HOST, "http"), (HOST, "")):
        location = "" if reject_reason(target) else form.canonicalised(host, target, scheme)
        if location:
            assert location.startswith(f"{NEW}/")
            goal = parse_address(location)
            assert form.canonicalised(goal.authority, location.removeprefix(NEW), goal.scheme) == ""


def settle(museum: Program, **form: object) -> None:
    """Give the ledger's site a canonical origin, and a form."""
    path = museum.folder / "upright.toml"
    document = tomlkit.parse(path.read_text())
    document["site"][0]["canonical"] = form.pop("canonical", NEW)  # type: ignore[index, union-attr]
    document["form"].update(form)  # type: ignore[union-attr]
    path.write_text(tomlkit.dumps(document))


def rehearse(museum: Program, *urls: str) -> dict[str, tuple[int, str]]:
    museum.write("asked.txt", "\n".join(urls) + "\n")
    museum("rehearse", "asked.txt", "--out", "rows.csv", code=None)
    rows = [line.split(",") for line in (museum.folder / "rows.csv").read_text().splitlines()]
    at = {name: n for n, name in enumerate(rows[0])}
    return {r[at["url"]]: (int(r[at["status"]]), r[at["location"]]) for r in rows[1:]}


def test_scheme_host_slash_and_case_are_one_hop(museum: Program) -> None:
    museum("decide", "--from", museum.pairs("/old.html,/visit/,301", "/kept,/kept,keep"))
    settle(museum, scheme="connection", slash=ALWAYS, lower_case=True)
    old = "http://quillhaven.example"
    assert rehearse(
        museum,
        f"{old}/old.html",
        f"{old}/Kept",
        f"{NEW}/about",
        f"{old}/robots.txt",
        f"{NEW}/visit/",
    ) == {
        f"{old}/old.html": (301, f"{NEW}/visit/"),
        f"{old}/Kept": (301, f"{NEW}/kept/"),
        f"{NEW}/about": (301, f"{NEW}/about/"),
        f"{old}/robots.txt": (404, ""),
        f"{NEW}/visit/": (404, ""),
    }
    assert museum.json("check", code=None)["proof"]["state"] == "proved"


def test_a_destination_that_the_form_moves_on_is_a_chain_and_is_mended(museum: Program) -> None:
    museum("decide", "--from", museum.pairs("/old.html,/visit,301"))
    settle(museum, slash=ALWAYS)
    found = museum.json("check", code=1)
    assert (found["counts"], found["proof"]["state"]) == ({"chain": 1}, "witness")
    assert museum.json("check", "--fix")["mended"][0]["after"] == f"{NEW}/visit/"


def test_what_a_server_cannot_settle_is_named(museum: Program) -> None:
    museum("decide", "--from", museum.pairs("/old.html,/visit/,301"))
    settle(museum, lower_case=True)
    museum("build", "--for", "nginx", "--out", "nginx", code=1)
    assert "lower case" in (museum.folder / "nginx/manifest.json").read_text()
    museum("build", "--for", "csv", "--out", "list", code=1)
    assert "the form of quillhaven.example" in (museum.folder / "list/manifest.json").read_text()


def test_a_form_that_cannot_be_is_refused_with_the_reason(museum: Program) -> None:
    settle(museum, canonical="https://elsewhere.example")
    assert "none of the new origins" in museum("check", code=3).err
    settle(museum, slash="sometimes")
    assert "slash" in museum("check", code=3).err
