"""The settings file: new ones, and changes that keep its comments."""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path
from typing import Any

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.url.origins import Sites
from upright_ledger.errors import InputError
from upright_ledger.settings.reading import read_settings
from upright_ledger.settings.shared import Shared

FILE_NAME = "upright.toml"


_LISTS = (
    "tracking",
    "tracking_only_folded",
    "session",
    "index_files",
    "view_params",
    "view_segments",
    "take_back",
    "secret",
    "no_secret",
)


def new_settings_text(
    name: str, database: str, sites: Sites, slash: str, policy: FoldingPolicy
) -> str:
    """The text of a fresh settings file."""
    import tomlkit

    document: Any = tomlkit.parse(_template())
    document["ledger"]["name"] = name
    document["ledger"]["database"] = database
    document["new"]["origins"] = list(sites.new)
    document["new"]["slash"] = slash
    folding = document["folding"]
    folding["case"] = policy.case
    _put_policy(folding, policy)
    tables = tomlkit.aot()
    for site in sites.old:
        table = tomlkit.table()
        table["name"] = site.name
        table["origins"] = list(site.origins)
        tables.append(table)
    document["site"] = tables
    return tomlkit.dumps(document)


def _template() -> str:
    from importlib.resources import files

    return files(__package__).joinpath("template.toml").read_text(encoding="utf-8")


def _put_policy(folding: Any, policy: FoldingPolicy) -> None:
    """Write a policy into the [folding] table; what is the same already keeps its form and
    comments.
    """
    import tomlkit

    if folding.get("case") != policy.case:
        folding["case"] = policy.case
    for key in _LISTS:
        if list(folding.get(key, ())) != list(getattr(policy, key)):
            values = tomlkit.array()
            values.extend(getattr(policy, key))
            folding[key] = values.multiline(multiline=len(values) > 6)
    significant = folding.setdefault("significant", tomlkit.table())
    for path in [p for p in significant if p not in policy.significant]:
        del significant[path]
    for path, names in policy.significant.items():
        if list(significant.get(path, ("?",))) != list(names):
            significant[path] = list(names)


def write_policy(folder: Path, policy: FoldingPolicy) -> None:
    """Put a folding policy into a ledger's settings file, whole or not at all; comments stay, and a
    link stays one.
    """
    draft_policy(folder, policy)
    put_draft(folder)


def draft_policy(folder: Path, policy: FoldingPolicy) -> None:
    """Lay out the settings file with a folding policy beside it, before that one comes into force:
    see `put_draft`.
    """
    import tomlkit

    real = _real(folder)
    document: Any = tomlkit.parse(real.read_text(encoding="utf-8-sig"))
    _put_policy(document["folding"], policy)
    _lay_out(folder, tomlkit.dumps(document))


def _lay_out(folder: Path, text: str) -> None:
    """Write the settings file to be beside it."""
    real, draft = _real(folder), _draft(folder)
    draft.unlink(missing_ok=True)
    draft.touch(mode=0o600)
    with draft.open("w", encoding="utf-8") as file:
        file.write(text)
        file.flush()
        os.fsync(file.fileno())
    draft.chmod(real.stat().st_mode & 0o7777)


def put_draft(folder: Path) -> None:
    """Put what was laid out in the place of the settings file, after its policy came into force."""
    with suppress(FileNotFoundError):  # another command saw to it
        _draft(folder).replace(_real(folder))


def drafted_policy(folder: Path) -> FoldingPolicy | None:
    """The policy in what was laid out and not put in place; None where there is nothing, or nothing
    whole.
    """
    draft = _draft(folder)
    try:
        return read_settings(draft).policy if draft.is_file() else None
    except InputError:
        return None


def _real(folder: Path) -> Path:
    return Path(os.path.realpath(folder / FILE_NAME))


def _draft(folder: Path) -> Path:
    real = _real(folder)
    return real.with_name(f".{real.name}.next")


def write_shared(folder: Path, shared: Shared) -> None:
    """Put a team's settings into a ledger's settings file, whole or not at all; other comments
    stay.
    """
    import tomlkit

    real = _real(folder)
    document: Any = tomlkit.parse(real.read_text(encoding="utf-8-sig"))
    _put_shared(document, shared)
    _lay_out(folder, tomlkit.dumps(document))
    put_draft(folder)


def joined_settings_text(name: str, database: str, shared: Shared) -> str:
    """The text of the settings file of somebody who joins a team."""
    import tomlkit

    document: Any = tomlkit.parse(_template())
    document["ledger"]["name"] = name
    document["ledger"]["database"] = database
    _put_shared(document, shared)
    return tomlkit.dumps(document)


def _put_shared(document: Any, shared: Shared) -> None:
    for key, table in shared.tables.items():
        if table is None or table == {}:
            document.pop(key, None)
        elif key not in document or document[key].unwrap() != table:
            document[key] = table
    _put_policy(document["folding"], shared.policy)
