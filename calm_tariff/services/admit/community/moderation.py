"""What the provider does about questions: sees which wait for an answer or a decision, answers, hides what should not
stand there and shows it again, and settles what was reported."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Literal

from sqlalchemy import ColumnElement, func, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core import community as rules
from calm_tariff.core.community import Standing
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.lifecycles import POST, move
from calm_tariff.formats.markdown import html_of_others
from calm_tariff.services.admit.community import posts
from calm_tariff.services.admit.community.posts import Post
from calm_tariff.services.admit.community.questions import answered
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.community import Answer, PostReport, Question
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.base.locking import all_locked
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.compose.products import Product

# Which questions are wanted: those that nobody has answered, those with a report to settle, or all.
Wanted = Literal["answer", "decision", ""]
MODERATORS = ("product manager", "reviewer", "operations")


@dataclass(frozen=True, slots=True, kw_only=True)
class QuestionRow:
    """A question in the console's list."""

    id: int
    title: str
    product: str
    consumer: str
    by: str
    asked_at: datetime
    moved_at: datetime
    answers: int
    standing: Standing
    state: str
    reports: int


@dataclass(frozen=True, slots=True, kw_only=True)
class ReportView:
    """Somebody says that something should not stand there."""

    id: int
    consumer_id: int
    consumer: str
    by: str
    reason: str
    reported_at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class ModeratedPost:
    """A question's or an answer's text and who wrote it; `text` where the provider did, for it to change. `reports` are
    those not settled yet."""

    id: int
    by: str
    consumer_id: int | None
    consumer: str
    official: bool
    at: datetime
    changed_at: datetime | None
    html: str
    text: str | None
    state: str
    hidden_why: str
    accepted: bool
    reports: list[ReportView]


@dataclass(frozen=True, slots=True, kw_only=True)
class ModeratedQuestion:
    """A question with everything in view."""

    id: int
    product_id: int
    product: str
    title: str
    asked: ModeratedPost
    answers: list[ModeratedPost]
    standing: Standing


def listed(ctx: Context, asked: PageQuery, wanted: Wanted = "") -> Page[QuestionRow]:
    """A page of the questions. Orders: moved, asked, title, product, consumer; with none named, what waits has waited
    longest first, and of all what moved last comes first."""
    ctx.actor.must_be(*ROLES)
    query = (
        select(Question)
        .join(Product, Product.id == Question.product_id)
        .join(Member, Member.id == Question.member_id)
        .join(Consumer, Consumer.id == Member.consumer_id)
        .where(Question.state != "taken back")
    )
    if wanted:
        query = query.where(_waits() if wanted == "answer" else _reported())
    if asked.words:
        columns = (Question.title, Question.text, Consumer.name, Product.name)
        query = query.where(or_(*(func.lower(c).contains(asked.words.lower(), autoescape=True) for c in columns)))
    orders = {
        "moved": Question.moved_at,
        "asked": Question.asked_at,
        "title": Question.title,
        "product": Product.name,
        "consumer": Consumer.name,
    }
    with ctx.reading() as session:
        found = page(session, query, Question.id, orders, asked if asked.sort else replace(asked, down=not wanted))
        ids = [q.id for q in found.rows]
        counted, accepted = answered(session, ids)
        reported = _reports_by_question(session, ids)
        return replace(
            found,
            rows=[
                QuestionRow(
                    id=q.id,
                    title=q.title,
                    product=q.product.name,
                    consumer=q.member.consumer.name,
                    by=q.member.name,
                    asked_at=q.asked_at,
                    moved_at=q.moved_at,
                    answers=counted.get(q.id, 0),
                    standing=rules.standing(counted.get(q.id, 0), q.id in accepted),
                    state=q.state,
                    reports=reported.get(q.id, 0),
                )
                for q in found.rows
            ],
        )


def waiting(session: Session) -> tuple[int, int]:
    """How many questions nobody has answered, and how many have a report to settle."""
    counts = [
        session.scalar(select(func.count()).select_from(Question).where(which)) or 0
        for which in (_waits(), _reported())
    ]
    return counts[0], counts[1]


def one(ctx: Context, question_id: int) -> ModeratedQuestion:
    """One question. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        question = session.get(Question, question_id)
        if question is None or question.state == "taken back":
            raise NotFound("there is no such question", str(question_id))
        return _view(session, question)


def answer(ctx: Context, question_id: int, text: str) -> ModeratedQuestion:
    """Answer for the provider; whoever follows the question is told. Raises `NotFound`, `Invalid`, `Conflict` where it
    is hidden."""
    ctx.actor.must_be(*ROLES)
    text = rules.text(text)
    with ctx.transaction() as session:
        question = posts.held(session, question_id)
        if question.state != "shown":
            raise Conflict("it is hidden; show it again first", "the question")
        made = posts.add_answer(session, ctx, question, text)
        auditing.note(session, ctx, "answered a question", posts.subject(question, made))
        return _view(session, question)


def change_answer(ctx: Context, answer_id: int, text: str) -> ModeratedQuestion:
    """Say an answer of the provider's otherwise. Raises `NotFound`, `Invalid`, `Conflict` for a developer's."""
    ctx.actor.must_be(*ROLES)
    text = rules.text(text)
    with ctx.transaction() as session:
        question, found = posts.held_answer(session, answer_id)
        rules.changes(posts.author(found), posts.writer(ctx.actor))
        before = {"text": found.text}
        found.text, found.changed_at = text, ctx.now
        subject = posts.subject(question, found)
        auditing.note(session, ctx, "changed an answer", subject, before=before, after={"text": text})
        return _view(session, question)


def accept(ctx: Context, question_id: int, answer_id: int | None) -> ModeratedQuestion:
    """Say which answer helped, or that none did. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        question = posts.held(session, question_id)
        found = None
        if answer_id is not None:
            found = next((a for a in posts.answers(session, question.id) if a.id == answer_id), None)
            if found is None or found.state != "shown":
                raise NotFound("there is no such answer", str(answer_id))
        posts.accept(session, ctx, question, found)
        auditing.note(session, ctx, "said which answer helped", posts.subject(question, found))
        session.flush()
        return _view(session, question)


