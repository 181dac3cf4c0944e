"""What is no page, and who is no person."""

from __future__ import annotations

import pytest

from upright_ledger.core.inventory import noise
from upright_ledger.core.inventory.agents import asker_of, is_declared_bot
from upright_ledger.core.inventory.noise import (
    NO_SUCH_PAGE,
    asset_class,
    doubtful_class,
    is_well_known,
    looks_random,
    set_aside_class,
)
from upright_ledger.core.inventory.path_noise import (
    has_dot_segments,
    has_path_session,
    without_path_session,
)
from upright_ledger.web.http.fetch import USER_AGENT
from upright_ledger.web.http.options import RequestOptions


@pytest.mark.parametrize(
    ("target", "kind"),
    [
        ("/style.CSS?v=3", "furniture"), ("/a/b.js", "furniture"), ("/a/b.woff2", "furniture"),
        ("/favicon.ico", "furniture"), ("/a.css/b", ""), ("/css", ""), ("/?file=a.css", ""),
        ("/journal/old-style.html", ""), ("/images/plan.png", ""), ("/wp-login.php", "probe"),
        ("/blog/WP-Admin/", "probe"), ("/wp-content/uploads/a.pdf", ""),
        ("/wp-content/plugins/x", "probe"), ("/wp", ""), ("/site/.env", "probe"),
        ("/.git/config", "probe"), ("/a.git", ""), ("/x?f=/etc/passwd", "probe"),
        ("/a/../../b", "probe"), ("/a/..b", ""), ("/.well-known/x", ""), ("/a/./b", ""),
        ("/x/.hidden", ""), ("/q?a=1%27%20or%201=1--", "probe"), ("/q?a=O%27Brien+and+1", ""),
        ("/q?f=%252e%252e%252fetc", "probe"), ("/q?a=1+union+select+2", "probe"),
        ("/q?a=select+a+room+from+a+list", ""), ("/a?b=%2E%2E/c", "probe"),
        ("/a?q=<script>", "probe"), ("/a?q=%3CScript", "probe"), ("/a?q=<b>", ""),
        ("/a?q=1+union+select", "probe"), ("/a?q=UNION%20SELECT", "probe"), ("/trade-union", ""),
        ("/a?x=${jndi:ldap}", "probe"), ("/a?x=$5", ""), ("/admin", "probe"), ("/admin/", "probe"),
        ("/admin/login.php", "probe"), ("/administration", ""), ("/config.json", "probe"),
        ("/config.json/x", ""), ("/a%20b", ""), ("/", ""),
        (NO_SUCH_PAGE, "own request"), (f"{NO_SUCH_PAGE[:-1]}?a=1", "own request"),
        ("/upright-ledger-pages/", ""), ("/a\u212a.css", "furniture"),
    ],
)  # fmt: skip
def test_what_is_set_aside_whatever_is_known_of_it(target: str, kind: str) -> None:
    assert set_aside_class(target) == kind


