"""The names of parameters and files that mean the same on most sites: where a visit came from,
whose it is, another view, a folder's page.
"""

TRACKING = (
    "utm_source",
    "utm_medium",
    "utm_campaign",
    "utm_term",
    "utm_content",
    "utm_id",
    "gclid",
    "gbraid",
    "wbraid",
    "dclid",
    "msclkid",
    "fbclid",
    "ttclid",
    "twclid",
    "mc_cid",
)
"""Parameters that tell where a visit came from, in the order in which rules carry them on."""

TRACKING_ONLY_FOLDED = (
    "mc_eid",
    "igshid",
    "yclid",
    "srsltid",
    "_ga",
    "_gl",
    "epik",
    "vero_id",
    "oly_enc_id",
    "hsctatracking",
)
"""Parameters of the same sort that name a person or a click; they are folded and never carried."""

CLICK_IDENTIFIERS = frozenset(
    [
        *(name for name in TRACKING if not name.startswith("utm_") and name != "mc_cid"),
        *TRACKING_ONLY_FOLDED,
    ]
)
"""Those whose values name one click, or a person."""

SESSION = (
    "phpsessid",
    "jsessionid",
    "aspsessionid",
    "sessionid",
    "session_id",
    "sid",
    "cfid",
    "cftoken",
    "zenid",
    "oscsid",
)
"""Parameters that name one visit, in lower case."""

DOUBTFUL_SESSION = frozenset(["sid", "cfid", "sessionid", "session_id"])
"""Those of them that choose the page on other sites (a story's number, a talk of a conference):
there the value decides.
"""

INDEX_FILES = (
    "index.html",
    "index.htm",
    "index.shtml",
    "index.php",
    "index.asp",
    "index.aspx",
    "index.jsp",
    "index.cfm",
    "default.htm",
    "default.html",
    "default.asp",
    "default.aspx",
)

VIEW_PARAMS = (
    "amp",
    "print",
    "printable",
    "printview",
    "print_view",
    "printfriendly",
    "printer_friendly",
)
"""Parameters that ask for another view of the same page, in lower case."""

VIEW_SEGMENTS = ("amp", "print")
"""Last path segments that ask for another view of the page above them (see
`FoldingPolicy.fold_path`).
"""
