"""Granting otherwise than asked: another plan of the product, free days at first, a limit of its own."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Any, cast

from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.sentences import grant_in_words, limit_sentence, words
from calm_tariff.formats.values import read, write
from calm_tariff.services.admit import overrides
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.compose.products import Plan

MOST_DAYS = 366


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnLimit:
    """A limit for this subscription alone, as in a plan's terms, until the end of a local day."""

    limit: dict[str, Any]
    until: date


@dataclass(frozen=True, slots=True, kw_only=True)
class Grant:
    """What is granted: another plan than was asked for, free days at first, a limit of its own. With none of them, what
    was asked for as it is."""

    plan_id: int | None = None
    trial_days: int | None = None
    override: OwnLimit | None = None


AS_ASKED = Grant()


def of(request: AccessRequest) -> Grant:
    """What is to be granted, as those who agreed have it."""
    return AS_ASKED if request.grant is None else read(Grant, request.grant)


def plan_of(session: Session, request: AccessRequest, grant: Grant) -> Plan:
    """The plan that is granted. Raises `Invalid` for one that is not of the product or not on sale."""
    if grant.plan_id is None or grant.plan_id == request.plan_id:
        return request.plan
    plan = session.get(Plan, grant.plan_id)
    if plan is None or plan.product_id != request.plan.product_id or plan.state != "on sale":
        raise Invalid("must be a plan of the same product that is on sale", "grant.plan_id")
    return plan


def checked(session: Session, today: date, request: AccessRequest, grant: Grant) -> Plan:
    """The plan of a grant that can be made. Raises `Invalid`, naming the field, or `Conflict`."""
    plan = plan_of(session, request, grant)
    if grant.trial_days is not None:
        if request.moves_id is not None:
            raise Conflict("a move to another plan begins no free days", "grant.trial_days")
        if not 1 <= grant.trial_days <= MOST_DAYS:
            raise Invalid(f"must be 1 to {MOST_DAYS} days", "grant.trial_days")
    if grant.override is not None:
        overrides.checked(session, plan, grant.override.limit, "grant.override.limit")
        if grant.override.until < today:
            raise Invalid("must not be past", "grant.override.until")
    return plan


def keep(request: AccessRequest, grant: Grant) -> None:
    """Keep what is to be granted with the request, for whoever agrees next."""
    request.grant = None if grant == AS_ASKED else cast(dict[str, Any], write(grant))


def in_words(session: Session, request: AccessRequest, grant: Grant) -> list[str]:
    """What is granted otherwise than asked."""
    plan = plan_of(session, request, grant)
    limit = words(limit_sentence(overrides.limit_of(grant.override.limit))) if grant.override else None
    return grant_in_words(
        plan.name if plan is not request.plan else None,
        grant.trial_days,
        limit,
        f"{grant.override.until:%-d %B %Y}" if grant.override else "",
    )


def override_of(grant: Grant, note: str) -> OverrideTyped | None:
    """The override that a grant makes."""
    if grant.override is None:
        return None
    return OverrideTyped(grant.override.limit, note or "Granted with it.", grant.override.until)
