"""New terms of use are a version that subscribers are asked to accept."""

from __future__ import annotations

from calm_tariff.services.admit import (
    terms_of_use,
)
from calm_tariff.services.compose import terms_versions
from tests.office import Office


def test_new_terms_of_use_are_a_version_that_subscribers_are_asked_to_accept(office: Office) -> None:
    ferries = office.acting(office.consumers[0])
    assert terms_of_use.to_accept(ferries) == []
    office.change_product(terms_of_use="Name the source, twice.")
    assert [(t.product, t.number) for t in terms_of_use.to_accept(ferries)] == [("Harbour Data", 2)]
    terms_of_use.accept_terms(ferries, "harbour-data")
    assert terms_of_use.to_accept(ferries) == []
    versions = terms_versions.of_product(office.manager, office.product)
    assert [(v.number, v.text, v.accepted) for v in versions] == [
        (2, "Name the source, twice.", 1),
        (1, "Name the source.", 2),
    ]
