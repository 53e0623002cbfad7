"""The first moments of an installation: the provider, and somebody who can sign in."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.core import house
from calm_tariff.core.provider import ProviderSettings, checked
from calm_tariff.formats import bank_accounts, tax_numbers
from calm_tariff.formats.addresses import mail_address
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.secrets import hash_password
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.house.people import Person


@dataclass(frozen=True, slots=True, kw_only=True)
class ProviderTyped:
    """Who sells access here."""

    name: str
    time_zone: str
    currency: str
    tax_percent: Decimal
    mail_from: str
    address: str = ""
    iban: str = ""
    country: str = ""
    tax_number: str = ""


def installed(ctx: Context) -> bool:
    """Whether there is a provider already."""
    with ctx.transaction() as session:
        return session.scalar(select(Provider.id)) is not None


def check(typed: ProviderTyped) -> None:
    """Raise `Invalid`, naming the field, for a provider that cannot be made."""
    checked(
        ProviderSettings(
            name=typed.name,
            time_zone=typed.time_zone,
            currency=typed.currency,
            tax_percent=typed.tax_percent,
            mail_from=typed.mail_from,
            address=typed.address,
        )
    )
    bank_accounts.iban(typed.iban)
    tax_numbers.country(typed.country)
    tax_numbers.tax_number(typed.tax_number, typed.country)
    mail_address(typed.mail_from, "mail_from")


def install(ctx: Context, typed: ProviderTyped) -> None:
    """Make the provider. Raises `Invalid`, naming the field."""
    check(typed)
    with ctx.transaction() as session:
        session.add(
            Provider(
                name=typed.name,
                time_zone=typed.time_zone,
                currency=typed.currency,
                tax_percent=typed.tax_percent,
                mail_from=typed.mail_from,
                address=typed.address,
                iban=typed.iban,
                country=typed.country,
                tax_number=tax_numbers.tax_number(typed.tax_number, typed.country),
                payment_days=14,
            )
        )
        stamps.touch(session, ctx)


def add_person(ctx: Context, email: str, name: str, roles: Iterable[str], password: str) -> None:
    """Somebody of the provider. Raises `Invalid` for an unknown role or a short password."""
    held = list(house.roles_of(roles))
    hashed = hash_password(password)
    with ctx.transaction() as session:
        session.add(Person(email=email.lower(), name=name, roles=held, password_hash=hashed, joined_at=ctx.now))
