"""Real servers as judges of what is read from their rule files."""

from __future__ import annotations

import random
import re
import shutil
import subprocess
import tempfile
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from types import ModuleType

from raw_http import ask
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.imported.rule import request_of
from upright_ledger.errors import InputError
from upright_ledger.formats.server_config.detection import read_rule_file
from upright_ledger.formats.server_config.rules_read import ServerSetup
from upright_ledger.web.local.real_servers import START_SECONDS, free_port, hand_over, wait_for


def one(rng: random.Random, *items: str) -> str:
    """One of some texts."""
    return rng.choice(items)


ROOT = "/srv/www"
ANSWERS = {301, 302, 307, 308, 410}


@dataclass(frozen=True)
class RuleFile:
    name: str
    text: str
    hosts: frozenset[tuple[str, str]] = (
        frozenset()
    )  # schemes and names that its servers are for; none where it is for all

    def names_others(self, asked: Asked) -> bool:
        return bool(self.hosts) and (asked.scheme, asked.host) not in self.hosts


@dataclass(frozen=True)
class Asked:
    scheme: str
    host: str
    target: str


@dataclass
class Server:
    """A running server: its port for each scheme."""

    ports: dict[str, int]

    def answer(self, asked: Asked) -> tuple[int, str]:
        """Status and Location; 444 where the server hangs up without a word, as nginx calls it."""
        place, header = (
            ("127.0.0.1", self.ports[asked.scheme]),
            f"X-Forwarded-Proto: {asked.scheme}",
        )
        try:
            return ask(place, asked.host, asked.target, header)
        except IndexError:
            return 444, ""


@dataclass
class Judged:
    """What came of a file: how many requests in which class, and those understood and answered
    otherwise.
    """

    counts: Counter[str] = field(default_factory=Counter)
    different: list[str] = field(default_factory=list)
    refused: str = ""


@contextmanager
def run_server(
    name: str, lay_out: Callable[[Path], Sequence[str]], config: str
) -> Iterator[Server]:
    """Run a server in a temporary folder, on free ports in place of 80 and 443. Raises InputError
    where it does not start.
    """
    folder = Path(tempfile.mkdtemp(prefix="upright-judge-"))
    ports = {"http": free_port(), "https": free_port()}
    try:
        words = lay_out(folder)
        path = folder / config
        text = re.sub(r":80\b", f":{ports['http']}", path.read_text())
        path.write_text(re.sub(r":443\b", f":{ports['https']}", text))
        identity = hand_over(folder)
        log = folder / "output.log"
        with log.open("wb") as out:
            process = subprocess.Popen(words, cwd=folder, stdout=out, stderr=out, **identity)
        try:
            wait_for(name, process, ports["http"], [log, folder / "error.log"])
            yield Server(ports)
        finally:
            process.terminate()
            process.wait(timeout=START_SECONDS)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def judge(file: RuleFile, server: Server, requests: Sequence[Asked], given: ServerSetup) -> Judged:
    """Compare what is read from a file with what the server does.

    Understood and different is: another answer than the server's, an answer where it gives none,
    and none where it redirects, unless what keeps it back is a line that is named as not
    understood.
    """
    found = Judged()
    with tempfile.TemporaryDirectory() as held:
        path = Path(held) / file.name
        path.write_text(file.text)
        read = read_rule_file(path, given=given)[1]
    block = Block(read.rules)
    missed = {line for line, _, _ in read.missed} | {line for line, _ in read.notes}
    for asked in requests:
        status, location = server.answer(asked)
        told = block.find(request_of(f"{asked.scheme}://{asked.host}", asked.host, asked.target))
        rule, where = told if told is not None else (None, "")
        ours = (
            (rule.status, same(where.encode(), asked))
            if rule is not None and rule.status in ANSWERS
            else None
        )
        # One that has no status among ours is an answer that has to be named.
        theirs = (
            (status, same(location.encode("latin-1"), asked)) if status in ANSWERS | {303} else None
        )
        named = rule is not None and int(rule.where.rpartition(":")[2]) in missed
        if ours == theirs:
            found.counts["answered alike" if ours else "left alike"] += 1
        elif ours is None and named:
            found.counts["not understood"] += 1
        elif (
            ours is None
            and theirs
            and asked.scheme == "https"
            and theirs[1] == same(f"https://{asked.host}{asked.target}".encode(), asked)
        ):
            found.counts["leads to itself"] += 1
        elif rule is None and file.names_others(asked):
            found.counts["for a host that the file does not name"] += 1
        else:
            at = rule.where if rule is not None else "no rule"
            found.different.append(
                f"{asked.scheme}://{asked.host}{asked.target}: ours {ours} ({at}), the server "
                f"{status} {location}"
            )
    return found


