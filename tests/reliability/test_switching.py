"""A build is in its folder whole, or not at all, whenever it is cut off; and so is the one before
it.
"""

from __future__ import annotations

import hashlib
import json
import os
import random
import signal
import subprocess
import time
from pathlib import Path

import pytest

from conftest import NEW, OLD, PROGRAM, Program


def wholly(folder: Path) -> str:
    """The digest of the build in a folder, all of whose files are as its manifest says."""
    manifest = json.loads((folder / "manifest.json").read_text())
    for name, told in manifest["sums"].items():
        assert hashlib.sha256((folder / name).read_bytes()).hexdigest() == told, (folder, name)
    return str(manifest["digest"])


@pytest.fixture
def built(museum: Program) -> Program:
    """A ledger with two builds in a folder, one kept, and a file that is not ours."""
    museum.pairs(*(f"/old/{n},/new/{n},301" for n in range(300)))
    museum("decide", "--from", "pairs.csv")
    museum("build", "--for", "nginx", "--out", "rules")
    museum("decide", "/old/1", "--gone")
    museum("build", "--for", "nginx", "--out", "rules")
    (museum.folder / "rules/notes.txt").write_text("mine\n")
    return museum


def test_what_is_not_ours_stays_and_what_somebody_changed_is_not_lost(built: Program) -> None:
    folder = built.folder / "rules"
    second, first = wholly(folder), wholly(folder / "previous")
    assert second != first
    (folder / "notes.txt").chmod(0o604)
    folder.chmod(0o750)
    built("decide", "/old/2", "--gone")
    built("build", "--for", "nginx", "--out", "rules")
    third = wholly(folder)
    assert (folder / "notes.txt").read_text() == "mine\n"
    assert (folder / "notes.txt").stat().st_mode & 0o777 == 0o604
    assert folder.stat().st_mode & 0o777 == 0o750
    assert wholly(folder / "previous") == second
    built("build", "--roll-back", "--out", "rules")
    assert (wholly(folder), wholly(folder / "previous")) == (second, third)
    (folder / "redirects.conf").write_text("by hand\n")
    for command in (
        ("build", "--for", "nginx", "--out", "rules"),
        ("build", "--roll-back", "--out", "rules"),
    ):
        assert "is not as it was built" in built(*command, code=2).err
        assert (folder / "redirects.conf").read_text() == "by hand\n"
    built("build", "--for", "nginx", "--out", "rules", "--force")
    assert (wholly(folder), wholly(folder / "previous")) == (third, third)
    assert not [p for p in built.folder.iterdir() if p.name.startswith(".upright-")]


def test_a_folder_that_cannot_be_switched_gets_its_files_one_by_one(built: Program) -> None:
    link = built.folder / "enabled"
    link.symlink_to("rules")
    built("decide", "/old/2", "--gone")
    built("build", "--for", "nginx", "--out", "enabled")
    assert link.is_symlink()
    wholly(built.folder / "rules")
    built("build", "--for", "nginx", "--out", ".")  # holds the ledger
    wholly(built.folder)
    assert built.json("balance")["entries"] == 300
    inside = built.folder / "rules"
    subprocess.run(
        [PROGRAM, "--ledger", "..", "build", "--for", "nginx", "--out", "."],
        cwd=inside,
        check=True,
        capture_output=True,
    )
    wholly(inside)


@pytest.mark.parametrize("back", [False, True], ids=["build", "roll back"])
def test_whenever_it_is_killed_both_builds_are_whole(built: Program, back: bool) -> None:
    folder, rng = built.folder / "rules", random.Random(back)
    known = {wholly(folder), wholly(folder / "previous")}
    if not back:
        built("decide", "/old/3", "--gone")
    command = ("--roll-back",) if back else ("--for", "nginx")
    begun = time.monotonic()
    built("build", *command, "--out", "rules")
    whole = time.monotonic() - begun
    known |= {wholly(folder), wholly(folder / "previous")}
    for n in range(6):
        if not back:
            built("decide", "/old/3", "--gone" if n % 2 else "--keep")
        process = subprocess.Popen(
            [PROGRAM, "build", *command, "--out", "rules"],
            cwd=built.folder,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )
        time.sleep(whole * (0.5 + 1.5 * rng.random()))
        process.send_signal(signal.SIGKILL)
        process.communicate()
        assert wholly(folder)
        assert wholly(folder / "previous")
        assert (folder / "notes.txt").read_text() == "mine\n"
    built("build", *command, "--out", "rules")
    assert not [p for p in built.folder.iterdir() if p.name.startswith(".upright-")]


