"""The reasons for declining that the provider gives again and again: a list of its own."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import delete, select

from calm_tariff.core import names
from calm_tariff.core.errors import Invalid
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.requests import DeclineReason

MOST = 50
_SUBJECT = ("decline reasons", 0, "Reasons for declining")


def everything(ctx: Context) -> list[str]:
    """The list, in its order."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return list(session.scalars(select(DeclineReason.text).order_by(DeclineReason.place)))


def save(ctx: Context, reasons: Sequence[str]) -> list[str]:
    """Have another list in its place; what was declined for a reason keeps it. Raises `Invalid`, naming the field."""
    ctx.actor.must_be("reviewer", "product manager")
    if len(reasons) > MOST:
        raise Invalid(f"must be at most {MOST}", "reasons")
    plain = [names.plain(reason, f"reasons[{place}]", 200) for place, reason in enumerate(reasons)]
    for place, reason in enumerate(plain):
        if reason.casefold() in {each.casefold() for each in plain[:place]}:
            raise Invalid("is here twice", f"reasons[{place}]")
    with ctx.transaction() as session:
        before = list(session.scalars(select(DeclineReason.text).order_by(DeclineReason.place)))
        session.execute(delete(DeclineReason))
        session.add_all(DeclineReason(text=reason, place=place) for place, reason in enumerate(plain))
        auditing.note(
            session, ctx, "changed the reasons for declining", _SUBJECT, {"reasons": before}, {"reasons": plain}
        )
        return plain
