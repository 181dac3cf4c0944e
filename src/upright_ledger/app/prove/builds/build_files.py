"""Delivering: what changed since the last build, the way back, and rules within a file that
somebody else keeps.
"""

from __future__ import annotations

import csv
import hashlib
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from upright_ledger.app.prove.builds.switching import put_folder
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.errors import InputError, RefusedError, UsageError
from upright_ledger.formats.files.atomic import bare_cell, csv_bytes, write_whole

MANIFEST, RULE_LIST, CHANGES, PREVIOUS = "manifest.json", "redirects.csv", "changes.csv", "previous"
BEGIN, END = "# upright: rules begin", "# upright: rules end"
_BLOCK = re.compile(rf"^[ \t]*{BEGIN}[^\n]*\n.*?^[ \t]*{END}[^\n]*$", re.MULTILINE | re.DOTALL)


@dataclass(frozen=True, slots=True)
class RuleChange:
    """One old address whose answer differs from the last build; an empty side has no rule."""

    old: str
    before: str
    after: str

    @property
    def kind(self) -> str:
        return "added" if not self.before else "removed" if not self.after else "changed"


def read_list(path: Path) -> dict[str, str]:
    """Old address → its answer in words, from a list of rules (redirects.csv); nothing where there
    is no such file.
    """
    if not path.is_file():
        return {}
    try:
        with path.open(encoding="utf-8", newline="") as file:
            rows = csv.reader(file)
            heading = next(rows, [])
            old, new, status = (heading.index(name) for name in ("old", "new", "status"))
            return {
                bare_cell(r[old]): f"{r[status]} {bare_cell(r[new])}".strip() for r in rows if r
            }
    except (OSError, UnicodeDecodeError, csv.Error, ValueError, IndexError) as error:
        raise InputError(
            f"{path} is no list of rules ({error})", "a redirects.csv of a build is needed"
        ) from None


def answers_in_words(rules: RuleSet) -> dict[str, str]:
    """As `read_list`, of rules themselves."""
    return {r.legacy_url: f"{r.status} {r.destination}".strip() for r in rules.answering}


def changes(before: dict[str, str], after: dict[str, str]) -> list[RuleChange]:
    """What differs between two lists of rules, by old address."""
    if before == after:
        return []
    return [
        RuleChange(old, before.get(old, ""), after.get(old, ""))
        for old in sorted(before.keys() | after.keys())
        if before.get(old) != after.get(old)
    ]


def changes_csv(found: list[RuleChange]) -> bytes:
    """Changes as CSV: change, old, before, after."""
    return csv_bytes(
        ("change", "old", "before", "after"), ((c.kind, c.old, c.before, c.after) for c in found)
    )


def digest_in(folder: Path) -> str:
    """The digest of the build in a folder, or an empty string."""
    return str(_manifest(folder).get("digest", ""))


def _manifest(folder: Path) -> dict[str, object]:
    path = folder / MANIFEST
    if not path.is_file():
        return {}
    try:
        found = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        raise InputError(
            f"{path} is damaged", "take the folder from a backup, or build into another one"
        ) from None
    return found if isinstance(found, dict) else {}


def sums_of(files: Mapping[str, bytes]) -> dict[str, str]:
    """The SHA-256 of every file, by its name."""
    return {name: hashlib.sha256(data).hexdigest() for name, data in sorted(files.items())}


def build_in(folder: Path) -> dict[str, bytes]:
    """The files of the build in a folder, its manifest among them; nothing where there is none.
    Raises RefusedError where they are not as they were built.
    """
    names = _files(folder)
    files = {name: (folder / name).read_bytes() for name in names}
    sums = _manifest(folder).get("sums", {})
    if isinstance(sums, dict):
        changed = [
            n for n, told in sums.items() if hashlib.sha256(files.get(n, b"")).hexdigest() != told
        ]
        if changed:
            raise RefusedError(
                f"{folder / changed[0]} is not as it was built"
                + (f", nor are {len(changed) - 1} more" if changed[1:] else ""),
                "copy what you need of it, and say --force",
            )
    return files


