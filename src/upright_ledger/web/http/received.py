"""What comes back of a request: its status, headers and the beginning of its body, bounded, and in
words what went wrong.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import lru_cache

import pycurl

HEADER_BYTES = 1 << 17
_END_OF_HEADERS = frozenset([b"\r\n", b"\n"])
_TOO_LARGE = 100  # CURLE_TOO_LARGE, which pycurl does not name


@dataclass(slots=True)
class Response:
    """What came back. status 0: nothing, and `error` says why. headers: the first of each name
    (lower case). body: its first bytes.

    seconds: to the end of what was read. note: what was wrong with an answer that came all the
    same. head: only its headers were asked for.
    """

    status: int = 0
    headers: dict[str, str] = field(default_factory=dict)
    body: bytes = b""
    seconds: float = 0.0
    error: str = ""
    note: str = ""
    head: bool = False

    def header(self, name: str) -> str:
        """The first header of this name (lower case), or an empty string."""
        return self.headers.get(name, "")


class Received:
    """What comes back of one request, as far as it is kept."""

    def __init__(self, want: int) -> None:
        """want: bytes of the body."""
        self.lines: list[bytes] = []
        self.size = 0
        self.body = bytearray()
        self.want = want
        self.private = False

    def refuse(self) -> None:
        """Its address lies within a private network, which is not asked."""
        self.private = True

    def header(self, line: bytes) -> int | None:
        if line.startswith(b"HTTP/") and self.lines and self.lines[-1] in _END_OF_HEADERS:
            self.lines.clear()  # 100 Continue and 103 Early Hints come before the answer itself
            self.size = 0
        self.size += len(line)
        if self.size > HEADER_BYTES:
            return 0
        self.lines.append(line)
        return None

    def chunk(self, data: bytes) -> int | None:
        """The beginning of the body; a connection that goes on beyond it is closed."""
        room = self.want - len(self.body)
        self.body += data[:room] if room > 0 else b""
        return None if len(self.body) < self.want else 0

    def response(self, seconds: float, code: int, text: str, seconds_allowed: float) -> Response:
        status, headers = _parsed(self.lines)
        full = len(self.body) >= self.want
        if not status or (code and not headers):
            return Response(
                0,
                seconds=seconds,
                error=_why(code, text, seconds_allowed) or "an answer that is no HTTP",
            )
        cut = code == pycurl.E_WRITE_ERROR and full
        complete = code == 0 or cut or bool(self.lines and self.lines[-1] in _END_OF_HEADERS)
        if not complete:
            return Response(0, seconds=seconds, error=_why(code, text, seconds_allowed))
        note = "" if code == 0 or cut else _why(code, text, seconds_allowed)
        return Response(status, headers, bytes(self.body), seconds, note=note)


def _parsed(lines: list[bytes]) -> tuple[int, dict[str, str]]:
    if not lines:
        return 0, {}
    parts = lines[0].split(None, 2)
    status = int(parts[1]) if len(parts) > 1 and parts[1].isdigit() else 0
    headers: dict[str, str] = {}
    for line in lines[1:]:
        name, colon, value = line.partition(b":")
        if colon:
            headers.setdefault(_header_name(name), _header_text(value.strip()))
    return status, headers


def _header_text(value: bytes) -> str:
    """A header value; bytes that are no UTF-8 are escaped, as browsers do with a Location."""
    try:
        return value.decode("utf-8")
    except UnicodeDecodeError:
        return "".join(chr(b) if b < 0x80 else f"%{b:02X}" for b in value)


@lru_cache(maxsize=1 << 10)
def _header_name(raw: bytes) -> str:
    return raw.strip().lower().decode("latin-1")


def _why(code: int, text: str, seconds_allowed: float) -> str:
    """Why there was no answer, in words for people."""
    if code == pycurl.E_OPERATION_TIMEDOUT:
        return f"no answer within {seconds_allowed:g} seconds"
    words = {
        pycurl.E_COULDNT_RESOLVE_HOST: "its name is not known to DNS",
        pycurl.E_COULDNT_CONNECT: "nothing listens there",
        pycurl.E_GOT_NOTHING: "the connection was closed without an answer",
        pycurl.E_RECV_ERROR: "the connection broke off",
        pycurl.E_SEND_ERROR: "the connection broke off",
        pycurl.E_PEER_FAILED_VERIFICATION: f"its certificate is not trusted ({text})",
        pycurl.E_SSL_CONNECT_ERROR: f"no TLS connection ({text})",
        pycurl.E_PARTIAL_FILE: "the body ended early",
        pycurl.E_BAD_CONTENT_ENCODING: "the body cannot be unpacked",
        pycurl.E_WRITE_ERROR: f"its headers are larger than {HEADER_BYTES >> 10} KB",
        _TOO_LARGE: "a header is too large",
    }
    return words.get(code, text)
