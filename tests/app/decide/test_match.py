"""Matching as a command: what it answers by itself, what it leaves to people, and what stock tells
it.
"""

from __future__ import annotations

from conftest import NEW, OLD, Program


def test_match_answers_equal_addresses_and_leaves_doubt_to_people(museum: Program) -> None:
    museum.write("urls.txt", "/about/\n/contact\n/events/\n/index.html\n/visit/hours.html\n/zzz\n")
    museum.write("titles.csv", "url,title\n/events/,Postcards of the harbour\n")
    museum.write(
        "stock.csv",
        f"url,title,status\n{NEW}/about/,About,200\n{NEW}/contact/,Contact,200\n{NEW}/events/,"
        f"Concerts and talks,200\n{NEW}/,Home,200\n{NEW}/visit/hours/,Hours,200\n{NEW}/gone/,Gone,"
        "404\n",
    )
    museum("gather", "urls.txt", "titles.csv")
    assert "no pages in stock" in museum("match", code=2).err
    museum("stock", "stock.csv")
    result = museum.json("match", "--accept-above", "1.01")
    assert (result["same_address"], result["accepted"]) == (3, 0)
    museum("build", "--for", "nginx", "--out", "rules")
    listed = (museum.folder / "rules/redirects.csv").read_text()
    assert f"{OLD}/contact,{NEW}/contact/,301" in listed
    assert f"{OLD}/index.html,{NEW}/,301" in listed
    assert "/about" not in listed
    assert "/events" not in listed
    assert all(p["destination"] != f"{NEW}/" for p in result["proposals"])
    assert result["without_proposal"] >= 1
    again = museum.json("match", "--accept-above", "1.01")
    assert again["same_address"] == again["accepted"] == 0
    assert again["proposals"] == result["proposals"]


def test_stock_reads_lists_and_staging(museum: Program) -> None:
    museum.write("list.txt", f"{NEW}/a/\n/b/\nhttps://elsewhere.example/\n")
    museum.write(
        "staging.csv", "Address,Page title,Status code\nhttps://staging.example/c/,C,200\n"
    )
    museum.write(
        "sitemap.xml",
        f"<urlset xmlns='http://www.sitemaps.org/schemas/sitemap/0.9'><url><loc>{NEW}/d/</loc></"
        "url></urlset>",
    )
    result = museum.json("stock", "list.txt", "sitemap.xml")
    assert result["pages"] == 3
    assert result["sources"][0]["set_aside"] == 1
    assert "say --publish-as" in museum("stock", "staging.csv", code=3).err
    assert museum.json("stock", "staging.csv", "--publish-as", NEW)["pages"] == 4
    assert (
        "no declared new origin"
        in museum("stock", "staging.csv", "--publish-as", "https://x.example", code=2).err
    )
    assert museum.json("stock", "list.txt")["sources"][0]["known"]
    museum.write(
        "access.log", '192.0.2.1 - - [03/May/2026:10:00:00 +0000] "GET /a HTTP/1.1" 200 1 "-" "x"\n'
    )
    assert "lists no destinations" in museum("stock", "access.log", code=3).err


def test_match_accepts_for_a_wanted_share_of_errors(museum: Program) -> None:
    names = [
        f"{a}-{b}"
        for a in ("brass", "oak", "slate", "gilt")
        for b in ("dial", "bell", "gong", "case", "hand")
    ]
    museum.write(
        "urls.txt",
        "".join(f"/journal/2011/{n}.html\n" for n in names)
        + "/journal/2011/oak-gong-heard.html\n/zither/quartz.html\n",
    )
    museum.write(
        "stock.csv",
        "url,title\n"
        + "".join(f"{NEW}/stories/{n}/,{n.replace('-', ' ')}\n" for n in names)
        + f"{NEW}/stories/,Stories\n",
    )
    museum("gather", "urls.txt")
    museum("stock", "stock.csv")
    result = museum.json("match", "--max-error", "5%")
    assert result["accepted"] == 20
    assert result["expected_errors"] <= 0.05 * 20
    assert result["estimated"]
    assert [p["legacy_url"] for p in result["proposals"]] == [
        f"{OLD}/journal/2011/oak-gong-heard.html"
    ]
    assert (result["without_proposal"], result["fallbacks"]) == (1, 0)
    text = museum("undo") and museum("match", "--max-error", "0.05").out
    assert "accepted proposals less than 1 may be wrong" in text
    assert "no share" in museum("match", "--max-error", "5 or so", code=2).err
    assert "contradict" in museum("match", "--max-error", "1%", "--accept-above", "0.9", code=2).err


def test_the_order_of_gathering_does_not_matter(bare: Program) -> None:
    lists = [
        "/a/brass-dial.html\n/a/oak-bell.html\n/b/gilt-hand.html\n",
        "/b/slate-gong.html\n/a/oak-case.html\n/b/oak-hand.html\n",
    ]
    stock = "url,title\n" + "".join(
        f"{NEW}/{n}/,\n"
        for n in ("brass-dial", "oak-bell-tower", "gilt-hand", "slate-gongs", "case-of-oak")
    )
    found = []
    for name, order in (("one", lists), ("two", lists[::-1])):
        bare("open", name, "--old", OLD, "--new", NEW)
        program = Program(bare.folder / name)
        for n, text in enumerate(order):
            program.write(f"{n}.txt", text)
            program("gather", f"{n}.txt")
        program.write("stock.csv", stock)
        program("stock", "stock.csv")
        found.append(program.json("match", "--accept-above", "1.01")["proposals"])
    assert found[0] == found[1] != []