@pytest.mark.parametrize(
    ("agent", "bot"),
    [
        ("SlateBot/2.1 (+https://slate.example)", True), ("Slate bot", True),
        ("Robotics Weekly", False), ("-", True), ("", True), ("curl/8.0", True),
        ("python-httpx/0.2", True), ("Mozilla/5.0 (compatible; ExampleSpider)", True),
        ("Example-QuotedScanner 1", True), ("HeadlessBrowser", True), ("Link fetcher", True),
        ("Uptime check", True), ("Mozilla/5.0 (X11; Linux x86_64) ExampleBrowser/118.0", False),
        ("Mozilla/5.0 (Abbott)", False),
        # Assistants, previews, libraries, monitors, each as it names itself.
        ("Mozilla/5.0 (compatible; GoogleOther)", True), ("Claude-User/1.0", True),
        ("Perplexity-User/1.0", True), ("meta-externalagent/1.1", True), ("Scrapy/2.11", True),
        ("axios/1.6.0", True), ("node-fetch/1.0", True), ("Google-InspectionTool/1.0", True),
        ("Mozilla/5.0 (compatible; YandexImages/3.0)", True), ("Example (me@fern.example)", True),
        ("ReadingRoom/2 (+https://fern.example/about)", True), ("GuzzleHttp/7", True),
        # Phones and browsers that hold such words.
        (("Mozilla/5.0 (Linux; Android 9; CUBOT X19) AppleWebKit/537.36 (KHTML, like Gecko) "
            "Chrome/120.0.0.0 Mobile Safari/537.36"), False),
        ("Nokia6230/2.0 (05.50) Profile/MIDP-2.0 Configuration/CLDC-1.1 http://nds.example/x.xml",
            False),
        (("Mozilla/5.0 (iPhone; CPU iPhone OS 17_4 like Mac OS X) AppleWebKit/605.1.15 (KHTML, "
            "like Gecko) Version/17.4 Mobile/15E148 Safari/604.1"), False),
        (("Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) "
            "Chrome/140.0.0.0 Safari/537.36 Edg/140.0.0.0"), False),
        ("Opera/9.80 (J2ME/MIDP; Opera Mini/9.5/37.6; U; en) Presto/2.12 Version/12", False),
    ],
)  # fmt: skip
def test_who_says_that_no_person_is_asking(agent: str, bot: bool) -> None:
    assert is_declared_bot(agent) is bot


@pytest.mark.parametrize(
    ("agent", "who"),
    [
        ("Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0", "people"),
        ("Mozilla/5.0 (compatible; Googlebot/2.1; +http://www.google.com/bot.html)",
            "search engines"),
        ("Mozilla/5.0 (compatible; Google-InspectionTool/1.0;)", "search engines"),
        ("Mozilla/5.0 (compatible; YandexImages/3.0; +http://yandex.com/bots)", "search engines"),
        ("Mozilla/5.0 (compatible; Claude-User/1.0; +Claude-User@anthropic.com)", "assistants"),
        ("Mozilla/5.0 (compatible; GPTBot/1.2; +https://openai.com/gptbot)", "assistants"),
        ("facebookexternalhit/1.1", "link previews"),
        ("Mozilla/5.0 (compatible; MSIE 10.0; Windows NT 6.2; BingPreview/1.0b)", "link previews"),
        (USER_AGENT, "monitors"), (RequestOptions().agent, "monitors"),
        ("kube-probe/1.29", "monitors"), ("ExampleUptime/1.0 (+https://fern.example)", "monitors"),
        ("curl/8.5.0", "libraries"), ("python-requests/2.32", "libraries"),
        ("Mozilla/5.0 (X11; Linux) HeadlessChrome/120.0.0.0 Safari/537.36", "libraries"),
        ("sqlmap/1.7.8#stable (https://sqlmap.example)", "scanners"),
        ("FernCrawler/1 (+https://fern.example/bot.php)", "bots"),
        ("thesis-research-bot", "bots"), ("-", "bots"),
    ],
)  # fmt: skip
def test_programs_are_told_by_what_they_are_for(agent: str, who: str) -> None:
    assert asker_of(agent) == who


@pytest.mark.parametrize(
    ("path", "asset", "known"),
    [
        ("/a.png", True, False), ("/A.JPG", True, False), ("/a.webp", True, False),
        ("/a.png/b", False, False), ("/png", False, False), ("/robots.txt", True, True),
        ("/a/robots.txt", True, True), ("/notes.txt", False, False),
        ("/.well-known/x", True, True), ("/a/.well-known/x", False, False),
        ("/favicon-32.png", True, True), ("/site-logo.svg", True, True),
        ("/icons/a.gif", True, False), ("/logo-history.html", False, False),
        ("/manifest.json", True, True), ("/manifest.json5", False, False),
    ],
)  # fmt: skip
def test_what_browsers_ask_for_by_themselves(path: str, asset: bool, known: bool) -> None:
    assert asset_class(path) == ("page asset" if asset else "")
    assert is_well_known(path) is known


