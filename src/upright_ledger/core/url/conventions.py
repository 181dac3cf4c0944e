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

ACTION_PARAMS = frozenset(
    [
        "add",
        "add-to-cart",
        "add_to_cart",
        "addtocart",
        "add_to_wishlist",
        "add-to-wishlist",
        "add_to_compare",
        "buy_now",
        "remove",
        "remove_item",
        "removed_item",
        "undo_item",
        "delete",
        "logout",
        "signout",
        "replytocom",
        "unsubscribe",
    ]
)
"""Parameters by which an address does something, rather than name a page, in lower case."""

VERB_PARAMS = frozenset(["action", "act", "do", "cmd", "op", "task", "func", "mode"])
"""Parameters that do so where their value is one of ACTION_VALUES."""

ACTION_VALUES = frozenset(
    [
        "add",
        "add_product",
        "add-to-cart",
        "buy_now",
        "buy",
        "cart_add",
        "delete",
        "remove",
        "edit",
        "update",
        "save",
        "submit",
        "send",
        "vote",
        "rate",
        "login",
        "logout",
        "signin",
        "signout",
        "register",
        "subscribe",
        "unsubscribe",
        "compare_add",
        "reply",
        "report",
    ]
)

ACTION_SEGMENTS = frozenset(
    [
        "logout",
        "log-out",
        "logoff",
        "log-off",
        "signout",
        "sign-out",
        "add-to-cart",
        "addtocart",
        "unsubscribe",
        "abmelden",
        "deconnexion",
        "cerrar-sesion",
        "uitloggen",
        "wyloguj",
    ]
)
"""Last segments of paths that do something, in lower case."""


def does_something(path: str, query: str) -> bool:
    """Whether an address acts (puts into a basket, signs out, votes) and names no page."""
    if path.rstrip("/").rpartition("/")[2].partition(".")[0].lower() in ACTION_SEGMENTS:
        return True
    for part in query.lower().split("&") if query else ():
        name, _, value = part.partition("=")
        if name in ACTION_PARAMS or (name in VERB_PARAMS and value in ACTION_VALUES):
            return True
    return False
