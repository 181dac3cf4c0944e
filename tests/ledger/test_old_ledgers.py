"""Ledgers of every earlier schema: each comes to the newest one whole, or stays as it was."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import Connection, create_engine, inspect, text

from clusters import BINARIES, cluster
from conftest import Program
from upright_ledger.ledger.db import connection as db
from upright_ledger.ledger.db import derived
from upright_ledger.ledger.db.databases import database_for
from upright_ledger.ledger.migrations import numbered

SCHEMAS = {int(p.stem): p.read_text() for p in (Path(__file__).parent / "schemas").glob("*.sql")}
OLDER = sorted(SCHEMAS.keys() - {numbered.NEWEST})


def test_no_schema_lacks_its_number_or_its_ledger() -> None:
    numbers = [number for number, _, _ in numbered.MIGRATIONS]
    assert numbers == list(range(1, numbered.NEWEST + 1))
    assert sorted(SCHEMAS) == numbers


@pytest.fixture
def old(museum: Program, request: pytest.FixtureRequest) -> Program:
    """A ledger with the database that a program of that schema made."""
    path = museum.folder / "ledger.db"
    path.unlink()
    with sqlite3.connect(path) as database:
        database.executescript(SCHEMAS[request.param])
    return museum


def _statuses(number: int, url: str) -> dict[str, float]:
    """What the log of an old ledger holds of an entry, asked in its own tables."""
    with sqlite3.connect(":memory:") as database:
        database.executescript(SCHEMAS[number])
        query = """SELECT v.status_class, SUM(v.amount) FROM evidence v
            JOIN spellings p ON p.id = v.spelling JOIN entries e ON e.id = p.entry
            WHERE v.unit = 'hits' AND v.status_class <> '' AND e.legacy_url = ? GROUP BY 1"""
        return dict(database.execute(query, (url,)).fetchall())


@pytest.mark.parametrize("old", OLDER, indirect=True)
def test_an_old_ledger_says_what_it_said(old: Program, request: pytest.FixtureRequest) -> None:
    entries = {e["legacy_url"]: e for e in old.json("entries", "--limit", "0")["entries"]}
    answers = {url.partition(".example")[2]: e["answer"] for url, e in entries.items()}
    assert answers["/a.html"] == "move"
    assert answers["/c"] == "gone"
    assert answers["/old/x/"] == "keep"
    a = next(e for url, e in entries.items() if url.endswith("/a.html"))
    assert a["title"] == "Alpha page"
    assert a["statuses"] == _statuses(request.node.callspec.params["old"], a["legacy_url"])
    assert a["hits"] == sum(a["statuses"].values())
    assert (a["first_seen"], a["last_seen"]) == ("2026-05-03", "2026-05-05")
    rows = old.json("runs", "1", code=None)["rows"]
    assert all(row["url"].startswith("http://www.quillhaven.example/") for row in rows)
    assert [f["kind"] for f in old.json("check", code=None)["findings"]].count("conflict") == 1


@pytest.mark.parametrize("old", OLDER, indirect=True)
def test_an_old_ledger_goes_on(old: Program) -> None:
    """What was done can be undone, the next step has the next number, and rules are built."""
    old("fold", "--apply")
    before = old.json("history")["steps"]
    old.write("more.csv", "url,hits\n/new.html,4\n")
    old("gather", "more.csv")
    old("decide", "/new.html", "--gone")
    old("undo")
    old("undo")
    after = old.json("history")["steps"]
    assert len(after) >= len(before) + 4
    assert old.json("build", "--for", "nginx", "--out", "rules", code=None)["rules"] >= 2


def _shape(connection: Connection) -> dict[str, object]:
    """Tables with their columns, whether these may be empty, and what is indexed how."""
    known, found = inspect(connection), {}
    for table in known.get_table_names():
        columns = {(c["name"], c["nullable"]) for c in known.get_columns(table)}
        indexes = {
            (tuple(i["column_names"]), bool(i["unique"])) for i in known.get_indexes(table)
        } | {(tuple(u["column_names"]), True) for u in known.get_unique_constraints(table)}
        found[table] = (columns, indexes)
    return found


def _migrated(url: str, query: str = "SELECT 1") -> tuple[dict[str, object], Any]:
    """The shape of a database after migrating it, and what it answers then."""
    with closing(database_for(url, Path("none")).open()) as connection:
        if not connection.is_server:
            connection.run("BEGIN")
        numbered.migrate(connection)
        shape, answer = _shape(connection.core), connection.value(query)
        connection.commit()
    return shape, answer


@pytest.mark.parametrize("number", OLDER)
def test_an_old_schema_becomes_the_newest(number: int, tmp_path: Path) -> None:
    fresh, _ = _migrated(f"sqlite:///{tmp_path}/fresh.db")
    with sqlite3.connect(tmp_path / "old.db") as database:
        database.executescript(SCHEMAS[number])
    assert _migrated(f"sqlite:///{tmp_path}/old.db")[0] == fresh


@pytest.mark.parametrize("old", OLDER, indirect=True)
def test_a_migration_that_fails_changes_nothing(
    old: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As on a full disk: every step of the way is taken back."""
    path = old.folder / "ledger.db"
    with sqlite3.connect(path) as database:
        before = list(database.iterdump())

    def fail(_: db.Connection) -> None:
        raise OSError

    last = (numbered.NEWEST + 1, "fails", fail)
    monkeypatch.setattr(numbered, "MIGRATIONS", (*numbered.MIGRATIONS, last))
    monkeypatch.setattr(numbered, "NEWEST", last[0])
    from upright_ledger.ledger import store

    monkeypatch.setattr(store, "NEWEST", last[0])
    with pytest.raises(OSError):
        store.open_ledger(old.folder)
    with sqlite3.connect(path) as database:
        assert list(database.iterdump()) == before


