"""Lists of errors without counts, rules that are used, and stock that says what it is."""

from __future__ import annotations

from conftest import NEW, OLD, Program


def test_every_row_of_an_error_list_fails(museum: Program) -> None:
    museum.write(
        "errors.csv",
        "URL,Reason\n/a,Not found (404)\n/b,Soft 404\n/c,Server error (5xx)\n/d,Redirect error\n",
    )
    museum("gather", "errors.csv")  # known already, and counts all the same
    found = museum.json("triage", "errors.csv", code=1)
    assert {
        (e["legacy_url"].removeprefix(OLD), e["state"], *e["statuses"]) for e in found["entries"]
    } == {
        ("/a", "new", "404"),
        ("/b", "new", "soft 404"),
        ("/c", "new", "5xx"),
        ("/d", "new", "redirect error"),
    }
    said = museum("triage", code=1).out
    assert "Nothing fails" not in said
    museum("decide", "/a", "--gone")
    assert {
        e["state"]
        for e in museum.json("triage", code=1)["entries"]
        if e["legacy_url"] == f"{OLD}/a"
    } == {"answered"}


def test_a_list_of_errors_is_sorted_by_value_and_links(museum: Program) -> None:
    museum("gather", museum.write("links.csv", "url,linking domains\n/linked,9\n"))
    found = museum.json("triage", museum.write("errors.csv", "url\n/plain\n/linked\n"), code=1)
    assert [e["legacy_url"].removeprefix(OLD) for e in found["entries"]] == ["/linked", "/plain"]


def hit(target: str, day: str, status: int = 301, agent: str = "Mozilla/5.0") -> str:
    return (
        f'192.0.2.1 - - [{day}:10:00:00 +0000] "GET {target} HTTP/1.1" {status} 5 "-" "{agent}"\n'
    )


def test_templates_and_linked_rules_are_looked_at_and_use_counts_since_they_are_live(
    museum: Program,
) -> None:
    museum(
        "gather", museum.write("seen.txt", "/j/one.html\n/j/two.html\n/k/one\n/before\n/linked\n")
    )
    museum.write(
        "backlinks.csv",
        "Source URL,Target "
        f"URL\nhttps://a.example/1,{OLD}/linked\nhttps://a.example/2,{OLD}/linked\n",
    )
    museum("gather", "backlinks.csv")
    museum("decide", "/j/{slug}.html", "--to", "/journal/{slug}/")
    museum("decide", "/k/{slug}", "--to", "/kiosk/{slug}/")
    for path in ("/before", "/linked"):
        museum("decide", path, "--to", "/goal/")
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "rules", "--live", "--at", "2026-01-01T00:00")
    log = hit("/before", "05/Dec/2025") + hit("/j/one.html", "20/Mar/2026")
    log += "".join(
        hit("/other", f"{day:02}/{month}/2026", 200)
        for month in ("Jan", "Feb", "Mar")
        for day in range(1, 29)
    )
    log += "".join(
        hit("/other", f"{day:02}/{month}/2026", 200)
        for month, days in (("Jan", (29, 30, 31)), ("Mar", (29, 30, 31)))
        for day in days
    )
    museum("gather", museum.write("access.log", log))
    found = museum.json("retire", "--unused-for", "60")
    kept = {r["legacy_url"].removeprefix(OLD): r["kept"] for r in found["rules"]}
    assert kept["/linked"] == "others link to it"
    assert kept["/before"] == ""
    assert kept["/j/{slug}.html"] == "people asked for it"
    assert kept["/k/{slug}"] == ""
    museum("retire", "--unused-for", "60", "--accept")
    assert "/k/{slug}" not in {
        r["legacy_url"].removeprefix(OLD)
        for r in museum.json("retire", "--unused-for", "60")["rules"]
    }
    museum("undo")
    assert len(museum.json("retire", "--unused-for", "60")["rules"]) == 4


