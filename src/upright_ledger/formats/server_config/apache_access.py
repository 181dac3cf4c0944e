"""Who may see a folder: what Apache asks before it answers."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace

from upright_ledger.formats.server_config.apache_config import Directive

_ACCESS = {"require", "deny", "allow", "satisfy", "sslrequire", "sslrequiressl"}


_HOOKS = re.compile(
    r"lua(?:hook|input|map|quick)|sec(?:rule|action)|perl\w*handler$|use$|check(?:spelling|"
    r"caseonly)$"
)
"""Directives of modules that may answer anything, and macros."""


def access_of(directives: Sequence[Directive]) -> str:
    """What directives, those in their sections among them, say of who may come in; empty where they
    say nothing.
    """
    said = set()
    for d in _asked(directives):
        words = [w.lower() for w in d.words]
        everybody = words[-1:] == ["all"] or words == ["all", "granted"]
        if d.unless:
            said.add(LIMITED)
        elif d.name == "require":
            said.add(
                OPEN
                if words == ["all", "granted"]
                else CLOSED
                if words == ["all", "denied"]
                else LIMITED
            )
        elif d.name in {"deny", "allow"}:
            said.add(LIMITED if not everybody else CLOSED if d.name == "deny" else OPEN)
        else:
            said.add(LIMITED)
    return said.pop() if len(said) == 1 else LIMITED if said else ""


def _asked(directives: Sequence[Directive]) -> Iterator[Directive]:
    """Directives of access, where they stand in sections that combine them, too; those of folders
    speak for themselves.
    """
    for d in directives:
        if d.name in _ACCESS:
            yield d
        elif d.name == "<requirenone":
            yield replace(d, name="require", words=["none"])
        elif d.name.startswith("<") and d.name not in {"<directory", "<macro", "<virtualhost"}:
            yield from _asked(d.block)


def follows_links(d: Directive) -> bool:
    """Whether Options let Apache follow symbolic links."""
    words = [w.lower() for w in d.words]
    if any(w in {"-followsymlinks", "-symlinksifownermatch"} for w in words):
        return False
    return any(w[:1] in "+-" for w in words) or bool(
        {"all", "followsymlinks", "symlinksifownermatch"} & set(words)
    )


def pattern_of(d: Directive) -> str:
    """The paths that a section may be about."""
    word = d.words[-1] if d.words else ""
    if (
        d.name == "<location"
        and len(d.words) == 1
        and word.startswith("/")
        and not WILD.search(word)
    ):
        return at_or_below(word)
    if d.name == "<files" and len(d.words) == 1:
        return (
            f"/{re.escape(word)}(?:/|$)".replace(r"\*", "[^/]*").replace(r"\?", "[^/]")
            if "[" not in word
            else "^"
        )
    if d.name == "<filesmatch" or (d.name == "<files" and d.words[:1] == ["~"]):
        return (
            re.sub(
                r"\\.|\[\^?\]?[^\]]*\]|[\^$]", lambda m: "" if m[0] in {"^", "$"} else m[0], word
            )
            or "^"
        )
    return "^"


OPEN, CLOSED, LIMITED = "open", "closed", "limited"
"""What a place says of who may come in."""


WILD = re.compile(r"[*?\[]")


def at_or_below(path: str) -> str:
    """A regular expression for a path and all below it."""
    return f"^{re.escape(path.rstrip('/'))}(?:/|$)"
