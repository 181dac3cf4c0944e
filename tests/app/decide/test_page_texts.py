"""Contents: pages whose addresses and titles changed are found by what they say."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import time
import zlib
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import NEW, OLD, PROGRAM, Program
from upright_ledger.core.contents.sketches import sketch_of
from upright_ledger.core.contents.texts import Texts, alike_texts
from upright_ledger.core.crawl.observation import Facts, Observation
from upright_ledger.ledger.tables.runs.crawl_blocks import pack, sketches, unpack
from upright_ledger.web.local.stand_in import Served, serve_whole

WORDS = [
    "bell",
    "tower",
    "keeper",
    "winding",
    "brass",
    "pendulum",
    "harbour",
    "lamp",
    "quay",
    "rope",
    "market",
    "bread",
    "oven",
    "mill",
    "river",
    "stone",
    "bridge",
    "toll",
    "gate",
    "night",
    "watch",
    "lantern",
    "street",
    "chapel",
    "choir",
    "organ",
    "pipe",
    "bellows",
    "wood",
    "oak",
]
PAGES = 60
MENU = " ".join(["menu", *WORDS[::2], "opening hours and prices of all our houses and gardens"])
FOOT = " ".join(["imprint", *WORDS[1::3], "subscribe to what we write to our friends each month"])


class Relaunch:
    """Sixty pages whose addresses and titles say nothing; ten of them ended, and ten new ones say
    what none of them said.
    """

    def __init__(self, edited: float) -> None:
        self.edited = edited
        r = random.Random(f"relaunch {edited}")
        texts = [[r.choice(WORDS) for _ in range(r.randint(60, 300))] for _ in range(PAGES + 10)]
        self.old = {f"/p/{4000 + 7 * n}": texts[n] for n in range(PAGES)}
        order = r.sample(range(PAGES + 10), PAGES + 10)
        self.new, self.truth = {}, {}
        for place, n in enumerate(order):
            if n < 10:
                continue  # it ended
            text = [w if r.random() >= edited else r.choice(WORDS) for w in texts[n]]
            self.new[f"/page/{place + 100}/"] = text
            if n < PAGES:
                self.truth[f"/p/{4000 + 7 * n}"] = f"/page/{place + 100}/"

    def old_site(self, _: str, target: str) -> Served:
        return _served(self.old, target, MENU, "Old house")

    def new_site(self, _: str, target: str) -> Served:
        return _served(self.new, target, FOOT, "New house")


def _served(pages: dict[str, list[str]], target: str, around: str, name: str) -> Served:
    if target == "/":
        links = "".join(f'<a href="{page}">more</a>' for page in pages)
        return Served(200, f"<title>{name}</title><p>Welcome.</p>{links}")
    if target not in pages:
        return Served(404, "")
    return Served(
        200,
        f"<title>{name}</title><div>{around}</div><p>{' '.join(pages[target])}</p>"
        f"<div>{around[::-1]}</div>",
    )


Serving = tuple[Relaunch, Program, str, str]


@pytest.fixture
def serving(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Serving]:
    """The relaunch, a ledger of it, and where both sites are."""
    made = Relaunch(getattr(request, "param", 0.0))
    with serve_whole(made.old_site) as old, serve_whole(made.new_site) as new:
        Program(tmp_path)("open", "own", "--old", old, "--new", new)
        yield made, Program(tmp_path / "own"), old, new


def matched(run: Program, *options: str) -> dict[str, tuple[str, float, str]]:
    """Path of an old page → path of the page that is proposed first, confidence, reasons."""
    found = run.json("match", "--accept-above", "1.01", *options)["proposals"]
    return {
        _path(p["legacy_url"]): (_path(p["destination"]), p["confidence"], p["reason"])
        for p in found
    }


def _path(url: str) -> str:
    return "/" + url.split("/", 3)[3]


def survey(run: Program, at: str, side: str) -> None:
    run("survey", f"{at}/", "--as", side, "--rate", "0", code=None)


@pytest.mark.parametrize("serving", [0.1, 0.25], indirect=True)
def test_a_page_that_says_what_it_said_is_found(serving: Serving) -> None:
    relaunch, run, old, new = serving
    survey(run, old, "old")
    survey(run, new, "new")
    found = matched(run)
    right = [page for page, goal in relaunch.truth.items() if found.get(page, "")[:1] == (goal,)]
    assert len(right) >= 0.98 * len(relaunch.truth)
    ended = relaunch.old.keys() - relaunch.truth.keys()
    assert all(found[page][1] < 0.9 for page in ended & found.keys())
    done = run.json("match")
    # A quarter of the words are others: found, and hardly sure enough.
    assert done["accepted"] >= (0.9 if relaunch.edited < 0.2 else 0.2) * len(relaunch.truth)
    led = {_path(e["legacy_url"]): e for e in run.json("entries", "--limit", 0)["entries"]}
    answered = {p: _path(e["destination"]) for p, e in led.items() if e["answer"] == "move"}
    assert answered.pop("/") == "/"
    assert {p: g for p, g in answered.items() if relaunch.truth.get(p) != g} == {}


def test_old_pages_are_looked_at_when_asked_for(serving: Serving) -> None:
    relaunch, run, old, new = serving
    gone = "/p/1"
    (run.folder / "old.txt").write_text("".join(f"{old}{p}\n" for p in [*relaunch.old, gone]))
    run("gather", "old.txt")
    survey(run, new, "new")
    assert not any(goal == relaunch.truth.get(p) for p, (goal, *_) in matched(run).items())
    said = run("match", "--look", "--accept-above", "1.01")
    assert f"{PAGES + 1} old pages were asked for, {PAGES} are still up." in said.out
    found = matched(run, "--look")  # what was looked at once is not asked for again
    assert all(found[page][0] == goal for page, goal in relaunch.truth.items())
    assert "says the same" in found["/p/4070"][2]
    assert "All open entries were looked at before." in run("match", "--look").out
    assert run.json("entries", f"{old}/p/4070")["titles"] == ["Old house"]


def test_a_page_that_was_renamed_and_edited_is_known_by_most_of_its_text(
    serving: Serving,
) -> None:
    relaunch, run, _, new = serving
    survey(run, new, "new")
    moved = dict(list(relaunch.new.items())[:8])
    for n, (page, text) in enumerate(moved.items()):
        del relaunch.new[page]
        relaunch.new[f"/renamed-{n}/"] = [w if k % 20 else "now" for k, w in enumerate(text)]
    relaunch.new["/double/"] = [*relaunch.new["/renamed-0/"], "and", "one", "word"]
    found = run.json("survey", f"{new}/", "--as", "new", "--since", "1", "--rate", "0", code=None)
    by = {_path(r["old"]): (_path(r["new"]), r["by"]) for r in found["renamings"]}
    of = "most of its text"
    known = {page: (f"/renamed-{n}/", of) for n, page in enumerate(moved) if n}
    assert by == known  # of the first there are two now
    (double,) = (f for f in found["faults"] if f["kind"] == "nearly-same-content")
    assert {_path(url) for url in double["rows"][0]} == {"/double/", "/renamed-0/"}


def test_answers_that_match_would_not_give_make_it_careful(museum: Program) -> None:
    """Forty pages went to one page, though others have their very names."""
    names = [f"{a}-{b}" for a in WORDS[:10] for b in WORDS[10:22]]
    museum.write("new.csv", "url\n" + "".join(f"{NEW}/guide/{n}/\n" for n in [*names, "all"]))
    museum.write("old.csv", "url\n" + "".join(f"{OLD}/docs/{n}.html\n" for n in names))
    museum.write(
        "known.csv",
        "old,new\n" + "".join(f"{OLD}/docs/{n}.html,{NEW}/guide/all/\n" for n in names[:40]),
    )
    museum("stock", "new.csv")
    museum("gather", "old.csv")
    sure = museum.json("match")["accepted"]
    assert sure > 100
    museum("undo")
    museum("decide", "--from", "known.csv", code=None)
    found = museum.json("match")
    assert found["known"] == {"sure": 40, "elsewhere": 40}
    assert found["accepted"] == 0
    assert [b["from"] for b in found["bands"]] == sorted(
        (b["from"] for b in found["bands"]), reverse=True
    )


@pytest.mark.parametrize("text", ["", "Sold out.", "one " * 500, "\ud800 \x00 " * 30])
def test_what_says_nothing_has_no_sketch(text: str) -> None:
    assert sketch_of(text) == ""


def test_case_points_and_blanks_make_no_difference() -> None:
    text = " ".join(WORDS)
    assert sketch_of(text) == sketch_of(text.upper().replace(" ", " ...\n\t ")) != ""


def test_texts_without_blanks_between_words_are_told_apart() -> None:
    one, other = (
        "時計塔の鐘は毎朝六時に鳴ります。夜は静かです。",
        "図書館は火曜日から土曜日まで開いています。入場は無料です。",
    )
    texts = Texts.of([sketch_of(one), sketch_of(other)])
    now = Texts.of([sketch_of(f"{one}冬も。")])
    alike, _, _, told = alike_texts(texts, now, np.array([0, 1]), np.array([0, 0]))
    assert told.all()
    assert alike[0] > 0.8
    assert alike[1] == 0.0


@settings(max_examples=20)
@given(st.integers(0, 10**9), st.integers(100, 3000), st.floats(0, 0.3), st.integers(0, 400))
def test_a_sketch_tells_how_alike_whole_texts_are(
    seed: int, length: int, edited: float, around: int
) -> None:
    """The share that two texts have in common, as their runs of words tell it, and as their
    sketches do.
    """
    r = random.Random(seed)
    pool = [f"w{n}" for n in range(2000)]
    text = [r.choice(pool) for _ in range(length)]
    other = [w if r.random() >= edited else r.choice(pool) for w in text]
    other = [*(r.choice(pool) for _ in range(around)), *other]
    runs, others = ({tuple(t[k : k + 3]) for k in range(len(t) - 2)} for t in (text, other))
    exact = len(runs & others) / len(runs | others)
    sides = (Texts.of([sketch_of(" ".join(t))]) for t in (text, other))
    alike, _, _, told = alike_texts(*sides, np.array([0]), np.array([0]))
    assert told[0]
    assert abs(alike[0] - exact) < 0.35  # five times the deviation of 50 digests


def test_what_many_pages_say_is_no_text_of_theirs() -> None:
    r = random.Random(7)
    menu = [r.choice(WORDS) + str(r.randint(0, 99)) for _ in range(300)]
    pages = [[f"own{n}w{k}" for k in range(40)] for n in range(40)]
    old = Texts.of([sketch_of(" ".join([*menu, *p])) for p in pages])
    new = Texts.of([sketch_of(" ".join([*p, *menu])) for p in pages])
    i = np.arange(40)
    assert alike_texts(old, new, i, (i + 1) % 40).alike.max() == 0.0


def test_surveys_that_kept_no_texts_are_no_looks() -> None:
    seen = Observation("http://a.example/", 200, facts=Facts("A", sketch="x"))
    block = json.loads(zlib.decompress(pack([seen])))
    (row,) = block["rows"]
    assert [url for url, _ in sketches(pack([seen]))] == ["http://a.example/"]
    del row[-2][Facts._fields.index("sketch") :]
    old = zlib.compress(json.dumps(block).encode())
    assert list(sketches(old)) == []
    assert next(unpack(old)).facts.title == "A"


def test_ctrl_c_in_a_terminal_reaches_all_processes_and_is_said_once(tmp_path: Path) -> None:
    """A terminal sends it to the whole group; what crawls leaves it to the one that was started."""
    asked: list[str] = []

    def slow(_: str, target: str) -> Served:
        asked.append(target)
        time.sleep(0.05)
        return Served(200, f"<title>Page {target}</title>")

    with serve_whole(slow) as old:
        Program(tmp_path)("open", "own", "--old", old, "--new", NEW)
        run = Program(tmp_path / "own")
        run.write("old.txt", "".join(f"{old}/p/{n}\n" for n in range(300)))
        run.write("new.csv", f"url,title\n{NEW}/a/,A page\n")
        run("gather", "old.txt")
        run("stock", "new.csv")
        process = subprocess.Popen(
            [PROGRAM, "match", "--look", "--rate", "20"],
            cwd=run.folder,
            start_new_session=True,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )
        until = time.monotonic() + 60
        while len(asked) < 6 and time.monotonic() < until:
            time.sleep(0.05)
        os.killpg(process.pid, signal.SIGINT)
        said = process.communicate(timeout=60)[0]
    assert process.returncode == 0
    assert "Traceback" not in said
    assert "Stopped: `upright match --look` goes on with the others." in said
    assert len(asked) < 250
