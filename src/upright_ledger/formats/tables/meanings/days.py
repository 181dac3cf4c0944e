"""Days, as exports of many countries, programs and people write them."""

from __future__ import annotations

import re
from collections import defaultdict
from datetime import UTC, date, datetime, timedelta
from functools import cache, lru_cache
from unicodedata import combining, normalize

_NAMES_OF_MONTHS = """
    january february march april may june july august september october november december
    jan feb mar apr may jun jul aug sep oct nov dec
    janv fevr mars avr mai juin juil aout sept oct nov dec
    januar februar märz april mai juni juli august september oktober november dezember
    jänner feber mär apr mai jun jul aug sep okt nov dez
    janvier février mars avril mai juin juillet août septembre octobre novembre décembre
    enero febrero marzo abril mayo junio julio agosto septiembre octubre noviembre diciembre
    ene feb mar abr may jun jul ago set oct nov dic
    gennaio febbraio marzo aprile maggio giugno luglio agosto settembre ottobre novembre dicembre
    gen feb mar apr mag giu lug ago set ott nov dic
    januari februari maart april mei juni juli augustus september oktober november december
    jan feb mrt apr mei jun jul aug sep okt nov dec
    janeiro fevereiro março abril maio junho julho agosto setembro outubro novembro dezembro
    jan fev mar abr mai jun jul ago set out nov dez
    januari februari mars april maj juni juli augusti september oktober november december
    januar februar marts april maj juni juli august september oktober november december
    januar februar mars april mai juni juli august september oktober november desember
    jan feb mar apr mai jun jul aug sep okt nov des
    tammikuuta helmikuuta maaliskuuta huhtikuuta toukokuuta kesäkuuta heinäkuuta elokuuta
    syyskuuta lokakuuta marraskuuta joulukuuta
    tammi helmi maalis huhti touko kesä heinä elo syys loka marras joulu
    stycznia lutego marca kwietnia maja czerwca lipca sierpnia września października listopada
    grudnia
    sty lut mar kwi maj cze lip sie wrz paź lis gru
    ledna února března dubna května června července srpna září října listopadu prosince
    januára februára marca apríla mája júna júla augusta septembra októbra novembra decembra
    január február március április május június július augusztus szeptember október november
    december
    ianuarie februarie martie aprilie mai iunie iulie august septembrie octombrie noiembrie
    decembrie
    ocak şubat mart nisan mayıs haziran temmuz ağustos eylül ekim kasım aralık
    oca şub mar nis may haz tem ağu eyl eki kas ara
    января февраля марта апреля мая июня июля августа сентября октября ноября декабря
    янв фев мар апр май июн июл авг сен окт ноя дек
    січня лютого березня квітня травня червня липня серпня вересня жовтня листопада грудня
    януари февруари март април май юни юли август септември октомври ноември декември
    ιανουαρίου φεβρουαρίου μαρτίου απριλίου μαΐου ιουνίου ιουλίου αυγούστου σεπτεμβρίου οκτωβρίου
    νοεμβρίου δεκεμβρίου
    gener febrer març abril maig juny juliol agost setembre octubre novembre desembre
    januarja februarja marca aprila maja junija julija avgusta septembra oktobra novembra decembra
    jaanuar veebruar märts aprill mai juuni juuli august september oktoober november detsember
    ינואר פברואר מרץ אפריל מאי יוני יולי אוגוסט ספטמבר אוקטובר נובמבר דצמבר
    يناير فبراير مارس أبريل مايو يونيو يوليو أغسطس سبتمبر أكتوبر نوفمبر ديسمبر
    styczeń luty marzec kwiecień maj czerwiec lipiec sierpień wrzesień październik listopad
    grudzień
    tammikuu helmikuu maaliskuu huhtikuu toukokuu kesäkuu heinäkuu elokuu syyskuu lokakuu
    marraskuu joulukuu
    led úno bře dub kvě čvn čvc srp zář říj lis pro
    leden únor březen duben květen červen červenec srpen září říjen listopad prosinec
    január február marec apríl máj jún júl august september október november december
    jan febr márc ápr máj jún júl aug szept okt nov dec
    ian feb mar apr mai iun iul aug sept oct nov dec
    янв февр мар апр мая июн июл авг сент окт нояб дек
    январь февраль март апрель май июнь июль август сентябрь октябрь ноябрь декабрь
    янв февр март апр май июнь июль авг сент окт нояб дек
    січ лют бер квіт трав черв лип серп вер жовт лист груд
    січень лютий березень квітень травень червень липень серпень вересень жовтень листопад грудень
    яну фев март апр май юни юли авг сеп окт ное дек
    ιαν φεβ μαρ απρ μαΐ ιουν ιουλ αυγ σεπ οκτ νοε δεκ
    ιανουάριος φεβρουάριος μάρτιος απρίλιος μάιος ιούνιος ιούλιος αύγουστος σεπτέμβριος οκτώβριος
    νοέμβριος δεκέμβριος
    ιαν φεβ μάρ απρ μάι ιούν ιούλ αύγ σεπ οκτ νοέ δεκ
    gen febr març abr maig juny jul ag set oct nov des
    januar februar marec april maj junij julij avgust september oktober november december
    jan feb mar apr maj jun jul avg sep okt nov dec
    jaan veebr märts apr mai juuni juuli aug sept okt nov dets
    sausio vasario kovo balandžio gegužės birželio liepos rugpjūčio rugsėjo spalio lapkričio
    gruodžio
    saus vas kov bal geg birž liep rugp rugs spal lapkr gruod
    sausis vasaris kovas balandis gegužė birželis liepa rugpjūtis rugsėjis spalis lapkritis
    gruodis
    janvāris februāris marts aprīlis maijs jūnijs jūlijs augusts septembris oktobris novembris
    decembris
    janv febr marts apr maijs jūn jūl aug sept okt nov dec
    јануар фебруар март април мај јун јул август септембар октобар новембар децембар
    јан феб мар апр мај јун јул авг сеп окт нов дец
    januar februar mart april maj jun jul avgust septembar oktobar novembar decembar
    januari februari maret april mei juni juli agustus september oktober november desember
    जनवरी फ़रवरी मार्च अप्रैल मई जून जुलाई अगस्त सितंबर अक्टूबर नवंबर दिसंबर
    ژانویه فوریه مارس آوریل مه ژوئن ژوئیه اوت سپتامبر اکتبر نوامبر دسامبر
    มกราคม กุมภาพันธ์ มีนาคม เมษายน พฤษภาคม มิถุนายน กรกฎาคม สิงหาคม กันยายน ตุลาคม พฤศจิกายน
    ธันวาคม
    januari februari mac april mei jun julai ogos september oktober november disember
    jan feb mac apr mei jun jul ogo sep okt nov dis
    urtarrila otsaila martxoa apirila maiatza ekaina uztaila abuztua iraila urria azaroa abendua
    urt ots mar api mai eka uzt abu ira urr aza abe
    xaneiro febreiro marzo abril maio xuño xullo agosto setembro outubro novembro decembro
    xan feb mar abr maio xuño xul ago set out nov dec
    janúar febrúar mars apríl maí júní júlí ágúst september október nóvember desember
"""
"""Twelve of each language, in the forms in which they stand between a day and a year; see Unicode's
Common Locale Data Repository.
"""
_YEAR = r"(?P<y>\d{4})"
_OF_YEAR, _OF_MONTH, _OF_DAY = "[\u5e74\ub144]", "[\u6708\uc6d4]", "[\u65e5\uc77c]"
"""What Chinese, Japanese and Korean write behind the figures of a day."""
_REST = r"(?:[T,: ].*)?\Z"
_ORDER = r"(?:st|nd|rd|th|er|\.|\u00ba|\u00aa)?"
_NAME = r"(?P<n>[^\W\d_][^\d\s.,/()-]{1,14})\.?"
_OF = r"(?:de |d['\u2019]|of )?"
_FORMS = tuple(
    re.compile(form, re.IGNORECASE)
    for form in (
        rf"{_YEAR} ?[-/.] ?(?P<m>\d{{1,2}}) ?[-/.] ?(?P<d>\d{{1,2}})\.?{_REST}",
        rf"{_YEAR}(?P<m>\d{{2}})(?P<d>\d{{2}})(?:\d{{6}})?\Z",
        rf"{_YEAR} ?{_OF_YEAR} ?(?P<m>\d{{1,2}}) ?{_OF_MONTH} ?(?P<d>\d{{1,2}}) ?{_OF_DAY}",
        rf"(?P<d>\d{{1,2}})\. ?(?P<m>\d{{1,2}})\. ?{_YEAR}\.?{_REST}",
        rf"(?P<a>\d{{1,2}})[/-](?P<b>\d{{1,2}})[/-]{_YEAR}{_REST}",
        rf"(?P<d>\d{{1,2}}){_ORDER}[ /-]{_OF}{_NAME},?[ /-](?:de |del )?{_YEAR}\.?{_REST}",
        rf"{_NAME} (?P<d>\d{{1,2}}){_ORDER},? {_YEAR}{_REST}",
        rf"{_YEAR}\.?[ -]{_NAME}[ -](?P<d>\d{{1,2}})\.?{_REST}",
        rf"[^\W\d]{{2,4}} {_NAME} +(?P<d>\d{{1,2}}) \d\d:\d\d:\d\d(?: [A-Z]{{2,5}})? {_YEAR}\Z",
    )
)
_SHORT_FORMS = tuple(
    re.compile(form, re.IGNORECASE)
    for form in (
        rf"(?P<d>\d{{1,2}})\. ?(?P<m>\d{{1,2}})\. ?(?P<y>\d\d){_REST}",
        rf"(?P<a>\d{{1,2}})/(?P<b>\d{{1,2}})/(?P<y>\d\d){_REST}",
        rf"(?P<d>\d{{1,2}}){_ORDER}[ /-]{_NAME}[ /-](?P<y>\d\d){_REST}",
    )
)
_WEEKDAY = re.compile(r"[^\W\d]{2,4}\.?, ?")
_WORDS_BEFORE = re.compile(
    r"\A(?:[^\W\d][^\d\s]{1,14}[,\u060c]\s+|(?:[^\W\d][^\d\s]{1,14}\s+){1,3}(?=\d))"
)
_SPACES = dict.fromkeys(map(ord, "\u00a0\u2009\u202f"), " ")
_SPACES |= dict.fromkeys(map(ord, "\u061c\u200e\u200f"), "")
_MONTH_FIRST = re.compile(r"\d{1,2}/(?:1[3-9]|2\d|3[01])/(?:\d{4}|\d\d)\b")
_SECONDS = re.compile(r"(1[0-9]{9})(?:[0-9]{3})?(?:\.[0-9]+)?")
_SERIAL = re.compile(r"([34]\d{4}|5[0-4]\d{3})(?:\.\d+)?")
_DAY_0 = date(1899, 12, 30)
"""From which spreadsheets count days."""