def test_whenever_a_fold_is_killed_settings_and_ledger_agree(museum: Program) -> None:
    museum.write("urls.txt", "".join(f"{OLD}/shop.php?item={n % 90}&x={n}\n" for n in range(3000)))
    museum("gather", "urls.txt")
    real = museum.folder / "kept.toml"
    (museum.folder / "upright.toml").rename(real)
    (museum.folder / "upright.toml").symlink_to("kept.toml")
    real.chmod(0o640)
    rng = random.Random(7)
    begun = time.monotonic()
    museum("fold", "--significant", "/shop.php=item")
    whole = time.monotonic() - begun
    museum("undo")
    for n in range(6):
        command = (
            ("undo",)  # of a fold alone: one that was killed early left no step
            if n % 3 == 2 and museum.json("history")["steps"][0]["command"] == "fold"
            else ("fold", "--significant", f"/shop.php={('item', 'x', 'item,x')[n % 3]}")
        )
        process = subprocess.Popen(
            [PROGRAM, *command], cwd=museum.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        time.sleep(whole * (0.3 + 1.7 * rng.random()))
        process.send_signal(signal.SIGKILL)
        process.communicate()
        assert museum.json("balance")["entries"] in {90, 3000}
        assert "Nothing to change" in museum("fold", "--apply").out
        assert (museum.folder / "upright.toml").is_symlink()
        assert real.stat().st_mode & 0o777 == 0o640


def test_a_fold_that_ended_before_it_wrote_the_settings_is_ended_by_the_next_command(
    museum: Program,
) -> None:
    museum.write("urls.txt", "".join(f"{OLD}/shop.php?item={n % 9}&x={n}\n" for n in range(30)))
    museum("gather", "urls.txt")
    before = (museum.folder / "upright.toml").read_text()
    museum("fold", "--significant", "/shop.php=item")
    after = (museum.folder / "upright.toml").read_text()
    (museum.folder / ".upright.toml.next").write_text(
        after
    )  # as where it is cut off between the two
    (museum.folder / "upright.toml").write_text(before)
    assert museum.json("balance")["entries"] == 9
    assert (museum.folder / "upright.toml").read_text() == after
    (museum.folder / ".upright.toml.next").write_text(
        before
    )  # as where it is cut off before the first
    assert museum.json("balance")["entries"] == 9
    assert (museum.folder / "upright.toml").read_text() == after


def test_what_a_dead_command_left_is_taken_away_by_the_next(
    museum: Program, tmp_path: Path
) -> None:
    held = tmp_path / "temporary"
    held.mkdir()
    museum.write("urls.txt", f"{OLD}/a\nnot an address at all\n")
    process = subprocess.Popen(["true"])
    process.wait()
    rejects = museum.folder / "rejects"
    rejects.mkdir()
    dead = [
        museum.folder / f".upright-{process.pid}-x",
        rejects / f".upright-{process.pid}-y",
        rejects / "0099-lost.txt",
        held / f"upright-{process.pid}-z",
    ]
    for path in dead:
        path.write_text("left")
    alive = museum.folder / f".upright-{os.getpid()}-x"
    alive.write_text("at work")
    museum("gather", "urls.txt", TMPDIR=str(held))
    subprocess.run(
        [PROGRAM, "gather", "-"],
        cwd=museum.folder,
        env={**os.environ, "TMPDIR": str(held)},
        input=b"http://www.quillhaven.example/b\n",
        check=True,
        capture_output=True,
    )
    museum("entries", "--csv", "out.csv")
    assert [p for p in dead if p.exists()] == []
    assert alive.exists()


def test_whenever_an_open_is_killed_the_folder_can_be_opened(bare: Program) -> None:
    rng = random.Random(3)
    begun = time.monotonic()
    bare("open", "whole", "--old", OLD, "--new", NEW)
    whole = time.monotonic() - begun
    for n in range(6):
        words = [PROGRAM, "open", f"ledger{n}", "--old", OLD, "--new", NEW]
        process = subprocess.Popen(
            words, cwd=bare.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        time.sleep(whole * (1 + 6 * rng.random()))
        process.send_signal(signal.SIGKILL)
        process.communicate()
        if not (bare.folder / f"ledger{n}/upright.toml").exists():
            bare("open", f"ledger{n}", "--old", OLD, "--new", NEW)
        assert bare.json("--ledger", f"ledger{n}", "balance")["entries"] == 0


def test_rules_that_are_put_into_a_file_leave_every_byte_around_them(built: Program) -> None:
    around = b"# caf\xe9\r\n\tset $a 1;\r\n# upright: rules begin\r\n# upright: rules end\r\nlast\r"
    file = built.write("site.conf", around)
    built("build", "--for", "nginx", "--out", "rules", "--into", "site.conf")
    data = file.read_bytes()
    assert data.startswith(b"# caf\xe9\r\n\tset $a 1;\r\n# upright: rules begin, digest ")
    assert data.endswith(b"\r\n# upright: rules end\r\nlast\r")
    assert data.count(b"\n") == data.count(b"\r\n")
    built("build", "--for", "nginx", "--out", "rules", "--into", "site.conf")
    assert file.read_bytes() == data
