"""Secrets in addresses and lines: credentials, identifiers of visits and e-mail addresses are
masked before anything is stored.

A parameter is secret by its name, however it is written (`token`, `id_token`, `refreshToken`,
`user[password]`), or by what its value looks like. Names that choose pages on some sites and grant
access on others (`code`, `key`, `sid`) count only with a value that looks drawn at random.
docs/security.md says the same for users.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from urllib.parse import unquote

MASK = "masked"

_TELLING = frozenset(
    [
        "token",
        "tokens",
        "accesstoken",
        "authtoken",
        "idtoken",
        "refreshtoken",
        "password",
        "passwd",
        "passwort",
        "kennwort",
        "pwd",
        "pass",
        "passcode",
        "passphrase",
        "motdepasse",
        "contrasena",
        "senha",
        "wachtwoord",
        "secret",
        "clientsecret",
        "signature",
        "sig",
        "jwt",
        "auth",
        "authorization",
        "bearer",
        "credential",
        "credentials",
        "apikey",
        "otp",
        "hmac",
        "csrf",
        "xsrf",
        "phpsessid",
        "jsessionid",
        "aspsessionid",
        "sessionid",
        "sessid",
        "session",
        "oscsid",
        "zenid",
        "cftoken",
        "samlresponse",
        "samlrequest",
    ]
)
"""Parts of names that tell a secret, whatever its value."""
_OPENS = frozenset(
    [
        "api",
        "access",
        "private",
        "reset",
        "confirm",
        "confirmation",
        "activation",
        "verification",
        "verify",
        "auth",
        "invite",
        "invitation",
        "login",
        "license",
        "licence",
    ]
)
_DOUBTFUL = frozenset(["code", "key", "sid", "hash", "ticket", "nonce", "state", "sign"])
"""What tells a secret behind one of the words above, as in reset_key, or with a value that looks
drawn at random.
"""
_SESSION = re.compile(r"(?:^|[^a-z])session(?:[_-]?id)?$")
_SMALL_NUMBER = re.compile(r"[0-9]{1,4}")
"""With the name of a session, the number of a talk or a term: nobody's visit."""
_LEADS_TO_ONE = frozenset(
    [
        "reset",
        "resetpassword",
        "passwordreset",
        "verify",
        "verification",
        "confirm",
        "confirmation",
        "activate",
        "activation",
        "unsubscribe",
        "optout",
        "invite",
        "invitation",
        "token",
        "session",
        "sessions",
        "login",
        "magic",
        "sso",
        "auth",
        "password",
    ]
)
"""Path segments behind which a segment that looks drawn at random opens something."""

_PART = re.compile(r"[A-Z]?[a-z0-9]+|[A-Z0-9]+")
_WORD = re.compile("[A-Za-z0-9]+")
_PATH_PARAMETER = re.compile(r"(;[^=;/]{1,100}=)([^;/]+)")
_CONTAINER = re.compile(r"(\([A-Z]\()[^()/]+(\))")  # a visit, as ASP.NET writes it into the path
_TOKEN = re.compile(r"""[^\s"'<>]+""")
_TEXT_PAIR = re.compile(r"""(?<![^?&;\s"'(,{])([^=&;?#\s"'(),{}]{1,100})(=)([^&;#\s"',)}]+)""")
_OBJECT_PAIR = re.compile(r"""(["'][^"']{1,100}["'])(\s?:\s?["']?)([^"',}\s]+)""")
_JWT = re.compile(r"(?<![A-Za-z0-9_-])eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{4,}(?:\.[A-Za-z0-9_-]*)?")
_LONG = re.compile(r"[A-Za-z0-9_\-+/=%]{32,}")
_HEX = re.compile(r"[0-9a-f]+\Z|[0-9A-F]+\Z")
_AT = re.compile("@|%40", re.IGNORECASE)
_MAIL = re.compile(
    r"(?<!%)(?<!%[0-9A-Fa-f])[A-Za-z0-9._+\-]+(?:(?:@|%40)[A-Za-z0-9._+\-]+)+", re.IGNORECASE
)
_DOMAIN = re.compile(r"[A-Za-z0-9\-]+(?:\.[A-Za-z0-9\-]+)+")
_USER = re.compile(r"^((?:\S+ ){1,3})([^\s\-]\S*)(?= \[\d)")
_WORDS_OF_SECRETS = (
    "@", ";", "(", "%40", "eyj", "reset", "verif", "confirm", "activat", "unsubscribe", "opt",
    "invit", "token", "session", "login", "magic", "sso", "auth", "password",
)  # fmt: skip
"""One of these stands in each path that holds a secret, or a long segment does."""
SECRETS_IN_RE2 = "|".join(map(re.escape, _WORDS_OF_SECRETS))
"""An expression for them, for paths in small letters."""
_LONG_IN_PATHS = 40  # shorter ones in a path name revisions, files and pages
_LONG_IN_QUERIES = 32
_RANDOM = 8
_DIGITS = re.compile(r"[0-9]+|[^0-9]+")
_CAPITALS = re.compile(r"[A-Z]+|[^A-Z]+")
_LONG_RUN = 12


