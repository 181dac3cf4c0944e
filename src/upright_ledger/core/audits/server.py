"""What a relaunch needs of a server: one hop to HTTPS, true 404s, no second addresses, no mixed content."""

from __future__ import annotations

from collections.abc import Iterator

from upright_ledger.core.addresses import split_text
from upright_ledger.core.audits.site import ERROR, WARNING, Fault, Line, Site, Wanted, as_rows, severity
from upright_ledger.core.folding import INDEX_FILES
from upright_ledger.core.surveying import ANSWERED, MOVED

HYGIENE = "server"
_HALF_A_YEAR = 15_768_000  # seconds


def server(site: Site, wanted: Wanted) -> Iterator[Fault]:
    """What a relaunch needs of a server."""
    for url, line in site.probes.items():
        yield from _probed(url, line, site, wanted)
    if wanted.origin.startswith("https:"):
        front = site.lines.get(f"{wanted.origin}/")
        seconds = _max_age(front.hsts) if front else 0
        if front is not None and front.outcome == ANSWERED and seconds < _HALF_A_YEAR:
            yield Fault(
                HYGIENE,
                "no-hsts",
                WARNING,
                "no Strict-Transport-Security of half a year or more",
                [(f"{wanted.origin}/", front.hsts)],
            )
    if site.mixed:
        yield Fault(
            HYGIENE,
            "mixed-content",
            ERROR,
            f"resources of secure pages that are asked for in the clear: {len(site.mixed):,}",
            sorted(site.mixed.items()),
            "on",
        )
    scripted = [url for url, line in site.lines.items() if line.needs_script and line.is_page]
    if scripted:
        yield Fault(
            HYGIENE,
            "needs-script",
            severity(len(scripted), site.pages),
            f"pages that show hardly any text without scripts: {len(scripted):,} of {site.pages:,}",
            as_rows(scripted),
        )


def _probed(url: str, line: Line, site: Site, wanted: Wanted) -> Iterator[Fault]:
    _, _, target = split_text(url)
    if url.startswith("http:") and wanted.origin.startswith("https:") and target == "/":
        right = line.outcome == MOVED and line.location == f"{wanted.origin}/"
        if not right and line.status:
            yield Fault(
                HYGIENE,
                "https-not-in-one-hop",
                ERROR,
                f"{url} does not lead to {wanted.origin}/ in one hop",
                [(url, line.location or str(line.status))],
            )
    elif target.rpartition("/")[2] in INDEX_FILES:
        folder = url[: url.rindex("/") + 1]
        if line.status == 200 and folder in site.lines:
            yield Fault(
                HYGIENE, "index-file-answers", WARNING, f"{url} is a second address of {folder}", [(url, folder)]
            )
    elif line.status == 200 or line.outcome == MOVED:
        yield Fault(
            HYGIENE,
            "missing-page-not-404",
            ERROR,
            "a page that is not there does not answer 404",
            [(url, line.location or str(line.status))],
        )


def _max_age(header: str) -> int:
    for part in header.lower().split(";"):
        name, _, value = part.strip().partition("=")
        if name == "max-age" and value.strip('" ').isdigit():
            return int(value.strip('" '))
    return 0


def probes(origin: str) -> list[str]:
    """Addresses that tell how a server treats what it should not answer as a page."""
    scheme, authority, _ = split_text(f"{origin}/")
    found = [f"{origin}/upright-ledger-no-such-page-7f3a/", f"{origin}/index.html", f"{origin}/index.php"]
    if scheme == "https":
        found.append(f"http://{authority}/")
    return found
