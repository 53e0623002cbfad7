"""Letting new organisations in."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.admit import letting_in
from calm_tariff.services.admit.letting_in import Answer

router = APIRouter(tags=["consumers"], route_class=Again)


class AnswerIn(BaseModel):
    """Whether an organisation is let in; who is turned away is told why (`note`)."""

    answer: Answer
    note: str = Field(default="", max_length=2000)


@router.post("/consumers/{consumer_id}/answer", status_code=204)
def answer(ctx: Asking, consumer_id: int, typed: AnswerIn) -> None:
    """Let an organisation in, or turn it away."""
    letting_in.answer(ctx, consumer_id, typed.answer, typed.note)