def _may_hold_a_secret(path: str) -> bool:
    """Whether to look closer at a path: nearly all that are seen hold nothing."""
    low = path.lower()
    for word in _WORDS_OF_SECRETS:
        if word in low:
            return True
    return len(path) >= _LONG_IN_PATHS and max(map(len, path.split("/"))) >= _LONG_IN_PATHS


@dataclass(frozen=True)
class Secrets:
    """What is masked. more: further names of parameters, in lower case. never: names that are no
    secret here, whatever their values.
    """

    more: frozenset[str] = frozenset()
    never: frozenset[str] = frozenset()

    def in_query(self, query: str) -> str:
        """A query without its secrets."""
        return (
            _masked_query(self, query) if "=" in query or "@" in query or "%40" in query else query
        )

    def in_path(self, path: str) -> str:
        """A path without its secrets."""
        return _masked_path(self, path) if _may_hold_a_secret(path) else path

    def in_url(self, url: str) -> str:
        """An address or request target without its secrets."""
        before, mark, query = url.partition("?")
        scheme, slashes, rest = before.rpartition("://")
        host, slash, path = rest.partition("/") if slashes else ("", "", before)
        return f"{scheme}{slashes}{host}{slash}{self.in_path(path)}{mark}{self.in_query(query)}"

    def in_text(self, text: str) -> str:
        """A line of any kind without secrets: addresses in it, objects, and the name of the user in
        a line of a log.
        """
        text = _TOKEN.sub(
            lambda m: self.in_url(m[0]) if "/" in m[0] else m[0], _USER.sub(rf"\1{MASK}", text)
        )
        for pairs in (_TEXT_PAIR, _OBJECT_PAIR):
            text = pairs.sub(self._text_pair, text)
        return _without_mail(
            _LONG.sub(lambda m: m[0] if _long_kept(m[0], _LONG_IN_PATHS) else MASK, text)
        )

    def is_secret(self, name: str, value: str) -> bool:
        """Whether the value of a parameter, as it stands in a query, is secret."""
        low = name.lower()
        if low in self.never or not value or value == MASK:
            return False
        if low in self.more:
            return True
        if _SESSION.search(low) and _SMALL_NUMBER.fullmatch(value):
            return False
        kind = _kind_of(name)
        if kind is not None:
            return kind or looks_random(value)
        return len(value) >= _LONG_IN_QUERIES and not _long_kept(value, _LONG_IN_QUERIES)

    def passes(self, name: str) -> bool:
        """Whether no short value of a parameter is secret."""
        low = name.lower()
        if low in self.never:
            return True
        return low not in self.more and not _SESSION.search(low) and _kind_of(name) is None

    def _pair(self, pair: str) -> str:
        name, mark, value = pair.partition("=")
        return f"{name}={MASK}" if mark and self.is_secret(name, value) else pair

    def _text_pair(self, pair: re.Match[str]) -> str:
        if self._tells(pair[1].strip("\"'"), pair[3]):
            return f"{pair[1]}{pair[2]}{MASK}"
        # What looks like one value may hold a query of its own.
        first, *queries = pair[3].split("?")
        for n, query in enumerate(queries):
            name, mark, value = query.partition("=")
            if mark and self._tells(name, value):
                kept = "?".join((first, *queries[:n], f"{name}={MASK}"))
                return f"{pair[1]}{pair[2]}{kept}"
        return pair[0]

    def _tells(self, name: str, value: str) -> bool:
        """Whether a pair in a text tells a secret, or who somebody is."""
        return self.is_secret(name, value) or name.lower() in _NAMES_OF_PEOPLE


_NAMES_OF_PEOPLE = frozenset(
    ["user", "remote_user", "username", "user_name", "email", "cs-username"]
)


