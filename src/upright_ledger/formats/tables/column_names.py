"""How the headings of exports call their columns, in many languages."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from unicodedata import category, combining, normalize

from upright_ledger.core.inventory.units import UNITS
from upright_ledger.formats.tables.cells import looks_like_address

URL = "url"
STATUS = "status"
TITLE = "title"
LANGUAGE = "language"
LAST_SEEN = "last seen"
REFERRER = "referrer"
ANCHOR = "anchor text"
TRAFFIC_SOURCE = "traffic source"
AGENT = "user agent"
HEADING = "heading"
DESCRIPTION = "description"
CANONICAL = "canonical"
INDEXABLE = "indexable"
REDIRECTS_TO = "redirects to"
SECTION = "section"
ITEM = "item number"
REASON = "reason"
HOST, QUERY = "host", "query string"
"""Of addresses that are told in parts."""

# Header words in the order of preference; compared without case, blanks, underscores, dots and
# hyphens.
_NAMES: Mapping[str, tuple[str, ...]] = {
    URL: (
        "url", "address", "pageurl", "page", "landingpage", "pagepath", "path", "oldurl",
        "legacyurl", "targeturl", "uri",
        "loc", "location", "link", "permalink", "fullurl", "pageaddress", "destinationurl",
        "toppages", "requesturl", "webaddress",
        "linktarget", "targetpage", "target", "pagepathandscreenclass", "urls", "adresse", "seite",
        "zielseite", "seitenpfad", "pagedest",
        "pagina", "paginasprincipales", "paginadedestino", "direccion", "paginadidestinazione",
        "pagineprincipali", "indirizzo", "bestemmingspagina", "landingspagina", "toppaginas",
        "adres", "strona", "adresurl", "stronadocelowa", "sida",
        "malsida", "landningssida", "adress",
        "toppsidor", "pagepathplusquerystring", "pagepath+querystring", "fullpageurl",
        "pagelocation", "urlpath", "pathname", "requestpath", "requesturi", "href", "rowlabels",
        "endereco", "side", "sider", "landingsside", "topsider", "sivu", "sivut", "osoite",
        "stranka", "stranky", "adresa", "страница", "популярныестраницы", "адрес",
        "адресстраницы", "страницавхода", "сторінка", "ページ", "上位のページ", "アドレス",
        "ランディングページ", "网页", "页面", "热门网页", "排名靠前的网页", "着陆页", "網頁",
        "頁面", "페이지", "인기페이지", "주소", "방문페이지", "sayfa", "sayfalar",
        "eniyisayfalar", "sayfayolu", "açılışsayfası", "oldal", "oldalak", "céloldal", "webcím",
        "σελίδα", "σελίδες", "διεύθυνση", "paginaurl", "сторінки", "адреса", "stranica",
        "stranice", "stran", "strani", "puslapis", "puslapiai", "lapa", "lapas", "leht", "lehed",
        "trang", "halaman", "صفحة", "الصفحة", "דף", "หน้า", "หน้าเว็บ", "पृष्ठ", "पेज", "صفحه",
        "orria", "pad",
        "chemin", "ruta", "percorso", "sokvag", "sti", "sciezka", "cesta", "polku",
    ),
    **{name: unit.headings for name, unit in UNITS.items() if unit.headings},
    STATUS: ("status", "statuscode", "httpstatus", "responsecode", "code", "httpcode", "response",
        "httpstatuscode", "codigodeestado", "codicedistato", "codicestato", "codedestatut",
        "codigodestatus", "kodstatusu", "kododpowiedzi", "statuskod", "statuskode", "tilakoodi",
        "stavovykod", "кодответа", "кодстатуса", "статус", "кодвідповіді", "durumkodu", "durum",
        "állapotkód", "ステータスコード", "ステータス", "状态码", "状态", "狀態碼", "狀態", "상태코드",
        "상태", "mãtrạngthái", "trạngthái", "รหัสสถานะ", "สถานะ", "رمزالحالة", "קודסטטוס"),
    TITLE: ("title", "pagetitle", "titletag", "name", "seitentitel", "titel", "titre", "titulo",
        "titolo", "tytul", "titredelapage", "titulodelapagina", "titulodepagina",
        "titulodapagina", "titolodellapagina", "titolopagina", "paginatitel", "tytulstrony",
        "sidtitel", "sidetitel", "sidetittel", "tittel", "otsikko", "sivunotsikko", "titulek",
        "nazevstranky", "nazovstranky", "nazev", "nazov", "заголовок", "заголовокстраницы",
        "название", "названиестраницы", "назва", "назвасторінки", "заголовоксторінки",
        "заглавие", "başlık", "sayfabaşlığı", "oldalcím", "oldalcíme", "τίτλος", "τίτλοςσελίδας",
        "titlu", "titlulpaginii", "naslov", "naslovstranice", "naslovstrani", "pavadinimas",
        "nosaukums", "pealkiri", "títol", "izenburua", "ページタイトル", "タイトル", "題名", "标题",
        "网页标题", "页面标题", "標題", "網頁標題", "頁面標題", "제목", "페이지제목", "tiêuđề",
        "tiêuđềtrang", "judul", "judulhalaman", "ชื่อหน้า", "ชื่อเรื่อง", "ชื่อ", "शीर्षक",
        "عنوانالصفحة", "عنوانصفحه", "כותרת", "כותרתהדף"),
    LANGUAGE: ("language", "lang", "locale", "sprache", "langue", "idioma", "lingua", "taal",
        "jezyk", "sprak", "sprog", "kieli", "jazyk", "язык", "мова", "dil", "nyelv", "γλώσσα",
        "limba", "言語", "语言", "語言", "언어", "ngônngữ", "bahasa", "ภาษา", "اللغة", "שפה"),
    LAST_SEEN: ("lastseen", "lastcrawled", "date", "lastmod", "detected", "day", "lastmodified",
        "lastvisit", "datum", "lastcrawl", "fecha", "data", "timestamp", "@timestamp", "datetime",
        "time", "requesttime", "ts", "epoch", "unixtime", "eventtime", "zeit", "zeitpunkt",
        "uhrzeit", "heure", "hora", "dato", "paivamaara", "дата", "датаизменения", "tarih", "dátum",
        "ημερομηνία", "日付", "更新日", "最終更新日", "日期", "最后修改", "날짜", "ngày", "tanggal",
        "วันที่", "التاريخ", "תאריך"),
    REFERRER: ("referrer", "linkingpage", "linkedfrom", "referringpage", "sourceurl", "source",
        "referer", "foundon", "linkedfrompage", "referringpageurl", "sourcepage", "источник",
        "источникперехода", "реферер", "джерело", "kaynak", "forrás", "πηγή", "sursă", "izvor",
        "来源", "來源", "来源网址", "来源页面", "參照網址", "参照元", "参照元url", "リンク元",
        "リファラー", "출처", "유입경로", "nguồn", "sumber", "المصدر", "מקור"),
    ANCHOR: ("anchor", "anchortext", "linktext", "linkanchor", "ankertext", "verweistext",
        "textedancrage", "textedulien", "textodeanclaje", "textodelenlace", "testodiancoraggio",
        "ankertekst", "textoancora", "ankartext"),
    AGENT: ("useragent", "httpuseragent", "agent", "ua", "browser", "clientuseragent",
        "useragentstring", "benutzeragent", "agenteusuario", "agentutilisateur"),
    TRAFFIC_SOURCE: ("trafficsource", "sourcemedium", "source/medium", "channel", "medium",
        "sessionsource/medium", "sessionsource"),
    HEADING: ("h1", "heading", "firstheading"),
    DESCRIPTION: ("description", "metadescription"),
    CANONICAL: ("canonical", "canonicalurl", "canonicallink"),
    INDEXABLE: ("indexable", "indexability"),
    REASON: ("reason", "issue", "problem", "error", "errortype", "grund", "fehler", "fehlertyp",
        "motif", "raison", "motivo", "razon", "problema", "reden"),
    HOST: ("hostname", "host", "httphost", "servername", "domain", "nombredehost", "nomehost",
        "hostnaam", "vardnamn", "nazwahosta"),
    QUERY: ("querystring", "query", "urlquery", "uriquery", "csuriquery", "pagequerystring",
        "querystr", "parameters"),
    REDIRECTS_TO: ("redirectsto", "redirecturl", "redirecttarget", "redirectlocation"),
    SECTION: ("section", "category", "breadcrumb", "breadcrumbs", "department", "collection",
        "rubrik", "kategorie", "categorie", "categoria", "kategoria", "kategori", "luokka",
        "категория", "категорія", "カテゴリ", "カテゴリー", "分类", "类别", "分類", "類別", "카테고리"),
    ITEM: (
        "sku", "item", "itemnumber", "itemno", "itemid", "productid", "productnumber", "productno",
        "productcode", "articlenumber", "articleno",
        "articleid", "postid", "partnumber", "partno", "modelnumber", "mpn", "gtin", "ean", "isbn",
        "objectnumber", "accessionnumber",
        "inventorynumber", "cataloguenumber", "catalogueno", "catalognumber", "artikelnummer",
        "artikelnr", "identifier", "codearticle", "codicearticolo", "codigodeproducto",
        "codigodoproduto", "varenummer", "tuotenumero", "cikkszám", "артикул", "品番",
        "商品コード", "商品编号", "货号", "貨號", "상품코드",
    ),
}  # fmt: skip


def bare(header: str) -> str:
    """A header for comparing: "Page URL" and "page_url" are one, as are "Página" and "pagina"; what
    joins letters or says in which direction they are written makes no difference.
    """
    text = header.strip().strip('"\ufeff').lower()
    if not text.isascii():
        letters = (c for c in normalize("NFKD", text) if not combining(c) and category(c) != "Cf")
        text = "".join(letters).replace("ł", "l").replace("ı", "i")
        text = text.removeprefix("ال")  # the article of Arabic
    return re.sub(r"[\s_.\-]+", "", text)


NAMES = {
    meaning: tuple(name if name.isascii() else bare(name) for name in names)
    for meaning, names in _NAMES.items()
}
MEANINGS = tuple(NAMES)
_KNOWN = frozenset(name for names in NAMES.values() for name in names)


_REMARK = re.compile(r"\s*(?:\([^()]*\)|\[[^\[\]]*\]|[*†‡#:]+)\s*\Z")
_RATE = re.compile(r"%|[Δ±]|rate|share|change|average|\bavg|\bper\b", re.IGNORECASE)


def without_remarks(headers: Sequence[str]) -> list[str]:
    """Headers, those that mean something without a remark behind them, "Clics (28 jours)" or
    "Seite *", and that no other one means, without it.
    """
    words = [*map(bare, headers)]
    short = [
        "" if word in _KNOWN or _RATE.search(header) else _REMARK.sub("", header)
        for word, header in zip(words, headers, strict=True)
    ]
    alone = {name for name, n in Counter([*words, *map(bare, short)]).items() if n == 1} & _KNOWN
    return [one if bare(one) in alone else h for h, one in zip(headers, short, strict=True)]


def is_heading(cells: Sequence[str]) -> bool:
    """Whether cells are the heading of a table of addresses, each a word that is known here or
    none: a column of addresses and another.
    """
    words = [*map(bare, cells)]
    known = [word for word in words if word in _KNOWN]
    return (
        len(known) > 1
        and any(word in NAMES[URL] for word in known)
        and not any(map(looks_like_address, cells))
    )


def is_known_name(header: str) -> bool:
    """Whether a header is one that is known."""
    return bare(header) in _KNOWN


def is_header_word(text: str) -> bool:
    """Whether a text alone in a line is the header of a URL column."""
    return bare(text) in NAMES[URL]
