"""Questions about products as they are read and written in a portal."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core import community as rules
from calm_tariff.core.community import Standing
from calm_tariff.core.errors import Conflict, NotAllowed, NotFound
from calm_tariff.core.lifecycles import POST, move
from calm_tariff.core.sentences import author_in_words
from calm_tariff.formats.markdown import html_of_others
from calm_tariff.services.admit.community import posts
from calm_tariff.services.admit.community.posts import Post, author, writer
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.house.signing_in import throttling
from calm_tariff.store.admit.community import Answer, PostReport, Question, QuestionFollower
from calm_tariff.store.base.paging import Page, PageQuery, page


@dataclass(frozen=True, slots=True, kw_only=True)
class QuestionLine:
    """A question in the list: who asked in words, and how far it has come."""

    id: int
    title: str
    by: str
    asked_at: datetime
    moved_at: datetime
    answers: int
    standing: Standing


@dataclass(frozen=True, slots=True, kw_only=True)
class PostView:
    """A question's or an answer's text as whoever reads it may see it: `by` in words, `official` where the provider
    says it, `text` (Markdown) where it is one's own to change, `hidden` where others do not see it, and why."""

    id: int
    by: str
    official: bool
    at: datetime
    changed_at: datetime | None
    html: str
    text: str | None
    hidden: str | None
    accepted: bool
    may_report: bool
    reported: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class QuestionView:
    """A question with its answers; what whoever reads may do: answer it, say which answer helped, and whether they
    follow it."""

    id: int
    slug: str
    product: str
    title: str
    asked: PostView
    answers: list[PostView]
    standing: Standing
    may_answer: bool
    may_accept: bool
    following: bool


def of_product(ctx: Context, slug: str, wanted: PageQuery) -> Page[QuestionLine]:
    """A page of a product's questions, those last that moved longest ago. Raises `NotFound`."""
    with ctx.reading() as session:
        product = storefront.known(session, ctx, slug)
        query = select(Question).where(Question.product_id == product.id, Question.state == "shown")
        if wanted.words:
            columns = (Question.title, Question.text)
            query = query.where(or_(*(func.lower(c).contains(wanted.words.lower(), autoescape=True) for c in columns)))
        asked = replace(wanted, sort="", down=True)
        found = page(session, query, Question.id, {"moved": Question.moved_at}, asked)
        counted, accepted = answered(session, [q.id for q in found.rows])
        reader, office = writer(ctx.actor), provider_of(session).name
        lines = [
            QuestionLine(
                id=q.id,
                title=q.title,
                by=author_in_words(author(q), asker=None, reader=reader, name=q.member.name, office=office),
                asked_at=q.asked_at,
                moved_at=q.moved_at,
                answers=counted.get(q.id, 0),
                standing=rules.standing(counted.get(q.id, 0), q.id in accepted),
            )
            for q in found.rows
        ]
        return replace(found, rows=lines)


def answered(session: Session, questions: Collection[int]) -> tuple[dict[int, int], set[int]]:
    """How many answers can be read of each question, and which questions have an accepted one."""
    shown = Answer.question_id.in_(questions), Answer.state == "shown"
    counts = select(Answer.question_id, func.count()).where(*shown).group_by(Answer.question_id)
    helped = select(Answer.question_id).where(*shown, Answer.accepted_at.is_not(None))
    return {q: n for q, n in session.execute(counts)}, set(session.scalars(helped))  # noqa: C416


def one(ctx: Context, question_id: int) -> QuestionView:
    """One question. Raises `NotFound`, the same for one that is hidden from whoever asks as for none."""
    with ctx.reading() as session:
        return _view(session, ctx, _seen(session, ctx, session.get(Question, question_id), question_id))


def ask(ctx: Context, slug: str, title: str, text: str) -> QuestionView:
    """Ask something about a product; whoever asks follows it. Raises `NotFound`, `TooMany`, `Invalid`."""
    ctx.actor.consumer_to("ask and rate")
    title, text = rules.title(title), rules.text(text)
    with ctx.transaction() as session:
        product = storefront.known(session, ctx, slug)
    throttling.writing(ctx)
    with ctx.transaction() as session:
        made = Question(
            product_id=product.id,
            member_id=ctx.actor.member_id,
            title=title,
            text=text,
            state="shown",
            hidden_why="",
            asked_at=ctx.now,
            moved_at=ctx.now,
        )
        session.add(made)
        session.flush()
        session.refresh(made)
        session.add(QuestionFollower(question_id=made.id, member_id=ctx.actor.member_id))
        auditing.note(session, ctx, "asked a question", posts.subject(made))
        session.flush()
        return _view(session, ctx, made)


