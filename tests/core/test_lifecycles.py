"""The states of things, and the moves between them."""

import pytest

from calm_tariff.core.errors import Conflict
from calm_tariff.core.lifecycles import INVOICE, KEY, PLAN, REQUEST, SUBSCRIPTION, move


def test_life_cycles_allow_only_their_moves() -> None:
    allowed = {
        "plan": (PLAN, {("draft", "on sale"), ("on sale", "closed"), ("closed", "on sale"), ("closed", "withdrawn")}),
        "key": (
            KEY,
            {
                ("active", "retiring"),
                ("active", "expired"),
                ("active", "revoked"),
                ("retiring", "expired"),
                ("retiring", "revoked"),
            },
        ),
    }
    for thing, (table, moves) in allowed.items():
        for state in table:
            for to in table:
                if (state, to) in moves:
                    assert move(table, thing, state, to) == to
                else:
                    with pytest.raises(Conflict, match=f"{thing}: it is {state}"):
                        move(table, thing, state, to)
    assert REQUEST["taken back"] == SUBSCRIPTION["ended"] == INVOICE["credited"] == frozenset()
