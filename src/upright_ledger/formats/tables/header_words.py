"""Words of headers in several languages: which column holds old addresses, and which new ones."""

from __future__ import annotations

import re
from collections.abc import Iterator
from unicodedata import category, normalize

from upright_ledger.core.url.unspaced import LETTER, holds_unspaced

_OLD_WORDS = """
    old legacy from source previous former before current origin original existing alt alte
    alter altes alten von quelle bisher bisherige bisheriger vorher vorherige ursprung herkunft
    ancien ancienne anciens anciennes depuis origine avant actuelle actuel antiguo antigua
    antiguas antiguos anterior desde origen viejo vieja actual vecchio vecchia vecchi vecchie da
    prima precedente provenienza attuale oud oude van bron bronpagina källa källsida źródło
    źródłowa źródłowy fonte origem huidige huidig vorige antiga antigas antigo antigos velha
    velho stary stara stare starego poprzedni poprzednia dotychczasowy gammal gamla tidigare
    från gammel gamle fra nuværende vanha vanhat mistä stará staré starý původní předchozí
    pôvodná pôvodný старый старая старые старое старого откуда источник исходный исходная
    прежний прежняя стара старе старі старий звідки поточна стар текущ eski kaynak önceki régi
    korábbi forrás honnan παλιό παλιά παλιός παλιές πηγή από ישנה ישן ישנים מקור القديم القديمة
    قديم قديمة المصدر من قدیمی قدیم مبدا مبدأ पुराना पुरानी पुराने स्रोत cũ nguồn lama asal
    sumber dari vechi veche vechea sursă sursa din stari prejšnji izvor senas sena senais vecs
    vecais vecā vana lähte antic vell zaharra iturria 旧 舊 原 元 源 来源 來源 移行前 変更前 转移前 이전 기존 구 원본
    เดิม เก่า ต้นทาง
"""
_NEW_WORDS = """
    new to target destination goal after redirect redirects redirectto redirecttarget neu neue
    neuer neues neuen nach ziel zukünftig künftig künftige weiterleitung weiterleitungsziel
    umleitung umleitungsziel nouveau nouvelle nouveaux nouvelles vers cible après future futur
    nuevo nueva nuevas nuevos hacia destino futura futuro nuovo nuova nuovi nuove verso
    destinazione dopo nieuw nieuwe naar doel doelpagina bestemming mål målsida docelowa docelowy
    cel toekomstige nova novas novo novos para nowy nowa nowe nowego docelowe ny nya nytt till
    nye til mot uusi uudet uutta mihin kohde nová nové nový cíl cílová cílový cieľ cieľová новый
    новая новые новое нового куда назначение целевой целевая цель нова нове нові новий куди ціль
    нов yeni hedef új cél hova νέο νέα νέος νέες προορισμός προς חדשה חדש חדשים יעד الجديد
    الجديدة جديد جديدة الهدف الوجهة إلى جدید مقصد नया नयी नई नए गंतव्य mới đích baru tujuan ke
    nou noua nouă destinație destinatie novi cilj cilja naujas nauja jauns jaunais jaunā uus
    siht berria helburua final replacement replaced successor suggested proposed 新 先 目标 目標 移行後
    変更後 転送先 새 신규 변경 이동할 ใหม่ ปลายทาง
"""
# What a header says besides: that its cells are addresses.
_ADDRESS_WORDS = """
    url urls uri address addresses adress page pages path link location site web website full
    absolute relative adresse adressen seite seiten seitenadresse pfad lien chemin dirección
    direccion página pagina enlace ruta indirizzo indirizzi percorso pagine adres pad de la le
    les el los il lo gli the of der die das d l du des del di della dell do sida sidan strony
    strona endereço endereco ligação osoite sivu linkki adresa stránka odkaz адрес адреса
    страница сторінка ссылка посилання страницы sayfa adresi bağlantı cím oldal webcím διεύθυνση
    σελίδα כתובת דף קישור العنوان الرابط رابط عنوان صفحة الصفحة آدرس صفحه لینک पता पेज लिंक
    trang địa chỉ liên kết đường dẫn alamat halaman tautan pagină adresă stran stranica povezava
    puslapis adresas lapa adrese leht aadress adreça pàgina helbide orria tg side lenke ページ アドレス
    リンク 转向 リダイレクト 転送 移転 网址 網址 链接 連結 鏈接 页面 頁面 地址 位址 转移 重定向 주소 페이지 링크 리디렉션 หน้า ลิงก์ ที่อยู่ の
"""
_OLD, _NEW, _ADDRESS = (
    frozenset(words.split()) for words in (_OLD_WORDS, _NEW_WORDS, _ADDRESS_WORDS)
)
_JOINED = re.compile(
    r"(?P<side>alt|neu|ziel|quell|old|new|from|to|source|target|destination|legacy)(?:e|es|er|"
    r"en)?(?P<what>url|uri|adresse|address|pfad|path|seite|page|link)s?\Z"
)


_CAMEL = re.compile(r"([a-zà-ÿ])([A-Z])")
_SCRIPTS = re.compile(
    rf"(?<=[a-z0-9])(?=(?:{LETTER}|[가-힣]))|(?<=(?:{LETTER}|[가-힣]))(?=[a-z0-9])"
)
"""Where a word in Latin letters and one of a script without blanks stand beside each other."""
_KNOWN = _OLD | _NEW | _ADDRESS
_LONGEST = max(map(len, _KNOWN))


def side_of(header: str) -> str:
    """Whether a header names old addresses ("old"), new ones ("new"), or neither: "Alte URL", "URL
    (neu)", "old_path", "旧URL".
    """
    left = []
    for word in _words(header):
        joined = _JOINED.match(word)
        left.append(joined["side"] if joined else word)
    left = [w for w in left if w not in _ADDRESS]
    sides = [
        "old" if w in _OLD or w in {"quell", "legacy"} else "new" if w in _NEW else "" for w in left
    ]
    if not sides or "" in sides:
        return ""
    # "redirect from" speaks of the old side, "redirect to" of the new one.
    named = [
        s
        for s, w in zip(sides, left, strict=True)
        if w not in {"redirect", "redirects", "weiterleitung", "umleitung"}
    ]
    found = set(named or sides)
    return found.pop() if len(found) == 1 else ""


def _words(header: str) -> Iterator[str]:
    """The words of a header but for its numbers."""
    text = _CAMEL.sub(r"\1 \2", normalize("NFKC", header)).lower()
    text = "".join(c if category(c)[0] in "LMN" else " " for c in text if category(c) != "Cf")
    for word in _SCRIPTS.sub(" ", text).split():
        if holds_unspaced(word):
            yield from _cut(word)
        elif not word.isdigit():
            yield word


def _cut(text: str) -> Iterator[str]:
    """The known words of which a text without blanks is made, the longest first; all else by
    letters.
    """
    while text:
        size = next((n for n in range(min(_LONGEST, len(text)), 0, -1) if text[:n] in _KNOWN), 1)
        yield text[:size]
        text = text[size:]
