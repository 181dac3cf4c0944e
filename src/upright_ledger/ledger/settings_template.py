"""The settings file of a new ledger, with what each setting means."""

TEMPLATE = """# Settings of an Upright Ledger. Edit freely; comments stay.

[ledger]
name = ""
# Another database may be named here, such as postgresql+psycopg://user@host/name.
database = ""

# One [[site]] for each old site: the origins that show the same pages (www, scheme, mobile host).
[new]
# Where destinations may lie. The first one is where bare paths are taken to be.
origins = []
# Trailing slash of the new site's pages: "always", "never", or "as-stock" (as the stocked pages have it).
slash = "as-stock"

[folding]
# "fold" takes A-Z and a-z in paths for the same, "exact" does not.
case = "fold"
# Parameters that tell where a visit came from. Rules carry them on in this order.
tracking = []
# The same sort, naming a person or a click: folded and never carried.
tracking_only_folded = []
session = []
index_files = []
# Parameters, and last path segments, that ask for another view of the same page: folded into it.
view_params = []
view_segments = []
# Classes (such as "furniture") or paths (such as "/downloads/*.js") that are entries all the same: see `upright entries --aside`.
take_back = []
# Parameters whose values are masked before anything is stored, besides those of docs/security.md; and parameters that never are.
secret = []
no_secret = []

[folding.significant]
# Which parameters choose the page, by path or pattern: "/catalogue.php" = ["item"], "/journal/*" = []
# A path that is not named here keeps every parameter that is neither tracking nor session.

[sections]
# Named groups of entries, by their paths: journal = "/journal/*", shop = ["/shop/*", "/print-room/{item}"].
# The first that matches counts; see `upright entries --sections`.

[value]
# Weights of the value formula: see docs/value.md.
traffic = 1.0
linking_domains = 5.0
linking_pages = 1.0
impressions = 0.01

[form]
# What a [[site]] with a line canonical = "https://..." does with requests that no rule answers: one hop to that origin.
# Where a request's scheme is known from: "" (it plays no part), "connection", or a header that your proxy sets, such as "X-Forwarded-Proto".
scheme = ""
# Trailing slash of these addresses: "always", "never", or "" for as it comes; and whether capitals are put into lower case.
slash = ""
lower_case = false

[build]
# A Cache-Control header for redirects, such as "max-age=3600" for the launch weeks: browsers keep a wrong 301 for long otherwise.
cache_control = ""

[survey]
# How `upright survey` goes unless its options say otherwise: hosts, within, without, ignore (lists), depth, most, rate, concurrent, seconds,
# agent, own_site, external.
# without = ["/search*"]
# ignore = ["sort", "view"]

[origins]
# What hosts are from which people come, where triage does not know it: "search engine", "social network", "mail", "campaign", "app".
# mail = ["letters.quillhaven.example"]

[retention]
# How many days details of logs stay, 0 for ever: where requests came from, and the digests by which a line that is given again is known.
# Daily counts stay, and no visitor's address is ever kept. `upright triage` lets go of what is older.
referrers = 400
lines = 400

[notify]
# By which channels `upright triage --new` says what fails newly: e-mail (the password comes from UPRIGHT_SMTP_PASSWORD), and JSON posted to an address.
# to = ["ada@quillhaven.example"]
# sender = "upright@quillhaven.example"
# server = "mail.quillhaven.example"
# port = 587
# tls = "starttls"    # or "tls", "none"
# user = ""
# post = "https://hooks.quillhaven.example/upright"

# [profile.NAME] describes a platform that imports a list of redirects, for `upright build --for NAME`: format = "csv" or "jsonl",
# the names of its columns (old, new, status), paths_only, limit (rows), queries, patterns and gone = true or false.
"""