@pytest.fixture(scope="module")
def server() -> Iterator[str]:
    if BINARIES is None:
        pytest.skip("PostgreSQL is not installed: apt-get install postgresql")
    with cluster() as found:
        yield found


def _load(connection: Connection, number: int) -> None:
    """The tables and rows of an old ledger, in the words of PostgreSQL."""
    with sqlite3.connect(":memory:") as database:
        database.row_factory = sqlite3.Row
        database.executescript(SCHEMAS[number])
        made = database.execute("SELECT type, name, sql FROM sqlite_master WHERE sql <> ''")
        statements = {row["name"]: (row["type"], row["sql"]) for row in made}
        first = [t.name for t in derived.metadata.sorted_tables if t.name != "entry_lines"]
        ordered = [name for name in (*first, "entry_lines") if name in statements]
        for name in (*ordered, *(n for n, (kind, _) in statements.items() if kind == "index")):
            words = re.sub(r"\bid INTEGER NOT NULL", "id SERIAL NOT NULL", statements[name][1])
            connection.execute(text(words.replace("BLOB", "BYTEA")))
        for name in ordered:
            columns = {c["name"]: str(c["type"]) for c in inspect(connection).get_columns(name)}
            for row in database.execute(f'SELECT * FROM "{name}"'):
                values = {c: _value(row[c], kind) for c, kind in columns.items()}
                names = ", ".join(f'"{c}"' for c in columns)
                marks = ", ".join(
                    f"CAST(:{c} AS JSON)" if kind == "JSON" else f":{c}"
                    for c, kind in columns.items()
                )
                connection.execute(text(f'INSERT INTO "{name}" ({names}) VALUES ({marks})'), values)


def _value(value: Any, kind: str) -> Any:
    return bool(value) if kind == "BOOLEAN" and value is not None else value


@pytest.mark.parametrize("number", OLDER)
def test_an_old_ledger_on_postgresql_becomes_the_newest(server: str, number: int) -> None:
    admin = create_engine(server + "postgres", isolation_level="AUTOCOMMIT")
    for name in (f"fresh_{number}", f"old_{number}"):
        with admin.connect() as connection:
            connection.execute(text(f"CREATE DATABASE {name}"))
    fresh, _ = _migrated(server + f"fresh_{number}")
    with create_engine(server + f"old_{number}").begin() as connection:
        _load(connection, number)
    seen = "SELECT SUM(amount) FROM evidence"
    with sqlite3.connect(":memory:") as database:
        database.executescript(SCHEMAS[number])
        (amount,) = database.execute(seen).fetchone()
    assert _migrated(server + f"old_{number}", seen) == (fresh, amount)
    assert _migrated(server + f"old_{number}", "SELECT COUNT(*) FROM traces") == (fresh, 2)