@cache
def _months() -> dict[str, int]:
    """Name → month, for names that mean one month only, in whatever language."""
    told: dict[str, set[int]] = defaultdict(set)
    for at, name in enumerate(_NAMES_OF_MONTHS.split()):
        told[_plain(name)].add(at % 12 + 1)
    return {name: next(iter(numbers)) for name, numbers in told.items() if len(numbers) == 1}


def _plain(name: str) -> str:
    """A name without case and accents."""
    return "".join(c for c in normalize("NFKD", name.casefold()) if not combining(c))


def _month(name: str) -> int:
    """The month of a name, with the preposition of Hebrew before it or not; 0 where none is
    known.
    """
    months, plain = _months(), _plain(name)
    return months.get(plain) or months.get(plain.removeprefix("\u05d1"), 0)


@lru_cache(maxsize=1 << 14)
def day_of(cell: str, *, month_first: bool = False) -> str:
    """A day as exports write it, as YYYY-MM-DD; empty where it is none.

    3/4/2026 is the third of April unless `month_first`; 3/14/2026 can only be one of March.
    """
    return _read(cell, _FORMS, month_first=month_first)


@lru_cache(maxsize=1 << 14)
def day_told(cell: str, *, month_first: bool = False) -> str:
    """As `day_of`, for a cell of which its column says that it tells a day: with two digits of a
    year, too, as a number of seconds since 1970, or of a spreadsheet's days.
    """
    day = day_of(cell, month_first=month_first) or day_since_1970(cell)
    if day:
        return day
    if match := _SERIAL.fullmatch(cell.strip()):
        return (_DAY_0 + timedelta(days=int(match[1]))).isoformat()
    found = _read(cell, _SHORT_FORMS, month_first=month_first)
    behind = _WORDS_BEFORE.sub("", cell.strip(), count=1)  # the name of a day of the week
    return found or _read(behind, _FORMS, month_first=month_first)


