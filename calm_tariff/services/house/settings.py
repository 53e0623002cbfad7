"""The provider's settings, as an owner of the house reads and changes them."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from datetime import date
from decimal import Decimal

from sqlalchemy.orm import Session

from calm_tariff.core.billing.documents.tax import Rate
from calm_tariff.core.errors import Stale
from calm_tariff.core.house import OWNER
from calm_tariff.core.money import plain
from calm_tariff.core.periods import instant_of, local_day, zone
from calm_tariff.core.provider import LOCKED, ProviderSettings, checked, different, refuse_locked
from calm_tariff.core.sentences.settings import EFFECTS, locked_because
from calm_tariff.formats import bank_accounts, tax_numbers
from calm_tariff.formats.addresses import mail_address
from calm_tariff.formats.values import read, write
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.provider import Provider

# What there are several of.
LISTS = ("working_days", "tax_changes", "reminders_after_days", "tries_after_days")
_AMOUNTS = ("tax_percent", "adjustment_limit", "write_off_limit")


@dataclass(frozen=True, slots=True, kw_only=True)
class SettingView:
    """One setting: what a change of it does and from when, and why it is `locked`, or empty."""

    name: str
    effect: str
    locked: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SettingsView:
    """The provider's settings (core.provider), what is to be said of each, whether somebody has looked through them
    yet, and which edition this is. Calls before the day `calls_from` were thrown away."""

    name: str
    address: str
    country: str
    tax_number: str
    time_zone: str
    currency: str
    tax_percent: Decimal
    tax_changes: list[Rate]
    payment_days: int
    mail_from: str
    working_days: list[int]
    target_days: int
    invoice_prefix: str
    credit_note_prefix: str
    zero_invoices: bool
    adjustment_limit: Decimal | None
    review_percent: int
    charge_after_days: int | None
    reminders_after_days: list[int]
    pause_after_days: int | None
    tries_after_days: list[int]
    write_off_limit: Decimal | None
    iban: str
    bic: str
    body_days: int
    call_months: int
    calls_from: date | None
    settings: list[SettingView]
    settled: bool
    edition: int


def everything(ctx: Context) -> SettingsView:
    """The provider's settings."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _view(provider_of(session))


def change(ctx: Context, typed: ProviderSettings, edition: int) -> SettingsView:
    """Have other settings. Raises `Invalid`, naming the field, `Conflict` where one is locked, or `Stale` with them as
    they are where somebody was first."""
    ctx.actor.must_be(OWNER)
    checked(typed)
    mail_address(typed.mail_from, "mail_from")
    country = tax_numbers.country(typed.country)
    typed = replace(
        typed,
        country=country,
        tax_number=tax_numbers.tax_number(typed.tax_number, country),
        iban=bank_accounts.iban(typed.iban),
        bic=bank_accounts.bic(typed.bic),
        working_days=tuple(sorted(set(typed.working_days))),
    )
    with ctx.transaction() as session:
        # The gateways learn of another zone by the stamp, which is held before anything else.
        stamps.touch(session, ctx)
        provider = _held(session)
        if provider.edition != edition:
            raise Stale("somebody has changed the settings meanwhile", "settings", _view(provider))
        before = of(provider)
        if provider.charged_at is not None:
            refuse_locked(before, typed, LOCKED)
        if provider.settled_at is None:
            provider.settled_at = ctx.now
        changed = different(before, typed)
        if changed:
            for name in changed:
                value = getattr(typed, name)
                setattr(provider, name, write(value) if name in LISTS else value)
            provider.edition += 1
            auditing.note(
                session,
                ctx,
                "changed the settings",
                ("provider", provider.id, provider.name),
                before={name: _said(before, name) for name in changed},
                after={name: _said(typed, name) for name in changed},
            )
        session.flush()
        return _view(provider)


def of(provider: Provider) -> ProviderSettings:
    """The provider's settings as they are kept."""
    return ProviderSettings(
        name=provider.name,
        address=provider.address,
        country=provider.country,
        tax_number=provider.tax_number,
        time_zone=provider.time_zone,
        currency=provider.currency,
        tax_percent=provider.tax_percent,
        tax_changes=read(tuple[Rate, ...], provider.tax_changes),
        payment_days=provider.payment_days,
        mail_from=provider.mail_from,
        working_days=tuple(provider.working_days),
        target_days=provider.target_days,
        invoice_prefix=provider.invoice_prefix,
        credit_note_prefix=provider.credit_note_prefix,
        zero_invoices=provider.zero_invoices,
        adjustment_limit=provider.adjustment_limit,
        review_percent=provider.review_percent,
        charge_after_days=provider.charge_after_days,
        reminders_after_days=tuple(provider.reminders_after_days),
        pause_after_days=provider.pause_after_days,
        tries_after_days=tuple(provider.tries_after_days),
        write_off_limit=provider.write_off_limit,
        iban=provider.iban,
        bic=provider.bic,
        body_days=provider.body_days,
        call_months=provider.call_months,
    )


def _held(session: Session) -> Provider:
    provider = locked(session, Provider, provider_of(session).id)
    assert provider is not None
    return provider


def _said(settings: ProviderSettings, name: str) -> object:
    value = getattr(settings, name)
    if isinstance(value, Decimal):
        return plain(value)
    if name == "tax_changes":
        return [f"{plain(each.percent)}% from {each.since}" for each in settings.tax_changes]
    return list(value) if isinstance(value, tuple) else value


def _view(provider: Provider) -> SettingsView:
    settings = of(provider)
    kept = {name: getattr(settings, name) for name in (each.name for each in fields(settings))}
    for name in LISTS:
        kept[name] = list(kept[name])
    for name in _AMOUNTS:
        kept[name] = None if kept[name] is None else Decimal(plain(kept[name]))
    since = provider.charged_at
    because = locked_because(local_day(instant_of(since), zone(provider.time_zone))) if since else ""
    return SettingsView(
        **kept,
        calls_from=provider.calls_from,
        settings=[
            SettingView(name=name, effect=effect, locked=because if name in LOCKED else "")
            for name, effect in EFFECTS.items()
        ],
        settled=provider.settled_at is not None,
        edition=provider.edition,
    )
