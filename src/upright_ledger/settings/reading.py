"""Reading `upright.toml`: what is wrong in it is told with its line, its key and what it may be."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import replace
from difflib import get_close_matches
from pathlib import Path
from typing import Any

import msgspec
from msgspec import inspect

from upright_ledger.core.inventory.evidence import Weights
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.sections import ALL_LEFT, Wave, waves_of
from upright_ledger.core.monitoring.traffic_origin import Origin
from upright_ledger.core.rules.canonical_form import CanonicalForm
from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.core.url.origins import Site, Sites, read_origin
from upright_ledger.errors import InputError
from upright_ledger.settings.lines import Steps, line_of
from upright_ledger.settings.model import Document, Settings, texts
from upright_ledger.settings.shared import Shared, with_shared

_KINDS = {
    "int": "a whole number",
    "float": "a number",
    "str": "a text",
    "bool": "true or false",
    "array": "a list",
    "object": "a table",
    "null": "nothing",
}


class _WrongError(Exception):
    """A value that cannot be used. steps: where it stands."""

    def __init__(self, steps: Steps, why: str) -> None:
        super().__init__(why)
        self.steps = steps


def read_settings(path: Path, shared: Shared | None = None) -> Settings:
    """Read and check a settings file; what a team has together is in the place of the file's.
    Raises InputError that names the line and the key.
    """
    try:
        text = path.read_text(encoding="utf-8-sig")
    except OSError as error:
        told = f"{path} cannot be read: {error.strerror or error}"
        raise InputError(told, "check the permissions") from None
    except UnicodeDecodeError:
        raise InputError(f"{path} is not in UTF-8", "save it as UTF-8") from None
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"{path} is not valid TOML: {error}", "mend the line it names") from None
    try:
        return _settings(_converted(with_shared(document, shared) if shared else document))
    except _WrongError as error:
        line = line_of(text, error.steps)
        where = f"{path}, line {line}" if line else str(path)
        raise InputError(
            f"{where}: {_named(error.steps)}{error}",
            "change it there, or compare it with a fresh ledger's file",
        ) from None


def _named(steps: Steps) -> str:
    """A key as one would write it: [survey] depth."""
    names = [s for s in steps if isinstance(s, str)]
    if not names:
        return ""
    if len(names) == 1:
        return f"[{names[0]}] "
    return f"[{'.'.join(names[:-1])}] {names[-1]} "


def _converted(document: Mapping[str, Any]) -> Document:
    try:
        return msgspec.convert(document, Document)
    except msgspec.ValidationError as error:
        said, _, at = str(error).partition(" - at `$")
        steps = _steps(at.rstrip("`"), document)
    raise _WrongError(*_in_words(said, steps, document))


def _steps(at: str, document: Mapping[str, Any]) -> Steps:
    """The way to a value, from the path that the validator names; where it leaves out the key of a
    table of any name, the one whose value does not fit.
    """
    steps: list[str | int] = []
    for name, index in re.findall(r"\.(\w+)|\[(\.\.\.|\d+)\]", at):
        if name:
            steps.append(name)
        elif index != "...":
            steps.append(int(index))
        else:
            kind = _kind_at(steps)
            held = _value_at(document, steps)
            steps.append(next((k for k, v in held.items() if not _fits(v, kind)), ""))
    return tuple(steps)


def _fits(value: object, kind: Any) -> bool:
    try:
        msgspec.convert(value, kind)
    except msgspec.ValidationError:
        return False
    return True


def _kind_at(steps: Iterable[str | int]) -> Any:
    """What the values of a table of any name must be."""
    fields = {f.name: f for f in msgspec.structs.fields(Document)}
    kind: Any = None
    for step in steps:
        kind = fields[step].type if isinstance(step, str) and step in fields else kind
        if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
            fields = {f.name: f for f in msgspec.structs.fields(kind)}
    return kind.__args__[1]


def _value_at(document: Any, steps: Iterable[str | int]) -> Any:
    for step in steps:
        try:
            document = document[step]
        except (KeyError, IndexError, TypeError):
            return None
    return document


def _in_words(said: str, steps: Steps, document: Mapping[str, Any]) -> tuple[Steps, str]:
    """Where a value stands, and in plain English what the validator said of it."""
    unknown = re.fullmatch(r"Object contains unknown field `(.*)`", said)
    if unknown:
        near = get_close_matches(unknown[1], _keys_of(steps), 1)
        hint = f" (did you mean {near[0]}?)" if near else ""
        return (*steps, unknown[1]), f"is no setting{hint}"
    lacking = re.fullmatch(r"Object missing required field `(.*)`", said)
    if lacking:
        return (*steps, lacking[1]), "is not there"
    value = _value_at(document, steps)
    shown = "true" if value is True else "false" if value is False else repr(value)
    if said.startswith("Invalid enum value"):
        choices = [c or "empty" for c in _choices_at(steps)]
        return steps, f"= {shown}; it must be {', '.join(choices[:-1])} or {choices[-1]}"
    kinds = re.fullmatch(r"Expected `([a-z |]+)`, got `(\w+)`", said)
    if kinds:
        wanted = " or ".join(_KINDS.get(k, k) for k in kinds[1].split(" | ") if k != "null")
        return steps, f"is {_KINDS.get(kinds[2], kinds[2])}; it must be {wanted}"
    bound = re.fullmatch(r"Expected `(?:int|float)` (>=|<=) (\S+)", said)
    if bound:
        limit = float(bound[2])
        side = "from" if bound[1] == ">=" else "up to"
        return steps, f"= {shown}; it must be a number {side} {limit:,g}"
    if "of length" in said:
        return steps, "is empty; it needs one at least"
    return steps, f"= {shown[:80]}; it must be {_meant_at(steps)}"


def _field_at(steps: Steps, *, whole: bool = False) -> Any:
    """What the model says of a key, as `msgspec.inspect` gives it. whole: with its description."""
    kind: Any = inspect.type_info(Document)
    for step in steps:
        if isinstance(kind, inspect.StructType):
            kind = next((f.type for f in kind.fields if f.name == step), None)
        elif isinstance(kind, inspect.DictType):
            kind = kind.value_type
        elif isinstance(kind, inspect.VarTupleType):
            kind = kind.item_type
        if isinstance(kind, inspect.UnionType):
            kind = next(t for t in kind.types if not isinstance(t, inspect.NoneType))
        if isinstance(kind, inspect.Metadata) and not (whole and step is steps[-1]):
            kind = kind.type
    return kind


def _meant_at(steps: Steps) -> str:
    """In words, what the pattern of a text asks for."""
    kind = _field_at(steps, whole=True)
    if isinstance(kind, inspect.Metadata) and kind.extra_json_schema:
        return str(kind.extra_json_schema["description"])
    return "of another form"


def _keys_of(steps: Steps) -> list[str]:
    kind = _field_at(steps)
    return [f.name for f in kind.fields] if isinstance(kind, inspect.StructType) else []


def _choices_at(steps: Steps) -> list[str]:
    kind = _field_at(steps)
    return [str(v) for v in kind.values] if isinstance(kind, inspect.LiteralType) else [""]


def _settings(document: Document) -> Settings:
    """What follows from the tables together. Raises _WrongError."""
    folding = {
        k: list(v)
        for k, v in msgspec.structs.asdict(document.folding).items()
        if v is not None and k not in {"case", "significant"}
    }
    significant = {path: list(names) for path, names in document.folding.significant.items()}
    try:
        policy = FoldingPolicy.from_dict(
            {"case": document.folding.case} | folding | {"significant": significant}
        )
    except ValueError as error:
        raise _WrongError(("folding",), f"cannot be used: {error}") from None
    new = _origins_at(("new", "origins"), document.new.origins)
    old = tuple(
        Site(site.name, _origins_at(("site", n, "origins"), site.origins))
        for n, site in enumerate(document.site)
    )
    for name in document.origins:
        if name not in set(Origin):
            raise _WrongError(("origins", name), f"is no origin; it may be {', '.join(Origin)}")
    given = {k: v for k, v in msgspec.structs.asdict(document.value).items() if v is not None}
    try:
        sites = Sites(old, new)
    except ValueError as error:
        raise _WrongError(("site",), f"cannot be used: {error}") from None
    return Settings(
        document.ledger.name,
        document.ledger.database,
        sites,
        document.new.slash,
        policy,
        replace(Weights(), **given),
        tuple((name, texts(patterns)) for name, patterns in document.sections.items()),
        _waves(document),
        document.profile,
        document.build.cache_control,
        _forms(document, policy, new),
        document.survey,
        document.items,
        document.links,
        {Origin(name): texts(hosts) for name, hosts in document.origins.items()},
        document.notify,
        document.cluster,
        document.retention,
    )


def _waves(document: Document) -> tuple[Wave, ...]:
    """The waves, each section of which is known, and in one of them."""
    named = [(name, texts(sections)) for name, sections in document.waves.items()]
    seen: dict[str, str] = {}
    for name, sections in named:
        if not sections:
            raise _WrongError(("waves", name), "names no section")
        for section in sections:
            if section != ALL_LEFT and section not in document.sections:
                raise _WrongError(("waves", name), f"= {section!r} is no name of [sections]")
            if section in seen:
                told = f"names {section!r}, which is in the wave {seen[section]} already"
                raise _WrongError(("waves", name), told)
            if ALL_LEFT in seen:
                told = f"comes after {seen[ALL_LEFT]}, which takes all that is left"
                raise _WrongError(("waves", name), told)
        seen |= dict.fromkeys(sections, name)
    return tuple(waves_of(named))


def _origins_at(steps: Steps, written: Iterable[str]) -> tuple[str, ...]:
    found = []
    for n, text in enumerate(written):
        try:
            found.append(read_origin(text))
        except NotAnAddressError as error:
            raise _WrongError((*steps, n), f"= {text!r}; {error}") from None
    return tuple(found)


def _forms(
    document: Document, policy: FoldingPolicy, new: tuple[str, ...]
) -> tuple[CanonicalForm, ...]:
    """The forms of sites that name a canonical origin."""
    form = document.form
    if form.lower_case and policy.case != "fold":
        raise _WrongError(("form", "lower_case"), "is true only where [folding] case is fold")
    forms = []
    for n, site in enumerate(document.site):
        if not site.canonical:
            continue
        (origin,) = _origins_at(("site", n, "canonical"), [site.canonical])
        if origin not in new:
            told = f"= {origin!r} of the site {site.name} is none of the new origins"
            raise _WrongError(("site", n, "canonical"), told)
        forms.append(CanonicalForm(site.name, origin, form.slash, form.lower_case, form.scheme))
    return tuple(forms)
