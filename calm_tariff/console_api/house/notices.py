"""Kinds of notices with their words, and the letters that were written."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.notices import Words
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.house import letters, notice_kinds
from calm_tariff.services.house.letters import LetterInFull, LetterView
from calm_tariff.services.house.notice_kinds import NoticeKindView, NoticePreview, NoticeWording, WordsTyped
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["house"], route_class=Again)

State = Annotated[str, Query(max_length=20, description="waiting, sent or failed.")]
OfKind = Annotated[str, Query(max_length=40, description="Of one kind of notice.")]


class WordsIn(BaseModel):
    """Words with fields (`{{ name }}`): subject, text, and HTML where it is not made from the text."""

    subject: str
    text: str
    html: str = ""

    def words(self) -> Words:
        """The same for the service."""
        return Words(subject=self.subject, text=self.text, html=self.html)


class NoticeIn(BaseModel):
    """Words and way of a kind of notice. Without words, it is told in those that ship with the product."""

    words: WordsIn | None = None
    by_mail: bool = True


class SentTo(BaseModel):
    """Where a letter goes."""

    email: str = Field(description="The address.")


@router.get("/notice-kinds")
def everything(ctx: Asking) -> list[NoticeKindView]:
    """All kinds of notices: who gets each, and how."""
    return notice_kinds.everything(ctx)


@router.get("/notice-kinds/{name}")
def one(ctx: Asking, name: str) -> NoticeWording:
    """A kind of notice with its words, and the fields they can speak of."""
    return notice_kinds.one(ctx, name)


@router.put("/notice-kinds/{name}")
def save(ctx: Asking, name: str, typed: NoticeIn, edition: Edition) -> NoticeWording:
    """Have it told in other words, or otherwise by mail, from the next one on."""
    words = typed.words.words() if typed.words else None
    return notice_kinds.save(ctx, name, WordsTyped(words=words, by_mail=typed.by_mail), edition)


@router.post("/notice-kinds/{name}/preview")
def preview(ctx: Asking, name: str, typed: WordsIn) -> NoticePreview:
    """Words filled in with what the last notice of the kind was about."""
    return notice_kinds.preview(ctx, name, typed.words())


@router.post("/notice-kinds/{name}/test")
def test(ctx: Asking, name: str, typed: WordsIn) -> SentTo:
    """Send the same to oneself."""
    return SentTo(email=notice_kinds.test(ctx, name, typed.words()))


@router.get("/letters")
def listed(ctx: Asking, asked: Paged, state: State = "", kind: OfKind = "") -> Page[LetterView]:
    """The mail log: every letter with its delivery, the latest first."""
    return letters.listed(ctx, asked, state, kind)


@router.get("/letters.csv", response_class=Response)
def export(ctx: Asking, asked: Paged, state: State = "", kind: OfKind = "") -> Response:
    """The same as CSV."""
    return as_csv("letters", LetterView, all_of(lambda part: letters.listed(ctx, part, state, kind), asked))


@router.get("/letters/{letter_id}")
def letter(ctx: Asking, letter_id: int) -> LetterInFull:
    """A letter with what it says, unless it is confidential."""
    return letters.one(ctx, letter_id)


@router.post("/letters/{letter_id}/again")
def send_again(ctx: Asking, letter_id: int) -> LetterInFull:
    """Have a letter sent that failed, or that waits to be tried again."""
    return letters.send_again(ctx, letter_id)
