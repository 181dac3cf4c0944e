"""The model of `upright.toml`: its tables as they are written, and what a ledger makes of them.

Each class but `Settings` is one table of the file, with the kinds and bounds of its values: what
does not fit is refused by `settings.reading`, with the line.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Literal

from msgspec import Meta, Struct, structs

from upright_ledger.core.inventory.evidence import Weights
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.sections import Wave
from upright_ledger.core.monitoring.traffic_origin import Origin
from upright_ledger.core.rules.canonical_form import CanonicalForm
from upright_ledger.core.url.origins import Sites

MOST_DAYS = 36_500

Texts = str | tuple[str, ...]
"""One text, or a list of them."""

Origins = Annotated[tuple[str, ...], Meta(min_length=1)]
Days = Annotated[int, Meta(ge=0, le=MOST_DAYS)]
Weight = Annotated[float, Meta(ge=0, le=1e12)]
Printable = Annotated[
    str, Meta(pattern=r"^[^\x00-\x1f\x7f-\x9f]*$", description="free of control characters")
]
Named = Annotated[
    str, Meta(pattern=r"^[^\x00-\x1f\x7f-\x9f]+$", description="a text without control characters")
]


def texts(value: Texts) -> tuple[str, ...]:
    """A list, of one text too."""
    return (value,) if isinstance(value, str) else value


class SettingsTable(Struct, frozen=True, forbid_unknown_fields=True):
    """A table of the file. Every key is known."""


class LedgerTable(SettingsTable, frozen=True):
    """[ledger]. database: an SQLAlchemy URL, or empty for the ledger's own file."""

    name: str
    database: str = ""


class SiteTable(SettingsTable, frozen=True):
    """[[site]]: the origins of an old site. canonical: to which of the new origins requests go that
    no rule answers; empty: nowhere.
    """

    name: str
    origins: Origins
    canonical: str = ""


class NewTable(SettingsTable, frozen=True):
    """[new]: where destinations may lie."""

    origins: Origins
    slash: Literal["always", "never", "as-stock"]


class FoldingTable(SettingsTable, frozen=True):
    """[folding]; see `FoldingPolicy`."""

    case: Literal["fold", "exact"]
    tracking: tuple[str, ...] | None = None
    tracking_only_folded: tuple[str, ...] | None = None
    session: tuple[str, ...] | None = None
    index_files: tuple[str, ...] | None = None
    view_params: tuple[str, ...] | None = None
    view_segments: tuple[str, ...] | None = None
    take_back: tuple[str, ...] | None = None
    secret: tuple[str, ...] | None = None
    no_secret: tuple[str, ...] | None = None
    significant: dict[str, tuple[str, ...]] = {}


class ValueTable(SettingsTable, frozen=True):
    """[value]: the weights of the value formula."""

    traffic: Weight | None = None
    linking_domains: Weight | None = None
    linking_pages: Weight | None = None
    impressions: Weight | None = None


class FormTable(SettingsTable, frozen=True):
    """[form]: how sites with a canonical origin write addresses that no rule answers."""

    scheme: Annotated[
        str,
        Meta(
            pattern=r"^(?:[A-Za-z][A-Za-z0-9-]{0,60})?$",
            description="connection, the name of a header, or empty",
        ),
    ] = ""
    slash: Literal["always", "never", ""] = ""
    lower_case: bool = False


class BuildTable(SettingsTable, frozen=True):
    """[build]. cache_control: a header value that no server file could take for anything else."""

    cache_control: Annotated[
        str, Meta(pattern=r"^[A-Za-z0-9=, -]{0,200}$", description="written as in max-age=3600")
    ] = ""


class SurveySettings(SettingsTable, frozen=True):
    """[survey]: how surveys of a ledger go where the command says nothing else; see
    `upright survey --help`. None: as the command has it by itself.
    """

    depth: Annotated[int, Meta(ge=0, le=10**9)] | None = None
    most: Annotated[int, Meta(ge=1, le=10**9)] | None = None
    hosts: Texts = ()
    within: Texts = ()
    without: Texts = ()
    ignore: Texts = ()
    own_site: bool = False
    external: bool = False
    agent: Printable | None = None
    rate: Annotated[float, Meta(ge=0, le=1e6)] | None = None
    concurrent: Annotated[int, Meta(ge=1, le=64)] | None = None
    seconds: Annotated[float, Meta(ge=0.1, le=600)] | None = None

    def __post_init__(self) -> None:
        for name in ("hosts", "within", "without", "ignore"):
            structs.force_setattr(self, name, texts(getattr(self, name)))


