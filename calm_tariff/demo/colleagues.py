"""Who belongs to the demo's organisations beside their owners: each invited, and come."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from sqlalchemy import select

from calm_tariff.core.membership import Role
from calm_tariff.core.portals import FIRST
from calm_tariff.demo.scenario import PASSWORD
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.organisation import joining
from calm_tariff.services.admit.organisation.joining import Joining
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.consumers import Consumer, Member

COLLEAGUES: tuple[tuple[str, str, str, Role], ...] = (
    ("Gannet Ferries", "Duarte Cais", "duarte@gannet.example", "developer"),
    ("Gannet Ferries", "Filipa Conta", "filipa@gannet.example", "billing"),
)
# Somebody who was invited and has not come.
INVITED: tuple[str, str, Role] = ("Gannet Ferries", "simao@gannet.example", "developer")


def bring_colleagues(ctx: Context) -> None:
    """Have each invited by their organisation's owner, and all but the last accept."""
    portal = serving.asked(ctx, FIRST)
    for consumer, name, email, role in COLLEAGUES:
        letter = ctx.token()
        joining.invite(replace(_owner(ctx, consumer), token=partial(str, letter)), email, role)
        joining.accept(ctx, portal, Joining(token=letter, name=name, password=PASSWORD))
    consumer, email, role = INVITED
    joining.invite(_owner(ctx, consumer), email, role)


def _owner(ctx: Context, consumer: str) -> Context:
    with ctx.transaction() as session:
        query = select(Member).join(Consumer, Consumer.id == Member.consumer_id)
        member = session.scalars(query.where(Consumer.name == consumer, Member.role == "owner")).one()
        return ctx.acting(MEMBERS.acting(member))
