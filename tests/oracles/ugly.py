"""Ugly things, drawn often: what strangers' addresses, parameters and hosts look like when nobody
minded them.
"""

from __future__ import annotations

from hypothesis import strategies as st

LETTERS = "abAB09-._~"
SIGNS = "!$&'()*+,;=:@"
ESCAPES = (
    "%20", "%2F", "%2f", "%5C", "%5c", "%00", "%0d%0a", "%7F", "%7e", "%25", "%2525", "%3F",
    "%23", "%3B", "%61", "%C3%A9", "%c3%a9", "%E9", "%e9", "%C3", "%FF", "%80", "%E2%82%AC",
    "%C3%83%C2%A9", "%zz", "%", "%2", "%u00e9", "%2e", "%2E%2e",
)  # fmt: skip
RAW = ("é", "ß", "ü", "e\u0301", "日本", "\u212a", "İ", "ſ", "\U0001f512", "\u200b", " ", "\\", '"',
    "<", ">", "|", "^", "`", "{", "}", "[", "]")  # fmt: skip
DOTS = ("/", "//", "///", "/.", "/./", "/..", "/../", "/.../", "/.a", "/a.", "/..a")


def pieces(*more: str) -> st.SearchStrategy[str]:
    """One ugly piece of an address."""
    return st.one_of(
        st.sampled_from(LETTERS),
        st.sampled_from(LETTERS),
        st.sampled_from(SIGNS),
        st.sampled_from(ESCAPES),
        st.sampled_from(ESCAPES),
        st.sampled_from([*RAW, *more]),
        st.sampled_from(DOTS),
    )


def texts(most: int = 8) -> st.SearchStrategy[str]:
    """Some ugly pieces, one after the other."""
    return st.lists(pieces(), max_size=most).map("".join)


paths = texts().map(lambda text: "/" + text)
"""Ugly paths: escapes of all kinds, other scripts, slashes and dots."""

names = st.sampled_from(
    ["a", "A", "b", "item", "ITEM", "item[]", "i", "utm_source", "UTM_Source", "gclid", "sid",
        "PHPSESSID", "é", "%C3%A9", "a.b", "$f", "q{1}", ""]
)  # fmt: skip
values = st.one_of(
    st.sampled_from(["", "1", "12", "01", "x y", "x+y", "x%20y", "a=b", "%c3%a9", "%E9", "&amp;",
        "x?y", "x#y", "x;y", "v" * 300, "%zz", "%"]),
    texts(3).map(lambda text: text.replace("&", "")),
)  # fmt: skip
pairs = st.one_of(
    st.builds(lambda name, value: f"{name}={value}", names, values), names, st.just("=")
)
queries = st.lists(pairs, max_size=5).map("&".join)
"""Ugly queries: empty and repeated parameters, names in two letter cases, no values, long ones."""

hosts = st.sampled_from(
    [
        "www.quillhaven.example", "quillhaven.example", "WWW.Quillhaven.EXAMPLE",
        "m.quillhaven.example", "mobile.quillhaven.example", "shop.quillhaven.example",
        "quillhaven.example.", "bücher.example", "xn--bcher-kva.example", "127.0.0.1",
        "quillhaven.example:8080", "quillhaven.example:80", "quillhaven.example:443", "[::1]",
        "user:secret@quillhaven.example",
    ]
)  # fmt: skip
