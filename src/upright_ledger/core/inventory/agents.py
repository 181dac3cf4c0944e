"""Who asks, by the agent that a request names: people, or programs that say so.

Who watches logs for a living keeps a list of such agents (the package crawlerdetect); what gives
an address to look up, or a mailbox, says by itself that it is a program, whatever its name.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cache, lru_cache
from typing import Any

import re2

from upright_ledger.core.inventory.evidence import Asker

_WORDS = re.compile(
    r"(?<!cu)bot\b|bot[/;)_-]|crawl|spider|slurp|archiver|fetch(?:er|/)|monitor|preview|"
    r"scan(?:ner)?\b|curl/|wget/|python-|java/|libwww|go-http-client|okhttp|headless|feedreader|"
    r"facebookexternalhit|meta-external|httpclient|uptime|playwright|selenium|puppeteer|"
    r"scrap(?:er|y)\b|validator|checker|extractor|analyzer|ai-user|[a-z]-user/\d|"
    r"(?:anthropic|cohere)-ai|appinsights|upright-ledger|^amazon cloudfront",
    re.IGNORECASE,
)
_KINDS: Mapping[Asker, str] = {
    Asker.SCANNERS: (
        r"nikto|sqlmap|nmap|masscan|zgrab|nuclei|acunetix|nessus|wpscan|dirbuster|gobuster|ffuf|"
        r"feroxbuster|censys|expanse|internet-?measurement|l9explore|scan(?:ner)?\b"
    ),
    Asker.ASSISTANTS: (
        r"gptbot|chatgpt|oai-search|claude|anthropic|perplexity|cohere|meta-external|amazonbot|"
        r"bytespider|ccbot|google-extended|mistral|youbot|ai2bot|diffbot|duckassist|deepseek|-ai\b"
    ),
    Asker.PREVIEWS: (
        r"facebook|facebot|twitterbot|slackbot|linkedinbot|whatsapp|telegrambot|discordbot|"
        r"pinterest|skype|embedly|iframely|redditbot|vkshare|mastodon|bluesky|preview|unfurl"
    ),
    Asker.SEARCH: (
        r"googlebot|google-?(?:inspection|other|site|read)|storebot|adsbot|mediapartners|bingbot|"
        r"msnbot|bingpreview|yandex|baiduspider|duckduck|applebot|slurp|seznam|sogou|petalbot|"
        r"naver|yeti/|daum|qwant|ecosia|mojeek|coccoc|exabot|\bsearch(?:bot|engine|\b)"
    ),
    Asker.MONITORS: (
        r"monitor|uptime|health-?check|kube-probe|googlehc|ping(?:dom|bot)|status(?:cake|page)|"
        r"site24x7|newrelic|datadog|nagios|zabbix|upright-ledger|probe/|lighthouse|pagespeed"
    ),
    Asker.LIBRARIES: (
        r"(?<![.\w/])(?:curl|wget|python|java|libwww|go-http|okhttp|\w*http-?client|axios|node|"
        r"guzzle|aiohttp|scrapy|ruby|perl|php|postman|insomnia|powershell|puppeteer|playwright|"
        r"selenium|phantomjs|undici|reqwest|got/)|headless"
    ),
}
"""What programs are for, by words in their agents; the first that fits."""
_REACHED_AT = re.compile(r"https?:|www\.|[a-z0-9]@[a-z0-9-]+\.[a-z]", re.IGNORECASE)
_OLD_PHONE = re.compile(r"MIDP|CLDC|Profile/|UP\.Link|UP\.Browser", re.IGNORECASE)
"""These name addresses of their gateways and of their own descriptions."""


@lru_cache(maxsize=1 << 14)
def is_declared_bot(user_agent: str) -> bool:
    """Whether a user agent says itself that no person is asking. An absent agent counts as a
    bot.
    """
    if user_agent in {"", "-"} or _WORDS.search(user_agent) is not None:
        return True
    if _REACHED_AT.search(user_agent) is not None and _OLD_PHONE.search(user_agent) is None:
        return True
    browsers, *lists = _known()
    rest = browsers.sub("", user_agent)
    return any(known.search(rest) is not None for known in lists)


@lru_cache(maxsize=1 << 14)
def asker_of(user_agent: str) -> Asker:
    """Who asks, by a user agent: people, or a program of some kind."""
    if not is_declared_bot(user_agent):
        return Asker.PEOPLE
    return next((kind for kind, words in _kinds() if words.search(user_agent)), Asker.BOTS)


@cache
def _kinds() -> list[tuple[Asker, re.Pattern[str]]]:
    return [(kind, re.compile(words, re.IGNORECASE)) for kind, words in _KINDS.items()]


@cache
def _known() -> tuple[Any, ...]:
    """What browsers say of themselves, which tells nothing; and the agents on the list. The few of
    its expressions that look ahead, which RE2 does not, are compiled apart.
    """
    from crawlerdetect.providers import crawlers, exclusions

    options = re2.Options()
    options.case_sensitive, options.log_errors, options.max_mem = False, False, 64 << 20
    # But for the one that finds words within words: not every Abbott is a bot.
    listed = [text for text in crawlers.data if not text.startswith("[a-z0-9")]
    plain = [text for text in listed if "(?!" not in text and "(?=" not in text]
    others = [text for text in listed if text not in set(plain)]
    return (
        re2.compile(_any_of(exclusions.data), options),
        re2.compile(_any_of(plain), options),
        *(re.compile(text, re.IGNORECASE) for text in others),
    )


def _any_of(expressions: list[str]) -> str:
    return "|".join(f"(?:{text})" for text in expressions)