def change(ctx: Context, question_id: int, title: str, text: str) -> QuestionView:
    """Say one's own question otherwise. Raises `NotFound`, `Conflict`, `Invalid`."""
    ctx.actor.consumer_to("ask and rate")
    title, text = rules.title(title), rules.text(text)
    with ctx.transaction() as session:
        question = _held(session, ctx, question_id)
        rules.changes(author(question), writer(ctx.actor))
        question.title, question.text, question.changed_at = title, text, ctx.now
        return _view(session, ctx, question)


def take_back(ctx: Context, question_id: int) -> None:
    """Take one's own question back, while nobody has answered it. Raises `NotFound`, `Conflict`."""
    ctx.actor.consumer_to("ask and rate")
    with ctx.transaction() as session:
        question = _held(session, ctx, question_id)
        rules.changes(author(question), writer(ctx.actor))
        if any(a.state == "shown" for a in posts.answers(session, question.id)):
            raise Conflict("it has been answered, and stays for those who read the answer", "the question")
        question.state = move(POST, "the question", question.state, "taken back")
        auditing.note(session, ctx, "took a question back", posts.subject(question))


def answer(ctx: Context, question_id: int, text: str) -> QuestionView:
    """Answer a question. Raises `NotFound`, `TooMany`, `Invalid`."""
    ctx.actor.consumer_to("ask and rate")
    text = rules.text(text)
    with ctx.transaction() as session:
        _seen(session, ctx, session.get(Question, question_id), question_id)
    throttling.writing(ctx)
    with ctx.transaction() as session:
        question = _held(session, ctx, question_id)
        made = posts.add_answer(session, ctx, question, text)
        auditing.note(session, ctx, "answered a question", posts.subject(question, made))
        return _view(session, ctx, question)


def change_answer(ctx: Context, answer_id: int, text: str) -> QuestionView:
    """Say one's own answer otherwise. Raises `NotFound`, `Conflict`, `Invalid`."""
    ctx.actor.consumer_to("ask and rate")
    text = rules.text(text)
    with ctx.transaction() as session:
        question, found = _held_answer(session, ctx, answer_id)
        rules.changes(author(found), writer(ctx.actor))
        found.text, found.changed_at = text, ctx.now
        return _view(session, ctx, question)


def take_answer_back(ctx: Context, answer_id: int) -> QuestionView:
    """Take one's own answer back. Raises `NotFound`, `Conflict`."""
    ctx.actor.consumer_to("ask and rate")
    with ctx.transaction() as session:
        question, found = _held_answer(session, ctx, answer_id)
        rules.changes(author(found), writer(ctx.actor))
        found.state, found.accepted_at = move(POST, "the answer", found.state, "taken back"), None
        auditing.note(session, ctx, "took an answer back", posts.subject(question, found))
        session.flush()
        return _view(session, ctx, question)


def accept(ctx: Context, question_id: int, answer_id: int | None) -> QuestionView:
    """Say which answer helped, or that none did after all. Raises `NotFound`, `NotAllowed`."""
    ctx.actor.consumer_to("ask and rate")
    with ctx.transaction() as session:
        question = _held(session, ctx, question_id)
        if not rules.may_accept(author(question), writer(ctx.actor)):
            raise NotAllowed("whoever asked says which answer helped")
        posts.accept(session, ctx, question, _shown_answer(session, question, answer_id))
        session.flush()
        return _view(session, ctx, question)


def follow(ctx: Context, question_id: int, wanted: bool) -> QuestionView:
    """Be told of new answers to a question, or no more. Raises `NotFound`."""
    ctx.actor.consumer_to("see use")
    with ctx.transaction() as session:
        question = _held(session, ctx, question_id)
        kept = session.get(QuestionFollower, (question.id, ctx.actor.member_id))
        if wanted and kept is None:
            session.add(QuestionFollower(question_id=question.id, member_id=ctx.actor.member_id))
        elif kept is not None and not wanted:
            session.delete(kept)
        session.flush()
        return _view(session, ctx, question)


