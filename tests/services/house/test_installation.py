"""The first moments of an installation: what money and days are counted in is right or is refused."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.house.installation import ProviderTyped, add_person, check, install, installed
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import sessions

TYPED = ProviderTyped(
    name="Isle Survey",
    time_zone="Asia/Tokyo",
    currency="JPY",
    tax_percent=Decimal("8.875"),
    mail_from="maps@isle.example",
)


@pytest.mark.parametrize(
    ("changes", "where"),
    [
        ({"name": ""}, "name"),
        ({"name": "a\u200bb"}, "name"),
        ({"time_zone": "Mars/Olympus"}, "time_zone"),
        ({"currency": "XXX"}, "currency"),
        ({"currency": "eur"}, "currency"),
        ({"tax_percent": Decimal(-1)}, "tax_percent"),
        ({"tax_percent": Decimal("100.0001")}, "tax_percent"),
        ({"tax_percent": Decimal("1.00001")}, "tax_percent"),
        ({"mail_from": "nobody"}, "mail_from"),
    ],
)
def test_a_provider_that_cannot_be_is_refused_by_field_and_none_is_made(
    ctx: Context, changes: dict[str, object], where: str
) -> None:
    with pytest.raises(Invalid) as refused:
        install(ctx, replace(TYPED, **changes))  # type: ignore[arg-type]
    assert refused.value.where == where
    assert not installed(ctx)


@pytest.mark.parametrize("tax", [Decimal(0), Decimal(100), Decimal("19.6")])
def test_what_may_be_is_kept_as_it_was_typed(ctx: Context, tax: Decimal) -> None:
    typed = replace(TYPED, tax_percent=tax)
    check(typed)
    install(ctx, typed)
    assert installed(ctx)
    with ctx.transaction() as session:
        kept = provider_of(session)
        assert (kept.name, kept.time_zone, kept.currency, kept.tax_percent) == (
            "Isle Survey",
            "Asia/Tokyo",
            "JPY",
            tax,
        )


def test_who_is_added_signs_in_by_any_case_of_the_address(ctx: Context) -> None:
    install(ctx, TYPED)
    add_person(ctx, "Kei@Isle.example", "Kei", ["finance"], "a long password")
    token = sessions.sign_in(ctx, PEOPLE, "KEI@isle.EXAMPLE", "a long password")
    assert sessions.who(ctx, PEOPLE, token).roles == {"finance"}


@pytest.mark.parametrize(
    ("role", "password", "where"), [("captain", "a long password", "roles"), ("finance", "short", "password")]
)
def test_nobody_is_added_with_no_role_of_ours_or_a_short_password(
    ctx: Context, role: str, password: str, where: str
) -> None:
    install(ctx, TYPED)
    with pytest.raises(Invalid) as refused:
        add_person(ctx, "kei@isle.example", "Kei", [role], password)
    assert refused.value.where == where
