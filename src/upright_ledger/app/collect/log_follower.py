"""Following logs: what is new in growing and rotated files, each line once, whatever they are
called meanwhile.

A log is known by its first line, wherever it was moved to and however it was packed, and where
several begin alike by the file that it is in. It is read from where reading ended, up to the end of
its last whole line: one that is still being written waits. Rotated logs that came and went between
two looks are known by what lies beside the log, and their times. Should that go wrong, lines that
were counted before are known by their digests all the same.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

from upright_ledger.app.collect.gather import Gathered, gather
from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import files_of, open_bytes, spelled
from upright_ledger.formats.files.leftovers import temporary_folder
from upright_ledger.formats.records import ReadOptions
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.followed_logs import (
    ACCESS_LOG,
    Followed,
    followed_logs,
    mark_followed,
    newest_by_hand,
    note_read,
)

_TAIL = 1 << 10  # bytes before the end of what was read, by which the place is known again
_LONGEST = 1 << 16  # bytes of a first line
_BLOCK = 1 << 20
_LONGEST_LINE = 1 << 24  # bytes
_EMPTY = "empty "
"""What stands in the place of the first line, with the path, where a log held none when it was
looked at.
"""


@dataclass
class New:
    """What was new in one log. bytes: uncompressed; gathered: what came of them, or None where
    nothing was new; lost: what cannot be known of it any more, in words.
    """

    name: str
    bytes: int = 0
    gathered: Gathered | None = None
    lost: str = ""


def gather_new(
    ledger: Ledger, paths: Sequence[str], options: ReadOptions | None = None
) -> list[New]:
    """Gather what is new in some logs, and in the rotated ones beside them that were written since
    they are followed. Raises InputError for a file that cannot be read.
    """
    results = []
    options = options or ReadOptions()
    as_log = replace(options, kind=options.kind or ACCESS_LOG)
    for path, lost in _with_rotated(ledger, paths):
        with temporary_folder() as held:
            part = held / _plain_name(path)
            with ledger.reading() as connection:
                known, by_hand = followed_logs(connection), newest_by_hand(connection)
            copied = _copy_new(path, known, part)
            if copied is None:  # followed from now on, all the same
                with ledger.writing() as connection:
                    note_read(
                        connection,
                        Followed(_EMPTY + _name_of(path), _place(path), _name_of(path), 0, ""),
                    )
                continue
            found, start = copied
            result = New(spelled(path.name), found.read - start, lost=lost)
            # Two requests of one second may be written alike; only lines that somebody may have
            # gathered by hand are looked up.
            before = known.get(found.head)
            trusted = not by_hand if before is None else by_hand <= before.source and start > 0
            noted: list[bool] = []

            def note(connection: Any, log: Followed = found, noted: list[bool] = noted) -> None:
                mark_followed(connection, log.head)
                note_read(connection, log)
                noted.append(True)

            if result.bytes:
                gathering = gather(ledger, [str(part)], as_log, within=note, trusted=trusted)
                result.gathered = gathering.sources[0]
            if not noted:
                with ledger.writing() as connection:
                    note_read(connection, found)
            results.append(result)
    return results


def _plain_name(path: Path) -> str:
    return path.stem if path.suffix in {".gz", ".bz2", ".xz", ".zst"} else path.name


def _with_rotated(ledger: Ledger, paths: Sequence[str]) -> Iterator[tuple[Path, str]]:
    """The files that are named, and before each of them the rotated ones beside it of which a part
    was read, or that came after what was read last; the oldest first. With each, what cannot be
    known of it any more.
    """
    with ledger.reading() as connection:
        known = list(followed_logs(connection).values())
    seen: set[Path] = set()
    for text in paths:
        for file in files_of(Path(text)):
            beside = [
                p for p in file.path.parent.glob(f"{_escaped(file.path.name)}[.-]*") if p.is_file()
            ]
            settled = {p: log for p in beside if (log := _settled(p, known)) is not None}
            records = {
                p: settled.get(p) or _record_of(p, _alike(known, _head_of(p))) for p in beside
            }
            since, lost = _unread_since(file.path, known, records)
            rotated = [
                p
                for p, record in records.items()
                if p not in settled and (record is not None or _came_after(p, since))
            ]
            for path in (*sorted(rotated, key=lambda p: p.stat().st_mtime_ns), file.path):
                if path not in seen:
                    seen.add(path)
                    yield path, lost if path == file.path else ""


def _settled(path: Path, known: Iterable[Followed]) -> Followed | None:
    """The log that a file holds, where it was not written to since that was read: it need not be
    opened.
    """
    place, written = _place(path), path.stat().st_mtime
    return next((log for log in known if log.place == place and written < _read_at(log)), None)


def _read_at(log: Followed) -> int:
    """When a log was read last, in seconds since 1970."""
    return int(datetime.fromisoformat(log.time).timestamp())


def _unread_since(
    path: Path, known: Sequence[Followed], rotated: Mapping[Path, Followed | None]
) -> tuple[_Since | None, str]:
    """Which rotated files hold lines that nobody read, where a log was rotated since it was read
    last; and what is lost of it.
    """
    last = max(
        (log for log in known if log.name == _name_of(path)),
        key=lambda log: (log.time, log.source),
        default=None,
    )
    if last is None or (path.is_file() and _record_of(path, _alike(known, _head_of(path))) == last):
        return None, ""
    for place, record in rotated.items():
        if record == last:  # packed, it may be younger than what came after it
            return _Since(
                min(place.stat().st_mtime_ns, _read_at(last) * 10**9 - 1), _number(place)
            ), ""
    lost = (
        f"the log that was read last ({last.read:,} bytes, {last.time}) is no longer beside it: "
        "lines that were added to it after that are not counted"
    )
    return _Since(_read_at(last) * 10**9 - 1), lost if last.read else ""


class _Since(NamedTuple):
    """What came after a log: written later (in ns since 1970), and rotated less often, where that
    is known. number: how often it was rotated itself, or 0.
    """

    written: int
    number: int = 0


def _came_after(path: Path, since: _Since | None) -> bool:
    if since is None or path.stat().st_mtime_ns <= since.written:
        return False
    number = _number(path)
    return not (number and since.number and number > since.number) and bool(_head_of(path))


def _number(path: Path) -> int:
    """How often a log was rotated, where its name says so, as in access.log.2.gz; else 0."""
    ending = _plain_name(path).rpartition(".")[2]
    return int(ending) if ending.isascii() and ending.isdigit() and len(ending) < 5 else 0


def _alike(known: Iterable[Followed], head: str) -> list[Followed]:
    """Logs that begin with a line."""
    return [log for log in known if head and log.head.partition("#")[0] == head]


def _name_of(path: Path) -> str:
    return spelled(str(path.absolute()))


def _escaped(name: str) -> str:
    return "".join(f"[{c}]" if c in "*?[" else c for c in name)


def _head_of(path: Path) -> str:
    try:
        with open_bytes(path) as file:
            return _head(file.readline(_LONGEST))
    except InputError:
        return ""


def _head(line: bytes) -> str:
    """The digest of a first line, which must be whole."""
    return (
        hashlib.blake2b(line, digest_size=16).hexdigest()
        if line.endswith(b"\n") or len(line) == _LONGEST
        else ""
    )


def _copy_new(path: Path, known: dict[str, Followed], part: Path) -> tuple[Followed, int] | None:
    """Write the whole lines of a log that are new into a file; how far it is read then, and from
    where on, or None where it holds no whole line yet.
    """
    head = _head_of(path)
    if not head:
        if not path.is_file():
            raise InputError(f"{path} cannot be read: there is no such file", "check its name")
        return None
    alike = _alike(known.values(), head)
    before = _record_of(path, alike, sure=False)
    if before is None and alike:
        head = f"{head}#{len(alike)}"
    start = before.read if before is not None and _is_at(path, before) else 0
    directives = _directives(path) if start else b""
    with open_bytes(path) as file, part.open("wb") as out:
        out.write(directives)
        end, tail = _copy_lines(file, out, start, _before(file, start))
    return Followed(
        before.head if before is not None else head, _place(path), _name_of(path), end, tail
    ), start


def _directives(path: Path) -> bytes:
    """The lines with which some logs say what their fields are (W3C Extended Log File Format),
    which every part of them needs.
    """
    lines = []
    with open_bytes(path) as file:
        while (line := file.readline(_LONGEST)).startswith(b"#"):
            lines.append(line)
    return b"".join(lines)


def _record_of(path: Path, alike: Sequence[Followed], *, sure: bool = True) -> Followed | None:
    """Which of the logs that begin alike a file holds: the one that it held last, or one that has
    left the file in which it was, by being copied or packed; where that need not be sure, one that
    is nowhere else.
    """
    place = _place(path)
    for log in alike:
        if log.place == place and _is_at(path, log):
            return log
    beside = {_place(p): p for p in path.parent.iterdir() if p.is_file() and p != path}
    free = [log for log in alike if log.place not in beside or not _is_at(beside[log.place], log)]
    found = next((log for log in free if log.place != place and _is_at(path, log)), None)
    return found if found is not None or sure else next(iter(free), None)


def _place(path: Path) -> str:
    told = path.stat()
    return f"{told.st_dev}:{told.st_ino}"


def _is_at(path: Path, log: Followed) -> bool:
    """Whether a file holds what was read of a log, so that reading can go on there."""
    try:
        with open_bytes(path) as file:
            return _tail(_before(file, log.read)) == log.tail
    except InputError:
        return False


def _before(file: BinaryIO, place: int) -> bytes:
    """The last bytes before a place, where reading goes on."""
    begin = max(0, place - _TAIL)
    _skip(file, begin)
    return _read_whole(file, place - begin)


def _skip(file: BinaryIO, count: int) -> None:
    if file.seekable():
        file.seek(count)
        return
    while count > 0 and (data := file.read(min(count, _BLOCK))):
        count -= len(data)


def _read_whole(file: BinaryIO, count: int) -> bytes:
    parts: list[bytes] = []
    while count > 0 and (data := file.read(count)):
        parts.append(data)
        count -= len(data)
    return b"".join(parts)


def _tail(data: bytes) -> str:
    return hashlib.blake2b(data[-_TAIL:], digest_size=16).hexdigest()


def _copy_lines(file: BinaryIO, out: BinaryIO, start: int, last: bytes) -> tuple[int, str]:
    """Copy whole lines; where they end in the log, and the digest of the last bytes of what is read
    of it by then. last: the bytes before.
    """
    end, rest = start, b""
    while data := file.read(_BLOCK):
        data = rest + data
        cut = data.rfind(b"\n") + 1
        rest = data[cut:]
        if not cut and len(rest) > _LONGEST_LINE:
            cut, rest = len(data), b""  # no line of a log is as long; its reader will say so
        if cut:
            out.write(data[:cut])
            end += cut
            last = (last + data[:cut])[-_TAIL:]
    return end, _tail(last)
