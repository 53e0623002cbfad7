"""The first moments of an installation: the provider, and somebody who can sign in."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.core import names
from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import minor_digits
from calm_tariff.core.periods import zone
from calm_tariff.formats.addresses import mail_address
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import ROLES, Context
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


def installed(ctx: Context) -> bool:
    """Whether there is a provider already."""
    with ctx.transaction() as session:
        return session.scalar(select(Provider.id)) is not None


def check(typed: ProviderTyped) -> None:
    """Raise `Invalid`, naming the field, for a provider that cannot be made."""
    names.plain(typed.name, "name", 200)
    zone(typed.time_zone)
    minor_digits(typed.currency)
    if not 0 <= typed.tax_percent <= 100 or typed.tax_percent != round(typed.tax_percent, 4):
        raise Invalid("must be between 0 and 100, with at most four decimals", "tax_percent")
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
                payment_days=14,
            )
        )
        stamps.touch(session, ctx)


def add_person(ctx: Context, email: str, name: str, role: str, password: str) -> None:
    """Somebody of the provider. Raises `Invalid` for an unknown role or a short password."""
    if role not in ROLES:
        raise Invalid(f"must be one of {', '.join(ROLES)}", "role")
    with ctx.transaction() as session:
        session.add(Person(email=email.lower(), name=name, role=role, password_hash=hash_password(password)))
