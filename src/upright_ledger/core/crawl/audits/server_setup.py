"""What a relaunch needs of a server: one hop to HTTPS, true 404s, no second addresses, no mixed
content.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from upright_ledger.core.crawl.audits.site_index import (
    AuditFinding,
    ExpectedSite,
    PageRecord,
    SurveyedSite,
    as_rows,
    is_dead,
    severity,
)
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.core.inventory.noise import NO_SUCH_PAGE
from upright_ledger.core.severity import Severity
from upright_ledger.core.url.address import split_text
from upright_ledger.core.url.request_target import names_file, toggle_slash

HYGIENE = "server"
_HALF_A_YEAR = 15_768_000  # seconds

_TEXTS = {
    "https-not-in-one-hop": (
        Severity.ERROR,
        "addresses in the clear that do not lead to the same over HTTPS in one hop",
    ),
    "missing-page-not-404": (
        Severity.ERROR,
        "addresses where no page can be that do not answer 404",
    ),
    "index-file-answers": (
        Severity.WARNING,
        "index files that answer as second addresses of their folders",
    ),
    "slash-twin-answers": (
        Severity.WARNING,
        "pages that answer with the other closing slash, too, instead of redirecting",
    ),
}


def server(site: SurveyedSite, wanted: ExpectedSite) -> Iterator[AuditFinding]:
    """What a relaunch needs of a server."""
    found: dict[str, list[tuple[str, str]]] = defaultdict(list)
    for url, line in site.probes.items():
        for kind, beside in _probed(url, line, site, wanted):
            found[kind].append((url, beside))
    for kind, rows in found.items():
        grave, text = _TEXTS[kind]
        yield AuditFinding(
            HYGIENE,
            kind,
            grave,
            f"{text}: {len(rows):,}",
            sorted(rows),
            "goes to" if grave == Severity.ERROR else "as",
        )
    if wanted.origin.startswith("https:"):
        front = site.lines.get(f"{wanted.origin}/")
        seconds = _max_age(front.hsts) if front else 0
        if front is not None and front.outcome == CrawlOutcome.ANSWERED and seconds < _HALF_A_YEAR:
            yield AuditFinding(
                HYGIENE,
                "no-hsts",
                Severity.WARNING,
                "no Strict-Transport-Security of half a year or more",
                [(f"{wanted.origin}/", front.hsts)],
                "says",
            )
    if site.mixed:
        yield AuditFinding(
            HYGIENE,
            "mixed-content",
            Severity.ERROR,
            f"resources of secure pages that are asked for in the clear: {len(site.mixed):,}",
            sorted(site.mixed.items()),
            "on",
        )
    dead = [
        (url, site.on.get(url, line.via))
        for url, line in site.external.items()
        if is_dead(line) and not wanted.is_ignored(url)
    ]
    if dead:
        yield AuditFinding(
            HYGIENE,
            "external-link-dead",
            severity(len(dead), len(site.external)),
            f"links to other sites that fail: {len(dead):,} of {len(site.external):,}",
            sorted(dead),
            "on",
        )
    scripted = [url for url, line in site.lines.items() if line.needs_script and line.is_page]
    if scripted:
        yield AuditFinding(
            HYGIENE,
            "needs-script",
            severity(len(scripted), site.pages),
            f"pages that show hardly any text without scripts: {len(scripted):,} of {site.pages:,}",
            as_rows(scripted),
        )


def _probed(
    url: str, line: PageRecord, site: SurveyedSite, wanted: ExpectedSite
) -> Iterator[tuple[str, str]]:
    """Kinds of faults that the answer to a probe shows, each with what stands beside the
    address.
    """
    scheme, authority, target = split_text(url)
    if line.status in {0, 400}:
        return  # 400: a port that speaks only TLS
    if target == NO_SUCH_PAGE:
        if line.status == 200 or line.outcome == CrawlOutcome.MOVED:
            yield "missing-page-not-404", line.location or str(line.status)
    elif scheme == "http" and wanted.origin.startswith("https:"):
        if line.location != f"https://{authority}{target}" and not _moves_host(
            line, target, wanted
        ):
            yield "https-not-in-one-hop", line.location or str(line.status)
    elif target.rpartition("/")[2] in wanted.index_files:
        folder = url[: url.rindex("/") + 1]
        if line.status == 200 and folder in site.lines:
            yield "index-file-answers", folder
    elif line.status == 200 and line.outcome == CrawlOutcome.ANSWERED:
        page = f"{scheme}://{authority}{toggle_slash(target)}"
        if page in site.lines:
            yield "slash-twin-answers", page


def _moves_host(line: PageRecord, target: str, wanted: ExpectedSite) -> bool:
    """Whether a redirect to HTTPS settles the canonical host in the same hop."""
    return line.outcome == CrawlOutcome.MOVED and line.location == f"{wanted.origin}{target}"


def _max_age(header: str) -> int:
    for part in header.lower().split(";"):
        name, _, value = part.strip().partition("=")
        if name == "max-age" and value.strip('" ').isdigit():
            return int(value.strip('" '))
    return 0


def probes(origin: str) -> list[str]:
    """Addresses that tell how a server treats what it should not answer as a page."""
    scheme, authority, _ = split_text(f"{origin}/")
    found = [f"{origin}{NO_SUCH_PAGE}", f"{origin}/index.html", f"{origin}/index.php"]
    if scheme == "https":
        found.append(f"http://{authority}/")
    return found


def probes_of(page: str) -> list[str]:
    """Second addresses that a page might have: in the clear, with the other closing slash, as index
    file. page: an address that answers.
    """
    scheme, authority, target = split_text(page)
    if "?" in target or target == "/":
        return []
    found = [f"http://{authority}{target}"] if scheme == "https" else []
    if not names_file(target):
        found.append(f"{scheme}://{authority}{toggle_slash(target)}")
        found += [f"{page}index.html"] if target.endswith("/") else []
    return found
