"""What mod_alias says: Redirect and RedirectMatch."""

from __future__ import annotations

import re

from upright_ledger.core.rules.imported.rule import (
    AT_END,
    AT_END_WHOLE,
    PATH,
    ImportedRule,
    PatternNotUnderstoodError,
    Piece,
    PieceKind,
)
from upright_ledger.core.rules.templates.template_index import PASS
from upright_ledger.formats.server_config.apache import (
    _REDIRECTS,
    _WORDS,
    ALIAS,
    ALIASES,
    INNER_ALIAS,
    ApachePlace,
    Miss,
    _match_pieces,
)
from upright_ledger.formats.server_config.apache_config import Directive
from upright_ledger.formats.server_config.rules_read import (
    or_everything,
    understood,
)


def read_alias(d: Directive, place: ApachePlace, miss: Miss) -> ImportedRule:
    """Redirect and its kin: a prefix of the path, or a pattern."""
    try:
        return _alias(d, place)
    except PatternNotUnderstoodError as error:
        miss(d, str(error))
        given = [w for w in d.words if w.lower() not in _WORDS and not re.fullmatch("[0-9]{3}", w)]
        source = given[0] if given else "^"
        if d.name != "redirectmatch" and given:
            source = f"^/?{re.escape(source.lstrip('/'))}"
        stage = INNER_ALIAS if place.folder else ALIAS
        return or_everything(
            ImportedRule(
                place.where(d), PATH, source, PASS, conditions=place.conditions, stage=stage
            )
        )


def _alias(d: Directive, place: ApachePlace) -> ImportedRule:
    if d.unless or any("${" in w for w in d.words):
        raise PatternNotUnderstoodError(d.unless or "it names a define that is not in the file")
    given = list(d.words)
    status = ALIASES[d.name]
    if (
        d.name in {"redirect", "redirectmatch"}
        and given
        and (given[0].lower() in _WORDS or re.fullmatch("[0-9]{3}", given[0]))
    ):
        word = given.pop(0).lower()
        status = _WORDS.get(word) or int(word)
    if status not in _REDIRECTS | {410}:
        raise PatternNotUnderstoodError(
            f"it answers {status}, which is no status of a redirect here"
        )
    if not given or (status != 410 and len(given) < 2):
        raise PatternNotUnderstoodError("it names no path or no destination")
    source, goal = given[0], given[1] if len(given) > 1 else ""
    stage = INNER_ALIAS if place.folder else ALIAS
    pieces: tuple[Piece, ...] = ()
    if d.name == "redirectmatch":
        pieces = _match_pieces(goal) if status != 410 else ()
        rule = ImportedRule(
            place.where(d),
            PATH,
            source,
            status,
            pieces,
            conditions=place.conditions,
            encoding=AT_END_WHOLE,
            stage=stage,
        )
        return understood(rule)
    if not source.startswith("/"):
        raise PatternNotUnderstoodError("its path does not begin with a slash")
    if status != 410 and not re.match(r"/|[A-Za-z][A-Za-z0-9+.-]*:", goal):
        raise PatternNotUnderstoodError("its destination is neither a path nor an address")
    # What follows the path goes on, too: /a → /b takes /a/x to /b/x, and leaves /ab alone.
    rest = "(.*)" if source.endswith("/") else "((?:/.*)?)"
    if status != 410:
        pieces = ((PieceKind.TEXT, goal), (PieceKind.GROUP, "1"))
    return understood(
        ImportedRule(
            place.where(d),
            PATH,
            f"^{re.escape(source)}{rest}$",
            status,
            pieces,
            conditions=place.conditions,
            encoding=AT_END,
            stage=stage,
        )
    )