def puts_months_first(cell: str) -> bool:
    """Whether a day can only be read with its month first, as 5/13/2026."""
    return _MONTH_FIRST.match(cell) is not None


def day_since_1970(cell: str) -> str:
    """The day (UTC) of a number of seconds or milliseconds since 1970, as programs write times; an
    empty text where it is none, or long ago.
    """
    match = _SECONDS.fullmatch(cell.strip())
    return datetime.fromtimestamp(int(match[1]), UTC).date().isoformat() if match else ""


def _read(cell: str, forms: tuple[re.Pattern[str], ...], *, month_first: bool) -> str:
    text = cell.strip()
    if not text.isascii():
        text = text.translate(_SPACES)
    if not text[:1].isdigit():
        text = _WEEKDAY.sub("", text, count=1)
    for form in forms:
        match = form.match(text)
        if match is None:
            continue
        parts = match.groupdict()
        if "a" in parts:
            a, b = int(parts["a"]), int(parts["b"])
            month, day = (a, b) if b > 12 or (month_first and a <= 12) else (b, a)
        else:
            month = int(parts["m"]) if "m" in parts else _month(parts["n"])
            day = int(parts["d"])
        year = int(parts["y"]) + (2000 if len(parts["y"]) < 4 else 0)
        try:
            return date(year, month, day).isoformat()
        except ValueError:
            return ""
    return ""