def has_masked_segment(path: str) -> bool:
    """Whether a segment of a path was masked, so that it stands for many addresses."""
    return MASK in path.split("/")


@lru_cache(maxsize=1 << 14)
def _masked_query(secrets: Secrets, query: str) -> str:
    # of this module
    masked = "&".join([secrets._pair(pair) for pair in query.split("&")])  # noqa: SLF001
    return _without_mail(_JWT.sub(MASK, masked) if "eyJ" in masked else masked)


@lru_cache(maxsize=1 << 14)
def _masked_path(secrets: Secrets, path: str) -> str:
    if ";" in path:
        path = _PATH_PARAMETER.sub(
            lambda m: m[1] + MASK if secrets.is_secret(m[1][1:-1], m[2]) else m[0], path
        )
    if "(" in path:
        path = _CONTAINER.sub(rf"\1{MASK}\2", path)
    if "eyJ" in path:
        path = _JWT.sub(MASK, path)
    segments = path.split("/")
    for n, segment in enumerate(segments):
        if len(segment) < _RANDOM:
            continue
        opens = (
            n
            and "".join(_WORD.findall(segments[n - 1].lower())) in _LEADS_TO_ONE
            and looks_random(segment)
        )
        if opens or (len(segment) >= _LONG_IN_PATHS and not _long_kept(segment, _LONG_IN_PATHS)):
            segments[n] = MASK
    return _without_mail("/".join(segments))


@lru_cache(maxsize=1 << 12)
def _kind_of(name: str) -> bool | None:
    """True for a name that tells a secret, False for one that may, None for others."""
    parts = [part.lower() for part in _PART.findall(unquote(name))]
    if any(part in _TELLING for part in parts) or "".join(parts) in _TELLING:
        return True
    if parts and parts[-1] in _DOUBTFUL:
        return any(part in _OPENS for part in parts[:-1])
    return None


def names_a_visit(name: str, value: str) -> bool:
    """Whether the value of a parameter that is named like a session, in lower case, is one, and no
    number that chooses a page.
    """
    return not _SMALL_NUMBER.fullmatch(value) if _SESSION.search(name) else looks_random(value)


def looks_random(value: str) -> bool:
    """Whether a value looks drawn at random: long, with letters and digits, or capitals and small
    letters, that change places often.
    """
    for word in _WORD.findall(unquote(value)):
        if len(word) < _RANDOM:
            continue
        changes = _changes(word, _DIGITS)
        if (changes > 0 and _HEX.match(word) and len(word) >= 2 * _RANDOM) or changes >= 3:
            return True
        if len(word) >= 2 * _RANDOM and _changes(word, _CAPITALS) >= 6:
            return True
    return False


def _changes(word: str, kinds: re.Pattern[str]) -> int:
    """How often signs of one kind, of which a pattern finds each run, and others change places."""
    return max(0, len(kinds.findall(word)) - 1)


def _long_kept(value: str, least: int) -> bool:
    """Whether a long value is none of the shapes of a secret: hexadecimal digits, or base64,
    without the words of a title.
    """
    for run in re.findall(
        r"[A-Za-z0-9+=]+" if "-" in value or "_" in value else r"[A-Za-z0-9+/=]+", unquote(value)
    ):
        if len(run) < least or not any(map(str.isdigit, run)):
            continue
        if _HEX.match(run) and not run.isdigit():
            return False
        if (
            any(map(str.isupper, run))
            and any(map(str.islower, run))
            and _changes(run, _CAPITALS) >= 6
        ):
            return False
    # Base64 for addresses holds a dash or an underscore now and then, between runs that are longer
    # than words and no words.
    runs = [run for run in _WORD.findall(value) if len(run) >= _LONG_RUN]
    return not any(_changes(run, _DIGITS) >= 2 and _changes(run, _CAPITALS) >= 4 for run in runs)


def _without_mail(text: str) -> str:
    return _MAIL.sub(_mail, text) if "@" in text or "%40" in text else text


def _mail(found: re.Match[str]) -> str:
    """Mail addresses among words that are joined by @."""
    words, ats = _AT.split(found[0]), _AT.findall(found[0])
    out = words[0]
    for at, word in zip(ats, words[1:], strict=True):
        domain = _DOMAIN.match(word)
        out = MASK + word[domain.end() :] if out and domain else f"{out}{at}{word}"
    return out
