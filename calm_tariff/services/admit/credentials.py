"""Keys, and secrets that go with a client id: made or brought along, rotated, revoked, and told of before they end."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import keys, names
from calm_tariff.core.errors import Conflict, Invalid, TooMany
from calm_tariff.core.events import Thing
from calm_tariff.core.keys import Kind
from calm_tariff.core.lifecycles import KEY, VALID_KEY, move
from calm_tariff.core.meters import Environment
from calm_tariff.core.periods import day_start, instant_of, local_day, moment_of
from calm_tariff.services.admit import owned
from calm_tariff.services.base import auditing, jobs, stamps
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.applications import ApiKey, ApiKeyUse
from calm_tariff.store.base.locking import locked

# What a key is called that is made to try calls with, and how many an application may have at once.
PASSING = "for an hour"
MOST_PASSING = 20
TELL_OF_END = "tell of a key's end"
# So long before a key expires, those who can make another are told.
TOLD_BEFORE = timedelta(days=7)
# An old key may serve beside its new one for so many hours.
LONGEST_OVERLAP = 90 * 24


@dataclass(frozen=True, slots=True, kw_only=True)
class KeyView:
    """A key as it can be shown: never the secret itself. `addresses` and `operations` are what it is narrowed to;
    `used_at` and `used_from` say when, and from which address, it was last used, as far as that is recorded."""

    id: int
    label: str
    prefix: str
    environment: str
    state: str
    created_at: datetime
    kind: str
    starts_at: datetime | None
    expires_at: datetime | None
    addresses: list[str]
    operations: list[int]
    tags: dict[str, str]
    used_at: datetime | None
    used_from: str


@dataclass(frozen=True, slots=True)
class NewKey:
    """A key or secret just made. `secret` is shown this once and kept nowhere."""

    key: KeyView
    secret: str


def subject(key: ApiKey) -> Thing:
    """What the record and events call it."""
    return Thing("key", key.id, f"{key.prefix}… of {key.application.name}", key.application.consumer_id)


def make_key(
    ctx: Context,
    application_id: int,
    label: str,
    environment: Environment = "live",
    kind: Kind = "key",
    *,
    starts_at: datetime | None = None,
    expires_at: datetime | None = None,
    first_day: date | None = None,
    last_day: date | None = None,
    brought: str = "",
) -> NewKey:
    """A new key for one's own application, made here or `brought` along, or a secret that goes with its client id. It
    is good from `starts_at` until `expires_at`, or from the beginning of `first_day` to the end of `last_day` in the
    provider's zone, where these are given. Raises `NotFound` for another's, `Invalid`; a key that anybody has, or had,
    is not taken again, and whose it is is not told."""
    if brought and kind != "key":
        raise Invalid("only a key can be brought along", "brought")
    for field, day in (("first_day", first_day), ("last_day", last_day)):
        if day is not None and not 1970 < day.year < 9999:
            raise Invalid("is further away than a key can last", field)
    if first_day is not None and last_day is not None and last_day < first_day:
        raise Invalid("must not lie before the first day", "last_day")
    with ctx.transaction() as session:
        where = zone_of(session)
        if first_day is not None:
            starts_at = moment_of(day_start(first_day, where))
        if last_day is not None:
            expires_at = moment_of(day_start(last_day + timedelta(days=1), where))
    for field, moment in (("starts_at", starts_at), ("expires_at", expires_at)):
        if moment is not None and moment.tzinfo is None:
            raise Invalid("must say its time zone, as in 2027-01-01T00:00:00Z", field)
    if expires_at is not None and expires_at <= max(ctx.now, starts_at or ctx.now):
        raise Invalid("must lie ahead, and after the start", "expires_at")
    label = names.plain(label, "label") if label.strip() else kind
    with ctx.transaction() as session:
        application = owned.application(session, ctx, application_id)
        if not keys.fits("sandbox" if application.environment == "sandbox" else "live", environment):
            raise Invalid(f"{application.name} is for the sandbox alone", "environment")
        secret = keys.brought(brought) if brought else keys.made(kind, environment, ctx.token())
        if brought and session.scalar(select(ApiKey.id).where(ApiKey.key_hash == hash_token(secret))):
            raise Invalid("cannot be taken; bring another", "brought")
        key = ApiKey(
            application_id=application.id,
            label=label,
            environment=environment,
            kind=kind,
            prefix=keys.beginning_of_brought(secret) if brought else keys.beginning(secret),
            key_hash=hash_token(secret),
            state="active",
            created_at=ctx.now,
            starts_at=starts_at,
            expires_at=expires_at,
        )
        session.add(key)
        session.flush()
        tell_before_end(session, ctx, key)
        did = "brought a key along" if brought else f"made a {kind}"
        auditing.note(session, ctx, did, subject(key))
        stamps.touch(session, ctx)
        return NewKey(key_view(key, ctx.now), secret)


def make_passing_key(ctx: Context, application_id: int, kind: Kind) -> NewKey:
    """A key or secret of the sandbox that lives an hour, to try calls with. Raises `NotFound` for another's,
    `TooMany`."""
    with ctx.transaction() as session:
        application = owned.application(session, ctx, application_id, lock=True)
        alive = [k for k in application.keys if k.label == PASSING and k.expires_at and k.expires_at > ctx.now]
        if len(alive) >= MOST_PASSING:
            wait = int((min(k.expires_at for k in alive if k.expires_at) - ctx.now).total_seconds()) + 1
            raise TooMany(f"{MOST_PASSING} keys for an hour are good now; use one, or wait", wait=wait)
        within = ctx.joining(session)
        return make_key(within, application_id, PASSING, "sandbox", kind, expires_at=ctx.now + timedelta(hours=1))


def rotate_key(ctx: Context, key_id: int, hours: int) -> NewKey:
    """A new key or secret in place of one's own, which is *retiring*: it serves beside the new one for so many hours,
    and no longer than it would have. Raises `NotFound` for another's, `Conflict` for one that is not active, `Invalid`.
    """
    if not 1 <= hours <= LONGEST_OVERLAP:
        raise Invalid(f"must be between 1 and {LONGEST_OVERLAP:,}", "hours")
    with ctx.transaction() as session:
        key = owned.key(session, ctx, key_id)
        if key.kind == "certificate":
            raise Conflict("a certificate is not rotated; bring the next one beside it", key.label)
        if key.label == PASSING or key_view(key, ctx.now).state != "active":
            raise Conflict(
                f"it is {key_view(key, ctx.now).state}, and nothing takes its place; make a new one", key.label
            )
        made = make_key(
            ctx.joining(session),
            key.application_id,
            key.label,
            "live" if key.environment == "live" else "sandbox",
            "key" if key.kind == "key" else "secret",
            expires_at=key.expires_at,
        )
        new = session.get_one(ApiKey, made.key.id)
        new.addresses, new.operations, new.tags = list(key.addresses), list(key.operations), dict(key.tags)
        made = NewKey(key_view(new, ctx.now), made.secret)
        key.state = move(KEY, key.label, key.state, "retiring")
        until = ctx.now + timedelta(hours=hours)
        key.expires_at = min(until, key.expires_at) if key.expires_at else until
        auditing.note(session, ctx, "rotated a key", subject(key), after={"new": made.key.prefix, "until": str(until)})
        stamps.touch(session, ctx)
        return made


def tell_before_end(session: Session, ctx: Context, key: ApiKey) -> None:
    """Have those who can make another told a week before a new key ends, where it lasts longer."""
    if key.expires_at is not None and key.expires_at - TOLD_BEFORE > ctx.now:
        told = key.expires_at - TOLD_BEFORE
        jobs.write(session, ctx, TELL_OF_END, f"the end of key {key.prefix}…", {"key": key.id}, run_at=told)


def tell_of_end(ctx: Context, key_id: int) -> datetime | None:
    """Tell those who can make another that a key is about to expire, where it still is; or when to tell them."""
    with ctx.transaction() as session:
        key = locked(session, ApiKey, key_id)
        if key is None or key.state != "active" or key.expires_at is None or key.expires_at <= ctx.now:
            return None
        if key.expires_at - TOLD_BEFORE > ctx.now:
            return key.expires_at - TOLD_BEFORE
        last = local_day(instant_of(key.expires_at) - 1, zone_of(session))
        fields = {"key": f"{key.prefix}…", "label": key.label, "application": key.application.name}
        fields["day"] = f"{last:%-d %B %Y}"
        notice = Notice(kind="key expires soon", fields=fields, page=f"/applications/{key.application_id}")
        told = subscribers.members_who_may(session, key.application.consumer_id, "run applications")
        notify(session, ctx, members(told), notice)
        return None


def revoke_key(ctx: Context, key_id: int, why: str = "") -> KeyView:
    """Make one's own key invalid at once. Raises `NotFound` for another's, `Conflict` for a dead one."""
    with ctx.transaction() as session:
        key = owned.key(session, ctx, key_id)
        key.state = move(KEY, key.label, key.state, "revoked")
        key.revoked_at = ctx.now
        auditing.note(session, ctx, "revoked a key", subject(key), why=why)
        stamps.touch(session, ctx)
        return key_view(key, ctx.now)


def word(ctx: Context, key_id: int, label: str, tags: Mapping[str, str]) -> KeyView:
    """Give one's own key another label and words of its owner's. Raises `NotFound` for another's, `Invalid`, and
    `Conflict` for one that was made to try calls with."""
    label, tags = names.plain(label, "label"), names.tags(tags)
    with ctx.transaction() as session:
        key = owned.key(session, ctx, key_id)
        if PASSING in (key.label, label):
            raise Conflict("a key for an hour has no other label, and no other key has that one", "label")
        before = {"label": key.label, "tags": dict(key.tags)}
        key.label, key.tags = label, tags
        auditing.note(session, ctx, "labelled a key", subject(key), before=before, after={"label": label, "tags": tags})
        return key_view(key, ctx.now)


def uses(session: Session, key_ids: Collection[int]) -> dict[int, ApiKeyUse]:
    """When keys were last used, by id."""
    query = select(ApiKeyUse).where(ApiKeyUse.key_id.in_(key_ids))
    return {use.key_id: use for use in session.scalars(query)}


def key_view(key: ApiKey, now: datetime, use: ApiKeyUse | None = None) -> KeyView:
    """A key as it can be shown."""
    over = key.expires_at is not None and key.expires_at <= now and key.state in VALID_KEY
    state = "expired" if over else key.state
    return KeyView(
        id=key.id,
        label=key.label,
        prefix=key.prefix,
        environment=key.environment,
        state=state,
        created_at=key.created_at,
        kind=key.kind,
        starts_at=key.starts_at,
        expires_at=key.expires_at,
        addresses=list(key.addresses),
        operations=list(key.operations),
        tags=dict(key.tags),
        used_at=moment_of(use.last_at_us) if use else None,
        used_from=use.address if use else "",
    )
