"""Files that hold files: ZIP and TAR archives, saved mails and saved pages (MHTML), documents with
text and tables. Their members are read as files of their own.
"""

from __future__ import annotations

import email
import email.policy
import io
import re
import tarfile
import zipfile
import zlib
from collections.abc import Iterator
from email.message import EmailMessage
from pathlib import Path
from typing import IO

from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import (
    GROWTH_FROM,
    MAX_FILES,
    MAX_GROWTH,
    ZIP,
    Input,
    open_bytes,
    read_head,
)
from upright_ledger.formats.files.documents import is_text_document, parts_of_document

_OFFICE = (b"[Content_Types].xml", b"mimetypeapplication/vnd.oasis.opendocument")
_HIDDEN = re.compile(r"(?:^|/)(?:\.[^/]*\Z|__MACOSX/)")
"""Names that folders leave out as well; what reaches out of one is read like any other."""
_HEADER = re.compile(rb"(?:[!-9;-~]{1,76}:[^\n]*\n(?:[ \t][^\n]*\n)*)+(?:\r?\n|\Z)")
_OF_MAILS = re.compile(
    rb"^(?:mime-version|message-id|received|return-path|content-transfer-encoding):",
    re.IGNORECASE | re.MULTILINE,
)
_SUBJECT = re.compile(rb"^subject:", re.IGNORECASE | re.MULTILINE)
_BLOCK = 1 << 20
_MAX_MAIL = 1 << 27  # bytes


def holds_files(path: Path) -> bool:
    """Whether a file is an archive, a mail or a document, and no workbook."""
    head = read_head(path)
    if head.startswith(ZIP):
        return is_text_document(head) or not any(mark in head for mark in _OFFICE)
    return head[257:262] == b"ustar" or _is_mail(head)


def _is_mail(head: bytes) -> bool:
    header = _HEADER.match(head.replace(b"\r\n", b"\n"))
    return (
        header is not None
        and _OF_MAILS.search(header[0]) is not None
        and (_SUBJECT.search(header[0]) is not None or b"multipart/" in header[0])
    )


def members_of(file: Input, folder: Path) -> list[Input]:
    """The members of a file, laid into a folder. Raises InputError for one that is damaged, locked
    or grows beyond all measure.
    """
    head = read_head(file.path)
    try:
        if head.startswith(ZIP) and is_text_document(head):
            parts = ((name, io.BytesIO(data)) for name, data in parts_of_document(file.path))
            found = list(_laid(file, folder, parts))
        elif head.startswith(ZIP):
            found = list(_laid(file, folder, _zipped(file.path)))
        elif head[257:262] == b"ustar":
            found = list(_laid(file, folder, _tarred(file.path)))
        else:
            found = list(_parts(file, folder))
    except RuntimeError:
        raise InputError(f"{file.path} is locked", "unpack it with its password") from None
    except (zipfile.BadZipFile, tarfile.TarError, zlib.error, EOFError, NotImplementedError) as bad:
        raise InputError(f"{file.path} is a damaged archive: {bad}", "pack it again") from None
    if not found:
        raise InputError(f"{file.path} holds no files", "check that it is the right one")
    return found


def _laid(file: Input, folder: Path, members: Iterator[tuple[str, IO[bytes]]]) -> Iterator[Input]:
    size = file.path.stat().st_size
    room = max(GROWTH_FROM, size * MAX_GROWTH)
    for number, (name, source) in enumerate(members):
        if number >= MAX_FILES:
            raise InputError(f"{file.path} holds more than {MAX_FILES:,} files", "unpack it")
        target = _place(folder, number, name)
        with target.open("wb") as out:
            while block := source.read(_BLOCK):
                room -= len(block)
                if room < 0:
                    raise InputError(
                        f"{file.path} grows more than {MAX_GROWTH}-fold when unpacked",
                        "unpack what is needed, and gather that",
                    )
                out.write(block)
        yield Input(target, f"{file.name}: {name}", within=file.name, is_ours=True)


def _place(folder: Path, number: int, name: str) -> Path:
    """Where a member is laid: by its own name, which tells what some files are, in a folder of its
    own.
    """
    inner = folder / str(number)
    inner.mkdir()
    last = re.sub(r"[^\w.+-]", "_", name.replace("\\", "/").rpartition("/")[2])[-100:]
    return inner / (last if last.strip("._") else "member")


def _zipped(path: Path) -> Iterator[tuple[str, IO[bytes]]]:
    with zipfile.ZipFile(path) as archive:
        for info in archive.infolist():
            if info.is_dir() or _HIDDEN.search(info.filename):
                continue
            with archive.open(info) as source:
                yield info.filename, source


def _tarred(path: Path) -> Iterator[tuple[str, IO[bytes]]]:
    with open_bytes(path) as file, tarfile.open(fileobj=file, mode="r|") as archive:
        for info in archive:
            if info.isreg() and not _HIDDEN.search(info.name):
                source = archive.extractfile(info)
                if source is not None:
                    yield info.name.removeprefix("./"), source


def _parts(file: Input, folder: Path) -> Iterator[Input]:
    """The texts and attached files of a mail; of one text in several forms the last, richest."""
    with open_bytes(file.path) as source:
        data = source.read(_MAX_MAIL + 1)
    if len(data) > _MAX_MAIL:
        raise InputError(f"{file.path} is a mail of more than {_MAX_MAIL >> 20} MB", "split it")
    message = email.message_from_bytes(data, policy=email.policy.default)
    for number, part in enumerate(_told(message)):
        payload = part.get_payload(decode=True)
        if not isinstance(payload, bytes) or not payload.strip():
            continue
        subtype = part.get_content_subtype()
        name = part.get_filename() or f"{'page' if subtype == 'html' else 'text'} {number + 1}"
        target = _place(folder, number, name)
        target.write_bytes(_in_utf8(part, payload))
        yield Input(target, f"{file.name}: {name}", within=file.name, is_ours=True)


def _told(message: EmailMessage) -> Iterator[EmailMessage]:
    if message.get_content_type() == "multipart/alternative":
        inner = list(message.iter_parts())
        yield from _told(inner[-1]) if inner else ()  # type: ignore[arg-type]
    elif message.is_multipart():
        for part in message.iter_parts():
            yield from _told(part)  # type: ignore[arg-type]
    else:
        yield message


def _in_utf8(part: EmailMessage, payload: bytes) -> bytes:
    """A text in UTF-8, unless it names its encoding itself; other files as they are."""
    if part.get_content_maintype() != "text" or b"charset" in payload[:2048].lower():
        return payload
    try:
        return payload.decode(part.get_content_charset() or "utf-8").encode()
    except (LookupError, UnicodeDecodeError):
        return payload
