from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.core.importing import COLUMNS, KINDS, LONGEST_CELL, kind, must_fit, parts, wrong


def test_a_head_has_the_columns_that_are_needed_in_any_order_and_no_others() -> None:
    for each in KINDS:
        must_fit(each, [column.name for column in reversed(COLUMNS[each])])
        must_fit(each, [column.name for column in COLUMNS[each] if column.needed])
    for head, why in (
        (["organisation", "name", "email"], "has no column role"),
        (["organisation", "name", "email", "role", "age"], "has a column 'age', which members have not; they have org"),
        (["organisation", "name", "email", "role", "email"], "has the column 'email' twice"),
    ):
        with pytest.raises(Invalid, match=why) as refused:
            must_fit("members", head)
        assert refused.value.where == "text"


def test_a_row_lacks_nothing_it_needs() -> None:
    row = {"organisation": "Quay", "name": "Ana", "email": "a@b.example", "role": "owner"}
    assert wrong("members", row) == ""
    assert wrong("members", {**row, "email": ""}) == "email: is missing"
    assert wrong("applications", {"organisation": "Quay", "application": "x"}) == ""
    long = {"organisation": "Quay", "application": "x", "purpose": "y" * (LONGEST_CELL + 1)}
    assert wrong("applications", long) == "purpose: must be at most 2,000 characters long"


def test_kinds_and_cells_of_several() -> None:
    assert kind("members") == "members"
    with pytest.raises(Invalid, match="must be one of consumers, members"):
        kind("people")
    assert parts(" a| b |  | c") == ["a", "b", "c"]
    assert parts("") == []