def report(ctx: Context, question_id: int, answer_id: int | None, reason: str) -> QuestionView:
    """Tell the provider that a question, or an answer to it, should not stand there: once for each organisation. Raises
    `NotFound`, `Conflict`, `TooMany`, `Invalid`."""
    owner, reason = ctx.actor.consumer_to("ask and rate"), rules.reason(reason)
    with ctx.transaction() as session:
        _seen(session, ctx, session.get(Question, question_id), question_id)
    throttling.writing(ctx)
    with ctx.transaction() as session:
        question = _held(session, ctx, question_id)
        found = _shown_answer(session, question, answer_id)
        if not rules.may_report(author(found or question), writer(ctx.actor)):
            raise Conflict("only what others wrote is reported", "the report")
        place = found.id if found else 0
        if session.scalar(select(PostReport.id).filter_by(question_id=question.id, answer_id=place, consumer_id=owner)):
            raise Conflict("your organisation has reported it already", "the report")
        session.add(
            PostReport(
                question_id=question.id,
                answer_id=place,
                consumer_id=owner,
                member_id=ctx.actor.member_id,
                reason=reason,
                reported_at=ctx.now,
            )
        )
        auditing.note(session, ctx, "reported it", posts.subject(question, found), why=reason)
        session.flush()
        return _view(session, ctx, question)


def _seen(session: Session, ctx: Context, question: Question | None, question_id: int) -> Question:
    """A question that whoever asks may see: one that is hidden is seen by whoever wrote it alone."""
    if question is not None and _reads(ctx, question) and storefront.seen(session, ctx, question.product):
        return question
    raise NotFound("there is no such question", str(question_id))


def _reads(ctx: Context, post: Post) -> bool:
    """Whether whoever asks sees it: what is hidden is seen by the member who wrote it alone. A stranger is no member,
    nor is the provider."""
    mine = post.member is not None and author(post) == writer(ctx.actor)
    return post.state == "shown" or (post.state == "hidden" and mine)


def _held(session: Session, ctx: Context, question_id: int) -> Question:
    return _seen(session, ctx, posts.held(session, question_id), question_id)


def _held_answer(session: Session, ctx: Context, answer_id: int) -> tuple[Question, Answer]:
    question, found = posts.held_answer(session, answer_id)
    if not _reads(ctx, found):
        raise NotFound("there is no such answer", str(answer_id))
    return _seen(session, ctx, question, question.id), found


def _shown_answer(session: Session, question: Question, answer_id: int | None) -> Answer | None:
    if answer_id is None:
        return None
    for each in posts.answers(session, question.id):
        if each.id == answer_id and each.state == "shown":
            return each
    raise NotFound("there is no such answer", str(answer_id))


def _view(session: Session, ctx: Context, question: Question) -> QuestionView:
    reader, asker, office = writer(ctx.actor), author(question), provider_of(session).name
    takes_part = ctx.actor.may("ask and rate")
    query = select(PostReport.answer_id).filter_by(question_id=question.id, consumer_id=ctx.actor.consumer_id)
    reported = set(session.scalars(query)) if ctx.actor.consumer_id is not None else set()

    def seen(post: Post, at: datetime, place: int) -> PostView:
        by, mine = author(post), author(post) == reader and takes_part
        name = post.member.name if post.member is not None else office
        return PostView(
            id=post.id,
            by=author_in_words(by, asker=asker if place else None, reader=reader, name=name, office=office),
            official=by.official,
            at=at,
            changed_at=post.changed_at,
            html=html_of_others(post.text),
            text=post.text if mine else None,
            hidden=post.hidden_why if post.state == "hidden" else None,
            accepted=isinstance(post, Answer) and post.accepted_at is not None,
            may_report=takes_part and rules.may_report(by, reader),
            reported=place in reported,
        )

    shown = [a for a in posts.answers(session, question.id) if _reads(ctx, a)]
    readable = [a for a in shown if a.state == "shown"]
    follower = QuestionFollower.question_id == question.id, QuestionFollower.member_id == ctx.actor.member_id
    following = session.scalar(select(QuestionFollower.member_id).where(*follower)) is not None
    return QuestionView(
        id=question.id,
        slug=question.product.slug,
        product=question.product.name,
        title=question.title,
        asked=seen(question, question.asked_at, 0),
        answers=[seen(a, a.answered_at, a.id) for a in shown],
        standing=rules.standing(len(readable), any(a.accepted_at is not None for a in readable)),
        may_answer=takes_part,
        may_accept=takes_part and rules.may_accept(asker, reader),
        following=following,
    )
