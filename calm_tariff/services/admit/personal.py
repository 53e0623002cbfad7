"""The personal endpoint: a provider's documentation elsewhere asks which applications and keys somebody has, to show
them in its examples. It signs what it asks (Standard Webhooks 1.0) with a secret of its portal."""

from __future__ import annotations

import hmac
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy import select
from standardwebhooks import Webhook

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.core.lifecycles import VALID_KEY
from calm_tariff.core.membership import MAY
from calm_tariff.services.admit.portals import own_site
from calm_tariff.services.admit.portals.serving import PortalAsked
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.admit.consumers import Member

# So far the clocks of both may lie apart; what is older was perhaps overheard.
APART = timedelta(minutes=5)
FIELDS = ("webhook-id", "webhook-timestamp", "webhook-signature")


@dataclass(frozen=True, slots=True)
class KeyBeginning:
    """A key by how it begins: never the key itself."""

    label: str
    prefix: str
    environment: str


@dataclass(frozen=True, slots=True)
class PersonalApplication:
    """An application as examples show it: by its name and client id, with the beginnings of its keys."""

    name: str
    client_id: str
    keys: list[KeyBeginning]


def must_be_signed(ctx: Context, portal: PortalAsked, fields: Mapping[str, str], body: bytes) -> None:
    """See that a portal's own documentation asks, and now. Raises `NotSignedIn`, the same for whatever is wrong."""
    with ctx.reading() as session:
        secret = own_site.secret_of(session, ctx, portal.id)
    name, stamp, shown = (fields.get(field, "") for field in FIELDS)
    try:
        at = datetime.fromtimestamp(int(stamp), UTC)
        wanted = Webhook(secret).sign(name, at, body.decode()) if secret else ""
    except (ValueError, OverflowError, OSError, RuntimeError):
        wanted = ""
    # A secret being changed may sign twice; one good signature is enough.
    good = any(hmac.compare_digest(wanted.encode(), each.encode()) for each in shown.split()) if wanted else False
    if not good or abs(ctx.now - at) > APART:
        raise NotSignedIn("is not signed by this portal's documentation, or too long ago", "webhook-signature")


def applications_of(ctx: Context, portal: PortalAsked, email: str) -> list[PersonalApplication]:
    """The applications of whoever has a mail address and signs in at the portal, with the keys that are good now; none
    for anybody else, and for who sees no keys of their organisation."""
    with ctx.reading() as session:
        member = session.scalar(select(Member).where(Member.email == email.strip().lower()))
        shown = member is not None and member.left_at is None and member.role in MAY["see credentials"]
        if member is None or not shown or member.consumer.state not in ("let in", "suspended"):
            return []
        if not portal.serves(session, member.consumer_id):
            return []
        query = select(Application).where(Application.consumer_id == member.consumer_id).order_by(Application.id)
        mine = list(session.scalars(query))
        good = select(ApiKey).where(
            ApiKey.application_id.in_([each.id for each in mine]), ApiKey.kind == "key", ApiKey.state.in_(VALID_KEY)
        )
        keys: dict[int, list[KeyBeginning]] = {}
        for key in session.scalars(good.order_by(ApiKey.id)):
            begun = (key.starts_at is None or key.starts_at <= ctx.now) and not (
                key.expires_at and key.expires_at <= ctx.now
            )
            if begun:
                keys.setdefault(key.application_id, []).append(KeyBeginning(key.label, key.prefix, key.environment))
        return [PersonalApplication(each.name, each.client_id, keys.get(each.id, [])) for each in mine]
