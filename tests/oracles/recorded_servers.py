"""What real servers answered with rule files drawn at random: recorded once, so that it can be
asked thousands of times, and where no server is.

`make recordings` records anew.
"""

from __future__ import annotations

import json
import random
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from types import ModuleType
from typing import NamedTuple

import apache_files
import nginx_files
from rule_judge import ALL_KNOWN, THERE, Asked, RuleFile, Server, judge
from upright_ledger.errors import InputError
from upright_ledger.formats.server_config.rules_read import ServerSetup

HERE = Path(__file__).resolve().parent
FILES, REQUESTS = 200, 20
FIRST_SEED = 500_000
LANGUAGES = {"apache": apache_files, "nginx": nginx_files}


class Recording(NamedTuple):
    """A rule file with what its server answered. alike: how many requests were understood and
    answered alike when it was recorded.
    """

    file: RuleFile
    given: ServerSetup
    server: RecordedServer
    alike: int

    @property
    def requests(self) -> list[Asked]:
        return list(self.server.answers)


@dataclass
class RecordedServer(Server):
    """A server that answers what it answered then."""

    answers: dict[Asked, tuple[int, str]]

    def answer(self, asked: Asked) -> tuple[int, str]:
        return self.answers[asked]


def recordings(name: str) -> Iterator[Recording]:
    """What was recorded of a server."""
    for line in (HERE / "recorded" / f"{name}.jsonl").read_text(encoding="utf-8").splitlines():
        told = json.loads(line)
        file = RuleFile(told["name"], told["text"], frozenset(map(tuple, told["hosts"])))
        given = ServerSetup(frozenset(told["present"]), frozenset(told["absent"]))
        answers = {Asked(*a[:3]): (a[3], a[4]) for a in told["answers"]}
        yield Recording(file, given, RecordedServer({}, answers), told["alike"])


def _files(language: ModuleType) -> Iterator[tuple[RuleFile, ServerSetup, list[Asked]]]:
    for seed in range(FIRST_SEED, FIRST_SEED + FILES):
        rng = random.Random(seed)
        file = language.draw(rng)
        yield file, ALL_KNOWN if seed % 2 else THERE, language.requests(rng, file, REQUESTS)


def record(name: str) -> int:
    """Ask a real server, and write down what it says."""
    language, lines = LANGUAGES[name], []
    for file, given, requests in _files(language):
        try:
            with language.running(file) as server:
                answers = {a: server.answer(a) for a in dict.fromkeys(requests)}
        except InputError:
            continue
        found = judge(file, RecordedServer({}, answers), list(answers), given)
        if found.different:
            sys.exit(f"{name} means something else:\n{file.text}\n{found.different}")
        alike = found.counts["answered alike"]
        if any(200 < status < 400 or status == 410 for status, _ in answers.values()):
            told = {
                "name": file.name, "text": file.text, "hosts": sorted(file.hosts),
                "present": sorted(given.present), "absent": sorted(given.absent),
                "alike": alike,
                "answers": [[*a.__dict__.values(), *said] for a, said in answers.items()],
            }  # fmt: skip
            lines.append(json.dumps(told))
    (HERE / "recorded").mkdir(exist_ok=True)
    path = HERE / "recorded" / f"{name}.jsonl"
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return len(lines)


if __name__ == "__main__":
    for each in LANGUAGES:
        print(each, record(each))
