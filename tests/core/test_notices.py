"""Every kind of notice is told to somebody, and the letters that must lead somewhere do."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.core.notices import GROUPS, KINDS, TO, check_link, group_of, kind_of


def test_every_kind_says_who_gets_it_and_is_of_one_group_at_most() -> None:
    assert set(TO) == set(KINDS) and len(KINDS) == len(set(KINDS))
    grouped = [kind for kinds in GROUPS.values() for kind in kinds]
    assert len(grouped) == len(set(grouped)) and set(grouped) < set(KINDS)
    assert {group_of(kind) for kind in grouped} == set(GROUPS) and group_of("password forgotten") is None


def test_a_kind_is_known_by_its_name_in_addresses() -> None:
    assert [kind_of(kind.replace(" ", "_")) for kind in KINDS] == list(KINDS)
    assert kind_of("no such kind") is None and kind_of("") is None


def test_a_letter_that_must_lead_somewhere_keeps_its_link() -> None:
    check_link("password forgotten", {"subject": [], "text": ["office", "link"], "html": ["link"]})
    check_link("request granted", {"subject": [], "text": []})
    with pytest.raises(Invalid, match="of no use") as refused:
        check_link("password forgotten", {"subject": ["link"], "text": ["link"], "html": ["office"]})
    assert refused.value.where == "html"
