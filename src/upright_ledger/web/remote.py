"""Files in object storage and on other machines, read as streams by what fsspec knows of them:
s3://, gs://, abfs://, hdfs://, sftp:// and others, and patterns of files that a web server lists.

They are read where a file of this machine would be: what a `Path` is asked there, a `RemotePath`
answers. Credentials and endpoints are those that fsspec and the services' own packages look for.
"""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property, lru_cache
from types import SimpleNamespace
from typing import Any, TypeVar

from upright_ledger.errors import InputError, UsageError

T = TypeVar("T")
_SCHEME = re.compile(r"([A-Za-z][A-Za-z0-9+.-]+)://")
_OF_WEB = frozenset(["http", "https"])
_MAGIC = re.compile(r"[*\[]")
_USER = re.compile(r"//[^/@]*@")
_BLOCK = 1 << 20  # bytes that are asked for ahead
_HEAD = 1 << 18  # bytes


def is_remote(text: str) -> bool:
    """Whether a text names a file elsewhere that is read as a stream; a single address of the web
    is fetched instead.
    """
    scheme = _SCHEME.match(text)
    if scheme is None:
        return False
    return scheme[1].lower() not in _OF_WEB or _MAGIC.search(text) is not None


@dataclass(frozen=True)
class RemotePath:
    """A file elsewhere, by its address. What it raises is an OSError, as it would be of a file."""

    address: str

    def __str__(self) -> str:
        """The address as it may be shown and kept: without a user's name and password."""
        return _USER.sub("//", self.address, count=1)

    def __truediv__(self, name: str) -> RemotePath:
        return RemotePath(f"{self.address.rstrip('/')}/{name}")

    @property
    def name(self) -> str:
        """What stands behind the last slash."""
        return self.address.rstrip("/").rpartition("/")[2]

    @property
    def parent(self) -> RemotePath:
        """The folder."""
        return RemotePath(self.address.rstrip("/").rpartition("/")[0])

    def resolve(self) -> RemotePath:
        """Itself: there are no links."""
        return self

    def is_file(self) -> bool:
        """Whether there is a file."""
        system, path = _place_of(self.address)
        return bool(_told(lambda: system.isfile(path)))

    def stat(self) -> SimpleNamespace:
        """st_size: the bytes of the file."""
        system, path = _place_of(self.address)
        return SimpleNamespace(st_size=int(_told(lambda: system.size(path)) or 0))

    def open(self, _mode: str = "rb") -> io.BufferedIOBase:
        """The bytes of the file."""
        return io.BufferedReader(_Stream(self.address), _BLOCK)


class _Stream(io.RawIOBase):
    """A file of another system, whose errors are OSErrors. How it begins is asked once, as long as
    the file stays what it is: that is all that most looks at a file need.
    """

    def __init__(self, address: str) -> None:
        self._address, self._at, self._streams = address, 0, False
        system, path = _place_of(address)
        told = _told(lambda: system.info(path))
        knows = told.get("size") is not None
        self._head = (_head_of if knows else _head_of.__wrapped__)(address, repr(told))

    @cached_property
    def _file(self) -> Any:
        return _opened(self._address)

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, place: int, whence: int = io.SEEK_SET) -> int:
        if whence == io.SEEK_END:
            self._at = int(_told(lambda: self._file.seek(place, whence)))
        else:
            self._at = place + (self._at if whence == io.SEEK_CUR else 0)
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: Any) -> int:
        data = self._head[self._at : self._at + len(buffer)]
        if not data and len(self._head) == _HEAD:
            data = _told(lambda: self._read(len(buffer)))
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)

    def _read(self, length: int) -> bytes:
        try:
            self._file.seek(self._at)
            return bytes(self._file.read(length))
        except ValueError:  # it is not sent in parts: all before is passed over
            return self._read_on(length)

    def _read_on(self, length: int) -> bytes:
        if not self._streams or self._file.tell() > self._at:
            self._file.close()
            self._file, self._streams = _opened(self._address, block_size=0), True
        while (behind := self._at - self._file.tell()) > 0:
            if not self._file.read(min(behind, _BLOCK)):
                return b""
        return bytes(self._file.read(length))

    def close(self) -> None:
        if not self.closed and "_file" in vars(self):
            self._file.close()
        super().close()