def same(location: bytes, asked: Asked) -> str:
    """A location as browsers read it: without the own host, its escapes in one spelling."""
    text = "".join(chr(b) if 0x20 < b < 0x7F else f"%{b:02X}" for b in location)
    text = re.sub(r"^http://" + re.escape(asked.host) + r"(?::\d+)?(?=/|$)", "", text)
    text = re.sub(r"^https?://" + re.escape(asked.host) + r"(?::\d+)?(?=//)", "", text)
    text = re.sub(r"^(https?://[^/?#]*?):\d+(?=[/?#]|$)", r"\1", text)
    text = re.sub(r"\?(?=#|$)", "", text)
    return re.sub(r"%[0-9A-Fa-f]{2}", lambda m: m[0].upper(), text)


def requests_about(file: RuleFile, hosts: Sequence[str], most: int = 15) -> list[Asked]:
    """Requests for whatever a file looks to be about; most: words that are taken from it."""
    text = file.text
    words = sorted(
        set(re.findall(r"/?[A-Za-z0-9_-][A-Za-z0-9_.-]*(?:/[A-Za-z0-9_.-]+)*", text)), key=len
    )[:most]
    named = sorted(set(re.findall(r"\b(?:[a-z0-9-]+\.)+(?:com|org|example|net)\b", text)))[:4]
    targets = [f"/{w.lstrip('/')}{end}" for w in words for end in ("", "/x.html", "/?q=1")] + [
        "/",
        "/a/b.html?lang=fr",
    ]
    asked = [Asked("http", host, target) for host in (*hosts, *named) for target in targets]
    return [a for a in asked if not file.names_others(a)]


REQUESTS = 40
THERE = ServerSetup(frozenset(["THERE"]))
ALL_KNOWN = ServerSetup(frozenset(["THERE"]), frozenset(["NOT_THERE", "mod_strange.c"]))


def judged(
    language: ModuleType, files: Iterable[tuple[RuleFile, ServerSetup, random.Random | None]]
) -> Counter[str]:
    """What came of files, in requests; fails with the file at the first request that is understood
    and answered otherwise.
    """
    found: Counter[str] = Counter()
    for file, given, rng in files:
        try:
            with language.running(file) as server:
                requests = (
                    language.requests(rng, file, REQUESTS)
                    if rng
                    else requests_about(file, ["www.old.example"])
                )
                result: Judged = judge(file, server, requests, given)
        except InputError:
            found["files that the server refuses"] += 1
            continue
        lines = "\n".join(f"{n}: {line}" for n, line in enumerate(file.text.splitlines(), 1))
        assert not result.different, f"{file.name}\n{lines}\n" + "\n".join(result.different[:5])
        found.update(result.counts)
    return found


def drawn(language: ModuleType, seeds: Iterable[int]) -> Counter[str]:
    """The same for files that are drawn at random."""

    def files() -> Iterable[tuple[RuleFile, ServerSetup, random.Random]]:
        for seed in seeds:
            rng = random.Random(seed)
            yield language.draw(rng), ALL_KNOWN if seed % 2 else THERE, rng

    return judged(language, files())
