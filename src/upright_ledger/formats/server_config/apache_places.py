"""In which order the directives of one Apache server are asked, its folders and all else that
answers among them.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace

from upright_ledger.core.rules.exact_rule import GONE
from upright_ledger.core.rules.imported.rule import PATH, Condition
from upright_ledger.core.rules.templates.template_index import PASS
from upright_ledger.formats.server_config.apache import (
    ALIAS,
    ALIASES,
    INNER_ALIAS,
    INNER_REWRITE,
    REWRITE,
    ApachePlace,
    nothing_of,
    read_rewrites,
)
from upright_ledger.formats.server_config.apache_access import (
    _ACCESS,
    _HOOKS,
    CLOSED,
    LIMITED,
    WILD,
    access_of,
    at_or_below,
    follows_links,
    pattern_of,
)
from upright_ledger.formats.server_config.apache_aliases import read_alias
from upright_ledger.formats.server_config.apache_config import Directive, all_of
from upright_ledger.formats.server_config.rules_read import RulesRead, ServerSetup, path_below

_OTHER_FOLDERS = {
    "alias",
    "aliasmatch",
    "scriptalias",
    "scriptaliasmatch",
    "virtualdocumentroot",
    "virtualscriptalias",
    "userdir",
}


def is_rule(d: Directive) -> bool:
    """Whether a directive redirects or rewrites."""
    return d.name in ALIASES or d.name in {"rewriterule", "rewritecond"}


def _is_section(d: Directive) -> bool:
    """Whether a directive opens a section that holds at once, unlike one of a folder or a macro."""
    return d.name.startswith("<") and d.name not in {"<directory", "<macro"}


def _holds_rules(directives: Iterable[Directive]) -> bool:
    return any(is_rule(d) for d in all_of(directives))


@dataclass
class PlaceReader:
    """Gathers rules in their order. engine: whether mod_rewrite is on where nothing says so; None
    where that is not known.
    """

    name: str
    given: ServerSetup
    engine: bool | None = None
    out: RulesRead = field(default_factory=RulesRead)

    def miss(self, d: Directive, why: str) -> None:
        """Note, once, what was not understood."""
        self.out.miss(d.line, why, d.text)

    def _note(self, d: Directive, what: str) -> None:
        self.out.notes.append((d.line, what))

    def nothing(
        self, d: Directive, place: ApachePlace, stage: int, pattern: str = "", why: str = ""
    ) -> None:
        """Let nothing later answer there, and note why if it is not understood."""
        if why:
            self.miss(d, why)
        self.out.rules.append(nothing_of(place.where(d), place, stage=stage, pattern=pattern))

    def htaccess(self, directives: list[Directive], place: ApachePlace) -> None:
        """The file of a folder."""
        start = len(self.out.rules)
        self._of_folder(directives, place)
        self._rewrites(directives, place, self.engine_of(directives, self.engine))
        self._aliases(directives, place)
        self._errors(directives, place, start)

    def server(self, own: list[Directive], outer: list[Directive], place: ApachePlace) -> None:
        """A virtual host, or the whole of a file that has none. outer: what it takes over from
        outside of it.
        """
        start = len(self.out.rules)
        for d in [*own, *outer]:
            if _is_section(d) and _holds_rules(d.block):
                self.nothing(
                    d,
                    place,
                    REWRITE,
                    pattern_of(d),
                    f"what stands in {d.text[:60]}> is not understood",
                )
        self._whole(own, place, REWRITE)
        engine = self.engine_of(own, self.engine_of(outer, self.engine))
        self._rewrites(own, place, engine)
        for d in [*own, *outer]:
            if d.name in {"proxypass", "proxypassmatch"} and d.words[1:2] != ["!"]:
                path = d.words[0] if len(d.words) > 1 else ""
                pattern = path if d.name == "proxypassmatch" else f"^{re.escape(path)}"
                self.nothing(
                    d, place, ALIAS, pattern if path else "^", "another server answers in its place"
                )
        self._aliases(own, place)
        self._whole(outer, place, ALIAS)
        self._aliases(outer, place)
        self._folders(own, outer, place, engine)
        self._errors([*own, *outer], place, start)

    # Folders

    def _folders(
        self, own: list[Directive], outer: list[Directive], place: ApachePlace, engine: bool | None
    ) -> None:
        """The sections of folders; what the server itself says of one comes before what stands
        outside of it.
        """
        sections = [d for d in [*own, *outer] if d.name == "<directory"]
        if any(_holds_rules(d.block) for d in sections):
            for d in [*own, *outer]:
                if d.name in _OTHER_FOLDERS:
                    path = (
                        d.words[0].rstrip("/")
                        if d.name in {"alias", "scriptalias"} and d.words
                        else ""
                    )
                    self.nothing(
                        d,
                        place,
                        INNER_REWRITE,
                        f"^{re.escape(path)}" if path else "^",
                        "it leads to another folder",
                    )
        for d in [*own, *outer]:
            if _is_section(d):
                self._access(d, access_of([d]), place, pattern_of(d))
        known, above = self._by_path(sections, own, outer, place)
        if not any(access_of(block) for block in known.get("/", ())):
            said = [(d, access_of(d.block)) for d in sorted(above, key=lambda d: len(d.words[0]))]
            for d, access in [x for x in said if x[1]][-1:]:
                self._access(d, access, place)
        chain = sorted(known, key=lambda p: -p.count("/"))
        for path in chain:
            deeper = [b for p in known if p.startswith(path) and p != path for b in known[p]]
            for block in known[path]:
                self._of_folder(
                    block, _inside(place, path), opens_below=any(map(access_of, deeper))
                )
        for path in chain:
            self._rewrites_of_folder(path, known, replace(place, folder=path), engine)
        for path in chain:
            for block in known[path]:
                self._aliases(block, _inside(place, path))

    def _by_path(
        self,
        sections: Sequence[Directive],
        own: list[Directive],
        outer: list[Directive],
        place: ApachePlace,
    ) -> tuple[dict[str, list[list[Directive]]], list[Directive]]:
        """Sections by the path of their pages, and those of folders above the site's root."""
        roots = [d.words[0] for d in [*outer, *own] if d.name == "documentroot" and d.words]
        root = self.given.document_root or (roots[-1] if roots else "")
        known: dict[str, list[list[Directive]]] = {}
        above = []
        for d in sections:
            path = (
                d.words[0]
                if len(d.words) == 1 and d.words[0].startswith("/") and not WILD.search(d.words[0])
                else ""
            )
            below = path_below(path, root) if root and path else None
            if below and not d.unless:
                known.setdefault(below, []).append(d.block)
            elif root and path and path_below(root, path) and not _holds_rules(d.block):
                above.append(d)
            elif _holds_rules(d.block) or (d.unless and access_of(d.block)):
                why = d.unless or (
                    "it is not known which addresses lie in its folder: --document-root says "
                    "where the site begins"
                )
                self.nothing(d, place, INNER_REWRITE, why=why)
        return known, above

    def _rewrites_of_folder(
        self,
        path: str,
        known: dict[str, list[list[Directive]]],
        place: ApachePlace,
        engine: bool | None,
    ) -> None:
        """mod_rewrite in a folder: what it says replaces all that is said higher up."""
        own = next((b for b in known[path] if any(d.name.startswith("rewrite") for d in b)), None)
        if own is None:
            return
        for higher in sorted((p for p in known if path.startswith(p)), key=len):
            for block in reversed(known[higher]):
                engine = self.engine_of(block, engine)
        self._rewrites(own, place, engine)
        if path != "/":
            rule = nothing_of(
                place.where(own[0]), place, stage=INNER_REWRITE, pattern=at_or_below(path)
            )
            self.out.rules.append(replace(rule, ends=False))

    def _of_folder(
        self, directives: list[Directive], place: ApachePlace, *, opens_below: bool = False
    ) -> None:
        """What is asked before the rules of a folder: who may come in, and what is not understood.
        opens_below: a folder in it says so, too.
        """
        self._whole(directives, place, INNER_REWRITE)
        direct = [d for d in directives if not d.name.startswith("<")]
        for d in (x for x in direct if x.name in _ACCESS):
            access = access_of(direct)
            self._access(d, LIMITED if opens_below and access == CLOSED else access, place)
            break
        for d in directives:
            if (
                d.name == "options"
                and not follows_links(d)
                and any(x.name == "rewriteengine" for x in directives)
            ):
                self.nothing(
                    d,
                    place,
                    INNER_REWRITE,
                    why="mod_rewrite works only where links may be followed",
                )
            elif d.name.startswith("<") and _holds_rules(d.block):
                self.nothing(
                    d,
                    place,
                    INNER_REWRITE,
                    pattern_of(d),
                    f"what stands in {d.text[:60]}> is not understood",
                )
            elif d.name.startswith("<"):
                self._access(d, access_of([d]), place, pattern_of(d))

    # One place

    def engine_of(self, directives: Sequence[Directive], before: bool | None) -> bool | None:
        """Whether mod_rewrite is on: the last word counts."""
        said = [d for d in directives if d.name == "rewriteengine" and d.words]
        return said[-1].words[0].lower() == "on" if said else before

    def _rewrites(
        self, directives: list[Directive], place: ApachePlace, engine: bool | None
    ) -> None:
        stage = INNER_REWRITE if place.folder else REWRITE
        for d in directives:
            if (d.name == "rewriteoptions" and engine is not False) or (
                d.name == "rewriteengine" and d.unless
            ):
                self.nothing(d, place, stage, why=d.unless or "it changes which rules are asked")
        rules = [d for d in directives if d.name in {"rewriterule", "rewritecond"}]
        if engine is False:
            for d in rules:
                self.miss(d, "RewriteEngine is off here, so it is never asked")
            return
        if engine is None:
            rules = [
                replace(d, unless=d.unless or "nothing says RewriteEngine On here") for d in rules
            ]
        bases = [d for d in directives if d.name == "rewritebase" and d.words]
        base = (
            bases[-1].words[0].rstrip("/") + "/"
            if bases and not any(d.unless for d in bases)
            else ""
        )
        self.out.rules += read_rewrites(rules, replace(place, base=base), self.miss, self._note)

    def _aliases(self, directives: Sequence[Directive], place: ApachePlace) -> None:
        self.out.rules += [read_alias(d, place, self.miss) for d in directives if d.name in ALIASES]

    def _whole(self, directives: Sequence[Directive], place: ApachePlace, stage: int) -> None:
        """What may hold rules of its own, or answer anything."""
        for d in directives:
            if d.name in {"include", "includeoptional"}:
                path = d.words[0] if d.words else ""
                if self.given.holds(path) is not False:
                    self.nothing(
                        d,
                        place,
                        stage,
                        why=(
                            f"what it includes is not read: --without {path} says that no redirect "
                            "is in it"
                        ),
                    )
            elif _HOOKS.match(d.name) or (
                d.name == "header" and "location" in " ".join(d.words[:3]).lower().split()
            ):
                self.nothing(d, place, stage, why="it may answer any request")
            elif d.name == "usecanonicalname" and d.words and d.words[0].lower() != "off":
                self.nothing(d, place, stage, why="it puts another host into destinations")

    def _access(self, d: Directive, access: str, place: ApachePlace, pattern: str = "") -> None:
        """Let nothing answer where nobody, or not everybody, may come in."""
        if access in {CLOSED, LIMITED}:
            # Which part of a path is a file's name depends on the folders that are there.
            certain = access == CLOSED and not d.name.startswith("<files")
            self.nothing(
                d, place, INNER_REWRITE, pattern, "" if certain else "not everybody may come in"
            )

    def _errors(self, directives: Sequence[Directive], place: ApachePlace, start: int) -> None:
        """Errors that are answered by an address elsewhere: the server redirects there instead."""
        told = {
            d.words[0]: d
            for d in all_of(directives)
            if d.name == "errordocument" and re.match(r"\w+:", "".join(d.words[1:][-1:]))
        }
        gone, others = told.pop("410", None), list(told.values())
        for d in others:
            self.miss(d, "it redirects what is not found, or forbidden")
        missed = {line for line, _, _ in self.out.missed}
        for number in range(start, len(self.out.rules) if told or gone else 0):
            rule = self.out.rules[number]
            line = int(rule.where.rpartition(":")[2])
            if gone and rule.status == GONE:
                self.out.rules[number] = replace(rule, status=PASS)
                self.out.miss(line, f"line {gone.line} may make a redirect of it", gone.text)
            elif others and rule.status == PASS and rule.ends and line not in missed:
                self.out.rules[number] = replace(rule, where=f"{self.name}:{others[0].line}")
        if others:
            self.nothing(others[0], place, INNER_ALIAS)


def _inside(place: ApachePlace, path: str) -> ApachePlace:
    inside = (Condition(PATH, at_or_below(path)),) if path != "/" else ()
    return replace(place, folder=path, conditions=(*place.conditions, *inside))
