"""Recorded calls, by call and as sums of hours and of days. Instants are microseconds since the epoch."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import JSON, BigInteger, Index, SmallInteger, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.core.outside_calls import LONGEST_ID, LONGEST_SOURCE
from calm_tariff.store.base.columns import Base, Hash, Id, Micros, Prose, Units, Word


class Call(Base):
    """One decided call with its receipt. Partitioned by month, so it has no foreign keys.

    `checks` holds, for each limit in the order tested: name, refused, wait in µs, left, used, and the
    limit itself with its layer where it is no plan's. `units` holds what each meter counted, by meter id.

    Of the whole time `took_us`, deciding took `decide_us` and the back end `back_end_us`. `reserved` is
    what quotas held back until the response was in. `decided_us` is the instant of the decision by the
    counts' own clock, and `decided_order` its place among all where gateways share their counts.
    `carried` are values that limits counted by, such as a header; `remarks` what was out of the ordinary.
    `counted` is what each quota counted, by the count's name: subject, window and units. `reported` are the numbers
    the back end reported, by header, as they came: with them every unit can be computed again. `sent` is what the call
    came with: its `address`, its `query` without credentials, and of its `headers` those that the API's owner chose.
    Of a call that another gateway counted, `outside_id` is how its source calls it, and `usage_file_id` what it came
    with. One with a `strike_id` was struck out: it stays, and no longer counts.
    """

    __tablename__ = "call"
    __table_args__ = (
        # With the id they are in the log's whole order, so that its first page needs no sorting.
        Index("ix_call_at", "at_us", "call_id"),
        Index("ix_call_subscription_at", "subscription_id", "at_us", "call_id"),
        Index("ix_call_consumer_at", "consumer_id", "at_us", "call_id"),
    )
    call_id: Mapped[str] = mapped_column(String(26), primary_key=True)
    at_us: Mapped[Micros] = mapped_column(primary_key=True, autoincrement=False)
    source: Mapped[str] = mapped_column(String(LONGEST_SOURCE))
    environment: Mapped[Word]
    verdict: Mapped[str] = mapped_column(String(8))
    refused_by: Mapped[str | None] = mapped_column(String(200))
    status: Mapped[int]
    wait_us: Mapped[Micros]
    took_us: Mapped[Micros]
    retry_after_us: Mapped[int | None] = mapped_column(BigInteger)
    bytes_in: Mapped[Micros]
    bytes_out: Mapped[Micros]
    method: Mapped[str] = mapped_column(String(10))
    path: Mapped[str] = mapped_column(String(400))
    operation_id: Mapped[int | None] = mapped_column(BigInteger)
    api_version_id: Mapped[int | None] = mapped_column(BigInteger)
    product_id: Mapped[int | None] = mapped_column(BigInteger)
    revision_id: Mapped[int | None] = mapped_column(BigInteger)
    stay_id: Mapped[int | None] = mapped_column(BigInteger)
    subscription_id: Mapped[int | None] = mapped_column(BigInteger)
    application_id: Mapped[int | None] = mapped_column(BigInteger)
    consumer_id: Mapped[int | None] = mapped_column(BigInteger)
    key_id: Mapped[int | None] = mapped_column(BigInteger)
    checks: Mapped[list[Any]]
    units: Mapped[dict[str, Any]]
    told: Mapped[dict[str, Any]]
    credential: Mapped[Word] = mapped_column(default="key")
    decide_us: Mapped[Micros] = mapped_column(default=0)
    back_end_us: Mapped[Micros] = mapped_column(default=0)
    reserved: Mapped[int] = mapped_column(default=0)
    decided_us: Mapped[Micros] = mapped_column(default=0)
    decided_order: Mapped[int] = mapped_column(BigInteger, default=0)
    carried: Mapped[dict[str, Any]] = mapped_column(default=dict)
    remarks: Mapped[list[Any]] = mapped_column(default=list)
    counted: Mapped[dict[str, Any]] = mapped_column(default=dict)
    reported: Mapped[dict[str, Any]] = mapped_column(default=dict)
    sent: Mapped[dict[str, Any]] = mapped_column(default=dict)
    outside_id: Mapped[str | None] = mapped_column(String(LONGEST_ID))
    usage_file_id: Mapped[int | None] = mapped_column(BigInteger)
    strike_id: Mapped[int | None] = mapped_column(BigInteger)


class CallBodies(Base):
    """The beginnings of a sandbox call's bodies, sent and answered, where the API's owner has them kept: type, text,
    whole size, or what it is instead of text (formats.bodies). Thrown away after some days."""

    __tablename__ = "call_bodies"
    call_id: Mapped[str] = mapped_column(String(26), primary_key=True)
    at_us: Mapped[Micros] = mapped_column(index=True)
    sent: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    answered: Mapped[dict[str, Any] | None] = mapped_column(JSON)


class QuotaCount(Base):
    """What a quota has let in of one subject in one window: exactly the count that decides (docs/arithmetic.md, section
    1). `scope` names the count (`core.counts`), `place` is a digest of scope, subject and window. Those of windows
    long over are thrown away."""

    __tablename__ = "quota_count"
    __table_args__ = (Index("ix_quota_count_end", "end_us"), Index("ix_quota_count_scope", "scope_place"))
    place: Mapped[Hash] = mapped_column(primary_key=True)
    scope_place: Mapped[Hash]
    scope: Mapped[Prose]
    subject: Mapped[Prose]
    begin_us: Mapped[Micros]
    end_us: Mapped[Micros]
    units: Mapped[Units]


class HourlyUsage(Base):
    """Units of one meter in one hour, kept so finely that every count can be rebuilt from it."""

    __tablename__ = "hourly_usage"
    __table_args__ = (Index("ix_hourly_usage_subscription", "subscription_id", "meter_id", "hour_us"),)
    hour_us: Mapped[Micros] = mapped_column(primary_key=True, autoincrement=False)
    subscription_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    stay_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    key_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    operation_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    meter_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    calls: Mapped[int] = mapped_column(BigInteger)
    units: Mapped[Units]


class HourlyOutcomes(Base):
    """Calls of one hour by who made them and what became of them: what a meter's filter can be held against, and what
    consumers see of their use. 0 stands for an operation, application or key that is unknown; `refused_by` is empty
    where a call was let through."""

    __tablename__ = "hourly_outcomes"
    __table_args__ = (Index("ix_hourly_outcomes_consumer", "consumer_id", "hour_us"),)
    hour_us: Mapped[Micros] = mapped_column(primary_key=True, autoincrement=False)
    operation_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    consumer_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    application_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    key_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    environment: Mapped[Word] = mapped_column(primary_key=True)
    verdict: Mapped[str] = mapped_column(String(8), primary_key=True)
    # Told apart letter by letter: limits may differ in the case of one.
    refused_by: Mapped[str] = mapped_column(String(200, collation="utf8mb4_bin"), primary_key=True)
    status: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    calls: Mapped[int] = mapped_column(BigInteger)
    bytes_in: Mapped[Micros]
    bytes_out: Mapped[Micros]


class HourlyVerdicts(Base):
    """Calls of one hour by verdict, for figures over long stretches."""

    __tablename__ = "hourly_verdicts"
    hour_us: Mapped[Micros] = mapped_column(primary_key=True, autoincrement=False)
    consumer_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    product_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    verdict: Mapped[str] = mapped_column(String(8), primary_key=True)
    calls: Mapped[int] = mapped_column(BigInteger)


class DailyUsage(Base):
    """Units of one meter on one UTC day, for sums over long stretches: what the day's hours come to together."""

    __tablename__ = "daily_usage"
    __table_args__ = (Index("ix_daily_usage_subscription", "subscription_id", "day_us"),)
    day_us: Mapped[Micros] = mapped_column(primary_key=True, autoincrement=False)
    subscription_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    stay_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    meter_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    calls: Mapped[int] = mapped_column(BigInteger)
    units: Mapped[Units]


