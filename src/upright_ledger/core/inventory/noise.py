"""Traffic classes: what is not a page at all."""

from __future__ import annotations

import re
from itertools import pairwise
from urllib.parse import unquote_plus

from upright_ledger.core.url.request_target import lower_ascii
from upright_ledger.core.word import Word

_FURNITURE = frozenset(
    ["css", "js", "mjs", "map", "woff", "woff2", "ttf", "eot", "otf", "ico", "cur"]
)

# Asked for by scanners, whatever the site. One slash first: that is what makes the search quick.
_PROBE = re.compile(
    r"/(?:wp-(?:admin|login|includes|json|config)|wp-content/(?:plugins|themes|debug)|xmlrpc\.php|"
    r"phpmyadmin|pma/|myadmin|adminer|"
    r"administrator/|cgi-bin/(?:luci|test)|vendor/phpunit|actuator|boaform|hnap1|autodiscover|"
    r"manager/html|server-status|"
    r"wlwmanifest\.xml|api/v\d+/pods|telescope/|_ignition|shell\.php|c99\.php|r57\.php|"
    r"config\.(?:php|json|ya?ml)\Z|admin/?(?:login)?(?:\.php)?\Z|"
    r"\.(?:env|git|svn|hg|aws|ssh|htpasswd|htaccess|ds_store|vscode|idea)|etc/passwd)",
)
_HIDDEN = re.compile(r"/\.(?!well-known(?:/|\Z)|\.?(?:/|\Z))")
_ATTACK = re.compile(r"\.\./|%2e%2e|<script|%3cscript|union(?:\+|%20)select|\$\{jndi")
# Of a target as a server decodes it, once or twice.
_DECODED = re.compile(
    r"\.\.[/\\]|/etc/(?:passwd|shadow|hosts\b)|<(?:script|\?php|svg/on|img[^>]{0,20} on)|"
    r"\$\{(?:jndi|env):|\bunion\s+(?:all\s+|distinct\s+)?select\b|"
    r"\bselect\b.{1,80}\bfrom\b.{0,40}\b(?:information_schema|dual|mysql\.user)|"
    r"['\")]\s*(?:or|and)\s+['\"(]?\d+['\"]?\s*=|\bwaitfor\s+delay\b|\bsleep\(\d|"
    r"\bbenchmark\(\d|\bxp_cmdshell\b|\bextractvalue\(|\b(?:php|expect|phar)://|\bcmd\.exe\b|"
    r"\b(?:wget|curl)\s+https?://",
    re.DOTALL,
)
_ATTACK_SIGNS = ("<", "$", "%", "..", "union", "+")  # one of them is in every attack
# Asked for by scanners where the old site never answered it; otherwise a page like any.
_DOUBTFUL_ENDINGS = frozenset(
    [
        "sql", "bak", "old", "swp", "ini", "tar", "tgz", "rar", "7z", "dump", "asp", "jsp", "cgi",
        "key", "pem", "pfx", "p12", "sqlite", "mdb",
        "conf", "cfg", "yml", "yaml", "toml", "log", "sh", "exe", "dll", "php~", "html~", "save",
        "orig", "kdbx",
    ]
)  # fmt: skip
_DOUBTFUL = re.compile(
    r"/(?:backup|dump|db|database|site|www|html|public)[^/]*\.(?:zip|gz)\Z|"
    r"\A/(?:console|wordpress|wp|old|backup|test|tmp)/?\Z|/login\.action\Z|"
    r"\A/(?:solr|owa|ecp|console/login|jenkins|struts\d?|_profiler|debug/default|remote/(?:fgt|"
    r"login)|api/jsonws|portal/redlion|geoserver|druid|nacos|hudson|zabbix|cacti|grafana|"
    r"kibana)(?:/|_|\Z)|"
    r"/(?:php_?info|info|test\d?|i|pi|upload|up|cmd|x|1|a|alfa|mini|wso|adm|setup|install|"
    r"setup-config|eval-stdin|debug|shell\d?)\.php\Z|"
    r"/(?:id_[dr]sa|id_ed25519|web\.config|sftp-config\.json|credentials|authorized_keys|"
    r"docker-compose[^/]*|composer\.(?:json|lock)|package(?:-lock)?\.json|server-info|"
    r"known_hosts)\Z|"
    r"/phpmyadmin[^/]*/|/pma[^/]*/|/mysql(?:admin)?/",
)
_TOKEN = re.compile(r"[A-Za-z0-9]{8,}\Z")
_VOWELS = frozenset("aeiouyAEIOUY")

# The classes in which input is set aside, never dropped.


class AsideClass(Word):
    """Classes in which addresses are set aside."""

    OFF_SITE = "off-site"  # on a host that is none of the old sites'
    FURNITURE = "furniture"  # a style sheet, script, font or icon
    PROBE = "probe"  # asked for by vulnerability scanners
    RANDOM = "random"  # random letters that the old site never answered, as scanners try them
    # asked for by declared bots, or by scanners, alone, and never answered
    BOTS_ONLY = "bots only"
    OWN = "own request"  # where no page can be: how the program learns what a server answers then
    UNANSWERABLE = "unanswerable"  # no server rule can answer such a request safely
    NOT_A_PAGE_REQUEST = "not a page request"  # a method or target that asks for no page
    BEGUN = "answered below"  # a request whose status another line of the log tells
    BLANK = "blank"  # an empty line or a comment
    PROSE = "prose"  # words without a URL, in a text that is no list
    NEIGHBOUR = "other sitemap"  # names another file, which is a source of its own
    FOUND = "page found"  # in a list of visits: its title or status says that the page was there
    SUMMARY = "summary"  # a line of totals, or words above a table
    COUNTED_BEFORE = "counted before"  # a log line that another log of this ledger holds, too
    # an image that pages show, or what browsers and crawlers ask for by themselves
    ASSET = "page asset"
    # a redirect rule about more than one address: it answers, and names none
    PATTERN_RULE = "pattern rule"


