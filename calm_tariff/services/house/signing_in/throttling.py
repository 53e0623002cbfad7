"""Throttling of sign-ins, of letters, and of what is written for others to read: by account, by address and in all,
with counts that all web processes share.

The counting is the `limits` package's, on a table of the database. What is refused is told when to come again.
"""

from __future__ import annotations

import logging
from datetime import timedelta
from typing import Any

from limits import parse_many
from limits.storage import Storage
from limits.strategies import FixedWindowRateLimiter
from sqlalchemy import delete, func, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.exc import SQLAlchemyError

from calm_tariff.core.errors import TooMany
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.store.house.people import Attempts

log = logging.getLogger("calm_tariff.sign_in")

# The longer it goes on, the longer it takes: a right password in between begins the account's count anew.
ACCOUNT = parse_many("5/minute; 15/hour; 40/day")
ADDRESS = parse_many("30/minute; 300/hour")
ALTOGETHER = parse_many("600/minute")
# Letters that anybody can have sent to anybody.
LETTERS = parse_many("3/hour; 10/day")
LETTERS_FROM = parse_many("20/hour; 60/day")
LETTERS_ALTOGETHER = parse_many("500/hour")
# What one person, and one organisation, may write for others to read.
WRITING = parse_many("5/minute; 20/hour; 60/day")
WRITING_OF_ONE = parse_many("60/hour; 150/day")


class _Kept(Storage):
    """Counts in the table of attempts, by a digest of their key, at the time of the context."""

    STORAGE_SCHEME = ["calm-tariff"]

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx

    @property
    def base_exceptions(self) -> type[Exception]:
        """What goes wrong when the counts cannot be reached."""
        return SQLAlchemyError

    def incr(self, key: str, expiry: int, amount: int = 1) -> int:
        """Count, beginning anew where the window is over; how many there are then."""
        now, place = self.ctx.now, hash_token(key)
        with self.ctx.transaction() as session:
            made = insert(Attempts).values(place=place, made=amount, expires_at=now + timedelta(seconds=expiry))
            over = Attempts.expires_at <= now
            session.execute(
                made.on_duplicate_key_update(
                    [
                        ("made", func.if_(over, amount, Attempts.made + amount)),
                        ("expires_at", func.if_(over, made.inserted.expires_at, Attempts.expires_at)),
                    ]
                )
            )
            return session.scalar(select(Attempts.made).where(Attempts.place == place)) or 0

    def get(self, key: str) -> int:
        """How many there are in the window."""
        with self.ctx.transaction() as session:
            found = session.get(Attempts, hash_token(key))
            return found.made if found and found.expires_at > self.ctx.now else 0

    def get_expiry(self, key: str) -> float:
        """When the window is over, in seconds since the epoch."""
        with self.ctx.transaction() as session:
            found = session.get(Attempts, hash_token(key))
            return (found.expires_at if found else self.ctx.now).timestamp()

    def check(self) -> bool:
        """Whether the counts can be reached: whoever asks has reached the database already."""
        return True

    def reset(self) -> int:
        """Forget everything whose window is over."""
        with self.ctx.transaction() as session:
            gone = session.scalar(select(func.count()).where(Attempts.expires_at <= self.ctx.now)) or 0
            session.execute(delete(Attempts).where(Attempts.expires_at <= self.ctx.now))
            return gone

    def clear(self, key: str) -> None:
        """Forget one count."""
        with self.ctx.transaction() as session:
            session.execute(delete(Attempts).where(Attempts.place == hash_token(key)))


def attempt(ctx: Context, account: str, address: str, *, where: str = "password") -> None:
    """Count an attempt to sign in, before what proves it is looked at. Raises `TooMany`, with the seconds to wait;
    `where` is the field of what proves it, "" where none is typed."""
    wait = _wait(ctx, (ACCOUNT, "account", account), (ADDRESS, "address", address), (ALTOGETHER, "all"))
    if wait:
        log.warning("too many attempts to sign in as %s from %s", account, address)
        raise TooMany("too many attempts to sign in; wait, and try again", wait, where)


def begun(ctx: Context, by: str, address: str) -> None:
    """Count that somebody at an address, who is not known yet, begins to sign in by a provider or a passkey. Raises
    `TooMany`, with the seconds to wait and `by` as its place."""
    wait = _wait(ctx, (ADDRESS, f"by {by} from", address), (ALTOGETHER, f"by {by}"))
    if wait:
        log.warning("too many sign-ins by %s from %s", by, address)
        raise TooMany("too many sign-ins from where you are; wait, and try again", wait, by)


def letter(ctx: Context, email: str, address: str) -> None:
    """Count a letter that somebody not signed in has sent to an address, whether or not one goes out. Raises
    `TooMany`, with the seconds to wait."""
    wait = _wait(
        ctx, (LETTERS, "letters to", email), (LETTERS_FROM, "letters from", address), (LETTERS_ALTOGETHER, "letters")
    )
    if wait:
        log.warning("too many letters asked for from %s", address)
        raise TooMany("too many letters were asked for; wait, and try again", wait, "email")


def writing(ctx: Context) -> None:
    """Count something that the member who is signed in writes for others to read. Raises `TooMany`, with the seconds to
    wait."""
    who, whose = str(ctx.actor.member_id), str(ctx.actor.consumer_id)
    wait = _wait(ctx, (WRITING, "written by", who), (WRITING_OF_ONE, "written for", whose))
    if wait:
        log.warning("too much is written by member %s", who)
        raise TooMany("that is much at once; wait, and try again", wait, "text")


def _wait(ctx: Context, *counted: tuple[Any, ...]) -> int:
    """Count once under each (limits, whose…); the seconds to wait where one is reached."""
    limiter = FixedWindowRateLimiter(_Kept(ctx))
    wait = 0
    for items, *whose in counted:
        for item in items:
            if not limiter.hit(item, *whose):
                reset = limiter.get_window_stats(item, *whose).reset_time
                wait = max(wait, int(reset - ctx.now.timestamp()) + 1)
    return wait


def forgive(ctx: Context, account: str, address: str) -> None:
    """The right password was given: the account's attempts count no more, nor does this one anywhere else."""
    kept = _Kept(ctx)
    for item in ACCOUNT:
        kept.clear(item.key_for("account", account))
    for items, *whose in ((ADDRESS, "address", address), (ALTOGETHER, "all")):
        for item in items:
            kept.incr(item.key_for(*whose), item.get_expiry(), -1)


def forget(ctx: Context) -> None:
    """Throw away counts whose window is over."""
    _Kept(ctx).reset()
