"""How the back ends of an API version are asked: waits, sizes, origins, the breaker, and what goes through."""

from __future__ import annotations

from dataclasses import asdict
from typing import get_args
from urllib.parse import urlsplit

from calm_tariff.core import strangers
from calm_tariff.core.errors import Invalid, Stale
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose import credential_fields
from calm_tariff.services.compose.apis.operations import subject
from calm_tariff.services.compose.apis.views import ApiView, ForwardingTyped, LetsThrough, forwarding_of, get, view

BOUNDS = (
    ("connect_ms", 10, 60_000),
    ("answer_ms", 10, 600_000),
    ("most_body_bytes", 0, 1_000_000_000),
    ("breaker_failures", 0, 1000),
    ("breaker_seconds", 1, 3600),
)


def change(ctx: Context, version_id: int, edition: int, typed: ForwardingTyped) -> ApiView:
    """Say how a version's back ends are asked. Raises `Invalid`, naming the field, or `Stale`."""
    ctx.actor.must_be("product manager", "operations")
    for name, least, most in BOUNDS:
        if not least <= getattr(typed, name) <= most:
            raise Invalid(f"must be between {least:,} and {most:,}", name)
    for origin in typed.cors_origins:
        parts = urlsplit(origin)
        if origin != "*" and (parts.scheme not in ("http", "https") or f"{parts.scheme}://{parts.netloc}" != origin):
            raise Invalid(f"{origin!r} is no origin, such as https://maps.example, nor *", "cors_origins")
    if set(typed.lets_through) - set(get_args(LetsThrough)):
        raise Invalid(f"must be some of {', '.join(get_args(LetsThrough))}", "lets_through")
    strangers.trying(typed.tries_an_hour)
    kept = [name.strip().lower() for name in typed.kept_headers]
    with ctx.transaction() as session:
        credential_fields.refuse_kept(session, kept)
        version = get(session, version_id, lock=True)
        if version.edition != edition:
            raise Stale("somebody else has changed this API meanwhile", version.api.name, view(session, version))
        before = asdict(forwarding_of(version))
        for name, value in {**asdict(typed), "kept_headers": sorted(set(kept))}.items():
            setattr(version, name, list(value) if name in ("cors_origins", "lets_through") else value)
        version.edition += 1
        auditing.note(
            session,
            ctx,
            "changed how back ends are asked",
            subject(version),
            before=before,
            after=asdict(forwarding_of(version)),
        )
        stamps.touch(session, ctx)
        session.flush()
        return view(session, version)