def put_build(folder: Path, files: Mapping[str, bytes], *, keep: bool, force: bool) -> None:
    """Put a build in the place of the one in a folder, at once. keep: that one is kept as the one
    to go back to; force: also if somebody changed its files, which are lost then. Raises
    RefusedError where they were changed.
    """
    try:
        present = build_in(folder)
    except RefusedError:
        if not force:
            raise
        present, keep = dict.fromkeys(_files(folder), b""), False
    former = {f"{PREVIOUS}/{n}": data for n, data in present.items()} if keep else {}
    before = {f"{PREVIOUS}/{n}" for n in _files(folder / PREVIOUS)} if keep else set()
    put_folder(folder, {**former, **files}, frozenset({*present, *before}))


def _files(folder: Path) -> list[str]:
    """The files of the build in a folder, as its manifest names them; none outside it."""
    listed = _manifest(folder).get("files", [])
    names = [str(n) for n in listed] if isinstance(listed, list) else []
    return [
        n
        for n in names
        if ".." not in Path(n).parts and not Path(n).is_absolute() and (folder / n).is_file()
    ]


def roll_back(folder: Path) -> tuple[str, str]:
    """Put the previous build back in its place, and the present one where that was, at once.
    Returns both digests: before, now.
    """
    before = folder / PREVIOUS
    if not _files(before):
        raise UsageError(
            f"{folder} holds no previous build",
            "only a build that replaced another one can be taken back",
        )
    was = digest_in(folder)
    present, former = build_in(folder), build_in(before)
    kept = {f"{PREVIOUS}/{n}": data for n, data in present.items()}
    put_folder(
        folder, {**kept, **former}, frozenset({*present, *(f"{PREVIOUS}/{n}" for n in former)})
    )
    return was, digest_in(folder)


def put_into(file: Path, text: str, digest: str) -> Path | None:
    """Replace our block in a file; all around it stays. Returns the backup that was made first, or
    None for a new file.

    Raises UsageError where the file has no block, and RefusedError where it has several.
    """
    block = f"{BEGIN}, digest {digest}\n{text.rstrip()}\n{END}"
    if not file.exists():
        write_whole(file, f"{block}\n".encode(), public=True)
        return None
    try:
        present = file.read_bytes().decode("utf-8", "surrogateescape")
    except OSError as error:
        raise InputError(
            f"{file} cannot be read: {error.strerror or error}", "check the permissions"
        ) from None
    found = _BLOCK.findall(present)
    if not found:
        raise UsageError(
            f"{file} has no place for the rules",
            f"put these two lines where they belong: {BEGIN} and {END}",
        )
    if len(found) > 1:
        raise RefusedError(
            f"{file} has {len(found)} blocks of rules",
            "leave one pair of the two comment lines in it",
        )
    backup = _backup_name(file)
    write_whole(backup, file.read_bytes(), public=True)
    if found[0].endswith("\r"):  # the lines of this file end so, and ours in it do, too
        block = block.replace("\n", "\r\n") + "\r"
    whole = _BLOCK.sub(lambda _: block, present)
    write_whole(file, whole.encode("utf-8", "surrogateescape"), public=True)
    return backup


def _backup_name(file: Path) -> Path:
    number = 1
    while (name := file.with_name(f"{file.name}.upright-{number}")).exists():
        number += 1
    return name


def take_back_from(file: Path) -> Path:
    """Put the newest backup of a file in its place; returns which one that was."""
    backups = sorted(
        file.parent.glob(f"{file.name}.upright-*"),
        key=lambda p: int(p.suffix.rpartition("-")[2] or 0),
    )
    if not backups:
        raise UsageError(f"{file} has no backup", "one is made whenever rules are put into it")
    write_whole(file, backups[-1].read_bytes(), public=True)
    backups[-1].unlink()
    return backups[-1]
