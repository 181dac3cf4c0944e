"""The servers of the story: the new site with the built rules, and the site as it was found."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.demo.sample import Sample
from upright_ledger.demo.site import BARE, NEW, OLD, NewPage
from upright_ledger.servers.nginx.dialect import RULE_FILE, SERVER_FILE
from upright_ledger.servers.nginx.syntax import quote
from upright_ledger.web.local.real_nginx import find_nginx, run_nginx
from upright_ledger.web.local.stand_in import serve

_OWN_HOSTS = (OLD.removeprefix("http://"), BARE.removeprefix("http://"))


@contextmanager
def new_site(rules_folder: Path, rules: RuleSet, sample: Sample) -> Iterator[tuple[str, str]]:
    """The new site behind the built rules; yields its address and what serves it."""
    files = (rules_folder / RULE_FILE, rules_folder / SERVER_FILE)
    http, server = f"include {RULE_FILE};\n", f"include {SERVER_FILE};"
    with _site(
        sample, http, server, lambda host, target: _answer(rules, host, target), files
    ) as found:
        yield found


@contextmanager
def site_as_found(sample: Sample) -> Iterator[tuple[str, str]]:
    """The new site with the earlier move's list pasted in as it stands: the first of two rules
    counts.
    """
    first: dict[str, tuple[str, int]] = {}
    for old, new, status in sample.earlier.rules:
        first.setdefault(old, (new if "://" in new else NEW + new, status))
    maps = [
        f"map $uri $found_{code} {{ default '';\n"
        + "".join(f"{quote(o)} {quote(n)};\n" for o, (n, s) in first.items() if s == code)
        + "}\n"
        for code in (301, 302)
    ]
    server = "".join(
        f"if ($found_{code}) {{ return {code} $found_{code}; }}\n" for code in (301, 302)
    )

    def answer(_host: str, target: str) -> tuple[int, str]:
        new, status = first.get(target.partition("?")[0], ("", 0))
        return status, new

    with _site(
        sample,
        "map_hash_bucket_size 256; map_hash_max_size 8192;\n" + "".join(maps),
        server,
        answer,
    ) as found:
        yield found


def _answer(rules: RuleSet, host: str, target: str) -> tuple[int, str]:
    answer = rules.answer(host, target)
    return (answer.status, answer.location) if answer else (0, "")


@contextmanager
def _site(
    sample: Sample,
    http: str,
    server: str,
    respond: Callable[[str, str], tuple[int, str]],
    files: tuple[Path, ...] = (),
) -> Iterator[tuple[str, str]]:
    pages = {p.url.removeprefix(NEW): p for p in sample.museum.new}
    if find_nginx():
        with run_nginx(
            lambda folder, port: _nginx_site(folder, port, pages, http, server), files
        ) as address:
            yield address, "a real nginx"
        return

    def stand_in(host: str, target: str) -> tuple[int, str, str]:
        status, location = respond(host, target)
        if status:
            return status, location, ""
        path = target.partition("?")[0]
        page = pages.get(path) or pages.get(f"{path}/")
        if page is None or host not in _OWN_HOSTS or page.status == 404:
            return 404, "", "Page not found"
        return page.status, page.redirects_to, page.title

    with serve(stand_in) as address:
        yield address, "a stand-in, since no nginx is installed here"


def _nginx_site(folder: Path, port: int, pages: dict[str, NewPage], http: str, server: str) -> str:
    """The new site's pages as nginx serves them; a page answers with and without its closing
    slash.
    """
    titles, moved = [], []
    for path, page in pages.items():
        for form in dict.fromkeys((path, path.removesuffix("/") or "/")):
            if page.status == 200:
                titles.append(f"{quote('1' + form)} {quote(page.title or path)};\n")
            elif page.redirects_to:
                moved.append(f"{quote('1' + form)} {quote(page.redirects_to)};\n")
    (folder / "titles.map").write_text("".join(titles), encoding="utf-8")
    own = "".join(f"{host} 1; " for host in _OWN_HOSTS)
    return (
        f"{http}charset utf-8; default_type text/html;\n"
        f"map $host $own {{ default ''; {own}}}\n"
        f'map "$own$uri" $page_title {{ default ""; include {folder}/titles.map; }}\n'
        f'map "$own$uri" $page_moved {{ default ""; {"".join(moved)} }}\n'
        f"server {{ listen 127.0.0.1:{port}; absolute_redirect off;\n{server}\n"
        "if ($page_moved) { return 301 $page_moved; }\n"
        'if ($page_title) { return 200 "<!doctype html><title>$page_title</title>"; }\n'
        'return 404 "<!doctype html><title>Page not found</title>"; }\n'
    )