def hide(ctx: Context, question_id: int, answer_id: int | None, reason: str) -> ModeratedQuestion:
    """Hide a question, or one of its answers, from everybody but whoever wrote it, who is told why; what was reported
    of it is settled thereby. Raises `NotFound`, `Invalid`, `Conflict`."""
    ctx.actor.must_be(*MODERATORS)
    reason = rules.reason(reason)
    with ctx.transaction() as session:
        question, answer, post = _post(session, question_id, answer_id)
        post.state, post.hidden_why = move(POST, "it", post.state, "hidden"), reason
        if answer is not None:
            answer.accepted_at = None
        question.moved_at = ctx.now
        _settle(session, ctx, question, answer)
        auditing.note(session, ctx, "hid it", posts.subject(question, answer), why=reason)
        if post.member is not None and post.member.left_at is None:
            posts.tell(session, ctx, question, [post.member], kind="post hidden", note=reason)
        session.flush()
        return _view(session, question)


def show(ctx: Context, question_id: int, answer_id: int | None) -> ModeratedQuestion:
    """Show again what is hidden. Raises `NotFound`, `Conflict`."""
    ctx.actor.must_be(*MODERATORS)
    with ctx.transaction() as session:
        question, answer, post = _post(session, question_id, answer_id)
        post.state, post.hidden_why = move(POST, "it", post.state, "shown"), ""
        auditing.note(session, ctx, "showed it again", posts.subject(question, answer))
        session.flush()
        return _view(session, question)


def let_stand(ctx: Context, question_id: int, answer_id: int | None) -> ModeratedQuestion:
    """Settle what was reported of a question, or of one of its answers: it stays. Raises `NotFound`."""
    ctx.actor.must_be(*MODERATORS)
    with ctx.transaction() as session:
        question, answer, _ = _post(session, question_id, answer_id)
        _settle(session, ctx, question, answer)
        auditing.note(session, ctx, "let it stand", posts.subject(question, answer))
        session.flush()
        return _view(session, question)


def _post(session: Session, question_id: int, answer_id: int | None) -> tuple[Question, Answer | None, Post]:
    question = posts.held(session, question_id)
    if answer_id is None:
        return question, None, question
    _, answer = posts.held_answer(session, answer_id)
    if answer.question_id != question.id:
        raise NotFound("there is no such answer", str(answer_id))
    return question, answer, answer


def _settle(session: Session, ctx: Context, question: Question, answer: Answer | None) -> None:
    place = answer.id if answer is not None else 0
    query = select(PostReport.id).filter_by(question_id=question.id, answer_id=place, settled_at=None)
    for report in all_locked(session, PostReport, session.scalars(query).all()):
        report.settled_at, report.settled_by = ctx.now, ctx.actor.name


def _waits() -> ColumnElement[bool]:
    """That nobody has answered it."""
    any_answer = select(Answer.id).where(Answer.question_id == Question.id, Answer.state == "shown").exists()
    return (Question.state == "shown") & ~any_answer


def _reported() -> ColumnElement[bool]:
    """That something of it was reported, and nobody has settled it."""
    report = select(PostReport.id).where(PostReport.question_id == Question.id, PostReport.settled_at.is_(None))
    return (Question.state != "taken back") & report.exists()


def _reports_by_question(session: Session, ids: Collection[int]) -> dict[int, int]:
    query = select(PostReport.question_id, func.count()).where(
        PostReport.question_id.in_(ids), PostReport.settled_at.is_(None)
    )
    return {question: n for question, n in session.execute(query.group_by(PostReport.question_id))}  # noqa: C416


def _view(session: Session, question: Question) -> ModeratedQuestion:
    query = select(PostReport).filter_by(question_id=question.id, settled_at=None).order_by(PostReport.id)
    reports: dict[int, list[ReportView]] = {}
    for r in session.scalars(query):
        reports.setdefault(r.answer_id, []).append(
            ReportView(
                id=r.id,
                consumer_id=r.consumer_id,
                consumer=r.member.consumer.name,
                by=r.member.name,
                reason=r.reason,
                reported_at=r.reported_at,
            )
        )

    def seen(post: Post, at: datetime, place: int) -> ModeratedPost:
        consumer = post.member.consumer if post.member is not None else None
        signed = post.signed if isinstance(post, Answer) else ""
        return ModeratedPost(
            id=post.id,
            by=post.member.name if post.member is not None else signed,
            consumer_id=consumer.id if consumer else None,
            consumer=consumer.name if consumer else "",
            official=consumer is None,
            at=at,
            changed_at=post.changed_at,
            html=html_of_others(post.text),
            text=post.text if consumer is None else None,
            state=post.state,
            hidden_why=post.hidden_why,
            accepted=isinstance(post, Answer) and post.accepted_at is not None,
            reports=reports.get(place, []),
        )

    found = posts.answers(session, question.id)
    readable = [a for a in found if a.state == "shown"]
    return ModeratedQuestion(
        id=question.id,
        product_id=question.product_id,
        product=question.product.name,
        title=question.title,
        asked=seen(question, question.asked_at, 0),
        answers=[seen(a, a.answered_at, a.id) for a in found],
        standing=rules.standing(len(readable), any(a.accepted_at for a in readable)),
    )
