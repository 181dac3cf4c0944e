"""Texts that go with the rules: READMEs and small complete configurations, files of the package."""

from __future__ import annotations

import re
from importlib.resources import files

from upright_ledger.core.rules.ruleset import RuleSet

_FIELD = re.compile(r"<<([a-z_]+)>>")


def file_text(package: str, name: str, **values: str) -> str:
    """A template file of a package with values in the place of its fields, written <<field>>.

    Raises KeyError for a field that has no value.
    """
    text = files(package).joinpath(name).read_text(encoding="utf-8")
    return _FIELD.sub(lambda found: values[found[1]], text)


def readme(package: str, rules: RuleSet, name: str = "README.md", **values: str) -> str:
    """How the files of a build are put in place: a template file that knows of the rules how many
    they are (count), their digest, and for which hosts they are.
    """
    hosts = ", ".join(sorted(rules.site_of))
    count = f"{len(rules.answering):,}"
    return file_text(package, name, count=count, digest=rules.digest, hosts=hosts, **values)
