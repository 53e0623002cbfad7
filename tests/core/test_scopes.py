"""What a service token may be narrowed to."""

from __future__ import annotations

from pathlib import Path

import pytest

import calm_tariff.console_api
from calm_tariff.core.errors import Invalid
from calm_tariff.core.scopes import PLACES, SCOPES, covers, needed, scopes_of


def test_whoever_may_change_may_read_and_no_place_opens_another() -> None:
    for place in PLACES:
        for other in PLACES:
            same = place == other
            assert covers([needed(place, True)], needed(other, True)) == same
            assert covers([needed(place, False)], needed(other, True)) == same
            assert covers([needed(place, False)], needed(other, False)) == same
            assert not covers([needed(place, True)], needed(other, False))


def test_a_token_without_scopes_is_not_narrowed() -> None:
    assert all(covers((), scope) for scope in SCOPES)


def test_scopes_are_told_once_each_and_only_those_there_are() -> None:
    assert scopes_of(["change admit", "read house", "read house"]) == ("read house", "change admit")
    for wrong in ("read", "write admit", "read attic", " read house"):
        with pytest.raises(Invalid) as refused:
            scopes_of([wrong])
        assert refused.value.where == "scopes" and wrong in str(refused.value)


def test_every_place_of_the_console_has_its_scopes() -> None:
    folders = {p.name for p in Path(calm_tariff.console_api.__file__).parent.iterdir() if p.is_dir()}
    assert folders - {"base", "__pycache__"} == set(PLACES)