class DailyVerdicts(Base):
    """Calls of one UTC day by verdict."""

    __tablename__ = "daily_verdicts"
    __table_args__ = (Index("ix_daily_verdicts_consumer", "consumer_id", "day_us"),)
    day_us: Mapped[Micros] = mapped_column(primary_key=True, autoincrement=False)
    consumer_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    verdict: Mapped[str] = mapped_column(String(8), primary_key=True)
    calls: Mapped[int] = mapped_column(BigInteger)


class DailyAnswers(Base):
    """Live calls let through of one operation on one UTC day, by whether the API failed and how long they took without
    having been held (core.answering): what its health is told by."""

    __tablename__ = "daily_answers"
    day_us: Mapped[Micros] = mapped_column(primary_key=True, autoincrement=False)
    operation_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    failed: Mapped[bool] = mapped_column(primary_key=True, autoincrement=False)
    band: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    calls: Mapped[int] = mapped_column(BigInteger)


class SetAside(Base):
    """A repeat of a recorded call that says something else of it: shown, never counted (docs/arithmetic.md, section 2).

    `differs` holds, by column, what is recorded and what the repeat said; `digest` tells repeats apart.
    """

    __tablename__ = "set_aside"
    __table_args__ = (UniqueConstraint("call_id", "digest"),)
    id: Mapped[Id]
    call_id: Mapped[str] = mapped_column(String(26))
    digest: Mapped[Hash]
    seen_at: Mapped[datetime]
    source: Mapped[str] = mapped_column(String(LONGEST_SOURCE))
    differs: Mapped[dict[str, Any]]
