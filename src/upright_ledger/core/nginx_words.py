"""The words of nginx's configuration language, after nginx's own rules (ngx_conf_read_token)."""

from __future__ import annotations

from collections.abc import Iterator

_ESCAPES = {"t": "\t", "n": "\n", "r": "\r", '"': '"', "'": "'", "\\": "\\"}


def words(text: str) -> Iterator[str]:
    """The words of a configuration; quoted words begin with a NUL so that they cannot be taken for syntax."""
    at, end = 0, len(text)
    while at < end:
        char = text[at]
        if char.isspace():
            at += 1
        elif char == "#":
            at = text.find("\n", at) if "\n" in text[at:] else end
        elif char in ";{}":
            yield char
            at += 1
        elif char in "\"'":
            word, at = _quoted(text, at)
            yield "\0" + word
        else:
            start = at
            while at < end and not text[at].isspace() and text[at] not in ";{":
                at += 2 if text[at] == "\\" else 1
            yield text[start:at]


def _quoted(text: str, at: int) -> tuple[str, int]:
    mark, out = text[at], []
    at += 1
    while text[at] != mark:
        if text[at] == "\\" and text[at + 1] in _ESCAPES:
            out.append(_ESCAPES[text[at + 1]])
            at += 2
        else:
            out.append(text[at])
            at += 1
    return "".join(out), at + 1
