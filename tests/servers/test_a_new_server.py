"""A new server is one package and one line of the registry: a toy dialect, added as a stranger
would.
"""

from __future__ import annotations

import ast
import importlib
import json
import sys
from pathlib import Path

import pytest

from conftest import NEW, Program
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.builds.build import BuildRequest, build
from upright_ledger.cli.opening import open_ledger
from upright_ledger.errors import RefusedError
from upright_ledger.servers import DIALECTS

SOURCE = Path(__file__).parents[2] / "src/upright_ledger"

DIALECT = '''
"""A server that reads one JSON object: host and decoded path → status and destination."""

import json
from functools import partial

from upright_ledger.core.rules.compiler import Exclusion, ExcludedRule
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.url.request_target import reject_reason
from upright_ledger.servers.interpreters import ServerResponse, resolved, unescaped
from upright_ledger.servers.protocol import Launch, Translation, decoded, expressible
from upright_ledger.servers.reading_back import differences_in_meaning


def _fault(rule):
    if not isinstance(rule, ExactRule) or rule.params or rule.query != "drop":
        return "the toy knows single addresses alone"
    return ""


class Toy:
    name, rule_file, include_file = "toy", "rules.json", "rules.json"
    most_rules, too_many = 3, "it is a toy"
    launch = Launch("toyd", ("--rules", "{folder}/rules.json"), "toyd", "rules.json")

    def write(self, rules):
        held, refused = expressible(rules, _fault)
        table = {
            f"{host} {decoded(path)}": [rule.status, rule.destination]
            for rule in held.rules
            for path in rule.paths
            for host, site in held.site_of.items()
            if site == rule.site
        }
        return Translation({"rules.json": json.dumps(table).encode()}, held, tuple(refused))

    def read_back(self, files, rules):
        return differences_in_meaning(partial(self.interpreter, files), rules)

    def interpreter(self, files):
        return Reader(json.loads(files["rules.json"]))


class Reader:
    def __init__(self, table):
        self.table = table

    def answer(self, request):
        if reject_reason(request.target):
            return None
        path = resolved(unescaped(request.raw.partition("?")[0])).lower()
        host = request.host.lower().partition(":")[0].rstrip(".")
        found = self.table.get(f"{host} {path}")
        return ServerResponse(*found) if found and found[0] else None


DIALECT = Toy()
'''


@pytest.fixture
def toy(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The toy's package, and its line in the registry."""
    package = tmp_path / "lib/toy_server"
    package.mkdir(parents=True)
    (package / "__init__.py").touch()
    (package / "dialect.py").write_text(DIALECT)
    monkeypatch.syspath_prepend(str(package.parent))
    _forget(monkeypatch)
    monkeypatch.setitem(DIALECTS, "toy", "toy_server.dialect")
    return package


def _forget(monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("toy_server", "toy_server.dialect"):
        monkeypatch.delitem(sys.modules, name, raising=False)
    importlib.invalidate_caches()


def test_a_toy_dialect_is_two_files_and_a_line(museum: Program, toy: Path, tmp_path: Path) -> None:
    museum("decide", "/a.html", "--to", "/a/", "--query", "drop")
    museum("decide", "/gone.html", "--gone")
    theirs = tmp_path / "theirs.json"
    theirs.write_text("# upright: rules begin\n# upright: rules end\n")
    move = MoveState(open_ledger(museum.folder))
    built = build(move, BuildRequest("toy", tmp_path / "out", into=theirs))
    written = json.loads((tmp_path / "out/rules.json").read_text())
    assert written["www.quillhaven.example /a.html"] == [301, f"{NEW}/a/"]
    assert written["www.quillhaven.example /gone.html"] == [0, ""]  # refused: it passes
    assert [h.kind for h in built.held_back] == ["refused"]
    assert "quillhaven.example" in theirs.read_text()
    assert sorted(p.name for p in toy.iterdir() if p.is_file()) == ["__init__.py", "dialect.py"]


def test_its_bounds_and_its_faults_are_told(
    museum: Program, toy: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in "abcd":
        museum("decide", f"/{name}.html", "--to", f"/{name}/", "--query", "drop")
    with pytest.raises(RefusedError, match=r"too many for toy, which takes 3: it is a toy"):
        build(MoveState(open_ledger(museum.folder)), BuildRequest("toy", tmp_path / "out"))
    text = (toy / "dialect.py").read_text()
    (toy / "dialect.py").write_text(text.replace("decoded(path)}", "decoded(path)}x"))
    _forget(monkeypatch)
    forced = BuildRequest("toy", tmp_path / "out", force=True)
    with pytest.raises(RefusedError, match="do not read back"):
        build(MoveState(open_ledger(museum.folder)), forced)


def test_nothing_else_knows_servers_by_name() -> None:
    """Outside their packages and the registry no code asks which server it is; the readers of
    servers' own files are of the formats, and the story of the demo names the one it builds for.
    """
    own = {SOURCE / "servers", SOURCE / "formats", SOURCE / "demo/story.py"}
    for path in SOURCE.rglob("*.py"):
        if own & {path, *path.parents} or path.name == "real_nginx.py":
            continue
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                assert node.value not in DIALECTS, f"{path}:{node.lineno}"
