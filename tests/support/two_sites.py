"""Two old sites and where they move to, and templates of the first."""

from __future__ import annotations

from upright_ledger.core.rules.compiler import make_template
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.core.url.origins import Sites, group_origins

OLD, NEW = "http://www.quillhaven.example", "https://www.quillhaven.example"
SHOP, FAR = "http://shop.quillhaven.example", "https://n.example"
SITE, OTHER = "quillhaven.example", "shop.quillhaven.example"
SITES = Sites(group_origins([OLD, SHOP]), (NEW, FAR))


def template(
    source: str, goal: str, status: int | None = None, site: str = SITE, **more: object
) -> TemplateRule:
    """A template; one that leads nowhere, and has no status, is gone."""
    status = (301 if goal else 410) if status is None else status
    return make_template(site, source, status, goal, OLD + source, fold=True, **more)
