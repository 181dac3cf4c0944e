"""The units of evidence. A new one is a row of `UNITS`: how it counts, and how exports name it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

HITS = "hits"
VISITS = "visits"
CLICKS = "clicks"
IMPRESSIONS = "impressions"
LINKING_DOMAINS = "linking domains"
LINKING_PAGES = "linking pages"
LISTED = "listed"
ELSEWHERE = "asked from elsewhere"
SOUGHT = "sought by people"


class Unit(NamedTuple):
    """A unit of evidence. meaning: what is counted.

    per_period: it grows with time, so that it is compared per 30 days; links are a stock. asked:
    each counts one time that somebody asked for the address. by_others: it tells of people or
    search engines who came to an address by itself. headings: of its columns in exports, the
    likeliest first, without case, accents, blanks, underscores, dots and hyphens. within: words
    that name it in a longer heading, unless that names a rate; of several units the one that is
    told first.
    """

    meaning: str
    per_period: bool = False
    asked: bool = False
    by_others: bool = True
    headings: tuple[str, ...] = ()
    within: tuple[str, ...] = ()
    told_first: int = 0


UNITS: Mapping[str, Unit] = {
    HITS: Unit(
        "requests by people; bots are kept apart by agent",
        per_period=True,
        asked=True,
        by_others=False,
        headings=(
            "hits", "requests", "pageviews", "views", "seitenaufrufe", "aufrufe", "anfragen",
            "pagesvues", "vues", "visitas",
            "paginasvistas", "vistasdepagina", "vistas", "visualizzazionidipagina",
            "visualizzazioni", "richieste", "paginaweergaven", "weergaven", "verzoeken", "odslony",
            "sidvisningar", "screenpageviews", "zugriffe", "seitenzugriffe", "treffer",
            "doccount", "visualizacoes", "visualizacoesdepagina",
            "sidevisninger", "sivunkatselut", "katselut", "zobrazenistranek", "просмотры",
            "просмотрыстраниц", "запросы", "ページビュー", "ページビュー数", "表示数", "浏览量",
            "浏览次数", "网页浏览量", "瀏覽量", "조회수", "페이지뷰", "görüntülemeler",
            "sayfagörüntüleme", "görüntüleme", "görüntülenme", "megtekintesek",
            "oldalmegtekintesek", "oldalletoltesek", "visninger", "προβολές", "προβολέςσελίδας",
            "vizualizări", "afișăripagină", "перегляди", "переглядисторінок", "запити",
            "показвания",
            "прегледи", "prikazi", "pregledi", "pregledistranica", "ogledi", "ogledistrani",
            "zobrazenia", "zobrazeniastranok", "peržiūros", "skatījumi",
            "vaatamised", "lehevaatamised", "lượtxem", "sốlượtxem", "sốlầnxem",
            "tayangan", "tayanganhalaman",
            "مشاهدات", "צפיות", "การดูหน้าเว็บ", "การดู", "จำนวนการดู", "दृश्य", "بازدید",
            "count", "counts", "anzahl", "nombre", "cantidad", "aantal", "antal", "liczba",
            "conteggio", "contagem", "recuento", "occurrences", "frequency", "件数", "アクセス数", "次数",
            "количество", "число",
        ),
        within=(
            "pageviews", "page views", "views", "hits", "requests", "seitenaufrufe",
            "count of records", "number of views", "number of requests",
        ),
        told_first=5,
    ),
    VISITS: Unit(
        "visits that analytics count",
        per_period=True,
        asked=True,
        headings=(
            "visits", "sessions", "users", "visitors", "entrances", "besuche", "sitzungen",
            "nutzer", "visites", "sesiones", "usuarios", "visitantes", "sessioni", "utenti",
            "visite", "sessies", "gebruikers", "bezoeken", "bezoekers",
            "sesje", "uzytkownicy", "wizyty",
            "sessioner", "anvandare", "besok", "sessoes", "utilizadores", "visitasunicas",
            "brugere", "besøg", "økter", "brukere", "besøk", "istunnot", "kayttajat", "kaynnit",
            "navstevy", "uzivatele", "relace", "визиты", "посещения", "сеансы", "пользователи",
            "посетители", "セッション", "ユーザー", "訪問数", "会话", "用户", "访问次数", "访客",
            "工作階段", "使用者", "세션", "사용자", "방문", "oturumlar", "kullanıcılar",
            "ziyaretler", "ziyaret", "látogatások", "munkamenetek", "felhasználók",
            "επισκέψεις", "χρήστες", "sesiuni", "vizite", "utilizatori", "відвідування",
            "відвідувачі", "користувачі", "сеанси", "потребители", "сесии", "posjeti",
            "sesije", "korisnici", "obiski", "uporabniki", "pouzivatelia",
            "apsilankymai", "apmeklējumi", "külastused", "lượttruycập", "kunjungan", "pengguna",
            "زيارات", "ביקורים",
        ),
        within=("sessions", "visits", "visitors", "entrances", "besuche", "sitzungen"),
        told_first=4,
    ),
    CLICKS: Unit(
        "clicks in results of search engines",
        per_period=True,
        asked=True,
        headings=(
            "clicks", "klicks", "clics", "clic", "klikken", "klikniecia", "klick", "cliques",
            "klik", "klikk", "klikkaukset", "napsautukset", "kliknuti", "prokliky", "клики",
            "переходы", "クリック数", "クリック", "点击次数", "点击", "點擊次數", "點擊",
            "클릭수", "클릭", "tıklamalar", "tıklama", "kattintasok", "κλικ", "clicuri", "кліки",
            "кликвания", "klikovi", "kliki", "kliknutia", "paspaudimai", "klikšķi", "klikid",
            "نقرات", "קליקים", "lượtnhấp", "sốlượtnhấp", "sốlầnnhấp", "จำนวนคลิก", "คลิก",
            "การคลิก", "क्लिक", "کلیک", "کلیکها", "klikak",
        ),
        within=("clicks", "klicks", "clics"),
        told_first=2,
    ),
    IMPRESSIONS: Unit(
        "times that search engines showed it",
        per_period=True,
        headings=(
            "impressions", "impressionen", "impresiones", "impressioni", "vertoningen",
            "wyswietlenia", "visningar", "exponeringar", "impressoes", "eksponeringer",
            "nayttokerrat", "naytot", "zobrazeni", "imprese", "показы", "表示回数", "展示次数",
            "展示", "曝光次数", "曝光", "曝光次數", "노출수", "노출", "gösterimler", "gösterim",
            "megjelenitesek", "εμφανίσεις", "afisari", "покази", "импресии", "pojavljivanja",
            "prikazovanja", "lượthiểnthị", "sốlượthiểnthị",
            "sốlầnhiểnthị", "การแสดงผล", "จำนวนการแสดงผล",
            "مراتالظهور", "חשיפות", "इंप्रेशन", "نمایش", "نمایشها",
            "inpresioak",
        ),
        within=("impressions", "impressionen"),
        told_first=3,
    ),
    LINKING_DOMAINS: Unit(
        "sites that link to it",
        headings=(
            "linkingdomains", "referringdomains", "domains", "refdomains", "linkingsites",
            "rootdomains", "dominiosdereferencia", "dominiosqueenlazan", "dominidiriferimento",
            "verwijzendedomeinen", "domenyodsylajace", "domenylinkujace", "lankandedomaner",
            "hanvisandedomaner",
        ),
        within=("referring domains", "linking domains", "linking sites", "domains"),
        told_first=1,
    ),
    LINKING_PAGES: Unit(
        "pages that link to it",
        headings=(
            "linkingpages", "backlinks", "inlinks", "links", "incominglinks", "inboundlinks",
            "externallinks", "enlaces", "enlacesentrantes", "collegamenti", "linkinentrata",
            "koppelingen", "inkomendelinks", "linki", "linkizwrotne", "lankar", "inkommandelankar",
        ),
        within=("backlinks", "inlinks", "linking pages", "inbound links"),
        told_first=6,
    ),
    LISTED: Unit("mentions, which mean no use", by_others=False),
    ELSEWHERE: Unit("of the requests for page assets, those to which other sites led"),
    SOUGHT: Unit("that several people, or a link, led to what looks like a probe", by_others=False),
}  # fmt: skip

PER_PERIOD = frozenset(name for name, unit in UNITS.items() if unit.per_period)
ASKED = tuple(name for name, unit in UNITS.items() if unit.asked)
ASKED_BEST = (VISITS, HITS, CLICKS)
"""Those of `ASKED`, that first which tells best how many people were lost: two views may be one
visit's.
"""
BY_OTHERS = frozenset(name for name, unit in UNITS.items() if unit.by_others)
IN_TABLES = tuple(name for name, unit in UNITS.items() if unit.headings)
"""Names of the units for which that holds; those that tables may have columns of."""
