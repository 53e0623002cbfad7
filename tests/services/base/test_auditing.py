"""The record: it stands or falls with what it speaks of, and staff alone read it."""

from __future__ import annotations

from contextlib import suppress

import pytest

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office


def told(ctx: Context, words: str = "", **how: object) -> list[str]:
    return [e.subject for e in auditing.entries(ctx, PageQuery(words=words, rows=1000, **how)).rows]


def write(office: Office, subject: str, ctx: Context | None = None) -> None:
    with office.ctx.transaction() as session:
        auditing.note(
            session,
            ctx or office.manager,
            "tried",
            ("thing", 7, subject),
            before={"a": 1},
            after={"a": 2},
            why="because",
        )


def test_an_entry_says_who_did_what_to_what_and_why(office: Office) -> None:
    write(office, "the weir")
    write(office, "the lock", office.acting(office.consumers[0]))
    lock, weir = auditing.entries(office.manager, PageQuery(rows=2)).rows
    assert (weir.actor, weir.action, weir.subject_kind, weir.subject_id) == ("Ines", "tried", "thing", 7)
    assert (weir.before, weir.after, weir.why, weir.at) == ({"a": 1}, {"a": 2}, "because", office.ctx.now)
    assert lock.actor == "Ferries owner, Ferries"  # of a member, for whom


def test_what_is_undone_leaves_no_entry(office: Office) -> None:
    before = told(office.manager)
    with suppress(ZeroDivisionError), office.ctx.transaction() as session:
        auditing.note(session, office.manager, "tried", ("thing", 7, "undone"))
        session.flush()
        raise ZeroDivisionError
    assert told(office.manager) == before


def test_words_are_words_and_no_pattern(office: Office) -> None:
    for subject in ("100% off", "100 x off", "a_b", "axb"):
        write(office, subject)
    assert told(office.manager, "100%") == ["100% off"]
    assert told(office.manager, "a_b") == ["a_b"]
    assert told(office.manager, "100", down=True) == ["100% off", "100 x off"]  # the oldest first
    assert told(office.manager, "no such thing") == []


def test_a_name_longer_than_the_record_is_cut_and_still_kept(office: Office) -> None:
    write(office, "x" * 5000)
    assert len(told(office.manager, "xxxx")[0]) < 5000


def test_no_consumer_reads_the_record(office: Office) -> None:
    with pytest.raises(NotSignedIn):
        told(office.acting(office.consumers[0]))