def test_saved_pages_say_what_they_are(museum: Program) -> None:
    head = (
        '<html lang="en"><head><title>{title}</title>{link}<meta name="description" content="All '
        'about it"></head>'
    )
    body = "<body><h1>{title}</h1><a href='/visit/a.html'>Where to find us</a></body></html>"
    saved = "<!-- saved from url=(0042)http://www.quillhaven.example/x17.html -->"
    museum.write(
        "old.html",
        f"<!doctype html>{saved}" + (head + body).format(title="The harbour bell", link=""),
    )
    link = f'<link rel="canonical" href="{NEW}/stories/harbour-bell/">'
    museum.write(
        "new.html", "<!doctype html>" + (head + body).format(title="The harbour bell", link=link)
    )
    museum.write("mute.html", "<!doctype html>" + (head + body).format(title="Nobody", link=""))
    museum("gather", "old.html")
    assert museum.json("stock", "new.html")["pages"] == 1
    assert "does not say its own address" in museum("stock", "mute.html", code=3).err
    proposals = museum.json("match", "--accept-above", "1.01")["proposals"]
    found = {p["legacy_url"]: p for p in proposals}[f"{OLD}/x17.html"]
    assert found["destination"] == f"{NEW}/stories/harbour-bell/"
    assert "has the same title" in found["reason"]


def test_the_words_of_links_help(museum: Program) -> None:
    museum.write("links.csv", f"url,anchor text\n{OLD}/d/4711.html,The turret clock of Sandholt\n")
    others = "".join(f"{NEW}/stories/{n}/,{n}\n" for n in ("bell", "dial", "gong", "hand", "case"))
    museum.write(
        "stock.csv", f"url,title\n{NEW}/stories/sandholt/,The turret clock of Sandholt\n{others}"
    )
    museum("gather", "links.csv")
    museum("stock", "stock.csv")
    (best,) = museum.json("match", "--accept-above", "1.01")["proposals"]
    assert best["destination"] == f"{NEW}/stories/sandholt/"


def test_how_an_answer_was_found_stays_with_it_for_good(museum: Program) -> None:
    museum.write(
        "old.csv",
        "url,title\n/clocks/tower.html,The tower clock of Quillhaven\n/clocks/pocket.html,Pocket "
        "watches by Ada\n/x,Something else\n",
    )
    museum.write(
        "new.csv",
        f"url,title,status\n{NEW}/collection/tower-clock/,The tower clock of "
        f"Quillhaven,200\n{NEW}/collection/pocket/,Pocket watches by "
        f"Ada,200\n{NEW}/collection/towers/,Towers of the town,200\n",
    )
    museum("gather", "old.csv")
    museum("stock", "new.csv")
    museum("match", "--accept-above", "0.2")
    before = {
        e["legacy_url"]: (e["confidence"], e["reason"], e["by"], e["author"])
        for e in museum.json("entries", "--by", "match")["entries"]
    }
    assert len(before) >= 2
    assert all(
        0 < c <= 1 and reason and who == ("match", "tester")
        for c, reason, *rest in before.values()
        for who in [tuple(rest)]
    )
    museum("match")  # nothing more to accept: the others keep what they had
    assert {
        e["legacy_url"]: (e["confidence"], e["reason"], e["by"], e["author"])
        for e in museum.json("entries", "--by", "match")["entries"]
    } == before
    museum("review", "--out", "sample.csv", "--sample", "2")
    tower = f"{OLD}/clocks/tower.html"
    assert "confidence" in museum("entries", "/clocks/tower.html").out
    museum("decide", "/clocks/tower.html", "--gone", UPRIGHT_AUTHOR="ada")
    gone = museum.json("entries", "/clocks/tower.html")
    assert (gone["by"], gone["author"], gone["confidence"]) == ("person", "ada", "")
    museum("undo")
    again = museum.json("entries", "/clocks/tower.html")
    assert (again["confidence"], again["reason"], again["by"], again["author"]) == before[tower]
    museum("decide", "/clocks/tower.html", "--to", again["destination"])
    kept = museum.json("entries", "/clocks/tower.html")
    assert (kept["by"], kept["confidence"], kept["reason"]) == ("person", *before[tower][:2])
    lowest = min(c for c, *_ in before.values())
    assert museum.json("entries", "--answer", "move", "--below", lowest)["entries"] == []


def test_proposing_without_titles_is_said(museum: Program) -> None:
    museum("gather", museum.write("old.txt", "/clocks/tower.html\n"))
    museum("stock", museum.write("new.txt", f"{NEW}/towers/\n"))
    said = museum("match").out
    assert "None of the old pages has a title" in said
    assert "1.01" not in said


def test_no_page_takes_the_place_of_an_address_that_does_something(museum: Program) -> None:
    items = "".join(f"/p/{n}/brass-clock-{n}/,Brass clock {n}\n" for n in range(4700, 4720))
    museum.write("new.csv", "url,title\n" + items.replace("/p/", f"{NEW}/p/"))
    acts = ["/shop.php?add=4711", "/shop.php?action=buy_now&id=4711", "/brass-clock-4711/logout"]
    museum.write("old.txt", "".join(f"{OLD}{path}\n" for path in [*acts, "/shop.php?id=4711"]))
    museum("stock", "new.csv")
    museum("gather", "old.txt")
    found = museum.json("match", "--accept-above", "1.01")
    assert [p["legacy_url"] for p in found["proposals"]] == [f"{OLD}/shop.php?id=4711"]
    assert found["without_proposal"] == 3
