"""Keys and secrets: made, brought along, rotated, labelled and revoked by their owner alone."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotFound, TooMany
from calm_tariff.core.periods import instant_of
from calm_tariff.services.admit import applications, credentials
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.services.serve import gateway_feed, history
from calm_tariff.services.serve.gateway_feed import read_feed
from calm_tariff.store.base.jobs import Job
from tests.office import START, Office
from tests.services.accounts import letters


def test_anothers_application_key_and_request_do_not_exist_for_one(office: Office) -> None:
    ferries, kayaks = office.consumers
    other = office.acting(kayaks)
    for attempt in (
        lambda: credentials.make_key(other, ferries.application, "x"),
        lambda: credentials.revoke_key(other, ferries.key),
        lambda: asking.ask(other, ferries.application, office.plans["Skiff"], "Something useful.", True),
        lambda: asking.take_back(other, ferries.request),
    ):
        with pytest.raises(NotFound):
            attempt()


def test_a_key_is_shown_once_and_only_its_owner_may_end_it(office: Office) -> None:
    one, other = office.consumers
    made = credentials.make_key(office.acting(one), one.application, "  night job ", environment="sandbox")
    assert made.secret.startswith("calmkey-sandbox-") and made.key.label == "night job"
    seen = json.dumps([repr(a) for a in applications.own(office.acting(one))])
    assert made.secret not in seen and made.key.prefix in seen
    feed = gateway_feed.read_feed(office.ctx)
    assert made.key.id in {
        c.key_id for c in feed.credentials if c.environment == "sandbox"
    } and made.secret not in repr(feed)
    for theirs in (
        lambda: credentials.revoke_key(office.acting(other), made.key.id),
        lambda: credentials.make_key(office.acting(other), one.application, ""),
        lambda: applications.set_tags(office.acting(other), one.application, {"a": "b"}),
    ):
        with pytest.raises(NotFound):
            theirs()
    credentials.revoke_key(office.acting(one), made.key.id)
    told = {c.key_id: c.state for c in gateway_feed.read_feed(office.ctx).credentials}
    assert told[made.key.id] == "revoked"
    with pytest.raises(Conflict):
        credentials.revoke_key(office.acting(one), made.key.id)


def test_a_key_to_try_with_is_the_sandboxs_and_lives_an_hour(office: Office) -> None:
    one, other = office.consumers
    own = office.acting(one)
    made = credentials.make_passing_key(own, one.application, "key")
    assert (made.key.environment, made.key.expires_at) == ("sandbox", START + timedelta(hours=1))
    assert credentials.make_passing_key(own, one.application, "secret").secret.startswith("calmsecret-sandbox-")
    with pytest.raises(NotFound):
        credentials.make_passing_key(office.acting(other), one.application, "key")
    for _ in range(credentials.MOST_PASSING - 2):
        credentials.make_passing_key(own, one.application, "key")
    with pytest.raises(TooMany) as caught:
        credentials.make_passing_key(own, one.application, "key")
    assert caught.value.wait == 3601
    later = replace(own, clock=lambda: START + timedelta(seconds=3600))
    again = credentials.make_passing_key(later, one.application, "key")
    assert again.key.expires_at == START + timedelta(hours=2)
    states = [k.state for k in applications.own(later)[0].keys if k.label == credentials.PASSING]
    assert states.count("expired") == credentials.MOST_PASSING and states.count("active") == 1


def test_a_rotated_key_serves_beside_the_new_one_for_a_while(office: Office) -> None:
    one, other = office.consumers
    own = office.acting(one)
    new = credentials.rotate_key(own, one.key, 24)
    assert new.secret != one.secret and (new.key.label, new.key.kind, new.key.state) == ("server", "key", "active")
    states = {c.key_id: (c.state, c.expires_us) for c in gateway_feed.read_feed(office.ctx).credentials}
    assert states[one.key] == ("retiring", instant_of(START + timedelta(days=1)))
    assert states[new.key.id] == ("active", None)
    with pytest.raises(Conflict, match="it is retiring"):
        credentials.rotate_key(own, one.key, 24)
    later = replace(own, clock=lambda: START + timedelta(days=1))
    assert [k.state for k in applications.own(later)[0].keys] == ["expired", "active"]
    # It serves no longer than it would have, and one of an end has an end in turn.
    ends = START + timedelta(hours=30)
    short = credentials.make_key(own, one.application, "short", kind="secret", expires_at=ends)
    turned = credentials.rotate_key(own, short.key.id, 720)
    assert (turned.key.expires_at, turned.key.kind) == (ends, "secret")
    kept = {k.id: (k.state, k.expires_at) for k in applications.own(own)[0].keys}
    assert kept[short.key.id] == ("retiring", ends)
    credentials.revoke_key(own, short.key.id)  # a retiring one can be revoked at once
    for hours in (0, 2161):
        with pytest.raises(Invalid, match="between 1 and 2,160"):
            credentials.rotate_key(own, new.key.id, hours)
    with pytest.raises(NotFound):
        credentials.rotate_key(office.acting(other), new.key.id, 24)
    passing = credentials.make_passing_key(own, one.application, "key")
    with pytest.raises(Conflict):
        credentials.rotate_key(own, passing.key.id, 24)


def test_a_key_lasts_to_the_end_of_a_day_in_the_providers_zone(office: Office) -> None:
    one, application = office.acting(office.consumers[0]), office.consumers[0].application
    made = credentials.make_key(one, application, "until", last_day=date(2026, 10, 25))  # the clocks go back
    assert made.key.expires_at == datetime(2026, 10, 26, 0, tzinfo=UTC)
    made = credentials.make_key(one, application, "today", last_day=START.date())
    assert made.key.expires_at == datetime(2026, 9, 10, 23, tzinfo=UTC)
    made = credentials.make_key(one, application, "from", first_day=date(2026, 9, 12), last_day=date(2026, 9, 12))
    assert (made.key.starts_at, made.key.expires_at) == (
        datetime(2026, 9, 11, 23, tzinfo=UTC),
        datetime(2026, 9, 12, 23, tzinfo=UTC),
    )
    for days, where in (
        ({"last_day": date(2026, 9, 9)}, "expires_at"),
        ({"last_day": date(9999, 12, 31)}, "last_day"),
        ({"first_day": date(1, 1, 1)}, "first_day"),
        ({"first_day": date(2026, 9, 13), "last_day": date(2026, 9, 12)}, "last_day"),
    ):
        with pytest.raises(Invalid) as refused:
            credentials.make_key(one, application, "x", **days)
        assert refused.value.where == where


OWN = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822c"


def test_a_key_is_brought_along_once_for_all_and_nobody_learns_whose_it_is(office: Office) -> None:
    ferries, kayaks = office.consumers
    made = credentials.make_key(office.acting(ferries), ferries.application, "mine", brought=f" {OWN} ")
    assert made.secret == OWN and made.key.prefix == OWN[:4]
    assert hash_token(OWN) in {c.key_hash for c in read_feed(office.ctx).credentials}
    for own in (office.acting(kayaks), office.acting(ferries)):
        application = applications.own(own)[0].id
        with pytest.raises(Invalid) as taken:
            credentials.make_key(own, application, "mine", brought=OWN)
        assert (taken.value.what, taken.value.where) == ("cannot be taken; bring another", "brought")
    credentials.revoke_key(office.acting(ferries), made.key.id)
    with pytest.raises(Invalid, match="cannot be taken"):  # nor once it is revoked
        credentials.make_key(office.acting(kayaks), kayaks.application, "mine", brought=OWN)
    with pytest.raises(Invalid, match="only a key"):
        credentials.make_key(office.acting(kayaks), kayaks.application, "mine", kind="secret", brought=OWN[::-1])


def test_those_who_can_make_another_are_told_a_week_before_a_key_expires(office: Office) -> None:
    ferries = office.consumers[0]
    own = office.acting(ferries)
    ends = office.ctx.now + timedelta(days=30)
    made = credentials.make_key(own, ferries.application, "server", expires_at=ends)
    soon = credentials.make_key(own, ferries.application, "soon", expires_at=office.ctx.now + timedelta(days=6))
    with office.ctx.transaction() as session:
        (job,) = session.scalars(select(Job).where(Job.kind == credentials.TELL_OF_END))
        assert (job.arguments, job.run_at) == ({"key": made.key.id}, ends - timedelta(days=7))
    assert credentials.tell_of_end(office.ctx, made.key.id) == ends - timedelta(days=7)  # too early
    sent = len(letters(office.ctx, ferries.email))
    office.clock.now = ends - timedelta(days=7)
    assert credentials.tell_of_end(office.ctx, made.key.id) is None
    letter = letters(office.ctx, ferries.email)[-1]
    assert len(letters(office.ctx, ferries.email)) == sent + 1
    assert letter.subject == f"{made.key.prefix}… of Ferries app expires on 10 October 2026"
    assert made.secret not in letter.body and f"/applications/{ferries.application}" in letter.body
    credentials.revoke_key(own, made.key.id)
    for gone in (made.key.id, soon.key.id, 999):  # revoked, expired, never there
        assert credentials.tell_of_end(office.ctx, gone) is None
    assert len(letters(office.ctx, ferries.email)) == sent + 1


def test_a_key_has_another_label_and_words_of_its_owner_alone(office: Office) -> None:
    one, other = office.consumers
    own = office.acting(one)
    worded = credentials.word(own, one.key, " night job ", {"ship": "17"})
    assert (worded.label, worded.tags) == ("night job", {"ship": "17"})
    assert all("ship" not in str(caller.tags) for caller in read_feed(office.ctx).callers)  # back ends hear nothing
    new = credentials.rotate_key(own, one.key, 1)
    assert (new.key.label, new.key.tags) == ("night job", {"ship": "17"})
    with pytest.raises(NotFound):
        credentials.word(office.acting(other), one.key, "mine", {})
    passing = credentials.make_passing_key(own, one.application, "key")
    for key, label in ((passing.key.id, "kept"), (one.key, credentials.PASSING)):
        with pytest.raises(Conflict):
            credentials.word(own, key, label, {})
    for label, tags in (("", {}), ("x", {"A": "b"})):
        with pytest.raises(Invalid):
            credentials.word(own, one.key, label, tags)


def test_a_key_says_when_and_from_where_it_was_last_used_as_soon_as_that_is_recorded(office: Office) -> None:
    one = office.consumers[0]
    own = office.acting(one)

    def shown() -> tuple[datetime | None, str]:
        (key,) = applications.own(own)[0].keys
        return key.used_at, key.used_from

    assert shown() == (None, "")
    call = {**office.call(one, START, 1), "sent": {"address": "192.0.2.9"}}
    history.take_in(office.ctx, [call])
    assert shown() == (START, "192.0.2.9")