def test_rows_of_a_stock_that_redirect_are_no_live_pages(open_museum: object) -> None:
    program: Program = open_museum("--old", NEW, "--new", NEW)  # type: ignore[operator]
    program.write(".htaccess", "Redirect 301 /a.html /b.html\nRedirect 301 /b.html /c/\n")
    program("gather", program.write("seen.txt", f"{NEW}/a.html\n{NEW}/b.html\n"), ".htaccess")
    before = program.json("check", code=1)["counts"]
    assert before["chain"] >= 1
    program(
        "stock",
        program.write(
            "crawl.csv", f"url,status\n{NEW}/a.html,301\n{NEW}/b.html,301\n{NEW}/c/,200\n"
        ),
    )
    assert program.json("check", code=1)["counts"]["chain"] == before["chain"]
    assert program.json("entries", "/a.html")["answer"] == "move"


def test_pages_that_live_on_where_both_sites_share_a_host_are_not_open(open_museum: object) -> None:
    program: Program = open_museum("--old", NEW, "--new", NEW)  # type: ignore[operator]
    program("stock", program.write("new.csv", f"url,status\n{NEW}/about/,200\n{NEW}/moved/,301\n"))
    log = (
        hit("/about/", "03/May/2026", 200)
        + hit("/moved/", "03/May/2026", 301)
        + hit("/other/", "03/May/2026", 200)
    )
    program("gather", program.write("access.log", log))
    assert {
        e["legacy_url"].removeprefix(NEW): e["answer"] for e in program.json("entries")["entries"]
    } == {"/about/": "keep", "/moved/": "open", "/other/": "open"}
    assert program.json("balance")["open"] == 2


def test_scanners_are_no_people_in_the_share_of_what_is_not_found(museum: Program) -> None:
    log = (
        "".join(hit(f"/page-{n}", "03/May/2026", 200) for n in range(8))
        + hit("/lost", "03/May/2026", 404) * 2
    )
    log += "".join(
        hit(f"/wp-login.php?{n}", "03/May/2026", 404) + hit(f"/.env?{n}", "03/May/2026", 404)
        for n in range(30)
    ).replace("192.0.2.1 ", "203.0.113.9 ")
    said = museum("triage", museum.write("access.log", log), code=1).out
    assert "10 requests by people, 2 of them not found (20.0 %)" in said


def test_pages_lead_home_only_where_they_are_homes(museum: Program) -> None:
    museum(
        "stock", museum.write("new.csv", f"url,status\n{NEW}/,200\n{NEW}/de/,200\n{NEW}/x/,200\n")
    )
    museum("gather", museum.write("old.txt", "/\n/index.php?id=7\n/de/index.html\n/inner\n"))
    museum("match")
    assert museum.json("entries", "/")["answer"] == "keep"
    for old, new in (("/index.php?id=7", "/"), ("/de/index.html", "/de/"), ("/inner", "/de/")):
        museum("decide", old, "--to", new)
    museum.write("asked.txt", "/index.php?id=7\n/de/index.html\n/inner\n")
    rows = {
        r["url"].removeprefix(OLD): r["verdict"]
        for r in museum.json("rehearse", "asked.txt", code=1)["rows"]
    }
    assert rows["/index.php?id=7"] == rows["/inner"] == "home-fallback"
    assert "/de/index.html" not in rows or rows["/de/index.html"] == "ok"


def test_a_destination_with_the_wrong_scheme_is_called_so(museum: Program) -> None:
    museum("stock", museum.write("new.csv", f"url,status\n{NEW}/x/,200\n"))
    museum("decide", "/a", "--to", f"{NEW.replace('https', 'http')}/x/", "--as-given")
    details = [f["detail"] for f in museum.json("check", code=None)["findings"]]
    assert any("its scheme alone is wrong" in d for d in details), details


def test_the_old_home_page_is_offered_the_new_one(open_museum: object) -> None:
    old = "http://old.quillhaven.example"
    program: Program = open_museum("--old", old, "--new", NEW)  # type: ignore[operator]
    program("stock", program.write("new.csv", f"url,status\n{NEW}/visit/,200\n"))
    program("gather", program.write("old.txt", "http://old.quillhaven.example/\n"))
    assert [p["destination"] for p in program.json("match")["proposals"]] == [f"{NEW}/"]
