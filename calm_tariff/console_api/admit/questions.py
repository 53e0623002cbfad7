"""What developers ask and how they rate: answered, and kept in order."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.admit.community import moderation, ratings
from calm_tariff.services.admit.community.moderation import ModeratedQuestion, QuestionRow, Wanted
from calm_tariff.services.admit.community.ratings import ProductRated, RatingView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["questions"], route_class=Again)


class OfficialAnswer(BaseModel):
    """An answer of the provider's, in Markdown."""

    text: str


class AcceptedIn(BaseModel):
    """The answer that helped; none takes that back."""

    answer_id: int | None


class PostIn(BaseModel):
    """The question itself, or the answer that is named."""

    answer_id: int | None = None


class HidingIn(PostIn):
    """What is hidden, and why; whoever wrote it is told."""

    reason: str


@router.get("/questions")
def list_questions(ctx: Asking, asked: Paged, wanted: Wanted = "") -> Page[QuestionRow]:
    """The questions; those that wait for an answer, or for a decision on what was reported, alone. Orders: moved,
    asked, title, product, consumer."""
    return moderation.listed(ctx, asked, wanted)


@router.get("/questions.csv", response_class=Response)
def export_questions(ctx: Asking, asked: Paged, wanted: Wanted = "") -> Response:
    """The same as CSV."""
    return as_csv("questions", QuestionRow, all_of(lambda part: moderation.listed(ctx, part, wanted), asked))


@router.get("/questions/{question_id}")
def read_question(ctx: Asking, question_id: int) -> ModeratedQuestion:
    """One question with everything in view."""
    return moderation.one(ctx, question_id)


@router.post("/questions/{question_id}/answers", status_code=201)
def answer(ctx: Asking, question_id: int, typed: OfficialAnswer) -> ModeratedQuestion:
    """Answer for the provider."""
    return moderation.answer(ctx, question_id, typed.text)


@router.put("/answers/{answer_id}")
def change_answer(ctx: Asking, answer_id: int, typed: OfficialAnswer) -> ModeratedQuestion:
    """Say an answer of the provider's otherwise."""
    return moderation.change_answer(ctx, answer_id, typed.text)


@router.put("/questions/{question_id}/accepted")
def accept(ctx: Asking, question_id: int, typed: AcceptedIn) -> ModeratedQuestion:
    """Say which answer helped."""
    return moderation.accept(ctx, question_id, typed.answer_id)


@router.post("/questions/{question_id}/hide")
def hide(ctx: Asking, question_id: int, typed: HidingIn) -> ModeratedQuestion:
    """Hide it, or one of its answers, and say why."""
    return moderation.hide(ctx, question_id, typed.answer_id, typed.reason)


@router.post("/questions/{question_id}/show")
def show(ctx: Asking, question_id: int, typed: PostIn) -> ModeratedQuestion:
    """Show it, or one of its answers, again."""
    return moderation.show(ctx, question_id, typed.answer_id)


@router.post("/questions/{question_id}/let-stand")
def let_stand(ctx: Asking, question_id: int, typed: PostIn) -> ModeratedQuestion:
    """Settle what was reported of it, or of one of its answers: it stays."""
    return moderation.let_stand(ctx, question_id, typed.answer_id)


@router.get("/ratings")
def read_ratings(ctx: Asking) -> list[ProductRated]:
    """How each product was rated."""
    return ratings.by_product(ctx)


@router.get("/products/{product_id}/ratings")
def read_ratings_of(ctx: Asking, product_id: int) -> list[RatingView]:
    """Who gave a product what."""
    return ratings.by_consumer(ctx, product_id)
