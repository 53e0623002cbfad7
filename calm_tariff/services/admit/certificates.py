"""Client certificates as credentials: a reverse proxy checks that a caller has one's key, and hands it over."""

from __future__ import annotations

from sqlalchemy import select

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.keys import fits
from calm_tariff.core.meters import Environment
from calm_tariff.formats import certificates
from calm_tariff.services.admit import credentials, owned
from calm_tariff.services.admit.credentials import KeyView
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.applications import ApiKey

SHOWN = 16


def bring(ctx: Context, application_id: int, label: str, environment: Environment, pem: str) -> KeyView:
    """Make a certificate a credential of one's own application, from when it is good until it ends. Raises `NotFound`
    for another's, `Invalid`, naming the field; one that anybody has, or had, is not taken again, and whose it is is not
    told."""
    with ctx.transaction() as session:
        owned.application(session, ctx, application_id)
    certificate = certificates.brought(pem)
    if certificate.ends_at <= ctx.now:
        raise Invalid("has ended; bring one that is good", "certificate")
    label = names.plain(label, "label") if label.strip() else names.cut(certificate.subject or "certificate", 100)
    if label == credentials.PASSING:
        raise Conflict("no certificate has this label", "label")
    with ctx.transaction() as session:
        application = owned.application(session, ctx, application_id)
        if not fits("sandbox" if application.environment == "sandbox" else "live", environment):
            raise Invalid(f"{application.name} is for the sandbox alone", "environment")
        if session.scalar(select(ApiKey.id).where(ApiKey.key_hash == certificate.fingerprint)):
            raise Invalid("cannot be taken; bring another", "certificate")
        key = ApiKey(
            application_id=application.id,
            label=label,
            environment=environment,
            kind="certificate",
            prefix=certificate.fingerprint[:SHOWN],
            key_hash=certificate.fingerprint,
            state="active",
            created_at=ctx.now,
            starts_at=certificate.begins_at if certificate.begins_at > ctx.now else None,
            expires_at=certificate.ends_at,
        )
        session.add(key)
        session.flush()
        credentials.tell_before_end(session, ctx, key)
        auditing.note(session, ctx, "brought a certificate", credentials.subject(key))
        stamps.touch(session, ctx)
        return credentials.key_view(key, ctx.now)