NO_SUCH_PAGE = "/upright-ledger-no-such-page-7f3a/"
"""Asked for to see what a server answers where no page can be."""
_NO_SUCH = NO_SUCH_PAGE.rstrip("/")
SCANNERS = frozenset([AsideClass.PROBE, AsideClass.RANDOM])
"""Classes of what no person asks for."""


def set_aside_class(target: str) -> str:
    """The class in which a request target is set aside whatever is known of it, or an empty
    string.
    """
    low = lower_ascii(target)
    path = low.partition("?")[0]
    name = path.rpartition("/")[2]
    if "." in name and name.rpartition(".")[2] in _FURNITURE:
        return AsideClass.FURNITURE
    if path.startswith(_NO_SUCH):
        return AsideClass.OWN
    if _PROBE.search(low):
        return AsideClass.PROBE
    for sign in _ATTACK_SIGNS:
        if sign in low:
            return AsideClass.PROBE if _is_attack(low) else ""
    return ""


def is_sure_probe(target: str) -> bool:
    """Whether nobody but a scanner asks for a target, unless a list names it."""
    if set_aside_class(target) == AsideClass.PROBE:
        return True
    return "/." in target and _HIDDEN.search(target.partition("?")[0]) is not None


def looks_like_a_probe(target: str) -> bool:
    """Whether a target is what scanners ask for, though a page may be there all the same."""
    sure = set_aside_class(target) == AsideClass.PROBE
    return sure or bool(doubtful_class(target.partition("?")[0]))


def _is_attack(target: str) -> bool:
    """Whether a target, in small letters, is an attack, as it stands or as servers decode it."""
    if _ATTACK.search(target):
        return True
    once = unquote_plus(target).lower()
    return _DECODED.search(once) is not None or (
        "%" in once and _DECODED.search(unquote_plus(once).lower()) is not None
    )


_IMAGES = ("png", "jpg", "jpeg", "gif", "svg", "webp", "avif", "bmp")
_WELL_KNOWN = re.compile(
    r"/(?:robots|humans|ads|app-ads|security)\.txt\Z|\A/\.well-known/|/favicon[^/]*\Z|"
    r"/apple-touch-icon[^/]*\Z|/browserconfig\.xml\Z|"
    r"/(?:[^/]*\.webmanifest|manifest\.json|crossdomain\.xml|sw\.js|llms(?:-full)?\.txt|"
    r"sellers\.json)\Z|/[^/]*(?:logo|icon|sprite|"
    r"spacer|pixel)[^/]*\.(?:png|jpe?g|gif|svg|webp|avif)\Z"
)
ASIDE_IN_RE2 = "|".join(
    (
        rf"\.(?:{'|'.join(sorted((*_FURNITURE, *_IMAGES)))})/?\z",
        *(p.pattern.replace(r"\Z", r"\z") for p in (_PROBE, _WELL_KNOWN)),
        _NO_SUCH,
    )
)
"""An expression, as RE2 reads it, for paths of plain letters, made small: what it finds may be set
aside, or in doubt.
"""
_ASSET_SIGNS = (
    *(f".{ending}" for ending in sorted(_IMAGES)),
    *(".txt", "/.well-known/", "favicon", "touch-icon", "browserconfig", "manifest"),
    *("crossdomain", "/sw.js"),
)


def may_be_asset(spelling: str) -> bool:
    """Whether an address may be a page asset's: a quick look."""
    low = spelling.lower()
    for sign in _ASSET_SIGNS:  # noqa: SIM110 - asked of every address: this way takes a third
        if sign in low:
            return True
    return False


def asset_class(path: str) -> str:
    """ASSET for a path that pages or browsers ask for, rather than people; or an empty string."""
    low = lower_ascii(path)
    name = low.rpartition("/")[2]
    if "." in name and name.rpartition(".")[2] in _IMAGES:
        return AsideClass.ASSET
    return AsideClass.ASSET if _WELL_KNOWN.search(low) else ""


def is_well_known(path: str) -> bool:
    """Whether a page asset is one that no list makes a page of: robots.txt, icons, logos, and what
    their standards name.
    """
    return _WELL_KNOWN.search(lower_ascii(path)) is not None


def doubtful_class(path: str) -> str:
    """The class in which a path is set aside unless a list names it or the old site answered it
    once with something else than an error; or an empty string.
    """
    low = lower_ascii(path)
    name = low.rpartition("/")[2]
    if ("." in name and name.rpartition(".")[2] in _DOUBTFUL_ENDINGS) or _DOUBTFUL.search(low):
        return AsideClass.PROBE
    if "/." in low and _HIDDEN.search(low):
        return AsideClass.PROBE
    return AsideClass.RANDOM if looks_random(path.rpartition("/")[2]) else ""


def looks_random(name: str) -> bool:
    """Whether a name looks drawn by chance: a long run of letters and digits that change places
    again and again, or of letters hardly any of which is a vowel.
    """
    stem = name.partition(".")[0]
    if not _TOKEN.match(stem) or stem.isdigit():
        return False
    kinds = ["0" if c.isdigit() else "a" if c.islower() else "A" for c in stem]
    turns = sum(1 for a, b in pairwise(kinds) if a != b)
    letters = [c for c in stem if c.isalpha()]
    vowels = sum(1 for c in letters if c in _VOWELS)
    return turns * 3 > len(stem) or (len(letters) >= 8 and vowels * 6 < len(letters))
