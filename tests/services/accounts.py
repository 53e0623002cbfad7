"""Accounts, and the letters and tokens that go with them."""

from __future__ import annotations

import re
from typing import Any

from sqlalchemy import select

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.base.context import Context
from calm_tariff.services.house import service_tokens
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.service_tokens import ServiceTokenTyped
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.store.base.record import Mail
from tests.office import PASSWORD, Office

GULLS = SignUpTyped(name="Gil Gull", organisation="Gulls", password=PASSWORD)


INES = "product@test.example"


OTHER = "quite another one"


def letters(ctx: Context, to: str) -> list[Mail]:
    with ctx.transaction() as session:
        return list(session.scalars(select(Mail).where(Mail.recipient == to).order_by(Mail.id)))


def token_in(mail: Mail) -> str:
    found = re.search(r"#(\S+)", mail.body)
    assert found
    return found[1]


def signed_in(office: Office, email: str = INES) -> Context:
    return office.ctx.acting(sessions.who(office.ctx, PEOPLE, sessions.sign_in(office.ctx, PEOPLE, email, PASSWORD)))


def token_of(ctx: Context, label: str, **wanted: Any) -> str:
    return service_tokens.make(ctx, ServiceTokenTyped(label=label, **wanted))


def acts(office: Office, token: str, address: str = "192.0.2.1") -> str:
    try:
        return service_tokens.who_by(office.ctx, token, address).in_words
    except NotSignedIn as error:
        return str(error)
