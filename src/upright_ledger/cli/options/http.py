"""Options of the commands that ask servers: where, as whom, and how politely."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from upright_ledger.core.url.address import Address, NotAnAddressError, parse_address
from upright_ledger.errors import UsageError

if TYPE_CHECKING:
    from upright_ledger.web.http.options import RequestOptions

F = TypeVar("F", bound=Callable[..., Any])

LOGIN = "UPRIGHT_HTTP_LOGIN"
POLITE_RATE = 20.0

ASKING_OPTIONS = (
    click.option(
        "--connect",
        multiple=True,
        metavar="HOST=ADDRESS",
        help="Ask for HOST[:PORT] at ADDRESS[:PORT]; scheme, name and TLS stay.",
    ),
    click.option(
        "--ca",
        type=click.Path(path_type=Path, exists=True, dir_okay=False),
        help="Certificates to trust, as PEM.",
    ),
    click.option("--insecure", is_flag=True, help="Check no certificate."),
    click.option("--agent", default="", metavar="TEXT", help="The User-Agent to give."),
    click.option(
        "--header",
        "headers",
        multiple=True,
        metavar="NAME:VALUE",
        help="A further header, such as Accept-Language.",
    ),
    click.option(
        "--login-for",
        multiple=True,
        metavar="ORIGIN",
        help=(
            "Where the login and the --header go, such as https://staging.example.  [default: the "
            "places of --at and --connect, and what is surveyed]"
        ),
    ),
    click.option(
        "--seconds",
        type=click.FloatRange(0.1, 600),
        default=20.0,
        show_default=True,
        help="For one request.",
    ),
    click.option(
        "--concurrent",
        type=click.IntRange(1, 64),
        default=16,
        show_default=True,
        help="Requests at once to one machine.",
    ),
    click.option(
        "--rate",
        type=click.FloatRange(0),
        default=None,
        help="Requests a second to one machine; 0 for no limit.  [default: 20, on this machine 0]",
    ),
)


def asking_options(command: F) -> F:
    """Put these options on a command; it takes them as keywords for `manner_of`."""
    for option in reversed(ASKING_OPTIONS):
        command = option(command)
    return command


def manner_of(
    asking: Mapping[str, Any], hosts: Sequence[str], surveyed: Sequence[Address] = ()
) -> RequestOptions:
    """How requests are made. asking: the options; hosts: that are asked directly, as far as that is
    known; surveyed: where a survey starts.
    """
    from upright_ledger.web.http.options import RequestOptions, check_certificates, is_local

    if asking["ca"] is not None:
        check_certificates(asking["ca"])
    connect, rate = asking["connect"], asking["rate"]
    ends = [_ends(c) for c in connect]
    # On this machine no politeness is due.
    asked = hosts or [address for _, _, address, _ in ends]
    here = bool(asked) and all(map(is_local, asked))
    return RequestOptions(
        tuple(ends), asking["ca"], asking["insecure"], headers=_headers(asking["headers"]),
        seconds=asking["seconds"],
        concurrent=asking["concurrent"],
        rate=(0.0 if here else POLITE_RATE) if rate is None else rate,
        user=os.environ.get(LOGIN, ""),
        netrc=True, own=_own(asking["login_for"], ends, surveyed),
        agent=_one_line(asking["agent"], "--agent") or RequestOptions().agent,
    )  # fmt: skip


def say_who_gets_the_login(manner: RequestOptions, places: Sequence[Address | None] = ()) -> None:
    """Say on standard error where a login goes, and that nobody keeps it from being read on the way
    there. places: that stand in for the hosts.
    """
    if not manner.user:
        return
    goals = [o for o in sorted(manner.own) if not o.endswith(":*")] or [
        p.origin for p in places if p is not None
    ]
    if not goals:
        click.echo(f"The login of {LOGIN} goes to no host: name one with --login-for.", err=True)
        return
    plain = [o for o in goals if o.startswith("http://") and not _is_here(o)]
    listened = (
        f" Anybody on the way to {plain[0]} can read it: that is plain HTTP." if plain else ""
    )
    click.echo(f"The login of {LOGIN} goes to {' and '.join(goals)} alone.{listened}", err=True)


def _is_here(origin: str) -> bool:
    from upright_ledger.web.http.options import is_local

    return is_local(parse_address(origin).host)


def _own(
    named: Sequence[str], ends: Sequence[tuple[str, str, str, str]], surveyed: Sequence[Address]
) -> frozenset[str]:
    """The origins to which the login and further headers go: those named, or those of --connect and
    of what is surveyed.

    Plain HTTP, where anybody can listen, is among them only where it is named or surveyed, or does
    not leave this machine.
    """
    from upright_ledger.web.http.options import is_local

    if named:
        return frozenset(_origin(text) for text in named)
    found = {a.origin for a in surveyed}
    for host, port, address, _ in ends:
        schemes = ("https", "http") if is_local(address) else ("https",)
        found |= {f"{scheme}://{host.lower()}:{port or '*'}" for scheme in schemes}
        found |= {
            f"{scheme}://{host.lower()}"
            for scheme in schemes
            if port in {"", "443" if scheme == "https" else "80"}
        }
    return frozenset(found)


def _origin(text: str) -> str:
    try:
        return parse_address(text if "://" in text else f"https://{text}").origin
    except NotAnAddressError as error:
        raise UsageError(
            f"--login-for {text} cannot be used: {error}",
            "such as --login-for https://staging.example",
        ) from None


def _ends(text: str) -> tuple[str, str, str, str]:
    """HOST[:PORT]=ADDRESS[:PORT] in its four parts."""
    match = re.fullmatch(
        r"([A-Za-z0-9.-]+)(?::(\d+))?=(\[[0-9A-Fa-f:]+\]|[A-Za-z0-9.-]+)(?::(\d+))?", text
    )
    if match is None:
        raise UsageError(
            f"--connect {text} cannot be read",
            "such as --connect www.quillhaven.example=192.0.2.7:8443",
        )
    return match[1], match[2] or "", match[3], match[4] or ""


def _headers(texts: tuple[str, ...]) -> tuple[str, ...]:
    for text in texts:
        if not re.fullmatch(r"[A-Za-z0-9-]+:.*", _one_line(text, "--header")):
            raise UsageError(
                f"--header {text} names no header", "such as --header 'Accept-Language: de'"
            )
    return texts


def _one_line(text: str, option: str) -> str:
    if not text.isprintable():
        raise UsageError(f"{option} holds a control character", "give it as one line")
    return text


def read_place(at: str) -> Address:
    """Where to ask instead of the hosts themselves. Raises UsageError."""
    try:
        return parse_address(at if "://" in at else f"http://{at}")
    except NotAnAddressError as error:
        raise UsageError(
            f"--at {at} cannot be used: {error}", "such as --at http://127.0.0.1:8080"
        ) from None
