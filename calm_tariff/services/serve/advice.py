"""When a call that a limit refused would have been let in, and what would have let it in at once."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from sqlalchemy.orm import Session

from calm_tariff.core.limits import Limit, Pace, Quota, Rate
from calm_tariff.core.periods import moment_of
from calm_tariff.core.relief import Refusal, least_change, would_have_let_in
from calm_tariff.core.sentences import number
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.base.context import zone_of
from calm_tariff.services.serve.kept_checks import KeptCheck, kept_checks
from calm_tariff.store.compose.products import Plan, PlanRevision
from calm_tariff.store.serve.usage import Call


def advice_for(session: Session, call: Call) -> list[str]:
    """What would have let a refused call in, as its consumer reads it."""
    if call.revision_id is None:
        return []
    revision = session.get_one(PlanRevision, call.revision_id)
    checks = list(kept_checks(call, read(PlanTerms, revision.terms)))
    return advice_on(session, call, checks, revision.plan, internals=False)


def advice_on(session: Session, call: Call, checks: list[KeptCheck], plan: Plan | None, internals: bool) -> list[str]:
    """When a call that a limit refused would have been let in, and what would have let it in at once."""
    refusing = [check for check in checks if check.refused]
    if not refusing:
        return []
    found = []
    if call.retry_after_us is not None:
        at = moment_of(call.at_us + call.retry_after_us).astimezone(zone_of(session))
        when = f"At {at:%H:%M:%S.%f}"[:-3] if call.retry_after_us < 3_600_000_000 else f"From {at:%-d %B, %H:%M} on"
        found.append(f"{when} it would have been let in.")
    refusals = [_refusal(check, call) for check in refusing]
    for refusal in refusals:
        found.append(
            f"With {refusal.limit.name} at {_raised(refusal.limit, least_change(refusal))} it would have "
            f"been let in at once."
        )
    if plan is None or any(check.layer in ("provider", "api", "above") for check in refusing):
        return found  # no plan changes what stands above all plans
    wider = []
    for other in plan.product.plans:
        if other.id == plan.id:
            drafted = other.draft is not None and internals
            if drafted and other.draft and would_have_let_in(refusals, _limits(other.draft.terms)):
                wider.append(f"{other.name} as drafted")
            continue
        # Consumers do not learn of plans that are for groups.
        sold = other.state == "on sale" and other.revisions and (internals or not other.groups)
        if sold and would_have_let_in(refusals, _limits(other.revisions[-1].terms)):
            wider.append(other.name)
    if wider:
        named = f"{', '.join(wider[:-1])} and {wider[-1]}" if len(wider) > 1 else wider[0]
        found.append(f"{named} would have let it in.")
    return found


def _refusal(check: KeptCheck, call: Call) -> Refusal:
    limit = check.limit
    used = check.used if isinstance(limit, Quota) else Decimal(getattr(limit, "calls", 0)) - check.left
    whole = int(used) if used == int(used) else used
    return Refusal(limit, whole, call.reserved, call.retry_after_us)


def _limits(raw: dict[str, Any]) -> tuple[Limit, ...]:
    terms = read(PlanTerms, raw)
    return (*terms.limits, *terms.overrides)


def _raised(limit: Limit, needed: Limit) -> str:
    """The number that was raised, in words."""
    if isinstance(needed, Quota):
        return f"{number(needed.units)} a {needed.every}"
    if isinstance(needed, Rate):
        return f"{number(needed.burst)} at once"
    if isinstance(needed, Pace):
        return f"a wait of up to {number(needed.max_wait_ms)} ms"
    return f"{number(needed.calls)} calls"
