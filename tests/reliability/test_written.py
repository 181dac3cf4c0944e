"""Files that commands write: beside and renamed, through links, into pipes and devices, and never
over a ledger or an input.
"""

from __future__ import annotations

import os
import stat
import subprocess
from pathlib import Path

import pytest

from conftest import NEW, OLD, PROGRAM, Program


@pytest.fixture
def answered(museum: Program) -> Program:
    museum.write("pages.csv", f"{OLD}/a\n{OLD}/b\n")
    museum("gather", "pages.csv")
    museum("decide", "/a", "--to", f"{NEW}/x")
    return museum


def is_list(path: Path) -> bool:
    return path.read_text().startswith("site,legacy_url,")


def test_a_link_stays_a_link_and_its_file_keeps_what_it_had(answered: Program) -> None:
    real = answered.write("available.csv", "old\n")
    real.chmod(0o640)
    link = answered.folder / "enabled.csv"
    link.symlink_to("available.csv")
    attributes = hasattr(os, "setxattr")
    if attributes:
        try:
            os.setxattr(real, "user.kept", b"yes")
        except OSError:
            attributes = False
    answered("entries", "--csv", "enabled.csv", "--force")
    assert link.is_symlink()
    assert is_list(real)
    assert stat.S_IMODE(real.stat().st_mode) == 0o640
    assert not attributes or os.getxattr(real, "user.kept") == b"yes"
    if os.geteuid() == 0:
        os.chown(real, 1234, 1234)
        answered("entries", "--csv", "available.csv")  # known as ours by now
        assert (real.stat().st_uid, real.stat().st_gid) == (1234, 1234)


def test_a_link_to_nothing_makes_the_file_it_names(answered: Program) -> None:
    (answered.folder / "link.csv").symlink_to("made.csv")
    answered("entries", "--csv", "link.csv")
    assert (answered.folder / "link.csv").is_symlink()
    assert is_list(answered.folder / "made.csv")


def test_a_file_that_is_not_ours_or_that_somebody_changed_is_not_written_over_unasked(
    answered: Program,
) -> None:
    commands = [
        ["entries", "--csv"],
        ["review", "--out"],
        ["rehearse", "pages.csv", "--out"],
        ["rehearse", "pages.csv", "--hops"],
    ]
    for number, command in enumerate(commands):
        sheet = answered.write(f"{number}.csv", "somebody's work\n")
        told = answered(*command, sheet.name, code=2).err
        assert "--force" in told
        assert sheet.read_text() == "somebody's work\n"
        answered(*command, sheet.name, "--force", code=None)
        ours = sheet.read_text()
        assert ours != "somebody's work\n"
        answered("decide", "/a", "--gone" if number % 2 else f"--to={NEW}/y")
        answered(*command, sheet.name, code=None)  # as this ledger's commands wrote it
        assert sheet.read_text() != ours
        sheet.write_text(sheet.read_text() + "more\n")
        answered(*command, sheet.name, code=2)
    answered.write("empty.csv", "")
    answered("entries", "--csv", "empty.csv")
    (answered.folder / ".written.jsonl").write_text('{"path": 3}\n[]\nnonsense\n')
    answered("entries", "--csv", "empty.csv", code=2)


@pytest.mark.parametrize("name", ["ledger.db", "upright.toml", "other.db"])
def test_a_ledger_is_never_written_over(answered: Program, name: str) -> None:
    if name == "other.db":
        (answered.folder / name).write_bytes((answered.folder / "ledger.db").read_bytes())
    before = (answered.folder / name).read_bytes()
    for force in ([], ["--force"]):
        assert "belongs to a ledger" in answered("entries", "--csv", name, *force, code=3).err
    assert (answered.folder / name).read_bytes() == before
    assert answered.json("balance")["entries"] == 2


@pytest.mark.parametrize("by", ["name", "link", "hard link"])
def test_what_was_read_is_not_written_over(answered: Program, by: str) -> None:
    out = "pages.csv" if by == "name" else "other.csv"
    if by == "link":
        (answered.folder / out).symlink_to("pages.csv")
    if by == "hard link":
        (answered.folder / out).hardlink_to(answered.folder / "pages.csv")
    assert (
        "was read by this command"
        in answered("rehearse", "pages.csv", "--out", out, "--force", code=3).err
    )
    assert (answered.folder / "pages.csv").read_text() == f"{OLD}/a\n{OLD}/b\n"


def test_pipes_and_devices_are_written_to(answered: Program) -> None:
    pipe = answered.folder / "pipe"
    os.mkfifo(pipe)
    reader = subprocess.Popen(["cat", str(pipe)], stdout=subprocess.PIPE, text=True)
    answered("entries", "--csv", "pipe")
    assert reader.communicate(timeout=60)[0].startswith("site,legacy_url,")
    assert stat.S_ISFIFO(pipe.stat().st_mode)
    done = subprocess.run(
        [PROGRAM, "entries", "--csv", "/dev/stdout"],
        cwd=answered.folder,
        capture_output=True,
        text=True,
        check=True,
    )
    assert "site,legacy_url," in done.stdout
    if os.geteuid() == 0:
        full = answered.folder / "full"
        os.mknod(full, stat.S_IFCHR | 0o666, os.makedev(1, 7))
        try:
            full.open("rb").close()
        except OSError:
            return  # no devices here
        assert "No space left" in answered("entries", "--csv", "full", code=3).err
        assert stat.S_ISCHR(full.stat().st_mode)


def test_names_may_be_as_long_as_names_can_be(answered: Program) -> None:
    name = "x" * 251 + ".csv"
    answered("entries", "--csv", name)
    assert is_list(answered.folder / name)
    assert "too long" in answered("entries", "--csv", f"x{name}", code=3).err


def test_nothing_is_left_behind_where_it_cannot_be_written(answered: Program) -> None:
    before = sorted(p.name for p in answered.folder.iterdir())
    (answered.folder / "folder.csv").mkdir()
    answered("entries", "--csv", "folder.csv", code=2)
    assert sorted(p.name for p in answered.folder.iterdir()) == sorted([*before, "folder.csv"])
    mask = os.umask(0o027)
    try:
        answered("build", "--for", "nginx", "--out", "rules")
    finally:
        os.umask(mask)
    assert stat.S_IMODE((answered.folder / "rules/redirects.conf").stat().st_mode) & 0o007 in {0, 4}
