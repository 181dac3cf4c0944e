"""Exports in several languages: what their columns are called, and what their sums are."""

from __future__ import annotations

from pathlib import Path

import pytest
import xlsxwriter

from conftest import Program
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.records import Aside, ReadOptions, Record, RecordBlock, one_by_one
from upright_ledger.formats.tables.column_mapping import map_columns
from upright_ledger.formats.tables.pairs import read_pairs
from upright_ledger.formats.tables.url_rows import read_table_urls

OLD = "http://www.quillhaven.example"

HEADINGS = {
    "Spanish": ("Página,Clics,Impresiones,Sesiones", "Total general"),
    "Spanish, analytics": ("Dirección,Usuarios,Vistas de página,Enlaces", "Suma"),
    "Italian": ("Pagina,Clic,Impressioni,Sessioni", "Totale"),
    "Italian, analytics": ("Indirizzo,Utenti,Visualizzazioni di pagina,Collegamenti", "Totali"),
    "Dutch": ("Pagina,Klikken,Vertoningen,Sessies", "Totaal"),
    "Dutch, analytics": ("Landingspagina,Gebruikers,Paginaweergaven,Inkomende links", "Totaal"),
    "Polish": ("Strona,Kliknięcia,Wyświetlenia,Sesje", "Razem"),
    "Polish, analytics": ("Adres URL,Użytkownicy,Odsłony,Linki zwrotne", "Łącznie"),
    "Swedish": ("Sida,Klick,Visningar,Sessioner", "Totalt"),
    "Swedish, analytics": ("Landningssida,Användare,Sidvisningar,Länkar", "Summa"),
    "German": ("Seite,Klicks,Impressionen,Sitzungen", "Gesamt"),
    "French": ("Adresse,Clics,Impressions,Visites", "Somme"),
}
SEARCHED, ANALYSED = ("clicks", "impressions", "visits"), ("visits", "hits", "linking pages")


@pytest.mark.parametrize("name", HEADINGS)
@pytest.mark.parametrize("delimiter", [",", ";", "\t"])
def test_figures_under_headings_in_other_languages(
    name: str, delimiter: str, tmp_path: Path
) -> None:
    header, total = HEADINGS[name]
    rows = [header.split(","), [f"{OLD}/a", "3", "40", "5"], [f"{OLD}/b", "1", "2", "6"]]
    rows.append([total, "4", "42", "11"])
    path = tmp_path / "export.csv"
    path.write_text("\n".join(map(delimiter.join, rows)) + "\n", encoding="utf-8")
    items = list(one_by_one(read_table_urls(path, ReadOptions()).items))
    units = ANALYSED if "analytics" in name else SEARCHED
    told = [i for i in items if isinstance(i, Record)]
    assert [r.url for r in told] == [f"{OLD}/a", f"{OLD}/b"]
    assert [{f.unit: f.amount for f in r.figures} for r in told] == [
        dict(zip(units, (3.0, 40.0, 5.0), strict=True)),
        dict(zip(units, (1.0, 2.0, 6.0), strict=True)),
    ]
    assert [i.kind for i in items if isinstance(i, Aside)] == [AsideClass.SUMMARY]


PARTS = {
    "host and page path": (
        "Hostname,Page path,Views\nwww.quillhaven.example,/a?x=1,3\nblog.fern.example,/b,4\n",
        ["http://www.quillhaven.example/a?x=1", "http://blog.fern.example/b"],
    ),
    "host, path and query": (
        ("host,path,query,hits\nwww.quillhaven.example,/a,id=3,3\nwww.quillhaven.example,/b,,4\n"
        "www.quillhaven.example,/c,?id=5,4\n"),
        [f"{OLD}/a?id=3", f"{OLD}/b", f"{OLD}/c?id=5"],
    ),
    "path and query": ("path,query string,hits\n/a,id=3,3\n/b?c=1,id=4,4\n", ["/a?id=3", "/b?c=1"]),
    "words that were searched for": (
        "Query,Page,Clicks\nold clock,http://www.quillhaven.example/a,3\n", [f"{OLD}/a"],
    ),
    "domains that link": (
        "Domain,Target page,Links\nfern.example,http://www.quillhaven.example/a,3\n", [f"{OLD}/a"],
    ),
    "a host that is none": ("host,path,hits\n(not set),/a,3\nwww.quillhaven.example,/b,4\n",
        ["/a", f"{OLD}/b"]),
}  # fmt: skip


@pytest.mark.parametrize("name", PARTS)
@pytest.mark.parametrize("one_by_one_too", [False, True])
def test_addresses_that_are_told_in_parts(name: str, one_by_one_too: bool, tmp_path: Path) -> None:
    text, urls = PARTS[name]
    path = tmp_path / "export.csv"
    path.write_text(text, encoding="utf-8")
    options = ReadOptions(hosts=frozenset(["www.quillhaven.example"]))
    (block,) = read_table_urls(path, options).items
    assert isinstance(block, RecordBlock)
    if one_by_one_too:
        assert [i.url for i in block.items() if isinstance(i, Record)] == urls
    else:
        assert list(block.urls) == urls


