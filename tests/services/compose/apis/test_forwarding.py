"""How back ends are asked is changed whole or not at all, and each wrong field is named."""

from __future__ import annotations

from dataclasses import replace

import pytest

from calm_tariff.core.errors import Invalid, NotAllowed, NotFound, Stale
from calm_tariff.services.base import auditing
from calm_tariff.services.compose import products
from calm_tariff.services.compose.apis import forwarding, versions
from calm_tariff.services.compose.apis.views import ForwardingTyped
from calm_tariff.services.compose.products import CredentialsTyped
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office

ASKED = ForwardingTyped(
    connect_ms=500,
    answer_ms=20_000,
    most_body_bytes=0,
    cors_origins=["https://maps.example", "*"],
    passes_caller=True,
    breaker_failures=0,
    breaker_seconds=3600,
    lets_through=["odd paths", "overrides"],
    kept_headers=["x-ship"],
    keeps_bodies=True,
)


def test_what_is_changed_is_asked_with_shown_and_on_the_record(office: Office) -> None:
    before = versions.one(office.manager, office.api)
    changed = forwarding.change(office.manager, office.api, before.edition, ASKED)
    assert changed.forwarding == ASKED == versions.one(office.manager, office.api).forwarding
    assert changed.edition == before.edition + 1
    (entry,) = auditing.entries(office.manager, PageQuery("how back ends are asked")).rows
    assert (entry.before["connect_ms"], entry.after["connect_ms"]) == (3000, 500)
    with pytest.raises(Stale, match="meanwhile"):
        forwarding.change(office.manager, office.api, before.edition, ForwardingTyped())
    with pytest.raises(NotAllowed):
        forwarding.change(office.reviewer, office.api, changed.edition, ForwardingTyped())
    with pytest.raises(NotFound):
        forwarding.change(office.manager, 10**9, 1, ASKED)


@pytest.mark.parametrize(
    ("field", "values"),
    [
        ("connect_ms", (9, 60_001)),
        ("answer_ms", (9, 600_001)),
        ("most_body_bytes", (-1, 1_000_000_001)),
        ("breaker_failures", (-1, 1001)),
        ("breaker_seconds", (0, 3601)),
        (
            "cors_origins",
            (["https://maps.example/"], ["maps.example"], ["ftp://maps.example"], ["*", "null"]),
        ),
        ("lets_through", (["everything"],)),
        ("kept_headers", (["X-API-Key"], ["Cookie"], ["authorization"], ["a b"], [""], [f"x-{n}" for n in range(21)])),
    ],
)
def test_a_field_out_of_bounds_is_named_and_changes_nothing(office: Office, field: str, values: tuple) -> None:
    before = versions.one(office.manager, office.api)
    for value in values:
        with pytest.raises(Invalid) as refused:
            forwarding.change(office.manager, office.api, before.edition, replace(ASKED, **{field: value}))
        assert refused.value.where == field
    assert versions.one(office.manager, office.api) == before


def test_a_field_in_which_a_product_takes_keys_is_not_recorded(office: Office) -> None:
    product = products.one(office.manager, office.product)
    products.set_credentials(
        office.manager, office.product, product.edition, CredentialsTyped(["key"], "X-Tide-Key", "", False)
    )
    before = versions.one(office.manager, office.api)
    with pytest.raises(Invalid, match="carries credentials"):
        forwarding.change(office.manager, office.api, before.edition, replace(ASKED, kept_headers=["x-tide-key"]))
    changed = forwarding.change(
        office.manager, office.api, before.edition, replace(ASKED, kept_headers=[" X-Ship", "x-ship"])
    )
    assert changed.forwarding.kept_headers == ["x-ship"]
