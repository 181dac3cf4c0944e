"""Sitemaps and feeds as the world writes them: undeclared prefixes, bare ampersands, blanks before
the beginning, ends cut off.
"""

from __future__ import annotations

import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import OLD, Program
from upright_ledger.formats.lists.sitemap import read_sitemap
from upright_ledger.formats.records import ReadOptions, Record

HEAD = '<?xml version="1.0" encoding="UTF-8"?>\n'
URLSET = '<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">'


def sitemap(*addresses: str, extra: str = "") -> str:
    rows = "\n".join(
        f"<url><loc>{a}</loc>{extra}<lastmod>2026-05-03</lastmod></url>" for a in addresses
    )
    return f"{HEAD}{URLSET}\n{rows}\n</urlset>\n"


def feed(*addresses: str) -> str:
    rows = "\n".join(
        f"<item><title>A</title><link>{a}</link><itunes:duration>3</itunes:duration></item>"
        for a in addresses
    )
    return f'{HEAD}<rss version="2.0"><channel><title>x</title>{rows}</channel></rss>'


DAMAGED = {
    "image": (sitemap(f"{OLD}/a", f"{OLD}/b", extra= (
        "<image:image><image:caption>x</image:caption></image:image>"
    )), "prefixes image"),
    "xhtml": (sitemap(f"{OLD}/a", f"{OLD}/b", extra= (
        f'<xhtml:link rel="alternate" hreflang="de" href="{OLD}/b"/>'
    )), "prefixes xhtml"),
    "itunes": (feed(f"{OLD}/a", f"{OLD}/b"), "prefixes itunes"),
    "blank": ("\n \n" + sitemap(f"{OLD}/a", f"{OLD}/b"), "blanks before its beginning"),
    "ampersand": (sitemap(f"{OLD}/a", f"{OLD}/b") .replace("/b<", "/b?id=5&lang=en<"),
        '1 times a bare "&"'),
    "html": (sitemap(f"{OLD}/a", f"{OLD}/b", extra= (
        "<title>Caf&eacute; &nbsp; &amp; more</title>"
    )), "HTML names"),
    "cut": (sitemap(f"{OLD}/a", f"{OLD}/b", f"{OLD}/cut-in-the-middle")[:-60],
        "its end is missing"),
}  # fmt: skip


@pytest.mark.parametrize("name", sorted(DAMAGED))
def test_what_is_there_is_read_and_what_was_mended_is_said(museum: Program, name: str) -> None:
    text, said = DAMAGED[name]
    source = museum.json("gather", museum.write("sitemap.xml", text))["sources"][0]
    found = {e["legacy_url"].removeprefix(OLD) for e in museum.json("entries")["entries"]}
    assert found == ({"/a", "/b?id=5&lang=en"} if name == "ampersand" else {"/a", "/b"})
    assert any(said in note for note in source["notes"]), source["notes"]
    assert not museum.json("gather", museum.write("good.xml", sitemap(f"{OLD}/c")))["sources"][0][
        "notes"
    ]


TEXTS = st.lists(
    st.sampled_from(
        [
            "a",
            "/",
            "?x=",
            "&",
            "&amp;",
            "&#233;",
            "&lang=",
            "&copy=1",
            "<![CDATA[",
            "&eacute;",
            "é",
            "-",
        ]
    ),
    max_size=8,
).map("".join)


@settings(max_examples=80)
@given(parts=st.lists(TEXTS, min_size=1, max_size=6), block=st.integers(41, 120))
def test_no_block_boundary_changes_what_is_read(
    tmp_path_factory: pytest.TempPathFactory, parts: list[str], block: int
) -> None:
    from upright_ledger.formats.lists import xml_elements

    path = tmp_path_factory.mktemp("xml") / "sitemap.xml"
    named = [f"{OLD}/{n}{p.replace('<![CDATA[', f'<![CDATA[&{n}]]>')}" for n, p in enumerate(parts)]
    path.write_text(sitemap(*named), encoding="utf-8")

    def read() -> list[tuple[int, str]]:
        return [
            (i.line, i.url)
            for i in read_sitemap(path, ReadOptions()).items
            if isinstance(i, Record)
        ]

    whole = read()
    before, xml_elements._BLOCK = xml_elements._BLOCK, block
    try:
        assert read() == whole
    finally:
        xml_elements._BLOCK = before
    assert len(whole) == len(parts)


def test_a_file_cut_anywhere_yields_only_whole_addresses(
    tmp_path_factory: pytest.TempPathFactory,
) -> None:
    addresses = [f"{OLD}/page-{n}?a=1&amp;b={n}" for n in range(40)]
    text = sitemap(*addresses).encode()
    path = tmp_path_factory.mktemp("cut") / "sitemap.xml"
    right = [a.replace("&amp;", "&") for a in addresses]
    for at in random.Random(1).sample(range(300, len(text)), 60):
        path.write_bytes(text[:at])
        found = [i.url for i in read_sitemap(path, ReadOptions()).items if isinstance(i, Record)]
        assert found == right[: len(found)]
        assert len(found) == text[:at].count(b"</url>")
