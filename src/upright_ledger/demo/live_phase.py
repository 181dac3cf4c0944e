"""The live phase of the sample: a log over sixty days with the launch in its middle, what goes
wrong after it, and the truth of that.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from datetime import date, timedelta
from pathlib import Path

from upright_ledger.core.monitoring.failure_account import FailureState, RecurrenceReason
from upright_ledger.demo.site import NEW as NEW_SITE
from upright_ledger.demo.site import OLD
from upright_ledger.demo.vocabulary import LAST_NAMES, OBJECTS

FIRST, LAUNCH, MENDED, CLAIMED = (
    date(2026, 4, 1),
    date(2026, 5, 1),
    date(2026, 5, 11),
    date(2026, 5, 20),
)
"""First day of the log; days on which the first build, the one that mends, and one that never
reached the server went live.
"""

DAYS = 60

_BROWSER = "Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 ExampleBrowser/128.0"
_CRAWLER = "FernCrawler/2.1 (+https://fern.example/bot)"
_SCANNER = "Mozilla/5.0 (compatible; scan)"
_REFERRERS = (
    "-",
    "-",
    "https://search.example/find",
    "https://partner.example/clocks/",
    f"{NEW_SITE}/visit/",
    "https://mail.letters.example/read",
)
_PROBES = (
    "/wp-login.php", "/wp-content/plugins/forms/readme.txt", "/.env", "/.env.production",
    "/.git/config", "/backup.zip", "/db.sql.gz", "/dump.sql", "/phpinfo.php",
    "/config.php.bak", "/wp-config.php~", "/xmlrpc.php", "/phpMyAdmin-5.1/index.php", (
        "/vendor/phpunit/phpunit/src/Util/PHP/eval-stdin.php"
    ), "/actuator/health",
    "/solr/admin/info/system", "/owa/auth/logon.aspx", "/manager/html",
    "/cgi-bin/luci/;stok=/locale", "/boaform/admin/formLogin", "/HNAP1/",
    "/autodiscover/autodiscover.xml",
    "/.aws/credentials", "/.ssh/id_rsa", "/id_rsa", "/server.key", "/web.config", "/.DS_Store",
    "/.vscode/sftp.json", "/sftp-config.json", "/telescope/requests", "/_profiler/phpinfo",
    "/_ignition/execute-solution", "/console/login", "/jenkins/login", "/admin.php",
    "/administrator/index.php", "/shell.php", "/test.php", "/info.php", "/debug/default/view",
    "/api/jsonws/invoke", "/struts/utils.js.jsp", "/old/wp-admin/setup-config.php", "/site.tar.gz",
    "/www.rar", "/public_html.zip", "/etc/passwd", "/../../etc/passwd",
    "/index.php?lang=../../../../tmp/x", "/?q=<script>alert(1)</script>",
    "/cart?id=1+union+select+1", "/login.action", "/remote/fgt_lang?lang=en", "/.htpasswd",
)  # fmt: skip
"""What scanners ask for on every site."""


@dataclass
class LivePhase:
    """The log's lines in order, and the truth. pairs: builds in their order → (old, new, status)
    that each was the first to hold; the last ones were never built. states: path → (state, likely
    reason or empty). noise: path → class in which it is set aside.
    """

    lines: list[str] = field(default_factory=list)
    pairs: dict[str, list[tuple[str, str, str]]] = field(default_factory=dict)
    states: dict[str, tuple[str, str]] = field(default_factory=dict)
    noise: dict[str, str] = field(default_factory=dict)

    def write_log(self, path: Path) -> None:
        """The whole log."""
        path.write_text("".join(self.lines), encoding="utf-8")

    def write_pairs(self, folder: Path) -> None:
        """A sheet of pairs for each build."""
        for name, rows in self.pairs.items():
            text = "old,new,status\n" + "".join(",".join(row) + "\n" for row in rows)
            (folder / f"{name}.csv").write_text(text, encoding="utf-8")


def make_live_phase(seed: int = 1887, each: int = 8) -> LivePhase:
    """The live phase. each: addresses of each cause."""
    return _Maker(random.Random(seed), each).made()


class _Maker:
    def __init__(self, rng: random.Random, each: int) -> None:
        self.rng, self.each = rng, each
        self.phase = LivePhase(pairs={"launch": [], "mended": [], "claimed": [], "waiting": []})
        self.timed: list[tuple[date, int, str]] = []
        self.number = 0

    def made(self) -> LivePhase:
        for cause in (
            self._new, self._family, self._proven, self._deployed, self._waiting, self._nodes,
            self._variants, self._real_pages, self._claimed, self._failing,
            self._gone,
        ):  # fmt: skip
            for _ in range(self.each):
                cause()
        self._noise()
        self._healthy()
        self.timed.sort(key=lambda t: t[:2])
        self.phase.lines = [line for _, _, line in self.timed]
        return self.phase

    def _path(self, folder: str, ending: str = ".html") -> str:
        self.number += 1
        thing, name = self.rng.choice(OBJECTS), self.rng.choice(LAST_NAMES)
        return f"/{folder}/{thing}-{name}-{self.number}".lower().replace(" ", "-") + ending

    def _ask(
        self,
        path: str,
        status: int,
        first: date,
        last: date,
        *,
        agent: str = _BROWSER,
        referrer: str = "",
        each_day: int = 2,
        client: str = "",
    ) -> None:
        """Requests on every third day or so, early and late ones among them. client: who asks; many
        where it is empty.
        """
        days = [first + timedelta(n) for n in range((last - first).days + 1)]
        third = max(1, len(days) // 3)
        sure = {self.rng.choice(days[:third]), self.rng.choice(days[-third:])}
        for day in sorted({*sure, *(d for d in days if self.rng.random() < 0.3)}):
            for _ in range(self.rng.randint(1, each_day)):
                led = referrer or self.rng.choice(_REFERRERS)
                self._line(day, path, status, agent, led, client)

    def _line(
        self, day: date, target: str, status: int, agent: str, referrer: str, client: str
    ) -> None:
        second = self.rng.randrange(86_400)
        stamp = f"{day:%d/%b/%Y}:{second // 3600:02}:{second // 60 % 60:02}:{second % 60:02} +0000"
        client = client or f"198.51.100.{self.rng.randrange(1, 255)}"
        line = (
            f'{client} - - [{stamp}] "GET {target} HTTP/1.1" {status} '
            f'{self.rng.randrange(200, 9000)} "{referrer}" "{agent}"\n'
        )
        self.timed.append((day, second, line))

    def _pair(self, build: str, path: str, status: str = "301") -> None:
        new = f"{NEW_SITE}/now{path.rpartition('.')[0]}/" if status != "410" else ""
        self.phase.pairs[build].append((OLD + path, new, status))

    def _old_page(self, folder: str, build: str = "") -> str:
        path = self._path(folder)
        self._ask(path, 200, FIRST, LAUNCH - timedelta(1))
        if build:
            self._pair(build, path)
        return path

    def _truth(self, path: str, state: str, why: str = "") -> None:
        self.phase.states[path] = (state, why)

    def _new(self) -> None:
        path = self._old_page("visit" if self.number % 2 else "people")
        self._ask(path, 404, LAUNCH, _END)
        self._truth(path, FailureState.NEW)

    def _family(self) -> None:
        path = self._old_page(f"journal/{2010 + self.number % 9}")
        self._ask(path, 404, LAUNCH, _END, each_day=4)
        self._truth(path, FailureState.NEW)

    def _proven(self) -> None:
        path = self._old_page("workshops", "mended")
        self._ask(path, 404, LAUNCH, MENDED - timedelta(1))
        self._ask(path, 301, MENDED + timedelta(1), _END)
        self._truth(path, FailureState.PROVEN)

    def _deployed(self) -> None:
        path = self._old_page("groups", "mended")
        self._ask(path, 404, LAUNCH, MENDED - timedelta(1))
        self._truth(path, FailureState.DEPLOYED)

    def _waiting(self) -> None:
        path = self._old_page("press", "waiting")
        self._ask(path, 404, LAUNCH, _END)
        self._truth(path, FailureState.ANSWERED)

    def _nodes(self) -> None:
        path = self._old_page("makers", "launch")
        self._ask(path, 301, LAUNCH, _END)
        self._ask(path, 404, LAUNCH + timedelta(2), _END)
        self._truth(path, FailureState.RECURRING, RecurrenceReason.SOME_NODES)

    def _variants(self) -> None:
        path = self._path("halls", "/")
        self._ask(path, 200, FIRST, LAUNCH - timedelta(1))
        self.phase.pairs["launch"].append((OLD + path, f"{NEW_SITE}/now{path}", "301"))
        self._ask(path, 301, LAUNCH + timedelta(1), _END)
        self._ask(f"{path}index.php", 404, LAUNCH + timedelta(3), _END)
        self._truth(path, FailureState.RECURRING, RecurrenceReason.VARIANT)

    def _real_pages(self) -> None:
        path = self._old_page("shop", "launch")
        self._ask(path, 200, LAUNCH + timedelta(1), _END)
        self._truth(path, FailureState.RECURRING, RecurrenceReason.REAL_PAGE)

    def _claimed(self) -> None:
        path = self._old_page("tickets", "claimed")
        self._ask(path, 404, LAUNCH, _END)
        self._truth(path, FailureState.RECURRING, RecurrenceReason.NOT_DEPLOYED)

    def _failing(self) -> None:
        path = self._old_page("library", "launch")
        self._ask(path, 500, LAUNCH + timedelta(1), _END)
        self._truth(path, FailureState.RECURRING, RecurrenceReason.FAILS_THERE)

    def _gone(self) -> None:
        path = self._path("lectures")
        self._ask(path, 200, FIRST, LAUNCH - timedelta(1))
        self._pair("launch", path, "410")
        self._ask(path, 410, LAUNCH, _END)

    def _noise(self) -> None:
        for path in _PROBES:
            agent = self.rng.choice((_SCANNER, _BROWSER))
            self._ask(path, 404, FIRST, _END, agent=agent, referrer="-", client="203.0.113.66")
            self.phase.noise[path.partition("?")[0]] = "probe"
        for _ in range(4 * self.each):
            name = "".join(
                self.rng.choices(
                    "bcdfghjklmnpqrstvwxzBCDFGHKLMNPQRSTVWXZ0123456789", k=self.rng.randint(10, 20)
                )
            )
            client = f"203.0.113.{self.rng.randrange(100, 255)}"
            self._ask(f"/{name}", 404, LAUNCH, _END, agent=_BROWSER, referrer="-", client=client)
            self.phase.noise[f"/{name}"] = "random"
        for _ in range(2 * self.each):
            path = self._path("feeds", "/")
            self._ask(path, 404, FIRST, _END, agent=_CRAWLER, referrer="-")
            self.phase.noise[path] = "bots only"
        for n in range(self.each):
            self._ask(f"/css/old-{n}.css", 404, LAUNCH, _END)
            self.phase.noise[f"/css/old-{n}.css"] = "furniture"

    def _healthy(self) -> None:
        for _ in range(6 * self.each):
            path = self._path("now", "/")
            self._ask(path, 200, LAUNCH, _END, each_day=6)


_END = FIRST + timedelta(DAYS - 1)
