"""Forms of addresses: scheme, host, closing slash and letter case, as each use writes them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from upright_ledger.core.addresses import names_file, parse_address, split_text
from upright_ledger.core.audits.site import Fault, Site, Wanted, severity
from upright_ledger.core.audits.sitemap import is_sitemap
from upright_ledger.core.surveying import ANSWERED, FAILING, MOVED

FORMS = "forms"


@dataclass
class FormRow:
    """In which forms one use writes addresses of pages: counts by scheme, host, closing slash and letter case."""

    use: str
    schemes: Counter[str]
    hosts: Counter[str]
    slashes: Counter[str]
    cases: Counter[str]


def form_table(site: Site, wanted: Wanted) -> list[FormRow]:
    """The forms that sitemaps, canonical addresses, links, hreflang and redirects use, for addresses of the site's own hosts."""
    own = {parse_address(url).host for url, line in site.lines.items() if line.outcome == ANSWERED} | {
        parse_address(wanted.origin).host
    }
    uses: dict[str, Iterable[str]] = {
        "sitemap": (u for u in site.listed if not is_sitemap(site, u)),
        "canonical": site.canonicals.values(),
        "links": (u for u in site.inbound if _may_be_page(site, u)),
        "hreflang": {target for _, target in site.languages},
        "redirects lead to": {line.location for line in site.lines.values() if line.outcome == MOVED and line.location},
        "pages that answer": (u for u, line in site.lines.items() if line.is_page),
    }
    return [row for use, urls in uses.items() if (row := _form_row(use, urls, own)).schemes]


def _may_be_page(site: Site, url: str) -> bool:
    line = site.lines.get(url)
    return line is None or line.is_page or line.outcome in {MOVED, FAILING}


def _form_row(use: str, urls: Iterable[str], own: set[str]) -> FormRow:
    row = FormRow(use, Counter(), Counter(), Counter(), Counter())
    for url in urls:
        scheme, authority, target = split_text(url)
        path = target.partition("?")[0]
        if authority.partition(":")[0] not in own:
            continue
        row.schemes[scheme] += 1
        row.hosts[authority] += 1
        if path != "/" and not names_file(path):
            row.slashes["slash" if path.endswith("/") else "none"] += 1
        row.cases["capitals" if path != path.lower() else "small"] += 1
    return row


def forms(site: Site, wanted: Wanted) -> Iterator[Fault]:
    """Where uses disagree about the form of addresses, and which of them to change."""
    rows = {row.use: row for row in form_table(site, wanted)}
    answering = rows.get("pages that answer")
    if answering is None:
        return
    truth = {part: counts.most_common(1)[0][0] for part, counts in _parts(answering).items() if counts}
    if wanted.slash in {"always", "never"}:
        truth["closing slash"] = "slash" if wanted.slash == "always" else "none"
    for use, row in rows.items():
        if use == "pages that answer":
            continue
        for part, counts in _parts(row).items():
            right = truth.get(part)
            other = sum(n for form, n in counts.items() if form != right)
            if right and other and counts.total():
                grave = severity(other, counts.total())
                yield Fault(
                    FORMS,
                    f"{part.replace(' ', '-')}-of-{use.split()[0]}",
                    grave,
                    f"{use}: {other:,} of {counts.total():,} differ in {part}; change them to {_words(part, right)}",
                    [],
                )


def _parts(row: FormRow) -> dict[str, Counter[str]]:
    return {"scheme": row.schemes, "host": row.hosts, "closing slash": row.slashes, "letter case": row.cases}


def _words(part: str, form: str) -> str:
    named = {
        "slash": "a closing slash",
        "none": "no closing slash",
        "small": "small letters",
        "capitals": "capitals as they are",
    }
    return named.get(form, form) if part not in {"scheme", "host"} else form
