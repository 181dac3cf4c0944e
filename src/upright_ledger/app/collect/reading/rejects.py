"""Rejected lines: all of them in a file beside the ledger, the first few at hand."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path
from types import TracebackType
from typing import IO, Self

from upright_ledger.core.url.redaction import Secrets
from upright_ledger.formats.files.leftovers import clear, hidden_mark
from upright_ledger.formats.records import Reject

FOLDER = "rejects"
SHOWN_REJECTS = 5
_LONGEST = 2000


class Rejects:
    """Collects the rejected lines of one source on disk, however many there are; kept only when
    `keep` is called.
    """

    def __init__(self, ledger_folder: Path, secrets: Secrets) -> None:
        self.first: list[Reject] = []
        self._folder = ledger_folder
        self._secrets = secrets
        self._draft: IO[str] | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._draft is not None:
            self._draft.close()
            Path(self._draft.name).unlink(missing_ok=True)

    def add(self, reject: Reject) -> None:
        """Note one rejected line, its secrets masked."""
        reject = Reject(reject.line, reject.reason, self._secrets.in_text(reject.text[:_LONGEST]))
        if len(self.first) < SHOWN_REJECTS:
            self.first.append(reject)
        if self._draft is None:
            (self._folder / FOLDER).mkdir(mode=0o700, exist_ok=True)
            clear(self._folder / FOLDER)
            self._draft = tempfile.NamedTemporaryFile(  # noqa: SIM115 (closed on leaving)
                "w",
                encoding="utf-8",
                errors="backslashreplace",
                dir=self._folder / FOLDER,
                prefix=hidden_mark(),
                delete=False,
            )
            self._draft.write("# Lines that could not be read: line, reason, text\n")
        self._draft.write(f"{reject.line}\t{reject.reason}\t{_visible(reject.text)}\n")

    def keep(self, source: int, name: str) -> str:
        """Give the file its name, below the ledger's folder; returns that, or an empty text when
        nothing was rejected.
        """
        if self._draft is None:
            return ""
        self._draft.close()
        kept = f"{FOLDER}/{source:04}-{re.sub(r'[^A-Za-z0-9._-]', '_', name)[-80:]}.txt"
        Path(self._draft.name).replace(self._folder / kept)
        self._draft = None
        return kept


def drop_orphans(ledger_folder: Path, sources: set[int]) -> None:
    """Take away the rejected lines of sources that are not in the ledger. Only while nobody else
    can be adding one.
    """
    for path in (ledger_folder / FOLDER).glob("[0-9][0-9][0-9][0-9]*-*.txt"):
        if int(path.name.partition("-")[0]) not in sources:
            path.unlink(missing_ok=True)


def _visible(text: str) -> str:
    """A text with its control characters spelled out."""
    return "".join(
        c if c.isprintable() else c.encode("unicode_escape", "backslashreplace").decode()
        for c in text[:_LONGEST]
    )
