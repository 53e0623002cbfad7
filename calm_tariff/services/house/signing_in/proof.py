"""Before what guards an account is changed, whoever is signed in proves anew that it is they; and once it was changed,
they are told by letter."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from typing import Literal

from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, notify
from calm_tariff.services.base.secrets import password_matches
from calm_tariff.services.house.signing_in import throttling
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.store.house.people import Account

log = logging.getLogger("calm_tariff.sign_in")
Changed = Literal[
    "password",
    "password by letter",
    "address",
    "factor on",
    "factor off",
    "recovery code",
    "recovery codes",
    "passkey made",
    "passkey removed",
    "outside sign-in",
]
RECORDED: Mapping[Changed, str] = {
    "password": "changed the password",
    "password by letter": "set another password by letter",
    "address": "changed the mail address",
    "factor on": "turned a second factor on",
    "factor off": "turned the second factor off",
    "recovery code": "used a recovery code",
    "recovery codes": "made other recovery codes",
    "passkey made": "made a passkey",
    "passkey removed": "removed a passkey",
    "outside sign-in": "signed in through an outside provider for the first time",
}


def by_password(ctx: Context, realm: Realm, password: str, address: str = "", field: str = "password") -> int:
    """See that whoever is signed in knows their present password; their id. Raises `NotSignedIn`, `TooMany`, or
    `Invalid`, naming the field."""
    mine = realm.me(ctx)
    with ctx.transaction() as session:
        account = realm.by_id(session, mine)
        email, stored = account.email, account.password_hash
    throttling.attempt(ctx, f"{realm.kind} {email}", address)
    if not password_matches(stored, password):
        log.warning("the account of %s was not changed: the present password was wrong", email)
        raise Invalid("is not your present password", field)
    throttling.forgive(ctx, f"{realm.kind} {email}", address)
    return mine


def changed(session: Session, ctx: Context, realm: Realm, account: Account, what: Changed, to: str = "") -> None:
    """Put on the record what was changed of an account, and tell whose it is: at `to`, where that is not the address
    they have now."""
    who = ctx.acting(realm.acting(account))
    auditing.note(session, who, RECORDED[what], (realm.kind, account.id, account.email))
    notify(session, ctx, [realm.recipient(account, to)], Notice(kind="sign-in changed", fields={"what": what}))
    log.info("%s %s", account.email, RECORDED[what])
