"""What one row of a sheet of pairs means: its answer, and a pattern in it as a template."""

from __future__ import annotations

import re
from functools import lru_cache

from upright_ledger.core.inventory.answer import STATUSES, AnswerKind, Decision, usual
from upright_ledger.core.rules.imported.templates import NoTemplateError, template_of_pattern
from upright_ledger.core.rules.templates.template_syntax import TemplateError
from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.core.url.origins import Sites
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.written_address import Written, as_written
from upright_ledger.formats.tables.meanings.days import day_of
from upright_ledger.formats.tables.pairs import (
    Pair,
    as_regular_expression,
    looks_like_pattern,
    pieces_of,
)
from upright_ledger.formats.tables.status_words import status_word
from upright_ledger.ledger.clock import today

_CAPTURE = re.compile(r"(?<!\{)\{[+?]?([a-z][a-z0-9_]{0,30})(?:\|[^{}]*)?\}(?!\})")


def as_template(pair: Pair) -> Pair:
    """A row whose old address is a pattern ("/blog/*", "^/shop/(.*)$") as the template that says
    the same, and one that names captures without saying its kind as a template where the new
    address uses them. Raises NotAnAddressError.
    """
    if not pair.kind and (captures := _CAPTURE.findall(pair.old)):
        if any(f"{{{name}}}" in pair.new for name in captures):
            return pair._replace(kind="template")
        raise NotAnAddressError(
            f"it holds {{{captures[0]}}}: a column kind must say whether it is a template or an "
            "address as it stands (exact)"
        )
    if pair.is_template or "{" in pair.old or not looks_like_pattern(pair.old):
        return pair
    origin, _, path = pair.old.partition("://")
    host, slash, rest = path.partition("/") if "://" in pair.old else ("", "", "")
    old = f"{slash}{rest}" if host else pair.old
    pattern, new = as_regular_expression(old, pair.new)
    try:
        status = read_answer(pair.status, new).status
        source, goal = template_of_pattern(pattern, pieces_of(new), status)
    except (NoTemplateError, TemplateError) as error:
        raise NotAnAddressError(
            f"it is a pattern, and no template says the same ({error}): write it as in "
            f"'/blog/{{slug}}' or '/blog/{{+rest}}'"
        ) from None
    return pair._replace(
        old=f"{origin}://{host}{source}" if host else source,
        new=goal if pair.new else "",
        kind="template",
    )


def plainly_written(pair: Pair, sites: Sites) -> tuple[Written, Written]:
    """The two addresses of a row, as they were meant; what stands beside an answer that leads
    nowhere is no matter. Raises NotAnAddressError.
    """
    old = as_written(pair.old, sites.old_origins)
    if not read_answer(pair.status, pair.new).destination:
        return old, Written("")
    return old, as_written(pair.new, sites.all_origins, words=old.lacked_slash)


def read_query(text: str) -> QueryPolicy:
    """What a row says of the query; campaign parameters are carried where it says nothing. Raises
    NotAnAddressError for what is no way to treat one.
    """
    try:
        return QueryPolicy(text or QueryPolicy.CARRY_TRACKING)
    except ValueError:
        raise NotAnAddressError(f"{text!r} is no way to treat a query") from None


def read_until(text: str) -> str:
    """The day on which a row wants its answer to be looked at again (YYYY-MM-DD), or an empty text.
    Raises NotAnAddressError for what is no day, or two, or none that is to come.
    """
    if not text:
        return ""
    day = day_of(text)
    if not day:
        raise NotAnAddressError(f"{text!r} is no day: write it as in 2027-05-31")
    # Here is no column of past days to tell the order by, and a month makes an answer end wrongly.
    if day != (other := day_of(text, month_first=True)):
        raise NotAnAddressError(f"{text!r} may be {day} or {other}: write it as in 2027-05-31")
    if day <= today():
        raise NotAnAddressError(f"{day} is not to come: give the day on which to look at it again")
    return day


def read_answer(status: str, new: str) -> Decision:
    """The answer a row of pairs means. Raises NotAnAddressError for a status that is none.

    An empty status is 301. The words gone, keep, wanted and ignore are statuses, too.
    """
    kind, code = _meant_by(status) if len(status) > _SHORT else _known_by(status)
    if not code:
        return usual(kind)
    if kind == AnswerKind.GONE:
        return usual(AnswerKind.GONE)
    if not new:
        raise NotAnAddressError("the new address is missing")
    return Decision(kind, code, new)


_SHORT = 40  # characters; longer ones are not remembered


def _meant_by(status: str) -> tuple[AnswerKind, int]:
    """The answer that a status means, and its code; 0 where no rule follows."""
    word = status.strip().lower()
    word = status_word(word) or word if not word[:1].isdigit() else word
    if word in {AnswerKind.KEEP, AnswerKind.WANTED, AnswerKind.IGNORE}:
        return AnswerKind(word), 0
    digits = re.match(r"\d{3}\b", word)
    code = 410 if word == AnswerKind.GONE else int(digits[0]) if digits else 301
    if word and word != AnswerKind.GONE and not digits:
        raise NotAnAddressError(f"{status!r} is no status; use {', '.join(map(str, STATUSES))}")
    if code not in STATUSES:
        raise NotAnAddressError(
            f"{code} is no status of a redirect; use {', '.join(map(str, STATUSES))}"
        )
    return STATUSES[code], code


_known_by = lru_cache(maxsize=1_000)(_meant_by)
