"""Who may be merged, and what comes of members and names."""

import pytest

from calm_tariff.core.merging import Merged, hindered, name_there, role_there
from calm_tariff.core.names import LONGEST

FERRIES = Merged(id=1, name="Ferries", state="let in")


@pytest.mark.parametrize(
    ("state", "words"),
    [
        ("let in", []),
        ("suspended", ["Calls of Gulls are suspended; resume them first."]),
        ("waiting", ["Gulls waits to be let in."]),
        ("closed", ["The account of Gulls is not open."]),
        ("turned away", ["The account of Gulls is not open."]),
    ],
)
def test_both_must_be_open(state: str, words: list[str]) -> None:
    gulls = Merged(id=2, name="Gulls", state=state)
    assert hindered(gulls, FERRIES) == hindered(FERRIES, gulls) == words


def test_nobody_is_merged_into_itself() -> None:
    assert hindered(FERRIES, FERRIES) == ["An organisation is not merged into itself."]


def test_who_owned_the_other_develops_here_unless_nobody_owns_it() -> None:
    assert [role_there(each, owned=True) for each in ("owner", "developer", "billing")] == [
        "developer",
        "developer",
        "billing",
    ]
    assert role_there("owner", owned=False) == "owner"


def test_a_name_that_is_taken_gets_a_number() -> None:
    assert name_there("Board", {"Table"}.__contains__) == "Board"
    assert name_there("Board", {"Board"}.__contains__) == "Board (2)"
    assert name_there("Board", {"Board", "Board (2)"}.__contains__) == "Board (3)"
    long = name_there("x" * LONGEST, {"x" * LONGEST}.__contains__)
    assert len(long) == LONGEST and long.endswith("x… (2)")
