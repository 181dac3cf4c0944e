"""Triage: what fails after a launch, what became of it since it was mended, and what is only noise."""

from __future__ import annotations

from collections import defaultdict

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.demo.live_phase import CLAIMED, LAUNCH, MENDED, LivePhase, make_live_phase


@pytest.fixture(scope="module")
def phase() -> LivePhase:
    return make_live_phase()


@pytest.fixture(scope="module")
def lived(tmp_path_factory: pytest.TempPathFactory, phase: LivePhase) -> Program:
    """A ledger after three builds, of which the last never reached the server, with the log of sixty days."""
    folder = tmp_path_factory.mktemp("live")
    Program(folder)("open", "museum", "--old", OLD, "--new", NEW)
    museum = Program(folder / "museum")
    phase.write_log(museum.folder / "access.log")
    phase.write_pairs(museum.folder)
    for name, day in (("launch", LAUNCH), ("mended", MENDED), ("claimed", CLAIMED)):
        museum("decide", "--from", f"{name}.csv")
        museum("build", "--for", "nginx", "--out", name)
        museum("handover", name, "--given")
        museum("handover", name, "--live", "--at", f"{day}T03:00")
    museum("decide", "--from", "waiting.csv")
    museum("triage", "access.log", code=1)
    return museum


def test_every_cause_and_state_is_found_as_planted(lived: Program, phase: LivePhase) -> None:
    found = lived.json("triage", code=1)
    states = {e["legacy_url"].removeprefix(OLD): (e["state"], e["why"]) for e in found["entries"]}
    assert states == phase.states


def test_noise_is_told_apart(lived: Program, phase: LivePhase) -> None:
    aside = lived.json("entries", "--aside", "all", "--limit", "0")["set_aside"]
    classes = {a["url"].removeprefix(OLD): a["class"] for a in aside}
    assert {path: kind for path, kind in phase.noise.items() if classes.get(path) != kind} == {}
    assert set(classes) - set(phase.noise) == set()
    found = lived.json("triage", code=1)["noise"]
    counts: dict[str, int] = defaultdict(int)
    for kind in phase.noise.values():
        counts[kind] += 1
    assert {n["class"]: n["addresses"] for n in found} == counts
