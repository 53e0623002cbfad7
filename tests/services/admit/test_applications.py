"""Applications, their keys and tags, for their owner alone."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotFound, TooMany
from calm_tariff.core.periods import instant_of
from calm_tariff.services.admit import applications, requests
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.services.serve import gateway_feed
from calm_tariff.services.serve.gateway_feed import read_feed
from calm_tariff.store.base.jobs import Job
from tests.office import START, Office
from tests.services.accounts import letters


def test_anothers_application_key_and_request_do_not_exist_for_one(office: Office) -> None:
    ferries, kayaks = office.consumers
    other = office.acting(kayaks)
    for attempt in (
        lambda: applications.make_key(other, ferries.application, "x"),
        lambda: applications.revoke_key(other, ferries.key),
        lambda: requests.ask(other, ferries.application, office.plans["Skiff"], "Something useful.", True),
        lambda: requests.take_back(other, ferries.request),
    ):
        with pytest.raises(NotFound):
            attempt()


def test_a_key_is_shown_once_and_only_its_owner_may_end_it(office: Office) -> None:
    one, other = office.consumers
    made = applications.make_key(office.acting(one), one.application, "  night job ", environment="sandbox")
    assert made.secret.startswith("calmkey-sandbox-") and made.key.label == "night job"
    seen = json.dumps([repr(a) for a in applications.own(office.acting(one))])
    assert made.secret not in seen and made.key.prefix in seen
    feed = gateway_feed.read_feed(office.ctx)
    assert made.key.id in {
        c.key_id for c in feed.credentials if c.environment == "sandbox"
    } and made.secret not in repr(feed)
    for theirs in (
        lambda: applications.revoke_key(office.acting(other), made.key.id),
        lambda: applications.make_key(office.acting(other), one.application, ""),
        lambda: applications.set_tags(office.acting(other), one.application, {"a": "b"}),
    ):
        with pytest.raises(NotFound):
            theirs()
    applications.revoke_key(office.acting(one), made.key.id)
    told = {c.key_id: c.state for c in gateway_feed.read_feed(office.ctx).credentials}
    assert told[made.key.id] == "revoked"
    with pytest.raises(Conflict):
        applications.revoke_key(office.acting(one), made.key.id)


def test_a_key_to_try_with_is_the_sandboxs_and_lives_an_hour(office: Office) -> None:
    one, other = office.consumers
    own = office.acting(one)
    made = applications.make_passing_key(own, one.application, "key")
    assert (made.key.environment, made.key.expires_at) == ("sandbox", START + timedelta(hours=1))
    assert applications.make_passing_key(own, one.application, "secret").secret.startswith("calmsecret-sandbox-")
    with pytest.raises(NotFound):
        applications.make_passing_key(office.acting(other), one.application, "key")
    for _ in range(applications.MOST_PASSING - 2):
        applications.make_passing_key(own, one.application, "key")
    with pytest.raises(TooMany) as caught:
        applications.make_passing_key(own, one.application, "key")
    assert caught.value.wait == 3601
    later = replace(own, clock=lambda: START + timedelta(seconds=3600))
    again = applications.make_passing_key(later, one.application, "key")
    assert again.key.expires_at == START + timedelta(hours=2)
    states = [k.state for k in applications.own(later)[0].keys if k.label == applications.PASSING]
    assert states.count("expired") == applications.MOST_PASSING and states.count("active") == 1


def test_a_rotated_key_serves_beside_the_new_one_for_a_while(office: Office) -> None:
    one, other = office.consumers
    own = office.acting(one)
    new = applications.rotate_key(own, one.key, 24)
    assert new.secret != one.secret and (new.key.label, new.key.kind, new.key.state) == ("server", "key", "active")
    states = {c.key_id: (c.state, c.expires_us) for c in gateway_feed.read_feed(office.ctx).credentials}
    assert states[one.key] == ("retiring", instant_of(START + timedelta(days=1)))
    assert states[new.key.id] == ("active", None)
    with pytest.raises(Conflict, match="it is retiring"):
        applications.rotate_key(own, one.key, 24)
    later = replace(own, clock=lambda: START + timedelta(days=1))
    assert [k.state for k in applications.own(later)[0].keys] == ["expired", "active"]
    # It serves no longer than it would have, and one of an end has an end in turn.
    ends = START + timedelta(hours=30)
    short = applications.make_key(own, one.application, "short", kind="secret", expires_at=ends)
    turned = applications.rotate_key(own, short.key.id, 720)
    assert (turned.key.expires_at, turned.key.kind) == (ends, "secret")
    kept = {k.id: (k.state, k.expires_at) for k in applications.own(own)[0].keys}
    assert kept[short.key.id] == ("retiring", ends)
    applications.revoke_key(own, short.key.id)  # a retiring one can be revoked at once
    for hours in (0, 2161):
        with pytest.raises(Invalid, match="between 1 and 2,160"):
            applications.rotate_key(own, new.key.id, hours)
    with pytest.raises(NotFound):
        applications.rotate_key(office.acting(other), new.key.id, 24)
    passing = applications.make_passing_key(own, one.application, "key")
    with pytest.raises(Conflict):
        applications.rotate_key(own, passing.key.id, 24)


def test_tags_are_few_plain_words(office: Office) -> None:
    one = office.consumers[0]
    own = office.acting(one)
    kept = applications.set_tags(own, one.application, {"region": "west", "line-2": "Grüße, Kapitän"})
    assert kept.tags == {"region": "west", "line-2": "Grüße, Kapitän"}
    (caller,) = [c for c in gateway_feed.read_feed(office.ctx).callers if c.application_id == one.application]
    assert caller.tags == (("line-2", "Grüße, Kapitän"), ("region", "west"))
    for wrong in (
        {"Region": "x"},
        {"1st": "x"},
        {"a" * 31: "x"},
        {"a": "x\r\ny"},
        {"a": "x" * 101},
        {f"t{n}": "x" for n in range(11)},
    ):
        with pytest.raises(Invalid, match="tags"):
            applications.set_tags(own, one.application, wrong)
    assert applications.own(own)[0].tags == kept.tags


def test_a_key_lasts_to_the_end_of_a_day_in_the_providers_zone(office: Office) -> None:
    one, application = office.acting(office.consumers[0]), office.consumers[0].application
    made = applications.make_key(one, application, "until", last_day=date(2026, 10, 25))  # the clocks go back
    assert made.key.expires_at == datetime(2026, 10, 26, 0, tzinfo=UTC)
    made = applications.make_key(one, application, "today", last_day=START.date())
    assert made.key.expires_at == datetime(2026, 9, 10, 23, tzinfo=UTC)
    for day in (date(2026, 9, 9), date(9999, 12, 31)):
        with pytest.raises(Invalid):
            applications.make_key(one, application, "x", last_day=day)


OWN = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822c"


def test_a_key_is_brought_along_once_for_all_and_nobody_learns_whose_it_is(office: Office) -> None:
    ferries, kayaks = office.consumers
    made = applications.make_key(office.acting(ferries), ferries.application, "mine", brought=f" {OWN} ")
    assert made.secret == OWN and made.key.prefix == OWN[:4]
    assert hash_token(OWN) in {c.key_hash for c in read_feed(office.ctx).credentials}
    for own in (office.acting(kayaks), office.acting(ferries)):
        application = applications.own(own)[0].id
        with pytest.raises(Invalid) as taken:
            applications.make_key(own, application, "mine", brought=OWN)
        assert (taken.value.what, taken.value.where) == ("cannot be taken; bring another", "brought")
    applications.revoke_key(office.acting(ferries), made.key.id)
    with pytest.raises(Invalid, match="cannot be taken"):  # nor once it is revoked
        applications.make_key(office.acting(kayaks), kayaks.application, "mine", brought=OWN)
    with pytest.raises(Invalid, match="only a key"):
        applications.make_key(office.acting(kayaks), kayaks.application, "mine", kind="secret", brought=OWN[::-1])


def test_those_who_can_make_another_are_told_a_week_before_a_key_expires(office: Office) -> None:
    ferries = office.consumers[0]
    own = office.acting(ferries)
    ends = office.ctx.now + timedelta(days=30)
    made = applications.make_key(own, ferries.application, "server", expires_at=ends)
    soon = applications.make_key(own, ferries.application, "soon", expires_at=office.ctx.now + timedelta(days=6))
    with office.ctx.transaction() as session:
        (job,) = session.scalars(select(Job).where(Job.kind == applications.TELL_OF_END))
        assert (job.arguments, job.run_at) == ({"key": made.key.id}, ends - timedelta(days=7))
    assert applications.tell_of_end(office.ctx, made.key.id) == ends - timedelta(days=7)  # too early
    sent = len(letters(office.ctx, ferries.email))
    office.clock.now = ends - timedelta(days=7)
    assert applications.tell_of_end(office.ctx, made.key.id) is None
    letter = letters(office.ctx, ferries.email)[-1]
    assert len(letters(office.ctx, ferries.email)) == sent + 1
    assert letter.subject == f"{made.key.prefix}… of Ferries app expires on 10 October 2026"
    assert made.secret not in letter.body and f"/applications/{ferries.application}" in letter.body
    applications.revoke_key(own, made.key.id)
    for gone in (made.key.id, soon.key.id, 999):  # revoked, expired, never there
        assert applications.tell_of_end(office.ctx, gone) is None
    assert len(letters(office.ctx, ferries.email)) == sent + 1
