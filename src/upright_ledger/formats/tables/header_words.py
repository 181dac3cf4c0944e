"""Words of headers in several languages: which column holds old addresses, and which new ones."""

from __future__ import annotations

import re

_OLD = frozenset(
    [
        "old",
        "legacy",
        "from",
        "source",
        "previous",
        "former",
        "before",
        "current",
        "origin",
        "original",
        "existing",
        "alt",
        "alte",
        "alter",
        "altes",
        "alten",
        "von",
        "quelle",
        "bisher",
        "bisherige",
        "bisheriger",
        "vorher",
        "vorherige",
        "ursprung",
        "herkunft",
        "ancien",
        "ancienne",
        "anciens",
        "anciennes",
        "depuis",
        "origine",
        "avant",
        "actuelle",
        "actuel",
        "antiguo",
        "antigua",
        "antiguas",
        "antiguos",
        "anterior",
        "desde",
        "origen",
        "viejo",
        "vieja",
        "actual",
        "vecchio",
        "vecchia",
        "vecchi",
        "vecchie",
        "da",
        "prima",
        "precedente",
        "provenienza",
        "attuale",
        "oud",
        "oude",
        "van",
        "bron",
        "bronpagina",
        "källa",
        "källsida",
        "źródło",
        "źródłowa",
        "źródłowy",
        "fonte",
        "origem",
        "huidige",
        "huidig",
        "vorige",
    ]
)
_NEW = frozenset(
    [
        "new",
        "to",
        "target",
        "destination",
        "goal",
        "after",
        "redirect",
        "redirects",
        "redirectto",
        "redirecttarget",
        "neu",
        "neue",
        "neuer",
        "neues",
        "neuen",
        "nach",
        "ziel",
        "zukünftig",
        "künftig",
        "künftige",
        "weiterleitung",
        "weiterleitungsziel",
        "umleitung",
        "umleitungsziel",
        "nouveau",
        "nouvelle",
        "nouveaux",
        "nouvelles",
        "vers",
        "cible",
        "après",
        "future",
        "futur",
        "nuevo",
        "nueva",
        "nuevas",
        "nuevos",
        "hacia",
        "destino",
        "futura",
        "futuro",
        "nuovo",
        "nuova",
        "nuovi",
        "nuove",
        "verso",
        "destinazione",
        "dopo",
        "nieuw",
        "nieuwe",
        "naar",
        "doel",
        "doelpagina",
        "bestemming",
        "mål",
        "målsida",
        "docelowa",
        "docelowy",
        "cel",
        "toekomstige",
    ]
)
# What a header says besides: that its cells are addresses.
_ADDRESS = frozenset(
    [
        "url",
        "urls",
        "uri",
        "address",
        "addresses",
        "adress",
        "page",
        "pages",
        "path",
        "link",
        "location",
        "site",
        "web",
        "website",
        "full",
        "absolute",
        "relative",
        "adresse",
        "adressen",
        "seite",
        "seiten",
        "seitenadresse",
        "pfad",
        "lien",
        "page",
        "chemin",
        "dirección",
        "direccion",
        "página",
        "pagina",
        "enlace",
        "ruta",
        "indirizzo",
        "indirizzi",
        "percorso",
        "pagine",
        "adres",
        "adressen",
        "pad",
        "de",
        "la",
        "le",
        "les",
        "el",
        "los",
        "il",
        "lo",
        "gli",
        "the",
        "of",
        "der",
        "die",
        "das",
        "d",
        "l",
        "du",
        "des",
        "del",
        "di",
        "della",
        "dell",
        "do",
        "sida",
        "sidan",
        "strony",
        "strona",
    ]
)
_JOINED = re.compile(
    r"(?P<side>alt|neu|ziel|quell|old|new|from|to|source|target|destination|legacy)(?:e|es|er|"
    r"en)?(?P<what>url|uri|adresse|address|pfad|path|seite|page|link)s?\Z"
)


def side_of(header: str) -> str:
    """Whether a header names old addresses ("old"), new ones ("new"), or neither: "Alte URL", "URL
    (neu)", "old_path".
    """
    words = [
        w
        for w in re.split(r"[^\w]+|_", re.sub(r"([a-zà-ÿ])([A-Z])", r"\1 \2", header).lower())
        if w and not w.isdigit()
    ]
    left = []
    for word in words:
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