@lru_cache(maxsize=64)
def _head_of(address: str, _state: str) -> bytes:
    """How a file begins: all of it, where it is short. _state: by what is told of it; another file
    may take its place while a worker waits for the next command.
    """
    with _opened(address) as file:
        return _told(lambda: _first_of(file))


def _first_of(file: Any) -> bytes:
    """The first bytes of a file: a stream may give less than it is asked for, and go on."""
    head = b""
    while len(head) < _HEAD and (more := file.read(_HEAD - len(head))):
        head += more
    return head


def _opened(address: str, block_size: int = _BLOCK) -> Any:
    """block_size: 0 for one that is read from its begin to its end."""
    system, path = _place_of(address)
    return _told(lambda: system.open(path, "rb", block_size=block_size))


def _told(ask: Callable[[], T]) -> T:
    """What a system answers. Packages of services raise what they like."""
    try:
        return ask()
    except OSError:
        raise
    except Exception as error:
        raise OSError(_first_line(error)) from error


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0][:300]


@lru_cache(maxsize=64)
def _system_of(scheme: str, host: str) -> Any:
    import fsspec

    return fsspec.core.url_to_fs(f"{scheme}://{host}/x")[0]


def _place_of(address: str) -> tuple[Any, str]:
    """The file system of an address, and the path in it. Raises UsageError where nothing reads
    such, InputError where it cannot be reached.
    """
    scheme, _, rest = address.partition("://")
    host = rest.partition("/")[0]
    shown = _USER.sub("//", address, count=1)
    try:
        system = _system_of(scheme.lower(), host)
        return system, system._strip_protocol(address)  # noqa: SLF001 (fsspec has no other way)
    except ModuleNotFoundError as error:
        if error.name == "fsspec":
            raise UsageError(
                f"{shown} is read by fsspec, which is not installed",
                "install it with the package: pip install 'upright-ledger[cluster]'",
            ) from None
        raise _lacks(shown, error) from None
    except ImportError as error:
        raise _lacks(shown, error) from None
    except ValueError:
        raise UsageError(
            f"{shown}: nothing here knows {scheme}://", "check how the address is written"
        ) from None
    except Exception as error:  # noqa: BLE001 (packages of services raise what they like)
        raise InputError(
            f"{shown} cannot be reached: {_first_line(error)}",
            "check the address and the credentials",
        ) from None


def _lacks(address: str, error: ImportError) -> UsageError:
    """The package of a service is the user's to install."""
    said = _first_line(error).rstrip(".")
    return UsageError(
        f"{address} needs a package that is not installed: {said}",
        "install it beside upright-ledger (for s3:// s3fs, for gs:// gcsfs, for abfs:// adlfs)",
    )


def remote_files(address: str) -> list[RemotePath]:
    """The files that an address names: one, all below a folder, or those that a pattern fits.
    Raises UsageError, InputError.
    """
    system, path = _place_of(address)
    try:
        if _MAGIC.search(address):
            told = _told(lambda: system.glob(path, detail=True))
            found = [name for name, facts in told.items() if facts["type"] == "file"]
            what = "no file matches"
        elif _told(lambda: system.isfile(path) or not system.isdir(path)):
            return [RemotePath(address)]
        else:
            found = [one for one in _told(lambda: system.find(path)) if not _is_hidden(one)]
            what = "no files are in"
    except OSError as error:
        raise InputError(
            f"{RemotePath(address)} cannot be read: {error}",
            "check the address and the credentials",
        ) from None
    if not found:
        raise InputError(f"{what} {RemotePath(address)}", "check the address")
    return [RemotePath(_address(address, path, one)) for one in sorted(found)]


def _is_hidden(path: str) -> bool:
    return path.rpartition("/")[2].startswith(".") or path.endswith("/")


def _address(asked: str, path: str, found: str) -> str:
    """The address of a file that a system found where it was asked for a path; some leave out the
    host.
    """
    if _SCHEME.match(found):
        return found
    scheme, _, rest = asked.partition("://")
    host, inner = rest.partition("/")[0], found.lstrip("/")
    if not host:
        return f"{scheme}:///{inner}"
    whole = path.lstrip("/").startswith(host)
    return f"{scheme}://{inner}" if whole else f"{scheme}://{host}/{inner}"