NumberForm = Annotated[
    str,
    Meta(
        pattern=r"^[^\x00-\x1f\x7f-\x9f{}]*\{number\}[^\x00-\x1f\x7f-\x9f{}]*$",
        description="written as in SW-{number}",
    ),
]


class ItemsTable(SettingsTable, frozen=True):
    """[items]: how item numbers are written on the old site and on the new one."""

    old: NumberForm = "{number}"
    new: NumberForm = "{number}"


class LinksTable(SettingsTable, frozen=True):
    """[links]. ignored: addresses to which links are all right whatever they answer, * for
    anything, each with the reason.
    """

    ignored: dict[str, str] = {}


class Retention(SettingsTable, frozen=True):
    """[retention]: how many days details of logs stay; 0 for ever. referrers: where requests came
    from; lines: digests of lines, by which one that is given again is known. Daily counts stay in
    any case, and no visitor's address is ever kept.
    """

    referrers: Days = 400
    lines: Days = 400


class Notify(SettingsTable, frozen=True):
    """[notify]: by which channels news goes out. to: recipients of e-mail; post: an address that
    takes JSON. least: lost requests from which on an address that fails is said; silent_after:
    hours after which a log that does not grow is said to be silent, 0 for never.
    """

    server: Named = "localhost"
    port: Annotated[int, Meta(ge=0, le=65535)] = 25
    sender: Named = "upright@localhost"
    to: Named | tuple[Named, ...] = ()
    tls: Literal["starttls", "tls", "none"] = "starttls"
    user: str = ""
    ca: str = ""
    least: Annotated[float, Meta(ge=0, le=1e9)] = 0.0
    silent_after: Annotated[float, Meta(ge=0, le=1e6)] = 0.0
    post: Annotated[
        str, Meta(pattern=r"^(?:https?://.*)?$", description="an http or https address")
    ] = ""

    def __post_init__(self) -> None:
        structs.force_setattr(self, "to", texts(self.to))


class ClusterTable(SettingsTable, frozen=True):
    """[cluster]: workers that read logs. on: the address of their scheduler, or local; empty: this
    command reads them itself. The others are files by which a scheduler of tls:// is known.
    """

    on: Printable = ""
    authority: Printable = ""
    certificate: Printable = ""
    key: Printable = ""


class ProfileTable(SettingsTable, frozen=True):
    """[profile.NAME]: a platform that imports a list of redirects; see
    `servers.import_list.Profile`.
    """

    format: Literal["csv", "jsonl"] = "csv"
    old: str = "old"
    new: str = "new"
    status: str = "status"
    paths_only: bool = False
    limit: Annotated[int, Meta(ge=0)] = 0
    queries: bool = True
    patterns: bool = False
    gone: bool = True


class Document(SettingsTable, frozen=True):
    """The whole file."""

    ledger: LedgerTable
    new: NewTable
    folding: FoldingTable
    site: Annotated[tuple[SiteTable, ...], Meta(min_length=1)]
    sections: dict[str, Texts] = {}
    waves: dict[str, Texts] = {}
    value: ValueTable = ValueTable()
    form: FormTable = FormTable()
    build: BuildTable = BuildTable()
    survey: SurveySettings = SurveySettings()
    items: ItemsTable = ItemsTable()
    links: LinksTable = LinksTable()
    origins: dict[str, Texts] = {}
    retention: Retention = Retention()
    notify: Notify = Notify()
    cluster: ClusterTable = ClusterTable()
    profile: dict[str, ProfileTable] = {}


@dataclass(frozen=True)
class Settings:
    """What a ledger's owner decided once. database: an SQLAlchemy URL, or empty for the ledger's
    own file.

    sections: name and patterns, in order. waves: sections that go live together, in order.
    profiles: name → a platform that imports lists.
    cache_control: a header for redirects, or empty. forms: what sites settle for all addresses that
    no rule answers. origins: hosts from which people come, by what they are ("search engine" and so
    on), beyond those that are known.
    """

    name: str
    database: str
    sites: Sites
    slash: str
    policy: FoldingPolicy
    weights: Weights
    sections: tuple[tuple[str, tuple[str, ...]], ...]
    waves: tuple[Wave, ...]
    profiles: Mapping[str, ProfileTable]
    cache_control: str
    forms: tuple[CanonicalForm, ...]
    survey: SurveySettings
    items: ItemsTable
    links: LinksTable
    origins: Mapping[Origin, tuple[str, ...]]
    notify: Notify
    cluster: ClusterTable
    retention: Retention
