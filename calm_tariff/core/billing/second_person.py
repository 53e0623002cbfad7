"""Money that one person alone does not move: above an amount that the house sets, another one has to agree."""

from __future__ import annotations

from decimal import Decimal

from calm_tariff.core.errors import NotAllowed


def needs_second(amount: Decimal, limit: Decimal | None) -> bool:
    """Whether an amount, up or down, takes a second person's agreement."""
    return limit is not None and abs(amount) > limit


def refuse_own(made_by: str, agreeing: str) -> None:
    """Two people are two: raise `NotAllowed` where somebody, by id, agrees to what they made."""
    if made_by == agreeing:
        raise NotAllowed("somebody else has to agree to it")