LINKS = {
    "German": "Quell-URL;Ziel-URL;Ankertext",
    "Spanish": "Página de origen;Página de destino;Texto de anclaje",
    "French": "Page d'origine;Page cible;Texte du lien",
    "Italian": "Pagina di origine;Pagina di destinazione;Testo",
    "Dutch": "Bronpagina;Doelpagina;Ankertekst",
    "Swedish": "Källsida;Målsida;Ankartext",
    "Polish": "Strona źródłowa;Strona docelowa;Tekst",
    "a table of a database": "url_from;url_to;text",
    "English": "From page;To page;Text",
}


def linked(program: Program) -> tuple[float, float]:
    """Domains and pages that link to the clock."""
    found = program.json("entries", "/clock.html")["evidence"]
    units = {e["unit"]: e["amount"] for e in found}
    return units["linking domains"], units["linking pages"]


@pytest.mark.parametrize("name", LINKS)
def test_links_known_only_as_rows_in_other_languages(name: str, museum: Program) -> None:
    """Two sites link, one of them twice, and a page of one's own."""
    linking = ("https://club.example/1", "https://club.example/2", "https://press.example/")
    rows = [f"{page};{OLD}/clock.html;clock" for page in (*linking, f"{OLD}/own.html")]
    museum.write("links.csv", "\n".join([LINKS[name], *rows]) + "\n")
    museum("gather", "links.csv")
    assert linked(museum) == (2, 3)


def test_a_cell_that_names_several_pages_is_several_links(museum: Program) -> None:
    pages = ("https://club.example/1\nhttps://press.example/a,b", "https://club.example/2 ")
    rows = "".join(f'{OLD}/clock.html,"{cell}"\n' for cell in pages)
    museum.write("errors.csv", f"URL,Linked from\n{rows}")
    museum("gather", "errors.csv")
    assert linked(museum) == (2, 3)


def test_a_list_of_redirects_is_no_list_of_links(museum: Program) -> None:
    museum.write("moves.csv", "Quelle;Ziel\n/a.html;https://other.example/a\n/b;/c\n/d;/e\n")
    museum("gather", "moves.csv")
    entries = museum.json("entries")["entries"]
    assert {e["legacy_url"].removeprefix(OLD) for e in entries} == {"/a.html", "/b", "/d"}
    assert {e["links"] for e in entries} == {0}


@pytest.mark.parametrize("name", ["comes_from", "Bemerkung", "why", "Notes", "Commentaire"])
def test_sentences_about_a_page_are_not_its_title(name: str, museum: Program) -> None:
    said = (
        "from the letter of May",
        "asked for by people",
        "a link on the start page",
        "not known",
    )
    rows = "".join(f"{OLD}/{n}.html,{text} {n}\n" for n, text in enumerate(said))
    museum.write("list.csv", f"url,{name}\n{rows}")
    museum("gather", "list.csv")
    assert {e["title"] for e in museum.json("entries")["entries"]} == {""}


BROWSER = "Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0"
ASKED = [
    ("2026-05-12 10:00:01", "/a.html", BROWSER, "404"),
    ("2026-05-12 10:00:05", "/a.html", BROWSER, "404"),
    ("2026-05-13 11:00:00", "/b.html", "FernBot/1.0 (+http://fern.example/bot)", "200"),
]


def _as_table(path: Path, *, status: bool) -> None:
    rows = [["Date", "URL", "Referrer", "User Agent", "IP"] + ["Status"] * status]
    rows += [
        [when, url, "https://club.example/x", agent, "198.51.100.7"] + [code] * status
        for when, url, agent, code in ASKED
    ]
    if path.suffix == ".csv":
        path.write_text("".join(",".join(f'"{c}"' for c in row) + "\n" for row in rows))
    elif path.suffix == ".xml":
        told = "".join(
            f'<request time="{when}" uri="{url}" agent="{agent}" status="{code}"/>'
            for when, url, agent, code in ASKED
        )
        path.write_text(f'<?xml version="1.0"?><log>{told}</log>')
    else:
        book = xlsxwriter.Workbook(str(path))
        sheet = book.add_worksheet()
        for n, row in enumerate(rows):
            sheet.write_row(n, 0, row)
        book.close()


