"""Apache's error log: the files that are not there, as paths of the site."""

from __future__ import annotations

import re
from collections.abc import Sequence
from urllib.parse import quote

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.log_line import (
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    most,
)
from upright_ledger.formats.logs.meanings.log_times import times_in
from upright_ledger.formats.server_config.rules_read import path_below

_LINE = re.compile(r"\[[A-Z][a-z]{2} [A-Z][a-z]{2} [ \d]\d [\d:.]+ \d{4}\] \[")
_MISSING = re.compile(
    r"(?:File does not exist: (?P<file>/.*?)|script '(?P<script>/[^']*)' not found.*?|"
    r"(?:client denied by server configuration|Directory index forbidden by Options directive): "
    r"(?P<denied>/.*?))(?:, referer: (?P<led>\S+))?\s*\Z"
)
_CLIENT = re.compile(r"\[client ([0-9A-Fa-f.:]+?)(?::\d+)?\]")
_SAFE = "/!$&'()*+,;=:@-._~"


class ErrorParser:
    """Reads lines. root: the folder of the site's root on the server, or empty."""

    def __init__(self, root: str) -> None:
        self._root = root

    def __call__(self, line: str) -> LogLine | str:
        if not line.strip():
            return AsideClass.BLANK
        told, moments = _MISSING.search(line), times_in(line[:40])
        if told is None or not moments:
            return AsideClass.PROSE
        if not self._root:
            raise NotALineError(
                "it names a file, and no address: --document-root says where the site begins"
            )
        file = told["file"] or told["script"] or told["denied"]
        below = path_below(file, self._root.rstrip("/") or "/")
        if below is None:
            raise NotALineError(f"its file does not lie below {self._root}")
        path = quote(f"/{below.strip('/')}{'/' if file.endswith('/') else ''}", safe=_SAFE)
        client = _CLIENT.search(line)
        return LogLine(
            f"GET {path.replace('//', '/')} HTTP/1.1",
            "403" if told["denied"] else "404",
            moments[0].day,
            None,
            told["led"] or "",
            "",
            client=client[1] if client else "",
        )


def _sniff(lines: Sequence[str]) -> Likeness:
    return Likeness.SURE if most(lines, _LINE.match) else Likeness.NONE


APACHE_ERRORS = LogFormat(_sniff, lambda _sample, _hosts: ErrorParser(""))
