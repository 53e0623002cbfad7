"""Who belongs to the demo's organisations beside their owners: each invited, and come."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from calm_tariff.core.membership import Role
from calm_tariff.core.portals import FIRST
from calm_tariff.demo.owners import owner_of
from calm_tariff.demo.scenario import PASSWORD
from calm_tariff.services.admit.organisation import joining
from calm_tariff.services.admit.organisation.joining import Joining
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base.context import Context

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
        joining.invite(replace(owner_of(ctx, consumer), token=partial(str, letter)), email, role)
        joining.accept(ctx, portal, Joining(token=letter, name=name, password=PASSWORD))
    consumer, email, role = INVITED
    joining.invite(owner_of(ctx, consumer), email, role)
