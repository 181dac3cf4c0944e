"""Mending the links of a content export: its files written anew into a folder, with a diff of every
change.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

from upright_ledger.core.crawl.audits.site_index import SurveyedSite
from upright_ledger.core.crawl.link_rewriting import Resolver, replace_in
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats.files.atomic import write_whole
from upright_ledger.formats.files.compressed import PACKED
from upright_ledger.formats.files.text import guess_encoding

DIFF = "changes.diff"
_BLOCK = 8 << 20  # bytes
_HEAD = 4096  # bytes
_MOST_IN_DIFF = 100_000


@dataclass(frozen=True, slots=True)
class RewrittenLinks:
    """One file: where its new form is, how many addresses were changed, and how many were left for
    the length they are told with. why: what was changed → how often; named: (address, why) of those
    that lead nowhere good and have nothing to be put there → how often.
    """

    file: Path
    changes: int
    left: int
    why: Counter[str] = field(default_factory=Counter)
    named: Counter[tuple[str, str]] = field(default_factory=Counter)


@dataclass(frozen=True, slots=True)
class MendedContent:
    """All files that were put right. named: why addresses were left that lead nowhere good → how
    many.
    """

    files: list[RewrittenLinks]
    named: Mapping[str, int]

    @property
    def why(self) -> Counter[str]:
        """What was put right → how often."""
        return sum((f.why for f in self.files), Counter())

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return {
            "mended": [
                {"file": str(f.file), "changes": f.changes, "left": f.left, "why": dict(f.why)}
                for f in self.files
            ],
            "named": dict(self.named),
        }


def moved_table(site: SurveyedSite) -> dict[str, str]:
    """Every address of a survey that moves on to a page, with that page."""
    found = {}
    for url in site.of(CrawlOutcome.MOVED):
        final, status = site.final(url)
        if status == 200 and final != url:
            found[url] = final
    return found


def mend_files(files: Sequence[Path], resolver: Resolver, into: Path) -> list[RewrittenLinks]:
    """Write each file anew into a folder, which must not hold it yet, and the diff beside them.
    Raises InputError, UsageError.
    """
    targets = [into / file.name for file in files]
    if len(set(targets)) < len(targets):
        raise UsageError("two of the files have one name", "mend them into folders of their own")
    for target in (*targets, into / DIFF):
        if target.exists():
            raise UsageError(f"{target} is there already", "name another folder")
    for file in files:
        _refuse_unreadable(file)
    into.mkdir(parents=True, exist_ok=True)
    results: list[RewrittenLinks] = []
    diff: list[str] = []
    for file, target in zip(files, targets, strict=True):
        result, lines = _mend(file, target, resolver, _MOST_IN_DIFF - len(diff))
        results.append(result)
        diff += lines
    write_whole(into / DIFF, "".join(diff).encode("utf-8", "replace"))
    return results


def _refuse_unreadable(file: Path) -> None:
    """Addresses are looked for in bytes: in these files none would be found, nor missed."""
    try:
        with file.open("rb") as source:
            head = source.read(_HEAD)
    except OSError as error:
        raise _unmended(file, error) from None
    if head.startswith(PACKED):
        raise InputError(f"{file} is packed", "unpack it first")
    if encoding := guess_encoding(head):
        raise InputError(f"{file} is in {encoding.upper()}", "save it as UTF-8 first")


def _unmended(file: Path, error: OSError) -> InputError:
    return InputError(
        f"{file} could not be mended: {error.strerror}", "check the name and the permissions"
    )


def _mend(
    file: Path, target: Path, resolver: Resolver, room: int
) -> tuple[RewrittenLinks, list[str]]:
    diff = [f"--- {file}\n+++ {target}\n"]
    changes = left = 0
    why: Counter[str] = Counter()
    named: Counter[tuple[str, str]] = Counter()
    line = 1
    draft = target.with_name(f".{target.name}.part")
    try:
        with file.open("rb") as source, draft.open("wb") as out:
            for block in _blocks(source):
                done = replace_in(block, resolver)
                out.write(done.text)
                why += done.why
                named += done.named
                changes, left, at = changes + len(done.changes), left + done.left, 0
                for change in done.changes:
                    line += block.count(b"\n", at, change.at)
                    at = change.at
                    if len(diff) < room:
                        diff.append(f"@@ line {line} @@\n-{change.before}\n+{change.after}\n")
                line += block.count(b"\n", at)
    except OSError as error:
        draft.unlink(missing_ok=True)
        raise _unmended(file, error) from None
    draft.replace(target)
    return RewrittenLinks(target, changes, left, why, named), diff


def _blocks(source: BinaryIO) -> Iterator[bytes]:
    """A file in blocks that end with a line, or where there is none with a word."""
    rest = b""
    while block := source.read(_BLOCK):
        block = rest + block
        cut = block.rfind(b"\n") + 1 or block.rfind(b" ") + 1 or len(block)
        rest = block[cut:]
        yield block[:cut]
    yield rest