@pytest.mark.parametrize(
    ("name", "status"),
    [("errors.csv", False), ("log.xlsx", False), ("log.xlsx", True), ("log.xml", True)],
)
def test_rows_that_tell_an_agent_and_a_time_are_requests(
    name: str, status: bool, museum: Program
) -> None:
    """As extensions and workbooks tell them: no lists, and no links."""
    _as_table(museum.folder / name, status=status)
    museum("gather", name)
    found = {e["legacy_url"]: e for e in museum.json("entries")["entries"]}
    told = {
        u.removeprefix(OLD): (e["hits"], e["bots"], e["links"], e["last_seen"])
        for u, e in found.items()
    }
    assert told == {
        "/a.html": (2, 0, 0, "2026-05-12"),
        "/b.html": (0, 1, 0, "2026-05-13"),
    }


def test_a_list_of_errors_with_agents_fails_for_people_alone(museum: Program) -> None:
    _as_table(museum.folder / "errors.csv", status=False)
    rows = museum.json("triage", "errors.csv", code=1)["entries"]
    lost = {e["legacy_url"].removeprefix(OLD): (e["lost"], e["bots"]) for e in rows}
    assert lost == {"/a.html": (2, 0), "/b.html": (0, 1)}


IN_WORDS = [
    "From/To", "Quelle/Ziel", "Von-URL/Nach-URL", "De/Vers", "URL source/URL de destination",
    "Origen/Destino", "Da/A", "URL antiga/URL nova", "Stary adres/Nowy adres", "Gammal URL/Ny URL",
    "Vanha osoite/Uusi osoite", "Stará URL/Nová URL", "Старый URL/Новый URL", "Откуда/Куда",
    "Eski URL/Yeni URL", "Régi URL/Új URL", "旧URL/新URL", "リダイレクト元/リダイレクト先",
    "旧网址/新网址", "舊網址/新網址", "이전 URL/새 URL", "URL cũ/URL mới", "URL เดิม/URL ใหม่",
    "Παλιό URL/Νέο URL", "כתובת ישנה/כתובת חדשה", "الرابط القديم/الرابط الجديد",
    "पुराना URL/नया URL",
    "آدرس قدیمی/آدرس جدید", "URL lama/URL baru", "URL vechi/URL nou", "Legacy/Replacement",
]  # fmt: skip


@pytest.mark.parametrize("heading", IN_WORDS)
def test_bare_paths_are_told_apart_by_words_of_any_tongue(heading: str, tmp_path: Path) -> None:
    """Nothing but the headings says which are the old ones, and in which order they stand."""
    rows = [tuple(heading.split("/")), *((f"/old/{n}", f"/new/{n}/") for n in range(5))]
    for turned in (False, True):
        lines = [row[::-1] if turned else row for row in rows]
        path = tmp_path / "sheet.csv"
        path.write_text("".join(f"{a};{b}\n" for a, b in lines), encoding="utf-8")
        assert [(p.old, p.new) for p in read_pairs(path).rows] == rows[1:]


TITLED = [
    "Page/Titre de la page/Code de statut", "Página/Título de la página/Código de estado",
    "Pagina/Titolo della pagina/Codice di stato", "Strona/Tytuł strony/Kod odpowiedzi",
    "Sida/Sidtitel/Statuskod", "Sivu/Sivun otsikko/Tilakoodi", "Oldal/Oldalcím/Állapotkód",
    "Stránka/Název stránky/Stavový kód", "Страница/Заголовок страницы/Код ответа",
    "Sayfa/Sayfa başlığı/Durum kodu", "Σελίδα/Τίτλος σελίδας/Status", "Side/Sidetitel/Statuskode",
    "ページ/ページ タイトル/ステータス コード", "网页/页面标题/状态码", "페이지/페이지 제목/상태 코드",
    "หน้า/ชื่อหน้า/รหัสสถานะ", "Trang/Tiêu đề trang/Mã trạng thái", "Halaman/Judul halaman/Status",
    "الصفحة/عنوان الصفحة/رمز الحالة", "דף/כותרת הדף/קוד סטטוס", "पेज/शीर्षक/Status",
]  # fmt: skip


@pytest.mark.parametrize("heading", TITLED)
def test_titles_are_told_from_other_texts(heading: str) -> None:
    """A text that nobody asked for stands before all, and is the longer one."""
    rows = [[f"What all of page {n} is about", f"{OLD}/p/{n}", f"P {n}", "404"] for n in range(6)]
    found = map_columns(["xyz", *heading.split("/")], rows, {}, frozenset())
    assert {name: found[name] for name in ("url", "title", "status")} == {
        "url": 1,
        "title": 2,
        "status": 3,
    }


@pytest.mark.parametrize(
    "heading", ["来源/网页", "参照元/ページ", "Источник/Страница", "Kaynak/Sayfa"]
)
def test_pages_that_link_are_not_the_pages_they_link_to(heading: str) -> None:
    rows = [[f"{OLD}/from/{n}", f"{OLD}/p/{n}", "7"] for n in range(6)]
    found = map_columns([*heading.split("/"), "Hits"], rows, {}, frozenset())
    assert (found["url"], found["referrer"]) == (1, 0)
