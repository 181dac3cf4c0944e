"""Settings: `upright.toml`, with its comments kept."""

from __future__ import annotations

import math
import os
import re
import tomllib
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from upright_ledger.core.inventory.evidence import Weights
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.monitoring.traffic_origin import ORIGINS
from upright_ledger.core.rules.canonical_form import ALWAYS, NEVER, CanonicalForm
from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.core.url.origins import Site, Sites, read_origin
from upright_ledger.errors import InputError
from upright_ledger.ledger.settings_template import TEMPLATE

FILE_NAME = "upright.toml"
MOST_DAYS = 36_500
SLASHES = ("always", "never", "as-stock")


@dataclass(frozen=True, slots=True)
class SurveySettings:
    """How surveys of a ledger go where the command says nothing else; see `upright survey --help`.
    None: as the command has it by itself.
    """

    depth: int | None = None
    most: int | None = None
    hosts: tuple[str, ...] = ()
    within: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    ignore: tuple[str, ...] = ()
    own_site: bool = False
    external: bool = False
    agent: str | None = None
    rate: float | None = None
    concurrent: int | None = None
    seconds: float | None = None


@dataclass(frozen=True, slots=True)
class Retention:
    """How many days details of logs stay; 0 for ever. referrers: where requests came from; lines:
    digests of lines, by which one that is given again is known. Daily counts stay in any case, and
    no visitor's address is ever kept.
    """

    referrers: int = 400
    lines: int = 400


@dataclass(frozen=True, slots=True)
class Notify:
    """By which channels news goes out. to: recipients of e-mail; tls: starttls, tls or none; post:
    an address that takes JSON.
    """

    server: str = "localhost"
    port: int = 25
    sender: str = "upright@localhost"
    to: tuple[str, ...] = ()
    tls: str = "starttls"
    user: str = ""
    ca: str = ""
    post: str = ""


@dataclass(frozen=True)
class Settings:
    """What a ledger's owner decided once. database: an SQLAlchemy URL, or empty for the ledger's
    own file.

    sections: name and patterns, in order. profiles: of platforms that import lists; see
    servers.lists.Profile. cache_control: a header for redirects, or empty. forms: what sites settle
    for all addresses that no rule answers. origins: hosts from which people come, by what they are
    ("search engine" and so on), beyond those that are known.
    """

    name: str
    database: str
    sites: Sites
    slash: str
    policy: FoldingPolicy
    weights: Weights
    sections: tuple[tuple[str, tuple[str, ...]], ...] = ()
    profiles: tuple[Mapping[str, Any], ...] = ()
    cache_control: str = ""
    forms: tuple[CanonicalForm, ...] = ()
    survey: SurveySettings = SurveySettings()
    origins: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    notify: Notify = Notify()
    retention: Retention = Retention()


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

    document: Any = tomlkit.parse(TEMPLATE)
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
    draft = _draft(folder)
    draft.unlink(missing_ok=True)
    draft.touch(mode=0o600)
    with draft.open("w", encoding="utf-8") as file:
        file.write(tomlkit.dumps(document))
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


def read_settings_of(folder: Path) -> Settings:
    """The settings of a ledger."""
    return read_settings(folder / FILE_NAME)


def read_settings(path: Path) -> Settings:
    """Read and check a settings file. Raises InputError that names the key that is wrong."""
    try:
        document = tomllib.loads(path.read_text(encoding="utf-8-sig"))
    except OSError as error:
        raise InputError(
            f"{path} cannot be read: {error.strerror or error}", "check the permissions"
        ) from None
    except UnicodeDecodeError:
        raise InputError(f"{path} is not in UTF-8", "save it as UTF-8") from None
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"{path} is not valid TOML: {error}", "mend the line it names") from None
    try:
        return _settings(document)
    except KeyError as error:
        raise InputError(
            f"{path} lacks {error.args[0]}", "compare it with a fresh ledger's file"
        ) from None
    except (NotAnAddressError, AttributeError, TypeError, ValueError) as error:
        raise InputError(
            f"{path} holds a value that cannot be used: {error}",
            "compare it with a fresh ledger's file",
        ) from None


