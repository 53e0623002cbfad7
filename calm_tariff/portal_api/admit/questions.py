"""Questions about products, their answers, and ratings."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel

from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit.community import questions, ratings
from calm_tariff.services.admit.community.questions import QuestionLine, QuestionView
from calm_tariff.services.admit.community.ratings import Ratings
from calm_tariff.store.base.paging import Page

router = APIRouter(route_class=Again)


class QuestionIn(BaseModel):
    """A question: a title of a line, and a text in Markdown."""

    title: str
    text: str


class AnswerIn(BaseModel):
    """An answer, in Markdown."""

    text: str


class AcceptedIn(BaseModel):
    """The answer that helped; none takes that back."""

    answer_id: int | None


class FollowingIn(BaseModel):
    """Whether one wants to be told of new answers."""

    following: bool


class ReportIn(BaseModel):
    """Why a question, or the answer that is named, should not stand there."""

    answer_id: int | None = None
    reason: str


class RatingIn(BaseModel):
    """A rating, from 1 to 5."""

    stars: int


@router.get("/products/{slug}/questions")
def list_questions(ctx: Asking, slug: str, asked: Paged) -> Page[QuestionLine]:
    """A product's questions, what moved last first."""
    return questions.of_product(ctx, slug, asked)


@router.post("/products/{slug}/questions", status_code=201)
def ask(ctx: Asking, slug: str, typed: QuestionIn) -> QuestionView:
    """Ask one."""
    return questions.ask(ctx, slug, typed.title, typed.text)


@router.get("/questions/{question_id}")
def read_question(ctx: Asking, question_id: int) -> QuestionView:
    """One question with its answers."""
    return questions.one(ctx, question_id)


@router.put("/questions/{question_id}")
def change_question(ctx: Asking, question_id: int, typed: QuestionIn) -> QuestionView:
    """Say one's own otherwise."""
    return questions.change(ctx, question_id, typed.title, typed.text)


@router.delete("/questions/{question_id}", status_code=204)
def take_back(ctx: Asking, question_id: int) -> None:
    """Take one's own back, while nobody has answered it."""
    questions.take_back(ctx, question_id)


@router.post("/questions/{question_id}/answers", status_code=201)
def answer(ctx: Asking, question_id: int, typed: AnswerIn) -> QuestionView:
    """Answer it."""
    return questions.answer(ctx, question_id, typed.text)


@router.put("/answers/{answer_id}")
def change_answer(ctx: Asking, answer_id: int, typed: AnswerIn) -> QuestionView:
    """Say one's own answer otherwise."""
    return questions.change_answer(ctx, answer_id, typed.text)


@router.delete("/answers/{answer_id}")
def take_answer_back(ctx: Asking, answer_id: int) -> QuestionView:
    """Take one's own answer back."""
    return questions.take_answer_back(ctx, answer_id)


@router.put("/questions/{question_id}/accepted")
def accept(ctx: Asking, question_id: int, typed: AcceptedIn) -> QuestionView:
    """Say which answer helped."""
    return questions.accept(ctx, question_id, typed.answer_id)


@router.put("/questions/{question_id}/following")
def follow(ctx: Asking, question_id: int, typed: FollowingIn) -> QuestionView:
    """Be told of new answers, or no more."""
    return questions.follow(ctx, question_id, typed.following)


@router.post("/questions/{question_id}/reports", status_code=201)
def report(ctx: Asking, question_id: int, typed: ReportIn) -> QuestionView:
    """Tell the provider that it, or one of its answers, should not stand there."""
    return questions.report(ctx, question_id, typed.answer_id, typed.reason)


@router.get("/products/{slug}/ratings")
def read_ratings(ctx: Asking, slug: str) -> Ratings:
    """How a product was rated."""
    return ratings.of_product(ctx, slug)


@router.put("/products/{slug}/rating")
def rate(ctx: Asking, slug: str, typed: RatingIn) -> Ratings:
    """Rate a product for one's organisation."""
    return ratings.rate(ctx, slug, typed.stars)
