"""The provider's own words for notices: told from the next letter on, never holding one up, and shown before."""

from __future__ import annotations

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, Stale
from calm_tariff.core.notices import KINDS, Words
from calm_tariff.services.admit.desk import deciding
from calm_tariff.services.base import auditing, own_notices
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, Recipient, notify
from calm_tariff.services.house import notice_kinds, service_tokens
from calm_tariff.services.house.notice_kinds import WordsTyped
from calm_tariff.store.base.notices import NoticeKind
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.accounts import letters, signed_in, token_of

GRANTED = Words(
    subject="Welcome aboard: {{ offer }}",
    text="Dear {{ name }},\n\n{{ application }} may call {{ offer }}.{% if note %} “{{ note }}”{% endif %}\n\n"
    "{{ link }}\n",
)
TO = "ana@gulls.example"


def granted(ctx: Context, **fields: str) -> None:
    """A notice that something is granted, to somebody with an account."""
    said = {"offer": "Harbour · Ketch", "application": "Board", "said": "", "note": "", **fields}
    with ctx.transaction() as session:
        to = Recipient(email=TO, name="Ana", member_id=1, at="/portal")
        notify(session, ctx, [to], Notice(kind="request granted", fields=said, page="/applications/3"))


def save(ctx: Context, words: Words | None = GRANTED, edition: int = 0, **how: bool) -> notice_kinds.NoticeWording:
    return notice_kinds.save(ctx, "request_granted", WordsTyped(words=words, **how), edition)


def test_the_next_letter_is_in_the_providers_own_words_and_those_before_stay(office: Office) -> None:
    granted(office.ctx)
    kept = save(office.manager)
    assert kept.kind.own and kept.changed_by == office.manager.actor.name and kept.words == GRANTED
    granted(office.ctx, note="Name the source.")
    before, after = letters(office.ctx, TO)
    assert before.subject == "Harbour · Ketch: granted" and "Make a key at" in before.body
    assert after.subject == "Welcome aboard: Harbour · Ketch"
    assert "may call Harbour · Ketch. “Name the source.”" in after.body
    assert after.html is not None and "may call Harbour · Ketch. “Name the source.”" in after.html
    (entry,) = auditing.entries(office.manager, PageQuery(words="changed a notice")).rows
    assert {change.what for change in entry.changes} >= {"subject", "text"}
    back = save(office.manager, words=None, edition=1)
    assert not back.kind.own and back.words == back.shipped
    granted(office.ctx)
    assert letters(office.ctx, TO)[-1].subject == "Harbour · Ketch: granted"


def test_a_decision_at_the_desk_is_told_in_them_too(office: Office) -> None:
    save(office.manager)
    _, _, request = office.ask("Terns", "Ketch")
    deciding.decide(office.reviewer, request, "granted", "")
    last = letters(office.ctx, "terns@consumer.example")[-1]
    assert last.subject == "Welcome aboard: Harbour Data · Ketch" and last.kind == "request granted"


def test_html_of_ones_own_is_what_the_letter_holds(office: Office) -> None:
    html = "<h2>Hello {{ name }}</h2>"
    save(office.manager, Words(subject="x", text="{{ name }}", html=html))
    granted(office.ctx)
    (letter,) = letters(office.ctx, TO)
    assert letter.html is not None and "<h2>Hello Ana</h2>" in letter.html and letter.body.startswith("Ana\n")


def test_words_that_cannot_be_filled_in_hold_no_letter_up_and_are_told_of(office: Office) -> None:
    save(office.manager)
    with office.ctx.transaction() as session:  # as somebody kept them before a field was taken away
        own = session.scalars(select(NoticeKind)).one()
        own.text = "{{ what_was }}"
    granted(office.ctx)
    assert letters(office.ctx, TO)[-1].subject == "Harbour · Ketch: granted"
    shown = next(k for k in notice_kinds.everything(office.manager) if k.kind == "request granted")
    assert "what_was" in shown.trouble
    assert save(office.manager, edition=1).kind.trouble == ""


