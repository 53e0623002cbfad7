"""No limit counts by a header in which some product takes keys, whichever of the two is saved last."""

from __future__ import annotations

from datetime import date
from typing import Any

import pytest

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.services.admit import overrides
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.compose import house_limits, products
from calm_tariff.services.compose.products import CredentialsTyped
from calm_tariff.services.compose.sheet import tariff_sheet
from tests.office import Office, terms


def by(header: str) -> dict[str, Any]:
    return {**terms()["limits"][0], "name": "Desk", "counted_per": f"header:{header}"}


def taking(office: Office, header: str) -> None:
    edition = products.one(office.manager, office.product).edition
    products.set_credentials(office.manager, office.product, edition, CredentialsTyped(["key"], header))


def drafting(office: Office, *limits: dict[str, Any]) -> None:
    office.draft("Ketch", {**terms(), "limits": [*terms()["limits"], *limits]})


def above(office: Office, *limits: dict[str, Any]) -> None:
    edition = house_limits.everything(office.manager)[0].edition
    house_limits.save(office.manager, None, edition, list(limits))


def overriding(office: Office, limit: dict[str, Any]) -> int:
    typed = OverrideTyped(limit, "A test.", date(2026, 9, 12))
    return overrides.make(office.manager, office.consumers[0].subscription, typed).id


@pytest.mark.parametrize("save", [drafting, above, overriding])
def test_a_limit_by_a_header_that_carries_keys_is_refused_where_it_is_saved(office: Office, save) -> None:
    taking(office, "X-Desk-Key")
    before = tariff_sheet.sheet(office.manager, office.product)
    with pytest.raises(Invalid, match="carries the keys of Harbour Data") as refused:
        save(office, by("x-desk-KEY"))
    assert refused.value.where.endswith("counted_per")
    assert tariff_sheet.sheet(office.manager, office.product) == before
    save(office, by("X-Desk"))  # another header may


def test_exceptions_for_operations_are_looked_at_too(office: Office) -> None:
    taking(office, "X-Desk-Key")
    own = {**by("X-Desk-Key"), "applies_to": [str(office.operations["GET /stations"])]}
    with pytest.raises(Invalid) as refused:
        office.draft("Ketch", {**terms(), "overrides": [own]})
    assert refused.value.where == "overrides[0].counted_per"


def test_a_header_that_a_limit_counts_by_cannot_come_to_carry_keys(office: Office) -> None:
    def refused(whose: str) -> None:
        before = products.one(office.manager, office.product)
        with pytest.raises(Conflict, match=f"'Desk' of {whose} counts by X-DESK"):
            taking(office, "X-DESK")
        assert products.one(office.manager, office.product) == before

    above(office, by("X-Desk"))
    refused("the limits above the plans")
    above(office)
    made = overriding(office, by("X-Desk"))
    refused("an override")
    overrides.lift(office.manager, made)
    drafting(office, by("X-Desk"))
    refused("Harbour Data · Ketch")
    office.publish("keep")
    refused("Harbour Data · Ketch")
    office.admit("Rowers", "Ketch")
    drafting(office)
    office.publish("next period")  # those who are on it keep it until October
    refused("Harbour Data · Ketch")
    office.clock.forward(days=40)
    taking(office, "X-DESK")
    assert products.one(office.manager, office.product).credentials.key_header == "X-DESK"