def _settings(document: Mapping[str, Any]) -> Settings:
    ledger, new, folding = document["ledger"], document["new"], document["folding"]
    old = tuple(
        Site(str(s["name"]), tuple(read_origin(str(o)) for o in s["origins"]))
        for s in document["site"]
    )
    if not old or not new["origins"]:
        raise ValueError("there must be at least one old site and one new origin")
    if new["slash"] not in SLASHES:
        raise ValueError(f"slash is {new['slash']!r}; it must be one of {', '.join(SLASHES)}")
    if folding["case"] not in {"fold", "exact"}:
        raise ValueError(f"case is {folding['case']!r}; it must be fold or exact")
    for key in _LISTS:
        if not isinstance(folding.get(key, []), list):
            raise ValueError(f"[folding] {key} is no list: {folding[key]!r}")  # noqa: TRY004
    policy = FoldingPolicy.from_dict(
        {"case": folding["case"]}
        | {k: [str(x) for x in folding[k]] for k in _LISTS if k in folding}
        | {"significant": _significant(folding.get("significant", {}))},
    )
    weights = _weights(document.get("value", {}))
    return Settings(
        str(ledger["name"]),
        str(ledger.get("database", "")),
        Sites(old, tuple(read_origin(str(o)) for o in new["origins"])),
        str(new["slash"]),
        policy,
        weights,
        tuple(
            (str(k), (v,) if isinstance(v, str) else tuple(map(str, v)))
            for k, v in document.get("sections", {}).items()
        ),
        tuple(
            {"name": str(name)} | _profile(values)
            for name, values in document.get("profile", {}).items()
        ),
        _cache_control(document.get("build", {}).get("cache_control", "")),
        _forms(document, policy),
        _survey(document.get("survey", {})),
        _origins(document.get("origins", {})),
        _notify(document.get("notify", {})),
        _retention(document.get("retention", {})),
    )


def _weights(values: Any) -> Weights:
    """The values of [value]. Raises ValueError, TypeError."""
    if not isinstance(values, dict):
        raise ValueError("[value] is no table")  # noqa: TRY004
    found = {k: float(v) for k, v in values.items()}
    for key, weight in found.items():
        if not math.isfinite(weight) or weight < 0:
            raise ValueError(f"[value] {key} is {weight}; it is a number from 0")
    return Weights(**found)


def _significant(table: Mapping[str, Any]) -> dict[str, list[str]]:
    """Raises ValueError for a path whose parameters are no list."""
    for path, names in table.items():
        if not isinstance(names, list):
            raise ValueError(f"[folding.significant] {path} is no list: {names!r}")  # noqa: TRY004
    return {str(path): [str(n) for n in names] for path, names in table.items()}


def _forms(document: Mapping[str, Any], policy: FoldingPolicy) -> tuple[CanonicalForm, ...]:
    """The forms of sites that name a canonical origin. Raises ValueError, NotAnAddressError."""
    settled = document.get("form", {})
    slash, lower, scheme = (
        settled.get("slash", ""),
        settled.get("lower_case", False),
        settled.get("scheme", ""),
    )
    if slash not in {"", ALWAYS, NEVER}:
        raise ValueError(f"[form] slash is {slash!r}; it must be always, never or empty")
    if type(lower) is not bool or (lower and policy.case != "fold"):
        raise ValueError(
            "[form] lower_case is true or false, and true only where [folding] case is fold"
        )
    if not isinstance(scheme, str) or not re.fullmatch(r"[A-Za-z][A-Za-z0-9-]{0,60}|", scheme):
        raise ValueError(
            f"[form] scheme is {scheme!r}; it must be connection, the name of a header, or empty"
        )
    new = {read_origin(str(o)) for o in document["new"]["origins"]}
    forms = []
    for site in (s for s in document["site"] if s.get("canonical")):
        origin = read_origin(str(site["canonical"]))
        if origin not in new:
            raise ValueError(
                f"canonical = {origin!r} of the site {site['name']} is none of the new origins"
            )
        forms.append(CanonicalForm(str(site["name"]), origin, slash, lower, scheme))
    return tuple(forms)


