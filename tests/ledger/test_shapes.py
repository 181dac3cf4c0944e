"""What the journal knows of the tables it restores is what the schema says of them."""

from __future__ import annotations

import pytest
from sqlalchemy import JSON, Boolean

from upright_ledger.ledger.db.schema import metadata
from upright_ledger.ledger.db.shapes import JOURNALLED


@pytest.mark.parametrize("name", JOURNALLED)
def test_a_shape_says_of_its_table_what_the_schema_says(name: str) -> None:
    table, shape = metadata.tables[name], JOURNALLED[name]
    assert shape.keys == tuple(c.name for c in table.primary_key)
    assert shape.packed == {c.name for c in table.columns if isinstance(c.type, JSON)}
    assert shape.flags == {c.name for c in table.columns if isinstance(c.type, Boolean)}
    usual = {c.name: getattr(c.default, "arg", None) for c in table.columns}
    optional = {
        name: value
        for name, value in usual.items()
        if value is not None or (table.c[name].nullable and name not in shape.keys)
    }
    assert dict(shape.usual) == optional
