"""A question with its answers, as it is stored, held and told of: what the portal and the console both need."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.community import Author
from calm_tariff.core.errors import NotFound
from calm_tariff.core.notices import Kind
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base.context import Actor, Context, provider_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.community import Answer, Question, QuestionFollower
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.base.locking import locked

Post = Question | Answer


def author(post: Post) -> Author:
    """Who wrote it."""
    member = post.member
    return Author(member=member.id, consumer=member.consumer_id) if member is not None else Author()


def writer(actor: Actor) -> Author:
    """Who writes now."""
    return Author(member=actor.member_id, consumer=actor.consumer_id)


def held(session: Session, question_id: int) -> Question:
    """A question, held: who changes it or one of its answers, does so alone. Raises `NotFound`."""
    found = locked(session, Question, question_id)
    if found is None or found.state == "taken back":
        raise NotFound("there is no such question", str(question_id))
    return found


def held_answer(session: Session, answer_id: int) -> tuple[Question, Answer]:
    """An answer and its question, held. Raises `NotFound`."""
    of = session.scalar(select(Answer.question_id).where(Answer.id == answer_id))
    question = locked(session, Question, of) if of is not None else None
    answer = locked(session, Answer, answer_id) if question is not None else None
    if question is None or answer is None or "taken back" in (question.state, answer.state):
        raise NotFound("there is no such answer", str(answer_id))
    return question, answer


def answers(session: Session, question_id: int) -> Sequence[Answer]:
    """A question's answers: the accepted one first, then as they came."""
    query = select(Answer).where(Answer.question_id == question_id, Answer.state != "taken back")
    return session.scalars(query.order_by(Answer.accepted_at.is_(None), Answer.id)).all()


def subject(question: Question, answer: Answer | None = None) -> tuple[str, int, str]:
    """What the record calls it."""
    name = f"{question.title} ({question.product.name})"
    return ("question", question.id, name) if answer is None else ("answer", answer.id, f"an answer to {name}")


def page_of(question: Question) -> str:
    """Where it is read, below a portal's address."""
    return f"/products/{question.product.slug}?view=questions&question={question.id}"


def add_answer(session: Session, ctx: Context, question: Question, text: str) -> Answer:
    """Keep an answer of whoever acts, and tell those who follow the question and may still see it."""
    made = Answer(
        question_id=question.id,
        member_id=ctx.actor.member_id,
        signed=ctx.actor.name,
        text=text,
        state="shown",
        hidden_why="",
        answered_at=ctx.now,
    )
    session.add(made)
    question.moved_at = ctx.now
    session.flush()
    session.refresh(made)
    query = select(QuestionFollower.member_id).where(QuestionFollower.question_id == question.id)
    told = [each for each in _reached(session, question, set(session.scalars(query))) if each.id != made.member_id]
    who = provider_of(session).name if made.member is None else "A developer"
    tell(session, ctx, question, told, kind="question answered", who=who)
    return made


def accept(session: Session, ctx: Context, question: Question, answer: Answer | None) -> None:
    """Say which answer helped, or that none did; who wrote it is told."""
    for each in answers(session, question.id):
        if each.accepted_at is not None and each is not answer:
            each.accepted_at = None
    if answer is not None and answer.accepted_at is None:
        answer.accepted_at = ctx.now
        if answer.member is not None and answer.member_id != ctx.actor.member_id:
            told = _reached(session, question, {answer.member.id})
            tell(session, ctx, question, told, kind="answer accepted")
    question.moved_at = ctx.now


def tell(
    session: Session, ctx: Context, question: Question, told: Sequence[Member], *, kind: Kind, **fields: str
) -> None:
    """Tell members something about a question."""
    said = {"title": question.title, "product": question.product.name, **fields}
    notify(session, ctx, members(told), Notice(kind=kind, fields=said, page=page_of(question)))


def _reached(session: Session, question: Question, member_ids: set[int]) -> list[Member]:
    """Those of these members who still belong to an organisation that may see the product at its portal."""
    consumers = set(session.scalars(select(Member.consumer_id).where(Member.id.in_(member_ids))))
    found = [m for m in subscribers.members_of(session, consumers) if m.id in member_ids]
    portal = {m.consumer_id: m.consumer.portal_id for m in found}
    sees = {c for c, at in portal.items() if storefront.seen_by(session, question.product, c, at)}
    return [m for m in found if m.consumer_id in sees]
