"""Exports in many languages: heading of pages, of a figure, what a sum is called, and the unit."""

from __future__ import annotations

from upright_ledger.core.inventory.units import CLICKS, HITS, IMPRESSIONS, VISITS

TONGUES: dict[str, tuple[str, str, str, str]] = {
    "Portuguese": ("Páginas principais", "Cliques", "Total", CLICKS),
    "Portuguese, impressions": ("Página", "Impressões", "Soma", IMPRESSIONS),
    "Danish": ("Side", "Sidevisninger", "I alt", HITS),
    "Norwegian": ("Side", "Økter", "Totalt", VISITS),
    "Finnish": ("Sivu", "Klikkaukset", "Yhteensä", CLICKS),
    "Czech": ("Stránka", "Návštěvy", "Celkem", VISITS),
    "Russian": ("Страница", "Клики", "Итого", CLICKS),
    "Russian, visits": ("Адрес страницы", "Визиты", "Всего", VISITS),
    "Japanese": ("上位のページ", "クリック数", "合計", CLICKS),
    "Japanese, views": ("ページ", "ページビュー数", "合計", HITS),
    "Chinese": ("网页", "点击次数", "总计", CLICKS),
    "Chinese, traditional": ("網頁", "點擊次數", "總計", CLICKS),
    "Korean": ("페이지", "클릭수", "합계", CLICKS),
    "Turkish": ("Sayfa", "Tıklamalar", "Toplam", CLICKS),
    "Turkish, views": ("Sayfa", "Görüntüleme", "Toplam", HITS),
    "Hungarian": ("Oldal", "Megtekintések", "Összesen", HITS),
    "Norwegian, views": ("Side", "Visninger", "Totalt", HITS),
    "Greek": ("Σελίδα", "Προβολές", "Total", HITS),
    "Romanian": ("Pagină", "Vizualizări", "Total", HITS),
    "Ukrainian": ("Сторінка", "Перегляди", "Total", HITS),
    "Croatian": ("Stranica", "Posjeti", "Total", VISITS),
    "Vietnamese": ("Trang", "Lượt xem", "Total", HITS),
    "Arabic": ("الصفحة", "المشاهدات", "Total", HITS),
    "Thai": ("หน้า", "จำนวนการดู", "Total", HITS),
    "Greek, clicks": ("Σελίδα", "Κλικ", "Σύνολο", CLICKS),
    "Vietnamese, times of clicks": ("Trang", "Số lần nhấp", "Tổng cộng", CLICKS),
    "Vietnamese, clicks": ("Trang", "Lượt nhấp", "Tổng cộng", CLICKS),
    "Hebrew": ("דף", "קליקים", "סה״כ", CLICKS),
    "Hebrew, impressions": ("דף", "חשיפות", "סהכ", IMPRESSIONS),
    "Thai, clicks": ("หน้า", "จำนวนคลิก", "รวม", CLICKS),
    "Arabic, impressions": ("الصفحة", "مرات الظهور", "المجموع", IMPRESSIONS),
    "Persian": ("صفحه", "\u200fکلیک\u200cها", "Total", CLICKS),
    "Japanese, of a counter": ("ＵＲＬ", "アクセス数", "合計", HITS),
    "Hindi": ("पेज", "क्लिक", "Total", CLICKS),
    "Basque": ("Orria", "Inpresioak", "Total", IMPRESSIONS),
    "a count": ("request.keyword: Descending", "Count of records", "Total", HITS),
}

ENCODINGS = {
    "cp932": "Japanese",
    "euc_jp": "Japanese, views",
    "gb18030": "Chinese",
    "big5": "Chinese, traditional",
    "cp949": "Korean",
    "cp1251": "Russian",
    "koi8_r": "Russian, visits",
    "cp1250": "Czech",
    "cp1253": "Greek, clicks",
    "cp1254": "Turkish",
    "cp1256": "Arabic, impressions",
    "mac_roman": "Portuguese",
    "cp874": "Thai, clicks",
}
"""In which of these such exports come that are not in UTF-8."""
