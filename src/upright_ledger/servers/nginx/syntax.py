"""nginx's configuration language, as far as our own files use it: quoting, and reading back.

The reader is written against nginx's rules (ngx_conf_read_token), not against our writer: it is
there to show that no word of a hostile URL ended a quote, a statement or a block.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from upright_ledger.config_syntax.nginx_lexer import statements

_CONTROL = re.compile(r"[\x00-\x08\x0a-\x1f\x7f]")


def quote(text: str) -> str:
    """A text as one nginx word. Variables in it stay variables; raw control bytes other than tab
    are refused.
    """
    if _is_plain(text):
        return f'"{text}"'
    if _CONTROL.search(text):
        msg = f"a control byte cannot be written: {text!r}"
        raise ValueError(msg)
    return '"' + _backslashes(text).replace('"', '\\"').replace("\t", "\\t") + '"'


def quoted(texts: Sequence[str]) -> list[str]:
    """As `quote`, of many texts: in most of them nothing is to be escaped, which one look at all of
    them shows.
    """
    if _is_plain("".join(texts)):
        return [f'"{text}"' for text in texts]
    return [*map(quote, texts)]


def _is_plain(text: str) -> bool:
    return text.isascii() and text.isprintable() and '"' not in text and "\\" not in text


def host_keys(authority: str, *, ports: bool) -> list[str]:
    """A host as a client may name it. Without its port (`$host`) nginx takes a closing dot off;
    from `$http_host` it does not.
    """
    host, colon, port = (
        authority.rpartition(":") if re.search(r":\d+\Z", authority) else (authority, "", "")
    )
    return [authority, f"{host}.{colon}{port}"] if ports else [authority]


def _backslashes(text: str) -> str:
    return text.replace("\\", "\\\\")


def read_map_tables(text: str) -> dict[str, dict[str, str]]:
    """Every map of a file: variable name → key → value, and under "" the statements outside maps.

    A statement in a map that is not exactly a key and a value shows up as a key with all its words,
    so that it differs from any honest table.
    """
    tables: dict[str, dict[str, str]] = {}
    current: dict[str, str] | None = None
    for statement, end in statements(text):
        if end == "{":
            dollar = statement == _DOLLAR_BLOCK
            current = (
                {}
                if dollar
                else tables.setdefault(statement[-1].lstrip("\0").removeprefix("$"), {})
            )
            if dollar:
                pass
            elif len(statement) != 3 or statement[0] != "map":
                current["block"] = " ".join(statement)
        elif end == "}":
            current = None
        elif end == ";":
            _keep(statement, current, tables)
    return tables


_EXPECTED_OUTSIDE = frozenset({"map_hash_bucket_size", "map_hash_max_size"})
_DOLLAR_BLOCK = ["geo", "$upright_dollar"]


def _keep(
    statement: list[str], table: dict[str, str] | None, tables: dict[str, dict[str, str]]
) -> None:
    if table is None:
        if statement[0] not in _EXPECTED_OUTSIDE:
            tables.setdefault("", {})[" ".join(statement)] = ""
        return
    if len(statement) == 2:
        key, value = statement[0].removeprefix("\0"), statement[1].removeprefix("\0")
        if key in table:
            key = f"{key} (again)"
        table[key] = value
    else:
        table[" ".join(statement)] = "not a key and a value"
