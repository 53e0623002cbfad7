"""A deadlock is nobody's mistake: what it undid is done again, unless something of the request was kept before."""

from __future__ import annotations

from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from threading import Barrier

import pytest
from fastapi import APIRouter, FastAPI
from sqlalchemy import select, update
from starlette.testclient import TestClient

from calm_tariff.core.errors import Deadlocked
from calm_tariff.edge import problems
from calm_tariff.edge.again import Again
from calm_tariff.services.base import retrying
from calm_tariff.store.compose.products import Plan
from tests.office import Office


class Crossing:
    """Two requests that change two rows in opposite order, each waiting at first until the other holds its first:
    the database undoes one of them."""

    def __init__(self, office: Office, keeps: bool = False) -> None:
        self.office, self.keeps, self.meeting = office, keeps, Barrier(2)
        self.attempts: Counter[str] = Counter()
        self.app, router = FastAPI(), APIRouter(route_class=Again)
        problems.tell(self.app)
        router.post("/there")(lambda: self.cross("there"))
        router.post("/back")(lambda: self.cross("back"))
        self.app.include_router(router)

    def cross(self, way: str) -> str:
        self.attempts[way] += 1
        plans = sorted(self.office.plans.values(), reverse=way == "back")
        if self.keeps:
            with self.office.ctx.transaction() as session:
                session.execute(update(Plan).where(Plan.id == plans[0]).values(place=Plan.place))
        with self.office.ctx.transaction() as session:
            for n, plan in enumerate(plans):
                session.execute(update(Plan).where(Plan.id == plan).values(edition=Plan.edition + 1))
                if n == 0 and self.attempts[way] == 1:
                    self.meeting.wait(60)
        return way

    def answers(self) -> list[int]:
        with TestClient(self.app) as web, ThreadPoolExecutor(2) as pool:
            return sorted(answer.status_code for answer in pool.map(lambda way: web.post(f"/{way}"), ("there", "back")))

    def editions(self) -> list[int]:
        with self.office.ctx.transaction() as session:
            return list(session.scalars(select(Plan.edition).where(Plan.id.in_(self.office.plans.values()))))


def test_who_was_undone_is_done_again_and_does_not_notice(office: Office) -> None:
    crossing = Crossing(office)
    before = crossing.editions()
    assert crossing.answers() == [200, 200]
    assert sorted(crossing.attempts.values()) == [1, 2]
    assert crossing.editions() == [edition + 2 for edition in before]  # each change once


def test_what_kept_something_before_is_told_and_not_done_twice(office: Office) -> None:
    crossing = Crossing(office, keeps=True)
    before = crossing.editions()
    assert crossing.answers() == [200, 409]
    assert sorted(crossing.attempts.values()) == [1, 1]
    assert crossing.editions() == [edition + 1 for edition in before]


def undone(office: Office, plan: int) -> None:
    with office.ctx.transaction() as session:
        session.execute(update(Plan).where(Plan.id == plan).values(edition=9))
        raise Deadlocked("undone")


def test_an_attempt_counts_what_was_kept_and_not_what_was_read_or_undone(office: Office) -> None:
    ketch = office.plans["Ketch"]
    with retrying.attempt() as attempt:
        with office.ctx.transaction() as session:
            session.get_one(Plan, ketch)
        with pytest.raises(Deadlocked):
            undone(office, ketch)
        assert attempt.kept == 0
        with office.ctx.transaction() as session:
            session.get_one(Plan, ketch).edition = 9
        assert attempt.kept == 1
    assert [0.01 <= retrying.pause(n) / 2**n <= 0.03 for n in range(5)] == [True] * 5
