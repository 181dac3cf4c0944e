"""Opening a new ledger."""

from __future__ import annotations

from pathlib import Path

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.core.url.origins import Sites, group_origins, read_origin
from upright_ledger.errors import UsageError
from upright_ledger.ledger.creating import create_ledger, join_ledger
from upright_ledger.ledger.db.databases import refuse_password, with_schema
from upright_ledger.ledger.store import Ledger
from upright_ledger.settings.file import new_settings_text


def open_new(
    folder: Path,
    old: list[str],
    new: list[str],
    *,
    database: str = "",
    slash: str = "as-stock",
    case: str = "fold",
    significant: list[str] | None = None,
) -> Ledger:
    """Make a new ledger. significant: texts such as "/catalogue.php=item,view"."""
    try:
        sites = Sites(group_origins(old), tuple(dict.fromkeys(read_origin(u) for u in new)))
    except NotAnAddressError as error:
        raise UsageError(
            f"an origin cannot be used: {error}", "write it as in https://www.quillhaven.example"
        ) from None
    chosen = dict(_significant(text) for text in significant or [])
    policy = FoldingPolicy(case=case, significant=chosen)
    refuse_password(database)
    database = with_schema(database, folder.resolve().name)
    return create_ledger(
        folder, new_settings_text(folder.resolve().name, database, sites, slash, policy)
    )


def join(folder: Path, database: str) -> Ledger:
    """Take part in the ledger that a team has in a database."""
    refuse_password(database)
    return join_ledger(folder, database)


def _significant(text: str) -> tuple[str, tuple[str, ...]]:
    path, mark, names = text.partition("=")
    if not mark or not path or not names:
        raise UsageError(
            f"{text!r} names no path and parameters",
            "write it as in --significant /catalogue.php=item",
        )
    return path if path.startswith("/") else f"/{path}", tuple(n for n in names.split(",") if n)