def test_a_preview_is_of_what_the_last_notice_was_about_or_of_something_made_up(office: Office) -> None:
    made_up = notice_kinds.preview(office.reviewer, "plan_changes", Words(subject="{{ day }}", text="{{ name }}"))
    assert made_up.when is None and made_up.subject == "1 October 2026" and made_up.text.startswith("Ana Exemplo")
    granted(office.ctx, note="Name the source.")
    shown = notice_kinds.preview(office.reviewer, "request_granted", GRANTED)
    assert shown.when == office.ctx.now and shown.subject == "Welcome aboard: Harbour · Ketch"
    assert "Dear Ana,\n\nBoard may call Harbour · Ketch. “Name the source.”" in shown.text
    assert f"{office.ctx.web_address}/portal/applications/3" in shown.text and "<p>Dear Ana,</p>" in shown.html
    fields = notice_kinds.one(office.reviewer, "request_granted").fields
    assert fields["note"] == "Name the source." and fields["name"] == "Ana"
    assert letters(office.ctx, TO)[-1].subject == "Harbour · Ketch: granted"  # nothing was kept or sent


def test_what_is_tried_out_goes_to_whoever_tries_it(office: Office) -> None:
    own = signed_in(office, "product@test.example")
    assert notice_kinds.test(own, "request_granted", GRANTED) == "product@test.example"
    assert letters(office.ctx, "product@test.example")[-1].subject.startswith("Welcome aboard")
    script = office.ctx.acting(service_tokens.who_by(office.ctx, token_of(own, "script")))
    with pytest.raises(Conflict, match="a script has no mail address"):
        notice_kinds.test(script, "request_granted", GRANTED)


def test_a_kind_that_is_not_sent_by_mail_is_on_the_page_alone(office: Office) -> None:
    save(office.manager, words=None, by_mail=False)
    granted(office.ctx)
    assert letters(office.ctx, TO) == []
    member = office.ctx.acting(office.consumers[0].member)
    with office.ctx.transaction() as session:
        whose = Recipient(email="x@x.example", member_id=member.actor.member_id)
        fields = {"offer": "Harbour · Ketch", "application": "Board", "said": "", "note": ""}
        notify(session, office.ctx, [whose], Notice(kind="request granted", fields=fields))
    assert own_notices.own(member).rows[0].subject == "Harbour · Ketch: granted"
    with pytest.raises(Invalid, match="by mail in any case") as refused:
        notice_kinds.save(office.manager, "password_forgotten", WordsTyped(words=None, by_mail=False), 0)
    assert refused.value.where == "by_mail"


@pytest.mark.parametrize(
    ("words", "where", "why"),
    [
        (Words(subject=" ", text="x"), "subject", "must not be empty"),
        (Words(subject="x", text=""), "text", "must not be empty"),
        (Words(subject="{{ total }}", text="x"), "subject", "there is no total here"),
        (Words(subject="x", text="x\n{{ name.x }}"), "text", "line 2"),
        (Words(subject="x", text="x", html="{% if %}"), "html", "line 1"),
        (Words(subject="x", text="{% for a in name %}{{ a.b }}{% endfor %}"), "text", "nothing else"),
    ],
)
def test_words_that_are_wrong_are_refused_by_part_and_nothing_is_kept(
    office: Office, words: Words, where: str, why: str
) -> None:
    with pytest.raises(Invalid, match=why) as error:
        save(office.manager, words)
    assert error.value.where == where
    with pytest.raises(Invalid, match=why):
        notice_kinds.preview(office.manager, "request_granted", words)
    assert not notice_kinds.one(office.manager, "request_granted").kind.own


def test_a_letter_of_no_use_without_its_link_is_refused(office: Office) -> None:
    typed = WordsTyped(words=Words(subject="Password", text="Set another at {{ office }}."))
    with pytest.raises(Invalid, match="of no use"):
        notice_kinds.save(office.manager, "password_forgotten", typed, 0)


def test_two_at_once_do_not_overwrite_each_other_and_others_may_only_look(office: Office) -> None:
    save(office.manager)
    with pytest.raises(Stale, match="meanwhile"):
        save(office.manager)
    with pytest.raises(NotAllowed):
        save(office.finance, edition=1)
    with pytest.raises(NotFound):
        notice_kinds.one(office.manager, "no_such_kind")
    assert [each.kind for each in notice_kinds.everything(office.finance)] == list(KINDS)


def test_every_kind_can_be_seen_and_tried_out_as_it_ships(office: Office) -> None:
    for kind in KINDS:
        shown = notice_kinds.one(office.manager, kind.replace(" ", "_"))
        made = notice_kinds.preview(office.manager, shown.kind.name, shown.words)
        assert made.subject and made.text and "{{" not in made.text and not shown.kind.own