def _cache_control(text: object) -> str:
    """A header value that no server file could take for anything else. Raises ValueError."""
    if not isinstance(text, str) or not re.fullmatch(r"[A-Za-z0-9=, -]{0,200}", text):
        raise ValueError(f"cache_control = {text!r}; it is written as in max-age=3600")
    return text


_SURVEY: dict[str, tuple[type, float, float]] = {
    "depth": (int, 0, 1e9), "most": (int, 1, 1e9), "rate": (float, 0, 1e6),
    "concurrent": (int, 1, 64), "seconds": (float, 0.1, 600),
    "agent": (str, 0, 0), "own_site": (bool, 0, 0), "external": (bool, 0, 0),
}  # fmt: skip
"""What [survey] may hold besides lists: kind, least and most."""


def _survey(values: Mapping[str, Any]) -> SurveySettings:
    """The values of [survey], each of its kind. Raises ValueError."""
    found: dict[str, Any] = {}
    for key, value in values.items():
        if key in {"hosts", "within", "without", "ignore"}:
            found[key] = (value,) if isinstance(value, str) else tuple(map(str, value))
            continue
        kind, least, most = _SURVEY.get(key, (None, 0, 0))
        right = type(value) is kind or (kind is float and type(value) is int)
        if kind is None or not right or (kind in {int, float} and not least <= value <= most):
            raise ValueError(f"[survey] {key} = {value!r}")
        if kind is str and not value.isprintable():
            raise ValueError(f"[survey] {key} holds a control character")
        found[key] = value
    return SurveySettings(**found)


def _retention(values: Mapping[str, Any]) -> Retention:
    """The values of [retention]. Raises ValueError."""
    for key, value in values.items():
        if (
            key not in {"referrers", "lines"}
            or type(value) is not int
            or not 0 <= value <= MOST_DAYS
        ):
            raise ValueError(
                f"[retention] {key} = {value!r}; it is a number of days, up to {MOST_DAYS:,}"
            )
    return Retention(**values)


_NOTIFY = {
    "server": str,
    "port": int,
    "sender": str,
    "tls": str,
    "user": str,
    "ca": str,
    "post": str,
}


def _notify(values: Mapping[str, Any]) -> Notify:
    """The values of [notify], each of its kind. Raises ValueError."""
    found: dict[str, Any] = {}
    for key, value in values.items():
        if key == "to":
            found[key] = (value,) if isinstance(value, str) else tuple(map(str, value))
        elif type(value) is not _NOTIFY.get(key):
            raise ValueError(f"[notify] {key} = {value!r}")
        else:
            found[key] = value
    notify = Notify(**found)
    if notify.tls not in {"starttls", "tls", "none"}:
        raise ValueError(f"[notify] tls is {notify.tls!r}; it must be starttls, tls or none")
    if not all(text.isprintable() and text for text in (notify.sender, notify.server, *notify.to)):
        raise ValueError("[notify] an address is empty or holds a control character")
    if notify.post and not notify.post.startswith(("http://", "https://")):
        raise ValueError(f"[notify] post is {notify.post!r}; it must be an http or https address")
    return notify


def _origins(values: Mapping[str, Any]) -> dict[str, tuple[str, ...]]:
    """The hosts of [origins]. Raises ValueError."""
    for name in values:
        if name not in ORIGINS:
            raise ValueError(f"[origins] {name!r}; it must be one of {', '.join(ORIGINS)}")
    return {str(k): (v,) if isinstance(v, str) else tuple(map(str, v)) for k, v in values.items()}


_PROFILE = {
    "format": str, "old": str, "new": str, "status": str, "paths_only": bool, "limit": int,
    "queries": bool, "patterns": bool, "gone": bool,
}  # fmt: skip


def _profile(values: Mapping[str, Any]) -> dict[str, Any]:
    """The values of a profile, each of its kind. Raises ValueError."""
    for key, value in values.items():
        if key not in _PROFILE or type(value) is not _PROFILE[key]:
            raise ValueError(f"a profile's {key} = {value!r}")
    if values.get("format", "csv") not in {"csv", "jsonl"}:
        raise ValueError(f"a profile's format = {values['format']!r}; it is csv or jsonl")
    return dict(values)