@pytest.mark.parametrize(
    ("path", "kind"),
    [
        ("/a.sql", "probe"), ("/A.BAK", "probe"), ("/backup-2026.zip", "probe"),
        ("/plans.zip", ""), ("/a/console", ""), ("/console/", "probe"), ("/solr/x", "probe"),
        ("/solar/x", ""), ("/info.php", "probe"), ("/inform.php", ""), ("/.ssh/id_rsa", "probe"),
        ("/credentials", "probe"), ("/phpmyadmin2/x", "probe"), ("/a/x9Qz4kTb", "random"),
        ("/clocks", ""), ("/a.asp/b", ""), ("/sql", ""),
    ],
)  # fmt: skip
def test_what_scanners_try_is_told_from_pages(path: str, kind: str) -> None:
    assert doubtful_class(path) == kind


@pytest.mark.parametrize(
    ("name", "random"),
    [
        ("a1b2c3d4", True), ("ab12cd34", True), ("abc12def3", False), ("a1b2c3d", False),
        ("aaaa1111", False), ("12345678", False), ("AbCdEfGh", True), ("Brwntzkl", True),
        ("brwntzkla", True), ("brwntakla", False), ("rhythms1", False), ("rhythmss", True),
        ("strength", True), ("a1b2c3d4.html", True), ("a1-b2c3d4", False),
        ("longcaseclocks", False), ("", False),
    ],
)  # fmt: skip
def test_names_drawn_by_chance(name: str, random: bool) -> None:
    assert looks_random(name) is random


@pytest.mark.parametrize(
    ("path", "rest"),
    [
        ("/a;jsessionid=1F", "/a"), ("/a;jsessionid=", "/a"), ("/a;PHPSESSID=1/b;sid=2", "/a/b"),
        ("/a;v=1", "/a;v=1"), ("/(S(x))/a", "/a"), ("/(S(x)F(y))/a", "/a"), ("/a/(S(x))", "/a"),
        ("/(S(x))a", "/(S(x))a"), ("/(SS(x))/a", "/(SS(x))/a"), ("/S(x)/a", "/S(x)/a"),
        ("/a", "/a"),
    ],
)  # fmt: skip
def test_a_visit_goes_out_of_a_path(path: str, rest: str) -> None:
    assert without_path_session(path) == rest
    assert has_path_session(path) is (path != rest)


@pytest.mark.parametrize(
    ("path", "dots"),
    [("/a/./b", True), ("/a/..", True), ("/%2e/a", True), ("/.%2E", True), ("/a.", False),
        ("/.a", False), ("/...", False), ("a/b", False)],
)  # fmt: skip
def test_dot_segments_are_seen(path: str, dots: bool) -> None:
    assert has_dot_segments(path) is dots


@pytest.mark.parametrize(
    ("target", "kind"),
    [
        ("/visit/backup-clocks.html", ""), ("/journal/debugging-a-clock/", ""),
        ("/makers/wp.html", ""), ("/downloads/catalogue.zip", ""), ("/old/1998/index.html", ""),
        ("/test/", "probe"), ("/site.zip", "probe"), ("/.env.local", "probe"),
        ("/a/b/id_rsa", "probe"), ("/login.action", "probe"), ("/PhpMyAdmin-5/index.php", "probe"),
        ("/solr/admin/cores", "probe"), ("/api/jsonws/invoke", "probe"),
    ],
)  # fmt: skip
def test_scanners_are_told_from_pages_that_nobody_answered_yet(target: str, kind: str) -> None:
    assert (set_aside_class(target) or doubtful_class(target)) == kind


@pytest.mark.parametrize(
    ("path", "sure"),
    [
        ("/.hidden/a", True), ("/a/.b", True), ("/.env", True), ("/.well-known/x", False),
        ("/a/./b", False), ("/a/..", False), ("/a.b/c", False), ("/a?b=/.c", False),
    ],
)  # fmt: skip
def test_a_name_that_begins_with_a_dot_is_a_probe_unless_a_list_names_it(
    path: str, sure: bool
) -> None:
    assert noise.is_sure_probe(path) == sure
    if sure and path != "/.env":
        assert noise.doubtful_class(path) == "probe"
        assert noise.set_aside_class(path) == ""
