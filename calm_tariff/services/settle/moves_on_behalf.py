"""Moves of a consumer's subscription by the provider's people: worked out to the cent before, as its owner sees it, and
made under their own name."""

from __future__ import annotations

from calm_tariff.core.errors import NotFound
from calm_tariff.services.admit import moves, on_behalf
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.serve import trials
from calm_tariff.services.settle import differences, own_subscriptions
from calm_tariff.services.settle.differences import Difference
from calm_tariff.services.settle.own_subscriptions import SubscriptionView
from calm_tariff.store.admit.subscriptions import Subscription

MOVERS = ("product manager", "reviewer")


def one(ctx: Context, subscription_id: int) -> SubscriptionView:
    """A consumer's subscription as its owner sees it. Raises `NotFound`, or `Conflict` where nobody owns it."""
    ctx.actor.must_be(*ROLES)
    return own_subscriptions.one(_acting(ctx, subscription_id), subscription_id)


def difference(ctx: Context, subscription_id: int, wanted: MoveAsked) -> Difference:
    """What a move would come to. Raises as the move does."""
    ctx.actor.must_be(*MOVERS)
    return differences.difference(_acting(ctx, subscription_id), subscription_id, wanted)


def move(ctx: Context, subscription_id: int, wanted: MoveAsked) -> SubscriptionView:
    """Make a move. Where somebody decides on it, whoever makes it has a say like anybody else: it is granted where that
    is enough, and else waits. Raises `NotFound`, `Conflict` for a move that cannot be made, `Invalid`, naming the
    field."""
    ctx.actor.must_be(*MOVERS)
    own = _acting(ctx, subscription_id)
    trials.end_trial(ctx, subscription_id)  # one that is over already is, before what follows it is moved
    asked = asking.ask_to_move(own, subscription_id, wanted)
    if asked is not None:  # by itself: should it not be granted, it waits on the desk
        with ctx.transaction() as session:
            on_behalf.granted_where_one_may(session, ctx, asked)
    return own_subscriptions.one(own, subscription_id)


def take_back(ctx: Context, subscription_id: int) -> SubscriptionView:
    """Take back what is to come. Raises `NotFound`, or `Conflict` where nothing is."""
    ctx.actor.must_be(*MOVERS)
    own = _acting(ctx, subscription_id)
    moves.take_back(own, subscription_id)
    return own_subscriptions.one(own, subscription_id)


def _acting(ctx: Context, subscription_id: int) -> Context:
    """A context that acts for the subscription's owner, in transactions of its own."""
    with ctx.transaction() as session:
        subscription = session.get(Subscription, subscription_id)
        if subscription is None:
            raise NotFound("there is no such subscription", str(subscription_id))
        return ctx.acting(on_behalf.acting_for(session, ctx, subscription.application.consumer_id).actor)
