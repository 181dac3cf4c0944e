"""Serving: the rules, and stand-in pages for where they lead, on this machine, for trying by hand
in a browser.
"""

from __future__ import annotations

import html
import re
from collections.abc import Callable
from importlib.resources import files
from urllib.parse import unquote

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.rules.exact_rule import Answer
from upright_ledger.core.rules.imported.rule import ImportedRule
from upright_ledger.core.url.address import Address, NotAnAddressError, followed, parse_address
from upright_ledger.core.url.destination import page_key
from upright_ledger.core.url.origins import Sites
from upright_ledger.ledger.tables.stock import Destination
from upright_ledger.web.local.preview import Reply, serve_locally

FRONT, _TRY = "/.upright/", "/.upright/try"
"""The page with a form for old addresses, and where that form leads."""

_STYLE = files(__package__).joinpath("preview.css").read_text(encoding="utf-8")


class LocalSite:
    """Which port stands for which origin, and what each request there gets.

    follow: whether redirects lead to the ports of this machine; else they are sent as a server
    would send them.
    """

    def __init__(self, move: MoveState, first_port: int, *, follow: bool = True) -> None:
        self.move, self.follow = move, follow
        sites: Sites = move.sites
        old = [site.origins[0] for site in sites.old]
        self.origins = [
            *old,
            *(
                o
                for o in sites.new
                if parse_address(o).authority not in {parse_address(x).authority for x in old}
            ),
        ]
        self.first_port = first_port
        self.port_of = {
            parse_address(o).authority: first_port + n for n, o in enumerate(self.origins)
        }
        for site in sites.old:
            for authority in sites.authorities_of(site.name):
                self.port_of.setdefault(
                    authority, self.port_of[parse_address(site.origins[0]).authority]
                )

    def serve(self, started: Callable[[], None]) -> None:
        """Serve until Ctrl-C."""
        _ = (
            self.move.compiled.all_rules,
            self.move.stock,
            self.move.entries,
        )  # read once, before many ask at once
        hosts = {re.sub(r":\d+$", "", authority) for authority in self.port_of}
        serve_locally(self.origins, self.first_port, self.respond, started, hosts)

    def here(self, url: str, base: Address | None = None) -> str:
        """An address of the move as a browser finds it on this machine; others, and what is none,
        as they are. base: on which it stands.
        """
        try:
            address = parse_address(url) if base is None else followed(url, base)
        except NotAnAddressError:
            return url
        port = self.port_of.get(address.authority)
        if port is None or not self.follow:
            return url
        tail = f"#{address.fragment}" if address.fragment else ""
        return f"http://127.0.0.1:{port}{address.target}{tail}"

    def respond(self, origin: str, target: str) -> Reply:
        """What a request gets: a rule's answer, a stand-in for a page of the new site, or what is
        not there.
        """
        if target.partition("?")[0] == _TRY:
            return self._try(target)
        if target == FRONT:
            return Reply(200, "", self._front())
        try:
            address = parse_address(target, origin)
        except NotAnAddressError as error:
            return Reply(
                400,
                "",
                _page("No address", [("asked for", target), ("because", str(error))], origin),
            )
        answer = self.move.compiled.all_rules.answer(
            address.authority, target
        )  # a local port has no scheme of its own
        if answer is not None:
            return self._answered(address, answer)
        stocked = self._stocked(address)
        if stocked is not None and self.move.sites.is_new(address):
            return self._stand_in(address, stocked)
        entry = self.move.entry_of(address)
        told = [
            ("asked for", address.text),
            ("answer of its entry", entry.answer.kind if entry else "it is no entry of the ledger"),
        ]
        return Reply(404, "", _page("No rule answers, and no page is here", told, origin))

    def _answered(self, address: Address, answer: Answer) -> Reply:
        rule = (
            answer.rule.where if isinstance(answer.rule, ImportedRule) else answer.rule.legacy_url
        )
        told = [("asked for", address.text), ("status", str(answer.status)), ("rule", rule)]
        if not answer.location:
            return Reply(answer.status, "", _page("This page is gone", told, address.origin))
        told.append(("leads to", answer.location))
        return Reply(
            answer.status, self.here(answer.location, address), _page("Moved", told, address.origin)
        )

    def _stocked(self, address: Address) -> Destination | None:
        for scheme in ("https", "http"):
            for query in dict.fromkeys((address.query, "")):
                found = self.move.stock.get(page_key(address._replace(scheme=scheme, query=query)))
                if found is not None:
                    return found
        return None

    def _stand_in(self, address: Address, page: Destination) -> Reply:
        told = [
            ("address", page.url),
            ("state", page.state),
            ("language", page.language),
            ("canonical", page.canonical),
        ]
        shown = _page(
            page.title or page.url,
            [(k, v) for k, v in told if v],
            address.origin,
            kind="Stand-in page",
        )
        if page.redirects_to:
            return Reply(
                page.status or 301,
                self.here(parse_address(page.redirects_to, page.url).text),
                shown,
            )
        return Reply(page.status or 200, "", shown)

    def _try(self, target: str) -> Reply:
        wanted = unquote(target.partition("url=")[2].replace("+", " ")).strip()
        try:
            address = parse_address(wanted, self.origins[0])
        except NotAnAddressError as error:
            return Reply(
                400,
                "",
                _page(
                    "No address", [("asked for", wanted), ("because", str(error))], self.origins[0]
                ),
            )
        return Reply(302, self.here(address.text), "")

    def _front(self) -> str:
        entries = sorted(
            (e for e in self.move.entries if e.answer.has_rule), key=lambda e: -e.evidence.value
        )[:20]
        listed = "".join(
            f'<li class="url"><a href="{_e(self.here(e.legacy_url))}">{_e(e.legacy_url)}</a></li>'
            for e in entries
        )
        ports = "".join(
            f"<tr><th>{_e(o)}</th><td><code>http://"
            f"127.0.0.1:{self.port_of[parse_address(o).authority]}</code></td></tr>"
            for o in self.origins
        )
        form = (
            f'<form action="{_TRY}"><label>An old address<input name="url" '
            'placeholder="/journal/2011/03/tower.html"></label><button>Try it</button></form>'
        )
        more = (
            f"<p>The most valuable that move or are gone:</p><ul>{listed}</ul>" if entries else ""
        )
        return _html(
            self.move.ledger.settings.name,
            f"<h1>{_e(self.move.ledger.settings.name)}</h1><table>{ports}</table>{form}{more}",
        )


def _page(title: str, told: list[tuple[str, str]], origin: str, kind: str = "") -> str:
    rows = "".join(
        f'<tr><th>{_e(name)}</th><td class="url">{_e(text)}</td></tr>' for name, text in told
    )
    return _html(
        title,
        "<div "
        f'class="kind">{_e(kind or origin)}</div><h1>{_e(title)}</h1><table>{rows}</table><p><a '
        f'href="{FRONT}">Try another address</a></p>',
    )


def _html(title: str, body: str) -> str:
    return (
        '<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" '
        f'content="width=device-width"><title>{_e(title)}</title><style>{_STYLE}</style>{body}</'
        "html>"
    )


def _e(text: str) -> str:
    return html.escape("".join(c if c.isprintable() else "\N{REPLACEMENT CHARACTER}" for c in text))
