"""Lists of the files of a site, as `find` and `dir` print them: their paths as those of pages."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path

from upright_ledger.errors import InputError
from upright_ledger.formats.server_config.rules_read import path_below

_HERE = "./"
_ON_A_SERVER = re.compile(
    r"(?:/(?:var/www|srv/(?:www|http)|usr/share/nginx)/|[A-Za-z]:[\\/]\w|"
    r"/(?:[^/\s]+/){1,6}(?:htdocs|httpdocs|public_html|wwwroot)/)",
)
"""With which paths of files begin that servers keep for sites."""
_BARE_PERCENT = re.compile(r"%(?![0-9A-Fa-f]{2})")
_MOST = 0.5
_FEWEST = 2


def paths_of_files(
    path: Path, lines: Sequence[str], document_root: str
) -> Callable[[str], str] | None:
    """What makes paths of pages of the lines of a list of files: an empty text where a file does
    not lie below the root of the site. None for other lists.

    lines: the first ones. Raises InputError where the files are those of a server, and nobody said
    where the site begins.
    """
    if _most(lines, lambda line: line.startswith(_HERE) or line == "."):
        return lambda line: _as_path(line.removeprefix(".") or "/")
    if not _most(lines, _ON_A_SERVER.match) and not document_root:
        return None
    if not document_root:
        raise InputError(
            f"{path} lists files of a server, such as {lines[0][:200]}",
            "say where the site begins: --document-root FOLDER",
        )
    root = document_root.replace("\\", "/").rstrip("/") or "/"

    def below(line: str) -> str:
        found = path_below(line.replace("\\", "/"), root)
        return "" if found is None else _as_path(found if line[-1:] in "/\\" else found[:-1] or "/")

    return below if _most(lines, below) else None


def _most(lines: Sequence[str], test: Callable[[str], object]) -> bool:
    return len(lines) >= _FEWEST and sum(map(bool, map(test, lines))) > _MOST * len(lines)


def _as_path(text: str) -> str:
    """The name of a file as an address tells it; a copy of a site may hold queries in names."""
    return _BARE_PERCENT.sub("%25", text).replace(" ", "%20").replace("#", "%23")
