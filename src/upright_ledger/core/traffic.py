"""Traffic classes: who asked (people or declared bots), and what is not a page at all."""

from __future__ import annotations

import re
from functools import lru_cache

from upright_ledger.core.addresses import lower_ascii

_BOT = re.compile(
    r"bot\b|bot[/;)_-]|crawl|spider|slurp|archiver|fetch(?:er|/)|monitor|preview|scan(?:ner)?\b|curl/|wget/|python-|"
    r"java/|libwww|go-http-client|okhttp|headless|feedreader|facebookexternalhit|httpclient|uptime",
    re.IGNORECASE,
)

_FURNITURE = re.compile(r"\.(?:css|js|mjs|map|woff2?|ttf|eot|otf|ico|cur)$")

_PROBE = re.compile(
    r"^/(?:wp-(?:admin|login|content|includes|json|config)|xmlrpc\.php|wordpress/|phpmyadmin|pma/|myadmin|adminer|administrator/|"
    r"cgi-bin/(?:luci|test)|vendor/phpunit|solr/|actuator|boaform|hnap1|owa/|autodiscover|manager/html|server-status|telescope/|"
    r"_ignition|console/|jenkins|struts|shell\.php|c99\.php|r57\.php|config\.(?:php|json|ya?ml)$|admin/?(?:login)?(?:\.php)?$)|"
    r"/\.(?:env|git|svn|hg|aws|ssh|htpasswd|htaccess|ds_store|vscode|idea)|"
    r"\.(?:sql|bak|old|swp|env|ini|tar|tgz|tar\.gz|rar|7z|dump)$|/(?:backup|dump|db|database|site|www|html)\.zip$|"
    r"(?:\.\./|%2e%2e|/etc/passwd|<script|union(?:\+|%20)select|\$\{jndi)",
)

# The classes in which input is set aside, never dropped.
OFF_SITE = "off-site"  # on a host that is none of the old sites'
FURNITURE = "furniture"  # a style sheet, script, font or icon
PROBE = "probe"  # asked for by vulnerability scanners
UNANSWERABLE = "unanswerable"  # no server rule can answer such a request safely
NOT_A_PAGE_REQUEST = "not a page request"  # a method or target that asks for no page
BLANK = "blank"  # an empty line or a comment


@lru_cache(maxsize=1 << 14)
def is_declared_bot(user_agent: str) -> bool:
    """Whether a user agent says itself that no person is asking. An absent agent counts as a bot."""
    return user_agent in {"", "-"} or _BOT.search(user_agent) is not None


def set_aside_class(target: str) -> str:
    """The class in which a request target is set aside, or an empty string for an entry."""
    path, _, query = lower_ascii(target).partition("?")
    if _PROBE.search(path) or (query and _PROBE.search(query)):
        return PROBE
    if _FURNITURE.search(path):
        return FURNITURE
    return ""
