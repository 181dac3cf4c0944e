"""Deciding for all addresses that fit a template."""

from __future__ import annotations

from upright_ledger.app.decide.decide import Decided
from upright_ledger.app.decide.second_looks import need_stock
from upright_ledger.core.inventory.answer import STATUSES, AnsweredBy, AnswerKind, Decision
from upright_ledger.core.rules.compiler import make_template, template_fault
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.core.rules.templates.template_syntax import CaptureKind, TemplateError
from upright_ledger.core.url.address import NotAnAddressError, parse_address, split_text
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.request_target import lower_path
from upright_ledger.errors import UsageError
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.lines.listing import count_given, open_of_site
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.templates import StoredTemplate, post_template


def decide_template(
    ledger: Ledger,
    old: str,
    answer: Decision,
    query: QueryPolicy = QueryPolicy.CARRY_TRACKING,
    reason: str = "",
    *,
    as_given: bool = False,
) -> tuple[Decided, str]:
    """Answer all addresses that fit a template and have no answer of their own. as_given: though
    the one page that it names is not in stock. Returns what was done and the template.
    """
    sites = ledger.settings.sites
    template = read_template(ledger, old, answer, query)
    if fault := template_fault(template, sites, fold=ledger.settings.policy.folds_case):
        raise UsageError(
            f"{old} cannot be answered so: {fault}",
            "upright decide --help tells how templates are written",
        )
    result = Decided()
    with ledger.step("decide", reason) as step:
        if not as_given and is_one_page(template.destination):
            need_stock(step.connection, ledger.settings, template.destination)
        stored = StoredTemplate(
            template.site,
            template.source.text,
            template.status,
            template.destination,
            query,
            AnsweredBy.PERSON,
        )
        note_template(step, stored, result)
        step.summary = f"{template.source.text}: {answer.kind}" + (
            f" to {template.destination}" if template.destination else ""
        )
    with ledger.reading() as connection:
        result.fitting = count_given(connection, AnsweredBy.TEMPLATE, template.legacy_url)
        _note_left_open(connection, template, result, fold=ledger.settings.policy.folds_case)
    return result, template.source.text


def _note_left_open(
    connection: Connection, template: TemplateRule, result: Decided, *, fold: bool
) -> None:
    """Note the open entries of the part of the site that a template names, and its own page among
    them.
    """
    begins = template.source.text.partition("{")[0]
    part = begins[: begins.rfind("/") + 1]
    if part == "/" and not template.source.text.startswith("/{+"):
        return  # no part of a site, but all of it
    within, own = (lower_path(part), part.rstrip("/").lower()) if fold else (part, part.rstrip("/"))
    goal = _goal_of_part(template)
    for url in open_of_site(connection, template.site):
        path = split_text(url)[2]
        path = lower_path(path) if fold else path
        if path.startswith(within) or path == own:
            result.open.append(url)
        if path in {own, f"{own}/"} and goal is not None and result.own is None:
            result.own = url, goal


def _goal_of_part(template: TemplateRule) -> str | None:
    """Where the page goes whose pages a template answers, all that follow on it; nothing for 410,
    None where that is not told by it.
    """
    captures, goal = template.source.captures, template.destination
    if [c.kind for c in captures] != [CaptureKind.REST] or template.status not in STATUSES:
        return None
    head = goal.removesuffix(f"{{{captures[0].name}}}")
    return None if "{" in head else head


def is_one_page(destination: str) -> bool:
    """Whether a template's destination names a page as it stands."""
    return "{" not in destination


def note_template(step: Step, template: StoredTemplate, result: Decided) -> None:
    """Put a template in force, and note in `result` what came of it."""
    before = post_template(step, template)
    same = before is not None and before._replace(by=template.by, where=template.where) == template
    result.unchanged += same
    result.posted += not same
    result.replaced += before is not None and not same


def read_template(ledger: Ledger, old: str, answer: Decision, query: QueryPolicy) -> TemplateRule:
    """A template as people write it, with or without the host. Raises UsageError."""
    sites, policy = ledger.settings.sites, ledger.settings.policy
    origin, path = sites.old[0].origins[0], old
    if "://" in old:
        scheme, _, rest = old.partition("://")
        host, slash, path = rest.partition("/")
        origin, path = f"{scheme}://{host}", slash + path
    if answer.kind not in {
        AnswerKind.MOVE,
        AnswerKind.TEMPORARY,
        AnswerKind.GONE,
        AnswerKind.KEEP,
        AnswerKind.IGNORE,
    }:
        raise UsageError(
            f"a template cannot be answered {answer.kind}",
            "give one of: --to NEW, --gone, --keep, --ignore",
        )
    destination = answer.destination
    if destination and "://" not in destination:
        destination = f"{sites.new[0]}/{destination.lstrip('/')}"
    try:
        site = _site_of(ledger, origin)
        return make_template(
            site,
            path,
            answer.status,
            destination,
            origin + path,
            fold=policy.folds_case,
            query=query,
        )
    except (NotAnAddressError, TemplateError) as error:
        raise UsageError(
            f"{old} is no template that can be used: {error}",
            "write it as in '/journal/{year}/{slug}.html'",
        ) from None


def _site_of(ledger: Ledger, origin: str) -> str:
    site = ledger.settings.sites.site_of(parse_address(origin))
    if not site:
        raise NotAnAddressError(f"{origin} belongs to no old site")
    return site
