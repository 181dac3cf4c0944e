"""Addresses by the letter of the standards, sign after sign: slow, plain, and without anything of
the product.
"""

from __future__ import annotations

UNRESERVED = set(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
SUB_DELIMITERS = set(b"!$&'()*+,;=")
PATH = UNRESERVED | SUB_DELIMITERS | set(b":@/")
"""What RFC 3986 lets stand bare in a path."""
HEX = "0123456789ABCDEFabcdef"


def unescaped(text: str) -> bytes:
    """The bytes of a text whose whole escapes are decoded once."""
    raw = bytearray()
    at = 0
    while at < len(text):
        digits = text[at + 1 : at + 3]
        if text[at] == "%" and len(digits) == 2 and all(d in HEX for d in digits):
            raw.append(int(digits, 16))
            at += 3
        else:
            raw += text[at].encode("utf-8", "surrogateescape")
            at += 1
    return bytes(raw)


def escaped(raw: bytes, bare: set[int]) -> str:
    """Bytes as text, those that may not stand bare escaped in upper case."""
    return "".join(chr(byte) if byte in bare else f"%{byte:02X}" for byte in raw)


def canonical_path(path: str) -> str:
    """Decoded once, slashes merged, dot segments resolved as RFC 3986 (5.2.4) says, escaped."""
    whole = unescaped(path)
    while b"//" in whole:
        whole = whole.replace(b"//", b"/")
    if not whole.startswith(b"/"):
        whole = b"/" + whole
    left, out = whole, b""
    while left:
        if left.startswith(b"/./"):
            left = left[2:]
        elif left == b"/.":
            left = b"/"
        elif left.startswith(b"/../"):
            left, out = left[3:], out[: out.rfind(b"/")] if b"/" in out else b""
        elif left == b"/..":
            left, out = b"/", out[: out.rfind(b"/")] if b"/" in out else b""
        else:
            end = left.find(b"/", 1)
            end = len(left) if end < 0 else end
            out, left = out + left[:end], left[end:]
    return escaped(out, PATH)


def may_be_answered(target: str) -> bool:
    """Whether all servers read a request target alike: each byte is looked at by itself."""
    if not target.startswith("/"):
        return False
    if any(not 0x21 <= ord(sign) <= 0x7E or sign == "#" for sign in target):
        return False
    path = target.split("?", maxsplit=1)[0]
    at = 0
    while at < len(path):
        if path[at] == "\\":
            return False
        if path[at] == "%":
            digits = path[at + 1 : at + 3]
            if len(digits) != 2 or any(d not in HEX for d in digits):
                return False
            if int(digits, 16) in {*range(0x20), 0x7F, ord("/"), ord("\\")}:
                return False
            at += 2
        at += 1
    return True


def parameters(query: str) -> list[tuple[str, str]]:
    """The names and values of a query as they stand."""
    found = []
    for part in query.split("&"):
        at = part.find("=")
        found.append((part, "") if at < 0 else (part[:at], part[at + 1 :]))
    return found


def well_formed(value: str) -> bool:
    """Whether a value holds what RFC 3986 lets stand in a query, its escapes whole, and no "&"."""
    allowed = (UNRESERVED | SUB_DELIMITERS | set(b":@/?")) - {ord("&")}
    at = 0
    while at < len(value):
        if value[at] == "%":
            digits = value[at + 1 : at + 3]
            if len(digits) != 2 or any(d not in HEX for d in digits):
                return False
            at += 3
        elif ord(value[at]) in allowed:
            at += 1
        else:
            return False
    return True


def folded(text: str) -> str:
    """A-Z as a-z, and nothing else."""
    return "".join(chr(ord(c) + 32) if "A" <= c <= "Z" else c for c in text)


def latin1_as_utf8(text: str) -> str:
    """Escapes beyond ASCII that are no UTF-8 as a whole, taken for Windows-1252 and written as
    UTF-8; all as it is where that cannot be.
    """
    raw = unescaped(text)
    try:
        raw.decode()
    except UnicodeDecodeError:
        pass
    else:
        return text
    out, at = "", 0
    while at < len(text):
        digits = text[at + 1 : at + 3]
        if text[at] == "%" and digits and digits[0] in "89ABCDEFabcdef" and len(digits) == 2:
            try:
                sign = bytes([int(digits, 16)]).decode("cp1252")
            except ValueError:
                return text
            out += escaped(sign.encode(), set())
            at += 3
        else:
            out += text[at]
            at += 1
    return out
