"""Folding told once more, a step after the other: what of two spellings makes them one entry."""

from __future__ import annotations

import re

from slow_addresses import UNRESERVED, canonical_path, escaped, folded, latin1_as_utf8, unescaped

INDEX = [f"index.{e}" for e in ("html", "htm", "shtml", "php", "asp", "aspx", "jsp", "cfm")] + [
    f"default.{e}" for e in ("htm", "html", "asp", "aspx")
]
TRACKING = ["gclid", "gbraid", "wbraid", "dclid", "msclkid", "fbclid", "ttclid", "twclid", "mc_cid",
    "mc_eid", "igshid", "yclid", "srsltid", "_ga", "_gl", "epik", "vero_id", "oly_enc_id",
    "hsctatracking"]  # fmt: skip
SESSIONS = ["phpsessid", "jsessionid", "aspsessionid", "cftoken", "zenid", "oscsid"]
VIEWS = ["amp", "print", "printable", "printview", "print_view", "printfriendly",
    "printer_friendly"]  # fmt: skip


def fold_path(path: str, *, case: bool = True) -> str:
    """A path without session, case, index file, slash, view and page number."""
    out = re.sub(r"(?i);(jsessionid|phpsessid|sid)=[^/;]*", "", path)
    out = re.sub(r"(?i)/(\([a-z]\([^()/]*\))+\)(?=/|$)", "", out) or "/"
    out = latin1_as_utf8(canonical_path(out))
    if case:
        out = _fold_case(out)
    parts = out.split("/")
    if folded(parts[-1]) in INDEX:
        parts[-1] = ""
    if parts[-1] == "" and len(parts) > 2:
        parts.pop()
    last = folded(parts[-1])
    if (last == "amp" and len(parts) > 2) or (last == "print" and len(parts) > 3):
        parts.pop()
    elif len(parts) > 3 and parts[-2] == "page" and re.fullmatch("[0-9]+", last):
        del parts[-2:]
    return "/".join(parts)


def _fold_case(path: str) -> str:
    out, at = "", 0
    while at < len(path):
        if path[at] == "%":
            out += path[at : at + 3]
            at += 3
        else:
            out += folded(path[at])
            at += 1
    return out


def fold_query(query: str, significant: set[str] | None = None) -> list[tuple[str, str]]:
    """The parameters that choose the page, each pair once, by name."""
    kept: list[tuple[str, str]] = []
    for part in query.split("&"):
        name, _, value = part.partition("=")
        if name == "":
            continue
        low = name.lower()
        if significant is not None:
            drop = name not in significant
        else:
            drop = low in TRACKING or low.startswith("utm_") or low in SESSIONS or low in VIEWS
        pair = (name, spelled(value))
        if not drop and pair not in kept:
            kept.append(pair)
    names = sorted({name for name, _ in kept})
    return [pair for name in names for pair in kept if pair[0] == name]


def spelled(value: str) -> str:
    """A value with unreserved letters bare, other escapes in capitals, a blank as %20."""
    text, out, at = value.replace("+", "%20"), "", 0
    while at < len(text):
        if re.match("%[0-9A-Fa-f]{2}", text[at:]):
            out += escaped(unescaped(text[at : at + 3]), UNRESERVED)
            at += 3
        else:
            out += text[at]
            at += 1
    return latin1_as_utf8(out)
