"""Deciding on several requests of which nothing more need be said: one summary to agree to, then each by itself."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal

from calm_tariff.core.errors import CalmTariffError, Deadlocked, Invalid, NotFound
from calm_tariff.services.admit.desk import deciding
from calm_tariff.services.admit.desk.deciding import Decision
from calm_tariff.services.admit.desk.views import RequestView, view
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.store.admit.requests import AccessRequest

MOST = 100


@dataclass(frozen=True, slots=True, kw_only=True)
class Chosen:
    """A request as somebody saw it who chose it."""

    request_id: int
    edition: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """What comes, or came, of one request: `done` is its state then, and `still_needs` who must agree as well; or
    `refused` says why nothing does."""

    request_id: int
    consumer: str
    application: str
    offer: str
    weight: Decimal
    done: str
    still_needs: str
    refused: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Summary:
    """What would come of a decision on several requests; `granted` is what a month of those granted is expected to be
    charged, before tax."""

    outcomes: list[Outcome]
    granted: Decimal
    currency: str


def foresee(ctx: Context, chosen: Sequence[Chosen], decision: Decision, note: str = "", reason: str = "") -> Summary:
    """What would come of deciding alike on these requests: it is done, and undone at once. Raises `Invalid`."""
    note = note if note.strip() or reason.strip() or decision == "granted" else "To be said."
    outcomes = _each(ctx, chosen, lambda one: _tried(ctx, one, decision, note, reason=reason))
    with ctx.transaction() as session:
        granted = sum((each.weight for each in outcomes if each.done == "granted"), Decimal(0))
        return Summary(outcomes=outcomes, granted=granted, currency=provider_of(session).currency)


def decide(
    ctx: Context, chosen: Sequence[Chosen], decision: Decision, note: str = "", reason: str = ""
) -> list[Outcome]:
    """Decide alike on these requests, each by itself: one that cannot be decided holds up no other. Raises `Invalid`
    where none can be, for no reason to decline."""
    if decision == "declined" and not (note.strip() or reason.strip()):
        raise Invalid("say why, so that the consumers can act on it", "note")

    def one(each: Chosen) -> RequestView:
        return deciding.decide(ctx, each.request_id, decision, note, reason=reason, edition=each.edition)

    return _each(ctx, chosen, one)


class _TakenBack(Exception):
    """What was tried is taken back."""


def _tried(ctx: Context, chosen: Chosen, decision: Decision, note: str, *, reason: str) -> RequestView:
    tried: RequestView | None = None
    try:
        with ctx.transaction() as session:
            tried = deciding.decide(
                ctx.joining(session), chosen.request_id, decision, note, reason=reason, edition=chosen.edition
            )
            raise _TakenBack
    except _TakenBack:
        assert tried is not None
        return tried


def _each(ctx: Context, chosen: Sequence[Chosen], do: Callable[[Chosen], RequestView]) -> list[Outcome]:
    ctx.actor.must_be("reviewer", "product manager", "finance", "operations")
    if not chosen or len(chosen) > MOST:
        raise Invalid(f"must be 1 to {MOST} requests", "requests")
    if len({one.request_id for one in chosen}) < len(chosen):
        raise Invalid("names a request twice", "requests")
    outcomes = []
    for one in chosen:
        with ctx.transaction() as session:
            stored = session.get(AccessRequest, one.request_id)
            if stored is None:
                raise NotFound("there is no such request", str(one.request_id))
            before = view(stored, ctx.now)
        try:
            after, refused = do(one), ""
        except Deadlocked:
            raise
        except CalmTariffError as error:
            after, refused = before, str(error)
        outcomes.append(
            Outcome(
                request_id=before.id,
                consumer=before.consumer,
                application=before.application,
                offer=f"{before.product} · {before.plan}",
                weight=before.weight,
                done=after.state,
                still_needs="" if refused else after.needs if after.state == "waiting" else "",
                refused=refused,
            )
        )
    return outcomes
