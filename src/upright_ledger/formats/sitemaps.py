"""XML sitemaps (the sitemaps protocol): the addresses a site names itself."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from upright_ledger.core.evidence import LISTED
from upright_ledger.errors import InputError
from upright_ledger.formats.reading import read_head
from upright_ledger.formats.records import Item, ReadOptions, Record, Reject


def read_sitemap(path: Path, options: ReadOptions) -> Iterator[Item]:
    """Read the `loc` of every `url`. Entities are not expanded and nothing is fetched."""
    from lxml import etree

    del options
    read_head(path)
    count = 0
    try:
        events = etree.iterparse(
            str(path),
            events=("end",),
            resolve_entities=False,
            no_network=True,
            load_dtd=False,
            huge_tree=False,
            remove_comments=True,
        )
        for _, element in events:
            tag = etree.QName(element).localname
            if tag in {"url", "sitemap"}:
                count += 1
                parts = {etree.QName(c).localname: (c.text or "").strip() for c in element if isinstance(c.tag, str)}
                line = int(element.sourceline or count)
                if tag == "sitemap":
                    yield Reject(line, "names another sitemap; gather that file too", parts.get("loc", ""))
                elif not parts.get("loc"):
                    yield Reject(line, "this url has no loc", "")
                else:
                    yield Record(line, parts["loc"], amounts={LISTED: 1.0}, day=parts.get("lastmod", "")[:10])
                element.clear()
                while element.getprevious() is not None:
                    del element.getparent()[0]
    except etree.XMLSyntaxError as error:
        raise InputError(f"{path} is damaged XML: {error.msg}", "fetch the sitemap again") from None
    if not count:
        raise InputError(f"{path} names no addresses", "check that it is the right sitemap")
