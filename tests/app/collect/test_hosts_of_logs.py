"""Hosts that logs name: ports, and old hosts that the settings forgot."""

from __future__ import annotations

from conftest import Program
from counting import WRITERS, Asked, combined, facts, write_log


def test_a_default_port_names_no_other_site_and_others_are_named_first(museum: Program) -> None:
    lines = [
        f"www.quillhaven.example:443 {one}"
        for one in combined([Asked(f"/p{n}") for n in range(20)])
    ]
    museum("gather", write_log(museum.folder / "a.log", "combined", lines))
    assert len(museum.json("entries", "--limit", 0)["entries"]) == 20
    other = [
        one.replace("www.quillhaven.example:443", f"shop{n % 4}.quillhaven.example:8443")
        for n, one in enumerate(lines)
    ]
    other = [one.replace("10:00", "11:00") for one in other]
    said = museum(
        "gather",
        write_log(museum.folder / "b.log", "combined", [*other, *lines[:2]]),
        COLUMNS="200",
    ).out
    assert said.startswith(
        "b.log: 20 of 22 lines are off-site: shop0.quillhaven.example:8443 (5), "
        "shop1.quillhaven.example:8443 (5), shop2"
    )
    assert "[sites] in upright.toml" in said.splitlines()[1] + said.splitlines()[2]


def test_an_old_host_that_was_forgotten_is_added(museum: Program) -> None:
    asked = [Asked("/a", host="old.example"), Asked("/b", host="old.example")]
    said = museum(
        "gather", write_log(museum.folder / "a.log", "by host", WRITERS["by host"](asked))
    ).out
    assert "upright entries --aside all" in said
    file = museum.folder / "upright.toml"
    file.write_text(
        file.read_text().replace(
            '"http://quillhaven.example"', '"http://quillhaven.example", "http://old.example"'
        )
    )
    assert "old.example is a host of an old site now" in museum("fold", "--apply").out
    assert facts(museum, "/a") == (1, 0)
    assert "Nothing to change" in museum("fold", "--apply").out
