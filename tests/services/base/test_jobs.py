"""A job is written with what causes it, done by one, tried again with growing pauses, and given up to a person."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import NotAllowed, NotFound, NotSignedIn
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import NOBODY, Context
from calm_tariff.services.base.jobs import LEASE, Job
from calm_tariff.store.base.jobs import Job as Stored
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office

KINDS = {"paint": LEASE, "sweep": LEASE}


def ask(ctx: Context, kind: str = "paint", **more: object) -> None:
    with ctx.transaction() as session:
        jobs.write(session, ctx, kind, "the shed", {"colour": "kelp"}, **more)


def claim(ctx: Context) -> Job:
    found = jobs.claim(ctx, KINDS)
    assert found is not None
    return found


def left(ctx: Context) -> list[Stored]:
    with ctx.transaction() as session:
        return list(session.scalars(select(Stored).order_by(Stored.id)))


@pytest.fixture
def own(office: Office) -> Context:
    """An installation with nothing to do."""
    with office.ctx.transaction() as session:
        session.query(Stored).delete()
    return office.ctx


def test_a_job_is_lost_with_what_would_have_caused_it(own: Context) -> None:
    def painted() -> None:
        with own.transaction() as session:
            jobs.write(session, own, "paint", "the shed", {})
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        painted()
    assert jobs.claim(own, KINDS) is None


def test_what_is_due_longest_is_done_first_and_only_what_the_worker_can_do(own: Context, office: Office) -> None:
    ask(own, run_at=own.now + timedelta(hours=1))
    ask(own, "sweep", run_at=own.now - timedelta(hours=1))
    ask(own, run_at=own.now - timedelta(hours=2))
    ask(own, "fly", run_at=own.now - timedelta(days=1))
    assert [claim(own).kind, claim(own).kind] == ["paint", "sweep"]
    assert jobs.claim(own, KINDS) is None
    office.clock.forward(hours=1)
    assert claim(own).arguments == {"colour": "kelp"}


def test_a_job_that_is_done_is_gone_and_one_claimed_by_a_dead_worker_is_done_by_another(
    own: Context, office: Office
) -> None:
    ask(own)
    first = claim(own)
    assert jobs.claim(own, KINDS) is None
    office.clock.forward(seconds=LEASE.total_seconds())
    second = claim(own)
    assert (second.id, second.attempts) == (first.id, 2)
    jobs.done(own, second)
    assert left(own) == []


def test_many_workers_claim_each_job_once(own: Context) -> None:
    for _ in range(40):
        ask(own)

    def work(_: int) -> list[int]:
        mine = []
        while job := jobs.claim(own, KINDS):
            mine.append(job.id)
        return mine

    with ThreadPoolExecutor(8) as pool:
        taken = [job for mine in pool.map(work, range(8)) for job in mine]
    assert len(taken) == len(set(taken)) == 40


def test_pauses_grow_until_it_is_given_up_and_a_person_has_it_tried_again(own: Context, office: Office) -> None:
    ask(own)
    waits = []
    for attempt in range(1, 5):
        over = jobs.failed(own, claim(own), "the paint is away", tries=4, chance=0.0)
        assert over == (attempt == 4)
        [job] = left(own)
        waits.append((job.run_at - own.now).total_seconds())
        office.clock.now = max(own.now, job.run_at)
    assert waits[:3] == [2, 4, 8]
    office.clock.forward(days=30)
    assert jobs.claim(own, KINDS) is None
    [shown] = jobs.troubled(office.finance, PageQuery()).rows
    assert (shown.about, shown.attempts, shown.last_error, shown.given_up) == ("the shed", 4, "the paint is away", True)
    assert jobs.troubled(office.finance, PageQuery("harbour")).rows == []
    with own.transaction() as session:
        assert jobs.given_up(session) == 1
    with pytest.raises(NotAllowed):
        jobs.try_again(office.finance, shown.id)
    assert jobs.try_again(office.manager, shown.id).given_up is False
    [noted] = auditing.entries(office.manager, PageQuery("tried again", rows=5)).rows
    assert noted.subject == "paint: the shed"
    jobs.done(own, claim(own))
    with pytest.raises(NotFound):
        jobs.try_again(office.manager, shown.id)


def test_one_of_a_kind_and_subject_is_brought_forward_and_done_once_more_when_asked_for_meanwhile(
    own: Context, office: Office
) -> None:
    ask(own, subject="7", run_at=own.now + timedelta(days=1))
    assert jobs.claim(own, KINDS) is None
    ask(own, subject="7")
    ask(own, subject="7", run_at=own.now + timedelta(days=2))  # later than is asked for already
    job = claim(own)
    ask(own, subject="7")
    assert jobs.claim(own, KINDS) is None  # not twice at once
    jobs.done(own, job)
    once_more = claim(own)
    assert (once_more.id, once_more.attempts) == (job.id, 1)
    jobs.done(own, once_more)
    assert left(own) == []


def test_one_that_was_given_up_and_is_asked_for_again_has_all_its_tries(own: Context, office: Office) -> None:
    ask(own, subject="shed")
    for tries in (1, 2):
        office.clock.now += timedelta(hours=1)
        assert jobs.failed(own, claim(own), "no paint", 2, 0.0) is (tries == 2)
    assert jobs.claim(own, KINDS) is None

    ask(own, subject="shed")

    assert jobs.failed(own, claim(own), "no paint", 2, 0.0) is False


def test_what_is_done_again_and_again_stands_once_and_waits_for_its_time(own: Context, office: Office) -> None:
    for _ in range(3):
        jobs.schedule(own, ["sweep"])
    job = claim(own)
    jobs.again(own, job, own.now + timedelta(seconds=15))
    jobs.schedule(own, ["sweep"])  # another worker begins
    assert jobs.claim(own, KINDS) is None
    office.clock.forward(seconds=15)
    again = claim(own)
    assert (again.id, again.attempts) == (job.id, 1)
    ask(own, "sweep", subject="schedule")  # asked for while it is done
    jobs.again(own, again, own.now + timedelta(days=1))
    assert claim(own).id == job.id


def test_what_is_wanted_soon_is_not_waited_for_and_done_once_more_by_one_that_may_not_have_seen_it(
    own: Context, office: Office
) -> None:
    def wanted() -> None:
        with own.transaction() as session:
            jobs.soon(session, own, "sweep")

    wanted()
    assert left(own) == []  # nobody does any of it here
    jobs.schedule(own, ["sweep"])
    jobs.again(own, claim(own), own.now + timedelta(minutes=5))
    assert jobs.claim(own, KINDS) is None
    wanted()
    job = claim(own)
    wanted()
    assert jobs.claim(own, KINDS) is None  # not twice at once
    jobs.again(own, job, own.now + timedelta(minutes=5))
    job = claim(own)
    jobs.failed(own, job, "no broom", None, 0.0)
    wanted()
    assert jobs.claim(own, KINDS) is None  # what failed keeps its pause
    assert left(own)[0].attempts == 1


def test_what_goes_well_after_it_failed_is_no_trouble_any_more(own: Context, office: Office) -> None:
    jobs.schedule(own, ["sweep"])
    assert jobs.failed(own, claim(own), "no broom", tries=None, chance=0.5) is False
    assert [view.last_error for view in jobs.troubled(office.manager, PageQuery()).rows] == ["no broom"]
    office.clock.forward(minutes=1)
    jobs.again(own, claim(own), own.now + timedelta(minutes=1))
    assert jobs.troubled(office.manager, PageQuery()).rows == []


def test_neither_a_member_nor_a_stranger_sees_jobs(own: Context, office: Office) -> None:
    for ctx in (own.acting(office.join("Gulls")), own.acting(NOBODY)):
        with pytest.raises(NotSignedIn):
            jobs.troubled(ctx, PageQuery())
